package mysql

import (
	"context"
	"crypto/rand"
	"database/sql"
	sqldriver "database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"

	driver "github.com/go-sql-driver/mysql"

	"yellowfield/internal/crash"
	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// Lock takes a named lock on the server without waiting: on a connection that does nothing
// else, which outlives a statement that is interrupted, and once more on the one that Exec
// sends its statements on, so that the server frees it, when this program dies, not before
// the statement at work has ended. held is false when someone else has it. release gives
// it back.
func (s *Server) Lock(ctx context.Context, name string) (release func(), held bool, err error) {
	_, releaseName, held, err := s.lock(ctx, name)
	if err != nil || !held {
		return nil, false, err
	}
	working, releaseWork, held, err := s.lock(ctx, workOf(name))
	if err != nil || !held {
		releaseName()
		return nil, false, err
	}
	mine := &heldLock{conn: working, name: name, release: []func(){releaseName, releaseWork}}
	first := s.locked.CompareAndSwap(nil, mine)
	return func() {
		if first {
			s.locked.Store(nil)
		}
		for _, release := range slices.Backward(mine.release) {
			release()
		}
	}, true, nil
}

// heldLock is the lock under which statements are sent.
type heldLock struct {
	sync.Mutex
	conn    *sql.Conn
	name    string
	release []func()
}

// retake takes the lock again when its connection is gone: the server was started again,
// and somebody else may have come in between.
func (s *Server) retake(ctx context.Context, lock *heldLock) error {
	conn, release, held, err := s.lock(ctx, workOf(lock.name))
	if err != nil {
		return err
	}
	if !held {
		return fault.New(fault.Busy, "wait until it is done, and run the command again", "server %s was started again, and someone else is at work there now", s.Server)
	}
	lock.conn, lock.release = conn, append(lock.release, release)
	return nil
}

// workOf is the name of the lock on the connection that works.
func workOf(name string) string { return "work:" + name }

func (s *Server) lock(ctx context.Context, name string) (conn *sql.Conn, release func(), held bool, err error) {
	if conn, err = s.Conn(ctx); err != nil {
		return nil, nil, false, err
	}
	var got sql.NullInt64
	name = lockName(name)
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(?, 0)", name).Scan(&got); err != nil {
		_ = conn.Close()
		return nil, nil, false, s.failed(dbms.Statement{Text: "SELECT GET_LOCK()"}, err)
	}
	if got.Int64 != 1 {
		_ = conn.Close()
		return nil, nil, false, nil
	}
	return conn, func() {
		// The run may have been interrupted; the lock has to go all the same.
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK(?)", name)
		_ = conn.Close()
	}, true, nil
}

// lockName is short and in lower case: the products differ in case sensitivity, and MySQL
// refuses names over 64 characters.
func lockName(name string) string {
	name = strings.ToLower(name)
	return name[:min(len(name), 64)]
}

// LockHolder gives the session that has a named lock. An account counts as one that
// administers when its name is ours, it has a right over other accounts, or it was
// granted any role, whose rights are not looked into.
func (s *Server) LockHolder(ctx context.Context, name string) (*dbms.Connection, error) {
	roles := "mysql.role_edges WHERE TO_USER"
	if s.facts.Product == dbms.MariaDB {
		roles = "mysql.roles_mapping WHERE User"
	}
	var holder *dbms.Connection
	err := s.each(ctx, `SELECT p.ID, p.USER, p.HOST, p.TIME, p.USER = ? OR EXISTS (SELECT 1 FROM `+roles+` = p.USER)
			OR EXISTS (SELECT 1 FROM mysql.user u WHERE u.User = p.USER AND 'Y' IN (u.Create_user_priv, u.Super_priv, u.Grant_priv))
		FROM information_schema.PROCESSLIST p WHERE p.ID = COALESCE(IS_USED_LOCK(?), IS_USED_LOCK(?))`, []any{dbms.ParseAccount(s.currentUser).User, lockName(name), lockName(workOf(name))},
		func(scan func(...any) error) error {
			var id, seconds int64
			var user, host string
			holder = &dbms.Connection{}
			err := scan(&id, &user, &host, &seconds, &holder.Administers)
			holder.Who = fmt.Sprintf("%s from %s, connection %d, whose last statement began %d s ago", user, host, id, seconds)
			holder.End = plain("KILL %d", id)
			return err
		})
	return holder, err
}

// EndSessions ends the open connections of an account, which would keep rights
// and logins that have been taken away. On MySQL, which can end connections only one by one and
// lists them by user name alone, those of every account of that name end. It waits until
// their statements have ended, too, as far as the server does that soon.
func (s *Server) EndSessions(ctx context.Context, a dbms.Account) error {
	if s.facts.Product == dbms.MariaDB {
		if err := s.Exec(ctx, plain("KILL USER %s", quoteAccount(a))); err != nil {
			return err
		}
		return s.awaitEnd(ctx, a)
	}
	var ids []int64
	err := s.each(ctx, `SELECT ID FROM information_schema.PROCESSLIST WHERE USER = ? AND ID <> CONNECTION_ID()`, []any{a.User},
		func(scan func(...any) error) error {
			var id int64
			err := scan(&id)
			ids = append(ids, id)
			return err
		})
	for _, id := range ids {
		if err == nil {
			err = s.Exec(ctx, plain("KILL %d", id))
			if Code(err) == 1094 { // it ended by itself in the meantime
				err = nil
			}
		}
	}
	if err != nil {
		return err
	}
	return s.awaitEnd(ctx, a)
}

// awaitEnd waits for sessions that were killed: the server lets a statement come to a
// place where it can end.
func (s *Server) awaitEnd(ctx context.Context, a dbms.Account) error {
	return dbms.AwaitNone(ctx, func() (dying int, err error) {
		err = s.each(ctx, `SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE USER = ? AND COMMAND = 'Killed'`, []any{a.User},
			func(scan func(...any) error) error { return scan(&dying) })
		return dying, err
	})
}

// StoredVerifiers reads one account's verifiers back; for checking what was set.
func (s *Server) StoredVerifiers(ctx context.Context, a dbms.Account) ([]secret.Verifier, error) {
	query := `SELECT plugin, authentication_string, plugin, JSON_UNQUOTE(JSON_EXTRACT(User_attributes, '$.additional_password')) FROM mysql.user WHERE user = ? AND host = ?`
	if s.facts.Product == dbms.MariaDB {
		query = `SELECT JSON_VALUE(Priv, '$.plugin'), JSON_VALUE(Priv, '$.authentication_string'), ` + olderOnMariaDB + ` FROM mysql.global_priv WHERE User = ? AND Host = ?`
	}
	var method, olderMethod, older sql.NullString
	var stored []byte
	err := s.row(ctx, query, []any{a.User, a.Host}, &method, &stored, &olderMethod, &older)
	if errors.Is(err, sql.ErrNoRows) {
		err = fault.New(fault.Failed, "it was removed by someone else in the meantime; run the command again", "server %s has no account %s", s.Server, a)
	}
	if err != nil {
		return nil, err
	}
	verifiers := []secret.Verifier{secret.StoredVerifier(method.String, stored)}
	if older.Valid {
		verifiers = append(verifiers, secret.StoredVerifier(olderMethod.String, []byte(older.String)))
	}
	return verifiers, nil
}

// Sessions lists the open sessions of an account's user name.
func (s *Server) Sessions(ctx context.Context, a dbms.Account) ([]dbms.OpenSession, error) {
	var found []dbms.OpenSession
	err := s.each(ctx, `SELECT HOST, COALESCE(DB, ''), TIME FROM information_schema.PROCESSLIST WHERE USER = ? ORDER BY HOST`, []any{a.User}, func(scan func(...any) error) error {
		var o dbms.OpenSession
		err := scan(&o.From, &o.Database, &o.Seconds)
		found = append(found, o)
		return err
	})
	return found, err
}

// SessionState asks the server how it sees this login.
func (s *Server) SessionState(ctx context.Context) (dbms.SessionState, error) {
	var f dbms.SessionState
	var database sql.NullString
	err := s.row(ctx, "SELECT CURRENT_USER(), DATABASE(), @@character_set_client", nil,
		&f.CurrentUser, &database, &f.Charset)
	f.Database = database.String
	if s.facts.ReadOnly {
		f.ReadOnly = "read_only is on there: it is a replica, or was set so by its administrator"
	}
	return f, err
}

// SingleSession is one connection by itself: an import or an export runs on it, and finds
// what it has set before.
type SingleSession struct {
	server *Server
	db     *sql.DB
	conn   *sql.Conn
	wire   *wire // nil where what comes over the wire cannot be read
	text   textRows
}

// OpenSingle opens a connection by itself, with the login of s.
func (s *Server) OpenSingle(ctx context.Context) (*SingleSession, error) {
	config, err := configure(s.Login)
	if err != nil {
		return nil, err
	}
	i := &SingleSession{server: s}
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		dial := s.Dial
		if dial == nil {
			dial = (&net.Dialer{Timeout: dialTimeout}).DialContext
		}
		conn, err := dial(ctx, network, address)
		if err != nil || s.Address.Socket == "" && s.Address.TLS != dbms.TLSNone {
			return conn, err
		}
		i.wire = &wire{Conn: conn}
		return i.wire, nil
	}
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, err
	}
	i.db = sql.OpenDB(connector)
	if i.conn, err = i.db.Conn(ctx); err != nil {
		_ = i.db.Close()
		return nil, refused(s.Login, err)
	}
	return i, nil
}

// Close ends the session.
func (i *SingleSession) Close() {
	_ = i.conn.Close()
	_ = i.db.Close()
}

// Warned reports whether the server had remarks about the statement before;
// true also where that is not known.
func (i *SingleSession) Warned() bool { return i.wire == nil || i.wire.warnings != 0 }

// Exec sends one statement of a script and returns how many rows it changed.
// What the server says comes back as *dbms.ServerError, without more words:
// the importer knows the place and says the rest.
func (i *SingleSession) Exec(ctx context.Context, statement string) (rows int64, err error) {
	crash.Point("before a statement of a script")
	result, err := i.conn.ExecContext(ctx, statement)
	if err != nil {
		if spoken := i.server.ServerError(dbms.Statement{Text: dbms.Shorten(statement)}, err); spoken != nil {
			return 0, spoken
		}
		return 0, i.server.failed(dbms.Statement{Text: statement}, err)
	}
	rows, _ = result.RowsAffected()
	return rows, nil
}

// Load runs LOAD DATA LOCAL: into is what follows the file's name in the statement, from
// gives the rows. It returns how many rows the server says to have stored, and how many
// warnings it has counted. An error of from comes back as it is. The server can have
// nothing but these rows: the name is made up for them, and forgotten afterwards.
func (i *SingleSession) Load(ctx context.Context, into string, from io.Reader) (rows int64, warnings int, err error) {
	name := "yellowfield-" + rand.Text()
	kept := &keptError{Reader: from}
	driver.RegisterReaderHandler(name, func() io.Reader { return kept })
	defer driver.DeregisterReaderHandler(name)
	rows, err = i.Exec(ctx, "LOAD DATA LOCAL INFILE 'Reader::"+name+"' "+into)
	switch {
	case kept.err != nil:
		return 0, 0, kept.err
	case err != nil:
		return 0, 0, err
	case i.wire != nil && i.wire.warnings >= 0:
		return rows, i.wire.warnings, nil
	}
	counted, err := i.Query(ctx, "SELECT @@warning_count")
	if err != nil {
		return 0, 0, err
	}
	warnings, err = strconv.Atoi(counted[0][0])
	return rows, warnings, err
}

// keptError is a reader that keeps the error it ended with.
type keptError struct {
	io.Reader
	err error
}

func (k *keptError) Read(into []byte) (int, error) {
	n, err := k.Reader.Read(into)
	if err != nil && !errors.Is(err, io.EOF) {
		k.err = err
	}
	return n, err
}

// Query gives all rows of a query as text, NULL as "".
func (i *SingleSession) Query(ctx context.Context, query string) ([][]string, error) {
	rows, err := i.conn.QueryContext(ctx, query)
	if err != nil {
		if spoken := i.server.ServerError(dbms.Statement{Text: dbms.Shorten(query)}, err); spoken != nil {
			return nil, spoken
		}
		return nil, i.server.failed(dbms.Statement{Text: query}, err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var all [][]string
	size := 0
	for rows.Next() {
		values := make([]sql.NullString, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, i.server.failed(dbms.Statement{Text: query}, err)
		}
		texts := make([]string, len(columns))
		for i, v := range values {
			texts[i] = v.String
			size += len(v.String) + 24
		}
		if size > dbms.MostAnswered {
			return nil, dbms.TooLong(i.server.Server, query)
		}
		all = append(all, texts)
	}
	if err := rows.Err(); err != nil {
		return nil, i.server.failed(dbms.Statement{Text: query}, err)
	}
	return all, nil
}

// Rows gives the rows of a query one by one, their values as text, nil for NULL. They are
// valid until take returns. A session in which take has failed is of no more use.
func (i *SingleSession) Rows(ctx context.Context, query string, take func([][]byte) error) error {
	var own error // of take
	err := i.conn.Raw(func(conn any) (err error) {
		if i.wire != nil {
			own, err = i.text.query(ctx, i.wire, query, take)
			return err
		}
		rows, err := conn.(sqldriver.QueryerContext).QueryContext(ctx, query, nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		values := make([]sqldriver.Value, len(rows.Columns()))
		texts := make([][]byte, len(values))
		for {
			switch err := rows.Next(values); {
			case errors.Is(err, io.EOF):
				return nil
			case err != nil:
				return err
			}
			for n, v := range values {
				if texts[n], err = asText(v); err != nil {
					return err
				}
			}
			if own = take(texts); own != nil {
				return nil
			}
		}
	})
	switch {
	case own != nil:
		return own
	case err != nil:
		return i.server.failed(dbms.Statement{Text: dbms.Shorten(query)}, err)
	}
	return nil
}

// ScriptConditions is what a server means for a script that is to run on it.
type ScriptConditions struct {
	MariaDB       bool   // else it is MySQL
	Version       int    // as conditional comments count it: 101106 for 10.11.6
	SQLMode       string // that a new session begins with
	MaxPacket     int    // bytes of the longest statement; 0 for no limit
	DefaultEngine string
	Collations    map[string]string // to their character set
	Engines       map[string]bool   // that it can use, in small letters
	// Cluster: what is written is replicated to other nodes, which takes InnoDB, and
	// primary keys.
	Cluster bool
}

// HasCharset reports whether one of the collations is for the character set.
func (f ScriptConditions) HasCharset(name string) bool {
	for _, charset := range f.Collations {
		if charset == name {
			return true
		}
	}
	return name == "utf8" || name == "binary"
}

// ScriptConditions asks the server. MariaDB lists its collations in full only in
// COLLATION_CHARACTER_SET_APPLICABILITY (MariaDB, "Information Schema
// COLLATION_CHARACTER_SET_APPLICABILITY Table").
func (s *Server) ScriptConditions(ctx context.Context) (ScriptConditions, error) {
	f := ScriptConditions{MariaDB: s.facts.Product == dbms.MariaDB, Version: s.versionNumber(), Cluster: s.facts.Cluster != ""}
	err := s.row(ctx, "SELECT @@GLOBAL.sql_mode, @@GLOBAL.max_allowed_packet, @@GLOBAL.default_storage_engine", nil, &f.SQLMode, &f.MaxPacket, &f.DefaultEngine)
	if err != nil {
		return f, err
	}
	if s.known == nil {
		known := &ScriptConditions{Collations: map[string]string{}, Engines: map[string]bool{}}
		if err := s.readKnown(ctx, known); err != nil {
			return f, err
		}
		s.known = known
	}
	f.Collations, f.Engines = s.known.Collations, s.known.Engines
	return f, nil
}

// readKnown reads what stays the same as long as the server runs.
func (s *Server) readKnown(ctx context.Context, f *ScriptConditions) error {
	query := "SELECT COLLATION_NAME, CHARACTER_SET_NAME FROM information_schema.COLLATIONS WHERE CHARACTER_SET_NAME IS NOT NULL"
	const fullNames = 101001 // the version that brought them
	if s.facts.Product == dbms.MariaDB && s.versionNumber() >= fullNames {
		query = "SELECT FULL_COLLATION_NAME, CHARACTER_SET_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY"
	}
	err := s.each(ctx, query, nil, func(scan func(...any) error) error {
		var name, charset string
		err := scan(&name, &charset)
		f.Collations[name] = charset
		return err
	})
	if err != nil {
		return err
	}
	return s.each(ctx, "SELECT LOWER(ENGINE) FROM information_schema.ENGINES WHERE SUPPORT IN ('YES', 'DEFAULT')", nil, func(scan func(...any) error) error {
		var name string
		err := scan(&name)
		f.Engines[name] = true
		return err
	})
}

// versionNumber is the server's version as conditional comments count it:
// 101106 for 10.11.6.
func (s *Server) versionNumber() int {
	number := 0
	for i, part := range strings.SplitN(s.facts.Version, ".", 3) {
		n, _ := strconv.Atoi(part)
		number += n * []int{10000, 100, 1}[i]
	}
	return number
}

// ShowRoutine gives a routine's definition from the server's catalogue: its name, sql_mode,
// statement, and what else the server shows.
func (s *Server) ShowRoutine(ctx context.Context, database, kind, name string) ([]string, error) {
	if kind != "FUNCTION" && kind != "PROCEDURE" {
		return nil, fault.New(fault.Failed, "report this", "%s is not a kind of routine", kind)
	}
	shown := make([]sql.NullString, 6)
	into := make([]any, len(shown))
	for i := range shown {
		into[i] = &shown[i]
	}
	err := s.row(ctx, "SHOW CREATE "+kind+" "+QuoteName(database)+"."+QuoteName(name), nil, into...)
	texts := make([]string, len(shown))
	for i, v := range shown {
		texts[i] = v.String
	}
	return texts, err
}

// Variables reads server-wide variables; one that the product does not have is left
// out.
func (s *Server) Variables(ctx context.Context, names ...string) (map[string]string, error) {
	values := map[string]string{}
	quoted := make([]string, len(names))
	for i, name := range names {
		quoted[i] = QuoteText(name)
	}
	err := s.each(ctx, "SHOW GLOBAL VARIABLES WHERE Variable_name IN ("+strings.Join(quoted, ", ")+")", nil, func(scan func(...any) error) error {
		var name, value string
		err := scan(&name, &value)
		values[strings.ToLower(name)] = value
		return err
	})
	return values, err
}

// SetVariable is the statement that sets a server-wide variable.
func (s *Server) SetVariable(name, value string) dbms.Statement {
	if value == "" || strings.Trim(value, "0123456789.") != "" {
		value = QuoteText(value)
	}
	return plain("SET GLOBAL %s = %s", name, value)
}

// stored are the session variables that the server keeps with a trigger or
// function (MySQL Reference Manual, "CREATE TRIGGER Statement").
var stored = []string{"sql_mode", "character_set_client", "collation_connection", "time_zone"}

// Definition is a statement that an administrator runs for an application: the
// making or dropping of a trigger or function.
type Definition struct {
	Drop      bool
	Kind      string // TRIGGER or FUNCTION
	Name      string // in the application's database
	Table     string // of a trigger
	Statement string
	// IsBody reports whether a text that the server gives as the object's body is
	// the one that was written.
	IsBody func(text string) bool
}

// DefineFor runs one CREATE or DROP of a trigger or function that binary logging
// refuses to the application's account, in the administrator's name but with that
// account as definer, under the session variables of the import: those are stored
// with the object. build makes the statement for what the session has set, and the
// server is asked afterwards what came of it: anything else than what was meant is
// dropped and refused.
func (s *Server) DefineFor(ctx context.Context, session *SingleSession, definer dbms.Account, database string, build func(sqlMode, charset string) (Definition, error)) error {
	values := make([]string, len(stored))
	targets := make([]any, len(stored))
	for i := range stored {
		targets[i] = &values[i]
	}
	if err := session.conn.QueryRowContext(ctx, "SELECT @@"+strings.Join(stored, ", @@")).Scan(targets...); err != nil {
		return s.failed(dbms.Statement{Text: "SELECT @@" + strings.Join(stored, ", @@")}, err)
	}
	d, err := build(values[0], values[1])
	if err != nil {
		return err
	}
	conn, err := s.Conn(ctx)
	if err != nil {
		return err
	}
	// The connection carries the import's variables now: it must not go back
	// into the pool.
	defer func() { _ = conn.Raw(func(any) error { return errSpoiled }); _ = conn.Close() }()
	statements := []string{"USE " + QuoteName(database)}
	for i, name := range stored {
		statements = append(statements, fmt.Sprintf("SET SESSION %s = %s", name, QuoteText(values[i])))
	}
	if s.trace != nil {
		s.trace(dbms.Statement{Text: dbms.Shorten(d.Statement)})
	}
	for _, text := range append(statements, d.Statement) {
		if _, err := conn.ExecContext(ctx, text); err != nil {
			if spoken := s.ServerError(dbms.Statement{Text: dbms.Shorten(text)}, err); spoken != nil {
				return spoken
			}
			return s.failed(dbms.Statement{Text: text}, err)
		}
	}
	if d.Drop {
		return nil
	}
	return s.isDefined(ctx, definer, database, d)
}

// isDefined reads back what DefineFor has made.
func (s *Server) isDefined(ctx context.Context, definer dbms.Account, database string, d Definition) error {
	query := `SELECT DEFINER, EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND TRIGGER_NAME = ?`
	if d.Kind == "FUNCTION" {
		query = `SELECT DEFINER, ROUTINE_SCHEMA, '', COALESCE(ROUTINE_DEFINITION, '') FROM information_schema.ROUTINES WHERE ROUTINE_TYPE = 'FUNCTION' AND ROUTINE_SCHEMA = ? AND ROUTINE_NAME = ?`
	}
	found := false
	var by, schema, table, body string
	err := s.each(ctx, query, []any{database, d.Name}, func(scan func(...any) error) error {
		found = true
		return scan(&by, &schema, &table, &body)
	})
	switch {
	case err != nil:
		return err
	case !found:
		return fault.New(fault.Protected, "look at the server's error log", "the server took the %s %s and does not have it", strings.ToLower(d.Kind), d.Name)
	case by == definer.String() && schema == database && s.TableName(table) == s.TableName(d.Table) && d.IsBody(body):
		return nil
	}
	err = fault.New(fault.Protected, "remove the statement, and report it", "the %s %s came out otherwise than it was written (definer %s, on %s.%s): it is dropped again",
		strings.ToLower(d.Kind), d.Name, by, schema, table)
	return errors.Join(err, s.Exec(context.WithoutCancel(ctx), plain("DROP %s IF EXISTS %s.%s", d.Kind, QuoteName(database), QuoteName(d.Name))))
}

// errSpoiled makes database/sql close a connection instead of reusing it.
var errSpoiled = fmt.Errorf("closed on purpose: %w", sql.ErrConnDone)

// IsLoggingRefusal reports whether binary logging is why a trigger or function
// was refused to an account that may otherwise define it (error 1419).
func IsLoggingRefusal(err error) bool { return Code(err) == 1419 }

// Explain gives the next step for an error in a script; empty where the server's own message
// has to suffice.
func Explain(err *dbms.ServerError) string {
	switch err.Code {
	case 1044, 1142, 1227, 1370:
		return "the script reaches outside the application's own database, or needs a right the application's account does not have; remove the statement"
	case 1050, 1304, 1359, 1061, 1060:
		return "the script makes it twice, or it was there before; correct the script and run the command again"
	case 1064:
		return "the server does not understand the statement; was the script made for another product or version?"
	case 1273, 1115, 1253:
		return "this server does not have it: replace the name in the script by one that `SHOW COLLATION` lists"
	case 1418:
		return "binary logging is on: give the function DETERMINISTIC, NO SQL or READS SQL DATA, as fits it"
	case 1419:
		return "binary logging is on: an administrator has to define it; give the server an admin in the estate file"
	case 1071, 1709:
		return "the key is too long for the character set: shorten the key, or give the table ROW_FORMAT=DYNAMIC"
	case 1153:
		return "the statement is longer than the server's max_allowed_packet: raise that for the import"
	case 1146:
		return "the table does not exist at this point of the script: are the files in the right order?"
	case 1366, 1406, 1292, 1048, 1364:
		return "the value does not fit the column under the server's sql_mode; correct the row"
	case 1452, 1216:
		return "the row refers to one that is not there: are the files in the right order?"
	case 1824, 1005:
		return "a foreign key refers to a table that is not there at this point: are the files in the right order?"
	case 1062:
		return "two rows have the same key; correct the script"
	}
	return ""
}
