// Package postgres imports scripts into PostgreSQL: it judges their statements, joins
// their rows, and sends them in one transaction of the application's own account, or
// over several sessions where that is given up.
//
// It must never know of estate files, settings files or commands.
package postgres

import (
	"context"
	"io"

	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	scripts "yellowfield/internal/sqltext/postgres"
)

// Session is one login of the application's own account on the server. It is used by
// one goroutine at a time.
type Session interface {
	// Send sends statements in one message and tells how many rows each
	// changed. What the server refuses comes back as a *dbms.ServerError.
	Send(ctx context.Context, statements string, done func(rows int64)) error
	// Copy sends a COPY ... FROM STDIN with its rows.
	Copy(ctx context.Context, statement string, rows io.Reader) (int64, error)
	// Query gives all rows of a query as text, NULL as "".
	Query(ctx context.Context, query string) ([][]string, error)
	Close()
}

// Importer imports into one database of PostgreSQL. Open has to be set before Import,
// not before Check.
type Importer struct {
	load.Target
	Server postgres.ScriptConditions
	// Open makes one more session; warned is told of the server's warnings.
	Open func(ctx context.Context, warned func(message string)) (Session, error)
}

// reading is a script being read statement by statement.
type reading struct {
	*scripts.Reader
	*script.Content
}

func read(ctx context.Context, s script.Source) (*reading, error) {
	reader, content, err := script.Read(ctx, s, scripts.NewReader)
	if err != nil {
		return nil, err
	}
	if s.Retarget {
		reader.Retarget()
	}
	return &reading{reader, content}, nil
}
