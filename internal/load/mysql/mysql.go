// Package mysql imports scripts into MariaDB and MySQL: it judges their statements,
// joins their rows, and sends them over several sessions of the application's own
// account at once.
//
// It must never know of estate files, settings files or commands.
package mysql

import (
	"context"
	"io"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/script"
)

// Session is one login of the application's own account on the server. It is
// used by one goroutine at a time.
type Session interface {
	// Exec sends one statement and returns how many rows it changed. What the
	// server refuses comes back as a *dbms.ServerError.
	Exec(ctx context.Context, statement string) (rows int64, err error)
	// Query gives all rows of a query as text, NULL as "".
	Query(ctx context.Context, query string) ([][]string, error)
	// Load runs LOAD DATA LOCAL: into is what follows the file's name, from gives the
	// rows. It returns how many rows the server says to have stored, and how many
	// warnings it has counted. An error of from comes back as it is.
	Load(ctx context.Context, into string, from io.Reader) (rows int64, warnings int, err error)
	// Warned reports whether the server may have remarks about the statement
	// that Exec sent last.
	Warned() bool
	Close()
}

// Importer imports into one database of MariaDB or MySQL. What logs in has to be set
// before Import, not before Check.
type Importer struct {
	load.Target
	Server mysql.ScriptConditions
	// Open makes one more session. Sessions begin alike.
	Open func(ctx context.Context) (Session, error)
	// Replay runs a trigger or function that binary logging refuses to the
	// application's account, as an administrator, under the settings of the
	// given session, and makes sure that just that came of it; nil when there is
	// none. build makes the statement for those settings.
	Replay func(ctx context.Context, like Session, build func(sqlMode, charset string) (mysql.Definition, error)) error
	// Definer is the clause that makes the application's account the definer.
	Definer string
}

// subject is what scripts are judged for.
func (i *Importer) subject() judge.Subject { return judge.Subject{Target: i.Target, Server: i.Server} }

// Check implements load.Importer.
func (i *Importer) Check(ctx context.Context, s script.Source, o load.Options) (*load.Survey, error) {
	return i.subject().Check(ctx, s, o)
}

// define sends a trigger or function that binary logging refuses to the
// application's account, as the administrator, in the account's name.
func (i *Importer) define(ctx context.Context, session Session, v judge.Verdict) error {
	return i.Replay(ctx, session, func(sqlMode, charset string) (mysql.Definition, error) {
		return v.Definition(i.Database, i.Definer, sqlMode, charset)
	})
}
