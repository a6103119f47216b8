package load

import (
	"context"
	"io"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/sqltext"
)

// Session is one login of the application's own account on the server. It is
// used by one goroutine at a time.
type Session interface {
	// Exec sends one statement and returns how many rows it changed. What the
	// server refuses comes back as a *dbms.ServerError.
	Exec(ctx context.Context, statement string) (rows int64, err error)
	// Query gives all rows of a query as text, NULL as "".
	Query(ctx context.Context, query string) ([][]string, error)
	// Warned reports whether the server may have remarks about the statement
	// that Exec sent last.
	Warned() bool
	Close()
}

// PostgresSession is one login of the application's own account on PostgreSQL.
// It is used by one goroutine at a time.
type PostgresSession interface {
	// Send sends statements in one message and tells how many rows each
	// changed. What the server refuses comes back as a *dbms.ServerError.
	Send(ctx context.Context, statements string, done func(rows int64)) error
	// Copy sends a COPY ... FROM STDIN with its rows.
	Copy(ctx context.Context, statement string, rows io.Reader) (int64, error)
	// Query gives all rows of a query as text, NULL as "".
	Query(ctx context.Context, query string) ([][]string, error)
	Close()
}

// Server is what an import has to know of the server beforehand.
type Server struct {
	Dialect sqltext.Dialect
	SQLMode string // that a session begins with
	// MaxPacket is the longest statement it takes, in bytes.
	MaxPacket     int
	DefaultEngine string
	// Collations maps each collation it has to its character set; Engines
	// are the storage engines it can use, in small letters.
	Collations map[string]string
	Engines    map[string]bool
	// Settings are those that a session may have, and Extensions maps each
	// that can be had to whether the application's account may make it;
	// PostgreSQL only.
	Settings, Extensions map[string]bool
	// Cluster says that what is written is replicated to other nodes, which
	// takes InnoDB, and primary keys.
	Cluster bool
}

// NewServer is a server as it says of itself.
func NewServer(f dbms.ScriptFacts) Server {
	return Server{
		Dialect: sqltext.Dialect{MariaDB: f.MariaDB, PostgreSQL: f.PostgreSQL, Version: f.Version}, SQLMode: f.SQLMode, MaxPacket: f.MaxPacket,
		DefaultEngine: f.DefaultEngine, Collations: f.Collations, Engines: f.Engines, Settings: f.Settings, Extensions: f.Extensions,
	}
}

// hasCharset reports whether one of the collations is for the character set.
func (s Server) hasCharset(name string) bool {
	for _, charset := range s.Collations {
		if charset == name {
			return true
		}
	}
	return name == "utf8" || name == "binary"
}

// Target is where a script goes.
type Target struct {
	Database string // that the script is for
	Charset  string // of the database
	Server   Server
	// Holds are the objects that are there before the import, by name.
	Holds map[string]bool
	// Open makes one more session. Sessions begin alike.
	Open func(ctx context.Context) (Session, error)
	// OpenPostgres is Open for PostgreSQL; warned is told of the server's
	// warnings.
	OpenPostgres func(ctx context.Context, warned func(message string)) (PostgresSession, error)
	// Replay runs a trigger or function that binary logging refuses to the
	// application's account, as an administrator, under the settings of the
	// given session, and makes sure that just that came of it; nil when there is
	// none. build makes the statement for those settings.
	Replay func(ctx context.Context, like Session, build func(sqlMode, charset string) (mysql.Definition, error)) error
	// Definer is the clause that makes the application's account the definer.
	Definer string
}

// Options are what the administrator decides about an import.
type Options struct {
	// OneByOne sends every statement as it stands, one after the other.
	OneByOne bool
	// IntoExisting allows a script to touch tables that are there already.
	IntoExisting bool
	// MapCollations replaces collations that the server lacks.
	MapCollations bool
	// ConvertCharset makes the script's tables utf8mb4 and InnoDB.
	ConvertCharset bool
	// Fast gives up the one transaction of a script on PostgreSQL, so that
	// several sessions can take part.
	Fast bool
	// Lanes is the number of sessions that take rows side by side; 0 for one
	// a core, but no more than the tables are worth.
	Lanes int
}
