package postgres

import (
	"context"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"yellowfield/internal/crash"
	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
)

// SingleSession is one connection that a script is sent through or read from, statement by
// statement and as it stands. It is used by one goroutine at a time.
type SingleSession struct {
	server string
	conn   *pgconn.PgConn
	warned func(message string)
}

// OpenSingle opens a connection by itself, with the login of s. warned is told
// of each warning that the server gives while something is sent.
func (s *Server) OpenSingle(ctx context.Context, warned func(message string)) (*SingleSession, error) {
	i := &SingleSession{server: s.Server, warned: warned}
	if !s.AsApplication {
		return nil, fault.New(fault.Protected, "please report this", "a script is never sent with the login of an administrator")
	}
	config, err := configure(s.Login, s.Database)
	if err != nil {
		return nil, err
	}
	// The reader of scripts begins with this, whatever the database has set.
	config.RuntimeParams["standard_conforming_strings"] = "on"
	config.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) {
		if n.SeverityUnlocalized == "WARNING" {
			i.warned(n.Message)
		}
	}
	conn, err := pgconn.ConnectConfig(ctx, &config.Config)
	if err != nil {
		return nil, refused(s.Login, err)
	}
	i.conn = conn
	return i, nil
}

// Close ends the session; a transaction that is open is taken back.
func (i *SingleSession) Close() { _ = i.conn.Close(context.Background()) }

// Send sends one or more statements in one message and calls done with the number of changed
// rows for each that succeeded, in their order. Results of queries are dropped. What the
// server refuses comes back as a *dbms.ServerError; nothing after it was run.
func (i *SingleSession) Send(ctx context.Context, statements string, done func(rows int64)) error {
	crash.Point("before a statement of a script")
	results := i.conn.Exec(ctx, statements)
	for results.NextResult() {
		tag, err := results.ResultReader().Close()
		if err != nil {
			break
		}
		done(changed(tag))
	}
	return i.failed(results.Close())
}

// changed is how many rows a statement changed; those that a query read do not
// count.
func changed(tag pgconn.CommandTag) int64 {
	if tag.Select() {
		return 0
	}
	return tag.RowsAffected()
}

// Copy sends a COPY ... FROM STDIN and the rows for it.
func (i *SingleSession) Copy(ctx context.Context, statement string, rows io.Reader) (int64, error) {
	crash.Point("before rows of a script")
	tag, err := i.conn.CopyFrom(ctx, rows, statement)
	return tag.RowsAffected(), i.failed(err)
}

// CopyOut sends a COPY ... TO STDOUT, and writes each of its lines by itself.
func (i *SingleSession) CopyOut(ctx context.Context, statement string, out io.Writer) error {
	_, err := i.conn.CopyTo(ctx, out, statement)
	return i.failed(err)
}

// Query gives all rows of a query as text, NULL as "".
func (i *SingleSession) Query(ctx context.Context, query string) ([][]string, error) {
	found, err := texts(i.server, query, i.conn.Exec(ctx, query))
	return found, i.failed(err)
}

// texts reads the rows of all results as text.
func texts(server, query string, results *pgconn.MultiResultReader) ([][]string, error) {
	var found [][]string
	size := 0
	for results.NextResult() {
		reader := results.ResultReader()
		for reader.NextRow() {
			row := make([]string, len(reader.Values()))
			for at, value := range reader.Values() {
				row[at] = string(value)
				size += len(value) + 24
			}
			if found = append(found, row); size > dbms.MostAnswered {
				_ = results.Close()
				return nil, dbms.TooLong(server, query)
			}
		}
	}
	return found, results.Close()
}

func (i *SingleSession) failed(err error) error {
	if err == nil {
		return nil
	}
	if own := spoken(i.server, dbms.Statement{}, err); own != nil {
		return own
	}
	return dbms.Lost(i.server, err)
}

// ScriptConditions is what a server means for a script that is to run on it.
type ScriptConditions struct {
	Settings map[string]bool // that a session may have
	// Extensions maps each that can be had in the database to whether an ordinary
	// owner of the database may make it, or has it already.
	Extensions map[string]bool
}

// ScriptConditions reads what a script meets. The database may not be there yet.
func (s *Server) ScriptConditions(ctx context.Context, database string) (ScriptConditions, error) {
	f := ScriptConditions{Settings: map[string]bool{}, Extensions: map[string]bool{}}
	err := s.each(ctx, s.Database, `SELECT name FROM pg_catalog.pg_settings`, nil, func(rows pgx.Rows) error {
		var name string
		err := rows.Scan(&name)
		f.Settings[strings.ToLower(name)] = true
		return err
	})
	if err != nil {
		return f, err
	}
	exists, err := s.takesLogins(ctx, database)
	if err != nil {
		return f, err
	}
	if !exists {
		database = s.Database
	}
	trusted := "v.trusted"
	if s.version < 130000 {
		trusted = "NOT v.superuser"
	}
	return f, s.each(ctx, database, `SELECT v.name, bool_or(`+trusted+`) OR `+map[bool]string{true: "bool_or(v.installed)", false: "v.name = 'plpgsql'"}[exists]+`
		FROM pg_catalog.pg_available_extension_versions v GROUP BY v.name`, nil, func(rows pgx.Rows) error {
		var name string
		var may bool
		err := rows.Scan(&name, &may)
		f.Extensions[name] = may
		return err
	})
}
