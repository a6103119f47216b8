package oracletest

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// Pool keeps servers of one product for tests that want nothing special of one: it
// empties a server behind a test, which takes a tenth of the time that a new one does. One
// that is not as it was when it was new is stopped instead.
type Pool struct {
	Options throwaway.Options
	begin   sync.Once // sets Options, where several tests come first
	mutex   sync.Mutex
	idle    []*Pooled
}

// Pooled is a server of a pool, with what is true of it as long as nobody has left anything.
type Pooled struct {
	*throwaway.Server
	asNew string
}

// Take gives a server that is as a new one.
func (p *Pool) Take(ctx context.Context) (*Pooled, error) {
	p.mutex.Lock()
	if last := len(p.idle) - 1; last >= 0 {
		s := p.idle[last]
		p.idle = p.idle[:last]
		p.mutex.Unlock()
		return s, nil
	}
	p.mutex.Unlock()
	o := p.Options
	var err error
	if o.Folder, err = os.MkdirTemp(filepath.Join("/", o.Root, "tmp"), "yf-"); err != nil {
		return nil, err
	}
	server, err := throwaway.Start(ctx, o)
	if err != nil {
		_ = os.RemoveAll(o.Folder)
		return nil, err
	}
	s := &Pooled{Server: server}
	s.asNew, err = p.fingerprint(s)
	return s, err
}

// GiveBack empties a server for the next run.
func (p *Pool) GiveBack(s *Pooled) {
	if p.empty(s) == nil {
		if now, err := p.fingerprint(s); err == nil && now == s.asNew {
			p.mutex.Lock()
			defer p.mutex.Unlock()
			p.idle = append(p.idle, s)
			return
		}
	}
	s.Discard()
}

// Discard ends a server that is not to be used again.
func (s *Pooled) Discard() {
	s.Stop()
	_ = os.RemoveAll(s.Folder)
}

// Close ends the servers that nobody has.
func (p *Pool) Close() {
	for _, s := range p.idle {
		s.Discard()
	}
}

// ask gives the lines that a server answers to an administrator.
func (p *Pool) ask(s *Pooled, database, statement string) ([]string, error) {
	login := s.Login()
	login.Database = database
	said, err := Ask(p.Options.Product, login, statement)
	return strings.FieldsFunc(said, func(r rune) bool { return r == '\n' }), err
}

// emptying are, for each family, queries whose every line is a statement that takes away
// something that a test has made.
var emptying = map[bool][]string{
	false: {
		"SELECT CONCAT('KILL ', ID) FROM information_schema.PROCESSLIST WHERE ID <> CONNECTION_ID() AND USER NOT IN ('system user', 'event_scheduler')",
		"SELECT CONCAT('DROP DATABASE `', REPLACE(SCHEMA_NAME, '`', '``'), '`') FROM information_schema.SCHEMATA WHERE SCHEMA_NAME NOT IN ('mysql', 'sys', 'information_schema', 'performance_schema')",
		"SELECT CONCAT('DROP USER ', QUOTE(User), '@', QUOTE(Host)) FROM mysql.user WHERE User NOT IN ('root', 'mysql', 'mariadb.sys', 'mysql.sys', 'mysql.session', 'mysql.infoschema', 'PUBLIC') AND Host <> ''",
	},
	true: {
		"SELECT 'SELECT pg_terminate_backend(' || pid || ')' FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend'",
		"SELECT 'DROP DATABASE ' || quote_ident(datname) || ' WITH (FORCE)' FROM pg_database WHERE datname NOT IN ('postgres', 'template0', 'template1')",
		"SELECT 'DROP OWNED BY ' || quote_ident(rolname) FROM pg_roles WHERE rolname !~ '^pg_' AND rolname <> current_user",
		"SELECT 'DROP ROLE ' || quote_ident(rolname) FROM pg_roles WHERE rolname !~ '^pg_' AND rolname <> current_user",
	},
}

// empty takes away what a test has made.
func (p *Pool) empty(s *Pooled) error {
	for _, of := range emptying[p.Options.Product == dbms.PostgreSQL] {
		statements, err := p.ask(s, "", of)
		if err != nil {
			return err
		}
		for _, statement := range statements {
			if _, err := p.ask(s, "", statement); err != nil && !strings.HasPrefix(statement, "KILL") { // which may have ended by itself
				return err
			}
		}
	}
	return nil
}

// known are queries whose answers a test must not have changed.
var known = map[dbms.Product][]string{
	dbms.MariaDB: append([]string{"SELECT * FROM mysql.global_priv ORDER BY 1, 2", "SELECT * FROM mysql.roles_mapping", "SELECT * FROM mysql.proc WHERE db <> 'sys' ORDER BY 1, 2, 3"}, onBoth...),
	dbms.MySQL:   append([]string{"SELECT * FROM mysql.user ORDER BY 1, 2", "SELECT * FROM mysql.role_edges", "SELECT * FROM mysql.global_grants ORDER BY 1, 2, 3", "SELECT * FROM mysql.component"}, onBoth...),
	dbms.PostgreSQL: {
		"SELECT * FROM pg_authid ORDER BY oid", "SELECT * FROM pg_db_role_setting ORDER BY 1, 2", "SELECT name, setting FROM pg_settings ORDER BY 1", "SELECT * FROM pg_auth_members ORDER BY 1, 2",
		"SELECT datname, datdba, datacl, datconnlimit, datallowconn FROM pg_database ORDER BY 1", "SELECT count(*), max(oid) FROM pg_class", "SELECT count(*), max(oid) FROM pg_proc", "SELECT * FROM pg_namespace ORDER BY 1", "SELECT * FROM pg_tablespace ORDER BY 1",
	},
}

var onBoth = []string{
	"SHOW GLOBAL VARIABLES WHERE Variable_name NOT LIKE 'gtid%' AND Variable_name NOT LIKE '%executed%'", "SELECT * FROM mysql.plugin ORDER BY 1", "SELECT * FROM mysql.db ORDER BY 1, 2, 3", "SELECT * FROM mysql.proxies_priv ORDER BY 1, 2",
	"SELECT * FROM mysql.tables_priv ORDER BY 1, 2, 3, 4", "SELECT * FROM mysql.columns_priv ORDER BY 1, 2, 3, 4", "SELECT * FROM mysql.procs_priv ORDER BY 1, 2, 3, 4", "SELECT * FROM mysql.func", "SELECT * FROM mysql.servers",
	"SELECT EVENT_SCHEMA, EVENT_NAME FROM information_schema.EVENTS", "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA ORDER BY 1",
}

// fingerprint is the same as long as the server is as it was when it was new.
func (p *Pool) fingerprint(s *Pooled) (string, error) {
	var all strings.Builder
	for _, of := range known[p.Options.Product] {
		lines, err := p.ask(s, "", of)
		if err != nil {
			return "", err
		}
		all.WriteString(strings.Join(lines, "\n") + "\n\n")
	}
	for _, file := range []string{"pg_hba.conf", "pg_ident.conf", "postgresql.conf", "postgresql.auto.conf"} {
		content, _ := os.ReadFile(filepath.Join(s.Data(), file)) // PostgreSQL alone has them
		all.Write(content)
	}
	return all.String(), nil
}
