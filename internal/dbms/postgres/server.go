// Package postgres speaks to PostgreSQL servers: it reads their catalogues,
// builds the statements that make databases, roles and rights, and turns their
// errors into ones with a next step.
//
// A database belongs to a role of its own that nobody logs in as; the
// application's role works as that one while it may define tables, and has
// rights on the tables alone when it is closed. The package must never know of
// estate files, settings files or terminals.
package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"yellowfield/internal/crash"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/heartbeat"
	"yellowfield/internal/fault"
)

// Server is a server with an open login. It implements dbms.Server.
type Server struct {
	dbms.Login
	SQL
	facts       dbms.About
	version     int // 150018
	currentUser string
	trace       func(dbms.Statement) // nil for no one
	asked       *asked

	// pinned are the settings that an administrator's session begins with in every database,
	// whatever its owner has set for it.
	pinned map[string]string

	mutex sync.Mutex
	// open are connections by database: PostgreSQL cannot change the database
	// of a session.
	open map[string]*pgx.Conn
}

var _ dbms.Server = (*Server)(nil)

const (
	dialTimeout = 10 * time.Second
	standard    = "postgres" // the database that is there in every server
)

// Connect logs in and reads the server's facts. Errors name the server, its
// address, what the server said and what to do.
func Connect(ctx context.Context, login dbms.Login) (*Server, error) {
	if login.Database == "" {
		login.Database = standard
	}
	asked := &asked{login: login}
	asked.watch = heartbeat.New(login.Address.String(), login.Dial, asked.ask)
	login.Dial = asked.watch.Dial
	s := &Server{Login: login, open: map[string]*pgx.Conn{}, SQL: NewSQL(), asked: asked}
	conn, err := s.in(ctx, login.Database)
	if err != nil {
		s.Close()
		return nil, err
	}
	if login.AsApplication && conn.PgConn().ParameterStatus("is_superuser") == "on" {
		s.Close()
		return nil, fault.New(fault.Protected, "give the application an account of its own",
			"%s is a superuser of server %s: Yellowfield does not log in as one in an application's name", login.User, login.Server)
	}
	if !login.AsApplication {
		if s.pinned, err = pins(ctx, conn); err != nil {
			s.Close()
			return nil, s.failed(dbms.Statement{Text: "SELECT ... FROM pg_settings"}, err)
		}
	}
	var version string
	err = conn.QueryRow(ctx, `SELECT pg_catalog.current_setting('server_version'), pg_catalog.current_setting('server_version_num')::pg_catalog.int4, session_user::pg_catalog.text,
		pg_catalog.pg_is_in_recovery()`).Scan(&version, &s.version, &s.currentUser, &s.facts.ReadOnly)
	if err != nil {
		s.Close()
		return nil, s.failed(dbms.Statement{Text: "SELECT current_setting(...)"}, err)
	}
	if login.Address.Socket != "" {
		folder, port := login.Address.PostgresSocket()
		s.facts.Socket = filepath.Join(folder, ".s.PGSQL."+strconv.Itoa(port))
	} else { // not every role may ask
		var folders, port string
		if conn.QueryRow(ctx, `SELECT pg_catalog.current_setting('unix_socket_directories'), pg_catalog.current_setting('port')`).Scan(&folders, &port) == nil {
			folder, _, _ := strings.Cut(folders, ",")
			s.facts.Socket = filepath.Join(folder, ".s.PGSQL."+port)
		}
	}
	s.facts.Product = dbms.PostgreSQL
	s.facts.Version, _, _ = strings.Cut(version, " ")
	return s, nil
}

// configure makes the driver's configuration of a login. Nothing is taken from
// the environment: the estate file says where and who.
func configure(login dbms.Login, database string) (*pgx.ConnConfig, error) {
	host, port := login.Address.Host, login.Address.Port
	if login.Address.Socket != "" {
		host, port = login.Address.PostgresSocket()
	}
	quote := func(text string) string { return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(text) + "'" }
	text := fmt.Sprintf("host=%s port=%d user=%s dbname=%s sslmode=disable passfile=%s", quote(host), port, quote(login.User), quote(database), os.DevNull)
	config, err := pgx.ParseConfig(text)
	if err != nil {
		return nil, fault.New(fault.Invalid, "check the server's entry in the estate file", "server %s: %v", login.Server, err).With(err)
	}
	config.Password = login.Password.Reveal()
	config.ConnectTimeout = dialTimeout
	config.RuntimeParams = map[string]string{"application_name": "yellowfield", "client_encoding": "UTF8", "lock_timeout": "60s"}
	if login.Charset != "" {
		config.RuntimeParams["client_encoding"] = login.Charset
	}
	if !login.AsApplication {
		maps.Copy(config.RuntimeParams, administrators)
	}
	config.ValidateConnect = nil
	if login.Dial != nil {
		config.DialFunc = login.Dial
	}
	if err := protect(config, login); err != nil {
		return nil, err
	}
	// One statement to a message: the simple protocol would run what an unexpected name has
	// smuggled in after it.
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	return config, nil
}

// protect says how the connection is encrypted, and what the server has to prove
// before it is given a password.
func protect(config *pgx.ConnConfig, login dbms.Login) error {
	config.Fallbacks, config.ChannelBinding, config.RequireAuth = nil, "prefer", ""
	config.SSLNegotiation, config.SSLCertMode = "postgres", ""
	if login.Address.Socket != "" {
		return nil
	}
	encrypted, err := login.Address.TLSConfig(login.Server)
	if err != nil {
		return err
	}
	config.TLSConfig = encrypted
	switch login.Address.TLS {
	case dbms.TLSPrefer, "":
		config.Fallbacks = []*pgconn.FallbackConfig{{Host: config.Host, Port: config.Port}}
	case dbms.TLSRequire:
		if !login.AsApplication && login.Address.OverNetwork() {
			// The server proves with it that it knows the password, and that nobody
			// sits between (PostgreSQL, "SASL Authentication"; RFC 5802).
			config.ChannelBinding, config.RequireAuth = "require", "scram-sha-256"
			return nil
		}
	case dbms.TLSVerify:
		return nil
	}
	config.RequireAuth = "!password" // who asks in plain, where nobody knows who it is, gets none
	return nil
}

// administrators are the settings of a session in which an administrator works.
// They stand in the start-up packet, whose settings win over what the owner of a
// database has set for it, or a role for itself (PostgreSQL, "ALTER ROLE": "settings
// ... specified at the start of a session override"); an owner could else change the
// search path, turn the administrator into another role, or shut everybody out.
var administrators = map[string]string{
	// Functions and operators of the server alone; tables of pg_temp, which would
	// come first where it is not named, last.
	"search_path":                   "pg_catalog,pg_temp",
	"role":                          "none",
	"standard_conforming_strings":   "on",
	"local_preload_libraries":       "",
	"default_transaction_read_only": "off",
	"statement_timeout":             "0",
	"lock_timeout":                  "10s",
}

// pins are all settings that anybody may change for a session, and so the owner of a database
// for the sessions in it, as they are in the standard database, whose owner is an
// administrator (PostgreSQL, "pg_settings": context user). What an owner sets could else
// have the administrator wait (default_transaction_deferrable), end its sessions
// (idle_session_timeout) or make its queries take minutes (enable_*, jit_*).
func pins(ctx context.Context, conn *pgx.Conn) (map[string]string, error) {
	pinned := map[string]string{}
	rows, err := conn.Query(ctx, `SELECT name, setting FROM pg_catalog.pg_settings WHERE context = 'user' AND name <> 'transaction_deferrable' AND setting IS NOT NULL`) // that one is no setting to begin with
	if err != nil {
		return nil, err
	}
	var name, value string
	_, err = pgx.ForEachRow(rows, []any{&name, &value}, func() error {
		pinned[name] = value
		return nil
	})
	return pinned, err
}

// refusedSetting is the name of a setting that the server did not take at a session's start.
var refusedSetting = regexp.MustCompile(`parameter "([^"]+)"`)

// ofOwners are the settings of a session that come from who owns its database or its role.
const ofOwners = `SELECT pg_catalog.string_agg(name, ', ') FROM pg_catalog.pg_settings WHERE context = 'user' AND source IN ('database', 'user', 'database user')`

// guarded makes sure that an administrator's session is what administrators asks
// for, before anything else is sent through it.
func guarded(ctx context.Context, login dbms.Login, conn *pgx.Conn) error {
	var schemas, current, session, set string
	everywhere := conn.Config().Database == standard
	err := conn.QueryRow(ctx, `SELECT pg_catalog.current_schemas(true)::pg_catalog.text, current_user::pg_catalog.text, session_user::pg_catalog.text, COALESCE((`+ofOwners+`), '')`).Scan(&schemas, &current, &session, &set)
	switch {
	case err != nil:
		return refused(login, err)
	case set != "" && !everywhere:
		return fault.New(fault.Protected, "ALTER DATABASE ... RESET it, if it is not meant, and report this with the server's version",
			"server %s: the owner of the database %s decides about the administrator's sessions there: %s", login.Server, conn.Config().Database, set)
	case schemas != "{pg_catalog}" || current != session:
		return fault.New(fault.Protected, "let the administrator reach the server directly, not through a pooler that drops what a session asks for",
			"server %s did not give %s a session of its own settings in the database %s: it works as %s with the schemas %s", login.Server, session, conn.Config().Database, current, schemas)
	}
	return nil
}

// in gives the connection to a database, opened at its first use.
func (s *Server) in(ctx context.Context, database string) (*pgx.Conn, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if conn := s.open[database]; conn != nil && !conn.IsClosed() {
		return conn, nil
	}
	conn, err := s.dial(ctx, database)
	if err != nil {
		return nil, err
	}
	if len(s.open) >= mostOpen { // else a run over many applications would take all that the server has
		for other, idle := range s.open {
			if other != standard && other != s.Database {
				_ = idle.Close(ctx)
				delete(s.open, other)
			}
		}
	}
	s.open[database] = conn
	return conn, nil
}

// mostOpen is how many databases a server is connected to at once, one after the other being
// worked on.
const mostOpen = 6

func (s *Server) dial(ctx context.Context, database string) (*pgx.Conn, error) {
	config, err := configure(s.Login, database)
	if err != nil {
		return nil, err
	}
	if database != standard {
		for name, value := range s.pinned {
			if _, own := config.RuntimeParams[name]; !own {
				config.RuntimeParams[name] = value
			}
		}
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	for tries := 0; err != nil && tries < len(s.pinned); tries++ {
		// One that a release does not take at a session's start; guarded finds out whether an
		// owner has set it.
		own := spoken(s.Server, dbms.Statement{}, err)
		if own == nil {
			break
		}
		found := refusedSetting.FindStringSubmatch(own.Message)
		if found == nil {
			break
		}
		if _, pinned := s.pinned[found[1]]; !pinned {
			break
		}
		delete(config.RuntimeParams, found[1]) // of this connection: others are made at the same time
		conn, err = pgx.ConnectConfig(ctx, config)
	}
	if err != nil {
		return nil, refused(s.Login, err)
	}
	if !s.AsApplication {
		if err := guarded(ctx, s.Login, conn); err != nil {
			_ = conn.Close(ctx)
			return nil, err
		}
	}
	return conn, nil
}

// leave closes the connection to a database, so that it can be dropped.
func (s *Server) leave(ctx context.Context, database string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if conn := s.open[database]; conn != nil {
		_ = conn.Close(ctx)
		delete(s.open, database)
	}
}

// Close closes all connections.
func (s *Server) Close() {
	for database := range s.open {
		s.leave(context.Background(), database)
	}
	s.asked.close()
}

// asked is a connection on which the server is asked whether it is still there.
type asked struct {
	login dbms.Login
	watch *heartbeat.Watch
	mutex sync.Mutex
	conn  *pgx.Conn
}

func (a *asked) ask(ctx context.Context) error {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if a.conn == nil || a.conn.IsClosed() {
		config, err := configure(a.login, a.login.Database)
		if err == nil {
			a.conn, err = pgx.ConnectConfig(ctx, config)
		}
		if err != nil {
			return err
		}
	}
	return a.conn.Ping(ctx)
}

func (a *asked) close() {
	a.watch.Close()
	if !a.mutex.TryLock() { // it is being asked, and nobody waits for that
		return
	}
	defer a.mutex.Unlock()
	if a.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = a.conn.Close(ctx)
	}
}

// About is what the server says of itself.
func (s *Server) About() dbms.About { return s.facts }

// VersionNumber is the server's version as it counts it itself: 150018.
func (s *Server) VersionNumber() int { return s.version }

// CurrentUser is the role that logged in.
func (s *Server) CurrentUser() string { return s.currentUser }

// OnChange has every statement that changes something told, before it is sent.
func (s *Server) OnChange(trace func(dbms.Statement)) { s.trace = trace }

// OwnRightsOnServer names what this login's role may do beyond single databases, and the
// server's own roles that it is a member of (PostgreSQL, "Predefined Roles"). The owner
// of a database is a member of pg_database_owner there, which is nothing more.
func (s *Server) OwnRightsOnServer(ctx context.Context) (rights []string, err error) {
	err = s.each(ctx, s.Database, `SELECT r.name FROM pg_catalog.pg_roles own, LATERAL (VALUES ('SUPERUSER', own.rolsuper), ('CREATEROLE', own.rolcreaterole), ('REPLICATION', own.rolreplication), ('BYPASSRLS', own.rolbypassrls)) r(name, held)
		WHERE own.rolname OPERATOR(pg_catalog.=) session_user AND r.held
		UNION ALL SELECT rolname::pg_catalog.text FROM pg_catalog.pg_roles WHERE rolname::pg_catalog.text OPERATOR(pg_catalog.~) '^pg_' AND rolname OPERATOR(pg_catalog.<>) 'pg_database_owner'
		AND pg_catalog.pg_has_role(session_user, oid, 'MEMBER')`, nil, func(rows pgx.Rows) error {
		var right string
		err := rows.Scan(&right)
		rights = append(rights, right)
		return err
	})
	return rights, err
}

// Encrypted reports whether what is sent stays unseen on the way.
func (s *Server) Encrypted() bool { return s.Address.Encrypted() }

// Unavailable says that the server is a standby, which takes no changes.
func (s *Server) Unavailable() error {
	if !s.facts.ReadOnly {
		return nil
	}
	next := "name the primary server in the estate file"
	var primary string
	ctx, cancel := context.WithTimeout(context.Background(), dialTimeout)
	defer cancel()
	if conn, err := s.in(ctx, s.Database); err == nil {
		if conn.QueryRow(ctx, `SELECT sender_host || ' port ' || sender_port FROM pg_catalog.pg_stat_wal_receiver`).Scan(&primary) == nil && primary != "" {
			next += ": it copies from " + primary
		}
	}
	return fault.New(fault.Invalid, next, "server %s is a standby and takes no changes", s.Server)
}

// Exec sends statements that change something, one after the other, each in its
// database.
func (s *Server) Exec(ctx context.Context, statements ...dbms.Statement) error {
	for _, statement := range statements {
		if s.trace != nil {
			s.trace(statement)
		}
		crash.Point("before an administrator's statement")
		database := statement.Database
		if database == "" {
			database = s.Database
		}
		if dropped, is := strings.CutPrefix(statement.Text, dropDatabase); is {
			s.leave(ctx, strings.ReplaceAll(strings.Trim(dropped, `"`), `""`, `"`))
		}
		conn, err := s.in(ctx, database)
		if err != nil {
			return err
		}
		if err := single(ctx, conn, statement.Text); err != nil {
			if conn.PgConn().TxStatus() != 'I' { // in a transaction
				_ = single(context.WithoutCancel(ctx), conn, "ROLLBACK") // the error at hand matters more
			}
			return s.failed(statement, err)
		}
	}
	return nil
}

// single sends exactly one statement: the server refuses a text that holds more
// (PostgreSQL, "Message Flow": Extended Query). pgx's Exec without arguments would
// take the simple protocol, which runs them all.
func single(ctx context.Context, conn *pgx.Conn, statement string) error {
	return conn.PgConn().ExecParams(ctx, statement, nil, nil, nil, nil).Read().Err
}

// longestQuery is how long a look at the server's catalogue may take: an application decides how
// much there is in its database, and what is locked there.
var longestQuery = time.Minute

// each runs a query in a database and calls take for every row. One that takes too long is given
// up, and so is the connection.
func (s *Server) each(ctx context.Context, database, query string, args []any, take func(pgx.Rows) error) error {
	return s.soon(ctx, database, query, func(ctx context.Context) error { return s.eachOf(ctx, database, query, args, take) })
}

// soon runs a query that has to come to its end within longestQuery.
func (s *Server) soon(ctx context.Context, database, query string, run func(context.Context) error) error {
	within, cancel := context.WithTimeout(ctx, longestQuery)
	defer cancel()
	err := run(within)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		return fault.New(fault.Failed, "look what keeps it there (pg_stat_activity, pg_locks), and run the command again; the query was: "+dbms.Shorten(query),
			"server %s has not answered a look at the database %s within %s", s.Login.Server, cmp.Or(database, s.Database), longestQuery).With(err)
	}
	return err
}

// eachOf is each for as long as it takes: for rows, which there may be any number of.
func (s *Server) eachOf(ctx context.Context, database, query string, args []any, take func(pgx.Rows) error) error {
	conn, err := s.in(ctx, database)
	if err != nil {
		return err
	}
	rows, err := conn.Query(ctx, query, args...)
	if err != nil {
		return s.failed(dbms.Statement{Text: query}, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := take(rows); err != nil {
			return s.failed(dbms.Statement{Text: query}, err)
		}
	}
	if err := rows.Err(); err != nil {
		return s.failed(dbms.Statement{Text: query}, err)
	}
	return nil
}

// Look gives all rows of a query in a database as text, NULL as "". The server refuses
// it every change (PostgreSQL, "SET TRANSACTION").
func (s *Server) Look(ctx context.Context, database, query string) ([][]string, error) {
	var found [][]string
	err := s.soon(ctx, database, query, func(ctx context.Context) error {
		conn, err := s.in(ctx, database)
		if err != nil {
			return err
		}
		if found, err = texts(s.Server, query, conn.PgConn().Exec(ctx, "BEGIN READ ONLY; "+query+"; COMMIT")); err != nil {
			_, _ = conn.PgConn().Exec(ctx, "ROLLBACK").ReadAll()
			return s.failed(dbms.Statement{Text: query}, err)
		}
		return nil
	})
	return found, err
}

// causes are the states that decide what is done next (PostgreSQL, "Error
// Codes").
var causes = map[string]dbms.Cause{"28P01": dbms.WrongLogin, "28000": dbms.WrongLogin, "3D000": dbms.NoDatabase, "42501": dbms.NoRightThere, "53300": dbms.TooMany, "53100": dbms.NoRoom}

// ended are the states in which the server says goodbye.
var ended = map[string]bool{"57P01": true, "57P02": true, "57P03": true, "57P04": true, "57P05": true, "25P03": true}

func spoken(server string, statement dbms.Statement, err error) *dbms.ServerError {
	var theirs *pgconn.PgError
	if !errors.As(err, &theirs) {
		return nil
	}
	message := theirs.Message
	if theirs.Detail != "" {
		message += ": " + theirs.Detail
	}
	own := &dbms.ServerError{
		Server: server, Statement: statement.String(), SQLState: theirs.Code, Message: message, Cause: causes[theirs.Code], Hint: theirs.Hint,
		Position: int(theirs.Position), Context: theirs.Where,
	}
	if ended[theirs.Code] {
		own.Cause = dbms.SessionEnded
	}
	return own
}

// failed explains why a statement did not succeed.
func (s *Server) failed(statement dbms.Statement, err error) error {
	if own := spoken(s.Server, statement, err); own != nil {
		next := dbms.NextAfter(statement.String(), own.Cause)
		if hint := hints[own.SQLState]; hint != "" {
			next = hint
		}
		return fault.New(fault.Failed, next, "server %s: %s", s.Server, own.Error()).With(own)
	}
	return dbms.Lost(s.Server, err)
}

// hints are the next steps for errors that mean the same wherever they occur.
var hints = map[string]string{
	"42501": "the role lacks the right that the server names",
	"55006": "someone is connected to the database: end the sessions, and run the command again",
	"2BP01": "other objects depend on it, which the message names: drop them, or give them another owner, then run the command again",
	"22P02": "report this with the server's version",
}

// loginHints are the next steps for refused logins.
var loginHints = map[string]string{
	"28P01": "wrong password, or unknown role",
	"28000": "the server's host-based rules refuse this login: see pg_hba.conf on its host",
	"3D000": "the database does not exist",
	"42501": "the role has no right to connect to this database",
	"53300": "the server, or the role, has as many connections as it may have: try again, or raise the limit",
	"57P03": "the server is starting or stopping: try again",
}

// refused explains why no login came about.
func refused(login dbms.Login, err error) error {
	who := login.User + " cannot log in to server " + login.Server + " at " + login.Address.String()
	if own := spoken(login.Server, dbms.Statement{}, err); own != nil {
		next := loginHints[own.SQLState]
		if next == "" {
			next = "the server's log may say more"
		}
		return fault.New(dbms.ClassOf(own.Cause), next, "%s: %s", who, own.Error()).With(own)
	}
	// The driver has no errors of its own for these.
	switch text := err.Error(); {
	case strings.Contains(text, "server refused TLS connection"):
		return dbms.NoTLS(login, err)
	case login.AsApplication && strings.Contains(text, "require_auth check failed"):
		return fault.New(fault.Failed, "let it ask for scram-sha-256 in its pg_hba.conf, or have it prove who it is: tls: verify, with ca or certificate, under servers."+login.Server,
			"the server at %s asks for the password of %s in clear: PHP would send it, whoever is there; Yellowfield has sent none", login.Address, login.User).With(err)
	case strings.Contains(text, "channel binding"), strings.Contains(text, "require_auth check failed"):
		return fault.New(fault.Failed, "let it ask for scram-sha-256 in its pg_hba.conf, or have it prove who it is: tls: verify, with ca or certificate, under servers."+login.Server,
			"server %s at %s asks for the administrator's password in a way that a stranger in its place could use, and none was sent", login.Server, login.Address).With(err)
	}
	return dbms.Unreachable(login, err)
}
