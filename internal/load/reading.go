package load

import (
	"context"

	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// reading is a script being read statement by statement.
type reading struct {
	*sqltext.Reader
	*script.Content
}

func read(ctx context.Context, s script.Source, server Server) (*reading, error) {
	c, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	r := sqltext.NewReader(s.Name, c, server.Dialect, server.SQLMode)
	r.LimitStatements(s.LongestStatement)
	if s.PrefixToken != "" {
		r.ReplacePrefix(s.PrefixToken, s.Prefix)
	}
	return &reading{Reader: r, Content: c}, nil
}

// postgresReading is the same for PostgreSQL.
type postgresReading struct {
	*sqltext.PostgresReader
	*script.Content
}

func readPostgres(ctx context.Context, s script.Source) (*postgresReading, error) {
	c, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	r := sqltext.NewPostgresReader(s.Name, c)
	r.LimitStatements(s.LongestStatement)
	if s.PrefixToken != "" {
		r.ReplacePrefix(s.PrefixToken, s.Prefix)
	}
	if s.Retarget {
		r.Retarget()
	}
	return &postgresReading{PostgresReader: r, Content: c}, nil
}
