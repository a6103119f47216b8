package main

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// pool keeps servers of one product for scenes that want nothing special of theirs: it
// empties a server behind a scene, which takes a tenth of the time that a new one does. One
// that is not as it was when it was new is stopped instead.
type pool struct {
	options throwaway.Options // with the initialised data
	mutex   sync.Mutex
	idle    []*pooled
}

// pooled is a server of a pool, with what is true of it as long as nobody has left anything.
type pooled struct {
	*throwaway.Server
	asNew string
}

func (p *pool) take(ctx context.Context) (*pooled, error) {
	p.mutex.Lock()
	if last := len(p.idle) - 1; last >= 0 {
		s := p.idle[last]
		p.idle = p.idle[:last]
		p.mutex.Unlock()
		return s, nil
	}
	p.mutex.Unlock()
	o := p.options
	var err error
	if o.Folder, err = os.MkdirTemp(filepath.Join("/", o.Root, "tmp"), "yf-"); err != nil {
		return nil, err
	}
	server, err := throwaway.Start(ctx, o)
	if err != nil {
		_ = os.RemoveAll(o.Folder)
		return nil, err
	}
	s := &pooled{Server: server}
	s.asNew, err = p.fingerprint(s)
	return s, err
}

func (p *pool) giveBack(s *pooled) {
	if p.empty(s) == nil {
		if now, err := p.fingerprint(s); err == nil && now == s.asNew {
			p.mutex.Lock()
			defer p.mutex.Unlock()
			p.idle = append(p.idle, s)
			return
		}
	}
	s.discard()
}

func (s *pooled) discard() {
	s.Stop()
	_ = os.RemoveAll(s.Folder)
}

func (p *pool) close() {
	for _, s := range p.idle {
		s.discard()
	}
}

// ask gives the lines that a server answers to an administrator.
func (p *pool) ask(s *pooled, database, statement string) ([]string, error) {
	login := s.Login()
	login.Database = database
	ask := query
	if p.options.Product == dbms.PostgreSQL {
		ask = queryPostgres
	}
	said, err := ask(login, statement)
	return strings.FieldsFunc(said, func(r rune) bool { return r == '\n' }), err
}

// emptying are, for each family, queries whose every line is a statement that takes away
// something that a scene has made.
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

// empty takes away what a scene has made.
func (p *pool) empty(s *pooled) error {
	for _, of := range emptying[p.options.Product == dbms.PostgreSQL] {
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

// known are queries whose answers a scene must not have changed.
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
func (p *pool) fingerprint(s *pooled) (string, error) {
	var all strings.Builder
	for _, of := range known[p.options.Product] {
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
