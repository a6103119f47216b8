// Package mysql speaks to MariaDB and MySQL servers: it reads their
// catalogues, builds the statements that make databases, accounts and rights,
// and turns their errors into ones with a next step.
//
// Where the two products differ, the difference stands here and nowhere else.
// The package must never know of estate files, settings files or terminals.
package mysql

import (
	"context"
	"crypto/rsa"
	"database/sql"
	sqldriver "database/sql/driver"
	"errors"
	"fmt"
	"math/big"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"yellowfield/internal/crash"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/heartbeat"
	"yellowfield/internal/fault"
)

// Server is a server with an open login.
type Server struct {
	dbms.Login
	SQL
	currentUser string
	trace       func(dbms.Statement) // nil for no one
	cluster     *cluster             // nil for a server by itself
	known       *ScriptConditions    // what of them stays the same, once it was read

	db      *sql.DB
	asked   *sql.DB // that it is still there
	watch   *heartbeat.Watch
	longest time.Duration            // of a look at the catalogue
	locked  atomic.Pointer[heldLock] // that holds the first lock, nil for none
}

const dialTimeout = 10 * time.Second

// silent keeps the driver from writing to standard error: everything it logs is returned as an
// error, too.
type silent struct{}

func (silent) Print(...any) {}

// Connect logs in and reads the server's facts. Errors name the server, its
// address, what the server said and what to do.
func Connect(ctx context.Context, login dbms.Login) (*Server, error) {
	asked, err := pool(login)
	if err != nil {
		return nil, err
	}
	asked.SetMaxOpenConns(1)
	watch := heartbeat.New(login.Address.String(), login.Dial, asked.PingContext)
	login.Dial = watch.Dial
	db, err := pool(login)
	if err != nil {
		watch.Close()
		return nil, err
	}
	s := &Server{Login: login, db: db, asked: asked, watch: watch, longest: longestQuery}
	s.db.SetConnMaxIdleTime(time.Minute)
	s.db.SetMaxIdleConns(4) // two with locks, one at work, one for questions meanwhile
	if err := s.db.PingContext(ctx); err != nil {
		s.Close()
		return nil, refused(login, err)
	}
	if !login.AsApplication { // whose account may have one connection only
		go func() { _ = asked.PingContext(context.WithoutCancel(ctx)) }()
	}
	if err := s.readFacts(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// pool makes the driver's pool of connections; none is opened yet.
func pool(login dbms.Login) (*sql.DB, error) {
	config, err := configure(login)
	if err != nil {
		return nil, err
	}
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, fault.New(fault.Invalid, "check the server's entry in the estate file", "server %s: %v", login.Server, err).With(err)
	}
	return sql.OpenDB(connector), nil
}

// About is what the server says of itself.
func (s *Server) About() dbms.About { return s.facts }

// CurrentUser is the account the server took the login for.
func (s *Server) CurrentUser() string { return s.currentUser }

// OnChange has every statement that changes something told, before it is sent.
func (s *Server) OnChange(trace func(dbms.Statement)) { s.trace = trace }

// Close closes all connections.
func (s *Server) Close() {
	_ = s.db.Close()
	s.watch.Close()
	_ = s.asked.Close()
}

// Conn gives a connection of its own, for work that belongs to one session.
func (s *Server) Conn(ctx context.Context) (*sql.Conn, error) {
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, refused(s.Login, err)
	}
	return conn, nil
}

func configure(l dbms.Login) (*driver.Config, error) {
	config := driver.NewConfig()
	config.User, config.Passwd, config.DBName = l.User, l.Password.Reveal(), l.Database
	config.Timeout = dialTimeout
	config.Logger = silent{}
	config.MaxAllowedPacket = 0 // ask the server
	// Else a statement waits a day or a year for whoever reads the table (MySQL Reference
	// Manual, "lock_wait_timeout").
	config.Params = map[string]string{"lock_wait_timeout": "60"}
	charset := l.Charset
	if charset == "" {
		charset = "utf8mb4"
	}
	if err := config.Apply(driver.Charset(charset, "")); err != nil {
		return nil, err
	}
	config.DialFunc = l.Dial
	if l.Address.Socket != "" {
		config.Net, config.Addr = "unix", l.Address.Socket
		return config, nil
	}
	config.Net, config.Addr = "tcp", net.JoinHostPort(l.Address.Host, strconv.Itoa(l.Address.Port))
	var err error
	config.TLS, err = l.Address.TLSConfig(l.Server)
	config.AllowFallbackToPlaintext = l.Address.TLS == dbms.TLSPrefer || l.Address.TLS == ""
	if l.Unvouched && l.Address.TLS != dbms.TLSVerify {
		// Inside TLS the whole password would be sent, and outside it sealed with a key of
		// the server's: with this one no password can be.
		config.TLS, config.ServerPubKey = nil, unusableKey
	}
	return config, err
}

// unusableKey is the name of a key that is too short to encrypt anything.
const unusableKey = "unusable"

func init() { driver.RegisterServerPubKey(unusableKey, &rsa.PublicKey{N: big.NewInt(3 * 5), E: 3}) }

// onServer finds the rights in a line of SHOW GRANTS that hold on the whole server.
var onServer = regexp.MustCompile(`^GRANT (.+?) ON \*\.\* TO .*?(WITH GRANT OPTION)?$`)

// OwnRightsOnServer names the rights of this login's account that reach beyond single
// databases. SHOW GRANTS lists those of its active roles, too (MariaDB, "SHOW GRANTS";
// MySQL Reference Manual, "SHOW GRANTS Statement").
func (s *Server) OwnRightsOnServer(ctx context.Context) (rights []string, err error) {
	err = s.each(ctx, "SHOW GRANTS", nil, func(scan func(...any) error) error {
		var line string
		if err := scan(&line); err != nil {
			return err
		}
		if found := onServer.FindStringSubmatch(line); found != nil {
			for right := range strings.SplitSeq(found[1], ", ") {
				if right != "USAGE" {
					rights = append(rights, right)
				}
			}
			if found[2] != "" {
				rights = append(rights, "GRANT OPTION")
			}
		}
		return nil
	})
	return rights, err
}

// Encrypted reports whether what is sent stays unseen on the way.
func (s *Server) Encrypted() bool { return s.Address.Encrypted() }

// factNames are the variables that a server's facts are made of. Those that both products
// have stand first.
var factNames = []string{"version", "version_comment", "socket", "lower_case_table_names", "log_bin", "log_bin_trust_function_creators", "read_only", "port", "bind_address", "skip_networking",
	"partial_revokes", "wsrep_on"}

const common = 10

// readVariables asks for each variable by its name, which takes a tenth of the time that a
// look through all of them does. Where that fails it is done: SHOW leaves out what a
// product does not have, and answers on a node of a cluster that answers nothing else.
func (s *Server) readVariables(ctx context.Context) (variables map[string]string, err error) {
	variables = map[string]string{}
	ask := func(names []string) error {
		values, into := make([]sql.NullString, len(names)), make([]any, len(names))
		for i := range values {
			into[i] = &values[i]
		}
		err := s.row(ctx, "SELECT @@GLOBAL."+strings.Join(names, ", @@GLOBAL."), nil, into...)
		for i, name := range names {
			variables[name] = values[i].String
		}
		return err
	}
	if err := ask(factNames[:common]); err == nil {
		own := "partial_revokes"
		if isMariaDB(variables) {
			own = "wsrep_on"
		}
		if ask([]string{own}) == nil {
			return variables, nil
		}
	}
	clear(variables)
	return variables, s.each(ctx, "SHOW GLOBAL VARIABLES WHERE Variable_name IN ('"+strings.Join(factNames, "', '")+"')", nil,
		func(scan func(...any) error) error {
			var name, value string
			err := scan(&name, &value)
			variables[strings.ToLower(name)] = value
			return err
		})
}

func isMariaDB(variables map[string]string) bool {
	return strings.Contains(variables["version"]+variables["version_comment"], "MariaDB") || strings.Contains(variables["version_comment"], "mariadb")
}

func (s *Server) readFacts(ctx context.Context) error {
	variables, err := s.readVariables(ctx)
	if err != nil {
		return err
	}
	on := func(name string) bool { return variables[name] == "ON" || variables[name] == "1" }
	version, _, _ := strings.Cut(variables["version"], "-")
	s.facts = dbms.About{
		Product: dbms.MySQL, Version: version, Socket: variables["socket"],
		LowerCaseTables: variables["lower_case_table_names"] == "1",
		BinaryLog:       on("log_bin"), TrustFunctionCreators: on("log_bin_trust_function_creators"),
		PartialRevokes: on("partial_revokes"), ReadOnly: variables["read_only"] != "" && variables["read_only"] != "OFF" && variables["read_only"] != "0",
	}
	if !on("skip_networking") && bindsLoopback(variables["bind_address"]) {
		s.facts.LoopbackPort, _ = strconv.Atoi(variables["port"])
	}
	if isMariaDB(variables) {
		s.facts.Product = dbms.MariaDB
	}
	if on("wsrep_on") {
		if err := s.readCluster(ctx); err != nil || s.cluster != nil && !s.cluster.ready {
			return err // such a node answers no queries, as Unavailable reports
		}
	}
	return s.row(ctx, "SELECT CURRENT_USER()", nil, &s.currentUser)
}

// bindsLoopback reports whether a server with this bind_address, which may list several,
// listens on 127.0.0.1.
func bindsLoopback(address string) bool {
	for one := range strings.SplitSeq(address, ",") {
		switch strings.TrimSpace(one) {
		case "", "*", "0.0.0.0", "::", "127.0.0.1", "localhost":
			return true
		}
	}
	return false
}

// longestQuery is how long a look at the server's catalogue may take. lock_wait_timeout does
// not hold there: it is for each lock, and a look over many tables waits for one after the
// other that an application may hold.
const longestQuery = time.Minute

// within has the server end a SELECT that takes too long (MariaDB, "SET STATEMENT"; MySQL
// Reference Manual, "Optimizer Hints"); other statements stay as they are.
func (s *Server) within(query string, most time.Duration) string {
	rest, is := strings.CutPrefix(query, "SELECT ")
	switch {
	case !is || s.facts.Product == "": // which is not known yet
		return query
	case s.facts.Product == dbms.MariaDB:
		return fmt.Sprintf("SET STATEMENT max_statement_time = %g FOR %s", most.Seconds(), query)
	}
	return fmt.Sprintf("SELECT /*+ MAX_EXECUTION_TIME(%d) */ %s", most.Milliseconds(), rest)
}

// each runs a query and calls take for every row.
func (s *Server) each(ctx context.Context, query string, args []any, take func(scan func(...any) error) error) error {
	rows, err := s.db.QueryContext(ctx, s.within(query, s.longest), args...)
	if err != nil {
		return s.failed(dbms.Statement{Text: query}, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := take(rows.Scan); err != nil {
			return s.failed(dbms.Statement{Text: query}, err)
		}
	}
	if err := rows.Err(); err != nil {
		return s.failed(dbms.Statement{Text: query}, err)
	}
	return nil
}

// row runs a query that gives one row.
func (s *Server) row(ctx context.Context, query string, args []any, into ...any) error {
	if err := s.db.QueryRowContext(ctx, s.within(query, s.longest), args...).Scan(into...); err != nil {
		return s.failed(dbms.Statement{Text: query}, err)
	}
	return nil
}

// Exec sends statements that change something, one after the other.
func (s *Server) Exec(ctx context.Context, statements ...dbms.Statement) error {
	for _, statement := range statements {
		if s.trace != nil {
			s.trace(statement)
		}
		crash.Point("before an administrator's statement")
		if err := s.sendSoon(ctx, statement); err != nil {
			return s.failed(statement, err)
		}
		crash.Point("behind an administrator's statement")
	}
	return nil
}

// sendSoon is send, watched by endIfItWaits. A statement with a password is not: it waits for no
// table, and would have to be shown to be found.
func (s *Server) sendSoon(ctx context.Context, statement dbms.Statement) error {
	if statement.String() == statement.Text {
		defer s.endIfItWaits(ctx, statement.Text)()
	}
	return s.send(ctx, statement.Text)
}

// endIfItWaits ends a statement that has waited for nothing but tables which others hold for as
// long as a look may take; lock_wait_timeout is for each table, and a database has many. One that
// is at work may go on for hours.
func (s *Server) endIfItWaits(ctx context.Context, statement string) (stop func()) {
	const looks = 6
	ctx, cancel := context.WithCancel(ctx)
	var looking sync.WaitGroup
	looking.Go(func() {
		for waited := 0; ; {
			select {
			case <-ctx.Done():
				return
			case <-time.After(s.longest / looks):
			}
			var id int64
			err := s.row(ctx, `SELECT ID FROM information_schema.PROCESSLIST WHERE STATE LIKE 'Waiting for %metadata lock' AND INFO = ?`, []any{statement}, &id)
			if waited++; err != nil {
				waited = 0
			}
			if waited >= looks {
				_, _ = s.db.ExecContext(ctx, "KILL QUERY "+strconv.FormatInt(id, 10))
			}
		}
	})
	return func() {
		cancel()
		looking.Wait()
	}
}

// send takes the connection that holds a lock, if there is one.
func (s *Server) send(ctx context.Context, statement string) error {
	lock := s.locked.Load()
	if lock == nil {
		_, err := s.db.ExecContext(ctx, statement)
		return err
	}
	lock.Lock()
	defer lock.Unlock()
	_, err := lock.conn.ExecContext(ctx, statement)
	if !errors.Is(err, sqldriver.ErrBadConn) && !errors.Is(err, sql.ErrConnDone) {
		return err
	}
	if err := s.retake(ctx, lock); err != nil {
		return err
	}
	_, err = lock.conn.ExecContext(ctx, statement)
	return err
}

// RemoveObjects drops what a script made, of what is there now and was not there
// before. Triggers go with their tables.
func (s *Server) RemoveObjects(ctx context.Context, database string, made, before map[dbms.Object]bool) error {
	contents, err := s.Contents(ctx, database)
	if err != nil {
		return err
	}
	now := contents[database].Objects()
	var statements []dbms.Statement
	drop := func(o dbms.Object) {
		if now[o] && !before[o] {
			statements = append(statements, plain("DROP %s IF EXISTS %s.%s", o.Kind, QuoteName(database), QuoteName(o.Name)))
		}
	}
	for object := range made {
		switch object.Kind {
		case "TABLE", "VIEW", "SEQUENCE": // MariaDB lists sequences as tables, and dumps hold the place of a view with a table for a while
			name := s.TableName(object.Name)
			drop(dbms.Object{Kind: "TABLE", Name: name})
			drop(dbms.Object{Kind: "VIEW", Name: name})
		default:
			drop(object)
		}
	}
	return s.execWithoutForeignKeys(ctx, statements...)
}

// execWithoutForeignKeys is Exec for dropping tables that refer to each other.
func (s *Server) execWithoutForeignKeys(ctx context.Context, statements ...dbms.Statement) error {
	conn, err := s.Conn(ctx)
	if err != nil {
		return err
	}
	// The changed session variable must not go back into the pool.
	defer func() { _ = conn.Raw(func(any) error { return errSpoiled }); _ = conn.Close() }()
	for _, statement := range append([]dbms.Statement{{Text: "SET SESSION foreign_key_checks = 0"}}, statements...) {
		if s.trace != nil {
			s.trace(statement)
		}
		if _, err := conn.ExecContext(ctx, statement.Text); err != nil {
			return s.failed(statement, err)
		}
	}
	return nil
}

// Code is the server's error number in err, 0 when no server spoke.
func Code(err error) int {
	var own *dbms.ServerError
	if errors.As(err, &own) {
		return own.Code
	}
	var theirs *driver.MySQLError
	if errors.As(err, &theirs) {
		return int(theirs.Number)
	}
	return 0
}

// ServerError turns a driver's error into the record of what the server said;
// nil when it was no server that spoke.
func (s *Server) ServerError(statement dbms.Statement, err error) *dbms.ServerError {
	return serverError(s.Server, statement, err)
}

func serverError(server string, statement dbms.Statement, err error) *dbms.ServerError {
	var theirs *driver.MySQLError
	if !errors.As(err, &theirs) {
		return nil
	}
	return &dbms.ServerError{
		Server: server, Statement: statement.String(), Code: int(theirs.Number),
		SQLState: string(theirs.SQLState[:]), Message: theirs.Message, Cause: causes[int(theirs.Number)],
	}
}

// failed explains why a statement did not succeed.
func (s *Server) failed(statement dbms.Statement, err error) error {
	if spoken := s.ServerError(statement, err); spoken != nil {
		next := dbms.NextAfter(statement.String(), spoken.Cause)
		if hint := hints[spoken.Code]; hint != "" {
			next = hint
		}
		return fault.New(fault.Failed, next, "server %s: %s", s.Server, spoken.Error()).With(spoken)
	}
	if errors.Is(err, context.Canceled) {
		return fault.Stopped(err)
	}
	if heartbeat.Silent(s.Address.String()) {
		return dbms.Lost(s.Server, heartbeat.ErrSilent)
	}
	if isGone(err) {
		lost := fault.As(dbms.Lost(s.Server, err))
		if s.cluster != nil {
			lost.Next = "name another node of the cluster in the estate file, and run the command again: it takes away what this run has left"
		}
		return lost
	}
	return fault.New(fault.Failed, dbms.NextAfter(statement.String(), dbms.OtherCause), "server %s: %v", s.Server, err).With(err)
}

// isGone reports whether the connection was lost.
func isGone(err error) bool {
	var network net.Error
	return errors.Is(err, driver.ErrInvalidConn) || errors.As(err, &network) ||
		errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET) || strings.Contains(err.Error(), "bad connection")
}

// causes are the errors that decide what is done next.
var causes = map[int]dbms.Cause{1045: dbms.WrongLogin, 1130: dbms.WrongLogin, 1044: dbms.NoRightThere, 1049: dbms.NoDatabase, 1290: dbms.PolicyRefuses, 1819: dbms.PolicyRefuses, 1141: dbms.NoSuchGrant, 1040: dbms.TooMany, 1203: dbms.TooMany, 1226: dbms.TooMany, 1021: dbms.NoRoom, 1114: dbms.NoRoom, 3675: dbms.NoRoom}

const whoHolds = "somebody holds a lock that this waited for, or the server is busy: SHOW FULL PROCESSLIST as the administrator tells what is at work"

// hints are the next steps for errors that mean the same wherever they occur.
var hints = map[int]string{
	1044: "the account has no rights on that database",
	1142: "the account lacks a right; `SHOW GRANTS` as the administrator tells which it has",
	1227: "the administrator's account lacks the right the server names",
	1290: "a server option forbids it; the option is named in the message",
	1819: "the server's password policy refuses this password; give a longer one as the account's password",
	1205: whoHolds,
	1317: whoHolds,
	1969: whoHolds,
	3024: whoHolds,
	1524: "this server has that method no more, or not yet: leave auth out, and let the server's own do",
	1396: "the account was made or removed by someone else in the meantime; run the command again",
}

// loginHints are the next steps for refused logins (MySQL Reference Manual,
// "Server Error Message Reference"; MariaDB, "Error Codes"; tried on both).
var loginHints = map[int]string{
	1040: "the server has as many connections as it allows; try again, or raise max_connections",
	1044: "the account has no rights on this database, or the database does not exist",
	1045: "wrong password, unknown account, or an account that may not come from this host",
	1049: "the database does not exist",
	1115: "the server does not know this character set",
	1129: "the server blocked this host after errors: FLUSH HOSTS as the administrator",
	1130: "no account may come from this host",
	1203: "the account has as many connections as it may have",
	1226: "the account has used up one of its limits",
	1698: "this account logs in by the operating system's user, and the user running this is another one",
	1820: "the password has expired: the administrator must set a new one",
	1862: "the password has expired: the administrator must set a new one",
	3118: "the account is locked: ALTER USER ... ACCOUNT UNLOCK as the administrator",
	3159: "the server wants TLS here: set tls: require for it",
	3955: "the account is blocked after failed logins: ALTER USER ... ACCOUNT UNLOCK as the administrator",
	4151: "the account is locked: ALTER USER ... ACCOUNT UNLOCK as the administrator",
}

// refused explains why no login came about.
func refused(l dbms.Login, err error) error {
	who := l.User + " cannot log in to server " + l.Server + " at " + l.Address.String()
	if spoken := serverError(l.Server, dbms.Statement{}, err); spoken != nil {
		next := loginHints[spoken.Code]
		if next == "" {
			next = "the server's error log may say more"
		}
		return fault.New(dbms.ClassOf(spoken.Cause), next, "%s: %s", who, spoken.Error()).With(spoken)
	}
	if strings.Contains(err.Error(), "perform full authentication") { // the driver has no error of its own for it
		return fault.New(fault.Failed, "have the server make its keys (caching_sha2_password_auto_generate_rsa_keys=ON, and a restart), or use TLS or the socket",
			"%s: the server has no RSA key, without which a password cannot come over TCP in plain; PHP says 2006, MySQL server has gone away, until someone logs in through the socket", who).With(err)
	}
	if l.Unvouched && strings.Contains(err.Error(), "crypto/rsa: ") {
		return fault.New(fault.Failed, "correct the address in the settings; or, if it is right, write it as seen_by_apps under servers."+l.Server,
			"the server at %s asks for the whole password of %s, and the estate file does not know that address: PHP would send it, whoever is there; Yellowfield has sent none", l.Address, l.User).With(err)
	}
	if errors.Is(err, driver.ErrNoTLS) {
		return dbms.NoTLS(l, err)
	}
	if isGone(err) && heartbeat.Silent(l.Address.String()) {
		err = heartbeat.ErrSilent // the driver does not pass it on
	}
	return dbms.Unreachable(l, err)
}
