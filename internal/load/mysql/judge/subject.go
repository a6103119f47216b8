package judge

import (
	"context"
	"io"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	scripts "yellowfield/internal/sqltext/mysql"
)

// Subject is the database and the server that a script is judged for.
type Subject struct {
	load.Target
	Server mysql.ScriptConditions
}

// Dialect is how the server reads a script that has said nothing yet.
func (s Subject) Dialect() sqltext.Dialect {
	return sqltext.Dialect{MariaDB: s.Server.MariaDB, Version: s.Server.Version}
}

// Reading is a script being read statement by statement.
type Reading struct {
	*scripts.Reader
	*script.Content
}

// Read opens a script.
func (s Subject) Read(ctx context.Context, source script.Source) (*Reading, error) {
	reader, content, err := script.Read(ctx, source, func(name string, src io.Reader) *scripts.Reader {
		return scripts.NewReader(name, src, s.Dialect(), s.Server.SQLMode)
	})
	if err != nil {
		return nil, err
	}
	return &Reading{reader, content}, nil
}
