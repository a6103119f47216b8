package main

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// The dumps of testdata/hostile attack the server through the application alpha:
// each is provisioned by itself and verified, and again before a script that
// fails, so that the undo runs. Whatever comes of it, nothing outside of the
// database alpha may change, nothing may hang, and a refusal names its line.

func TestHostileDumpsOnMariaDB(t *testing.T) {
	t.Parallel()
	attack(t, "mariadb", throwaway.Options{Product: dbms.MariaDB, Arguments: []string{"--log-bin=log", "--binlog-format=MIXED", "--local-infile=1"}})
}

func TestHostileDumpsOnMySQL(t *testing.T) {
	t.Parallel()
	attack(t, "mariadb", throwaway.Options{Product: dbms.MySQL, Root: needMySQL(t), Arguments: []string{"--local-infile=1"}})
}

func TestHostileDumpsOnPostgreSQL(t *testing.T) {
	t.Parallel()
	if throwaway.PostgresPrograms("") == "" {
		t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	attack(t, "pg", throwaway.Options{Product: dbms.PostgreSQL})
}

const hostileEstate = `servers:
  barn: {dbms: %s, socket: %s, admin: {user: %s}}
apps:
  alpha:
    server: barn
    folder: alpha
    database: {name: alpha}
    accounts:
      - {name: alpha_app, rights: structure}
    import: [%s]
`

// neighbours are what a hostile dump is after.
var neighbours = map[bool][]string{
	false: {
		"CREATE DATABASE victim", "CREATE TABLE victim.secrets (id int, s varchar(100))", "INSERT INTO victim.secrets VALUES (1, 'topsecret')",
		"CREATE TRIGGER victim.guard BEFORE INSERT ON victim.secrets FOR EACH ROW SET @guarded = 1",
		"CREATE FUNCTION victim.vf() RETURNS varchar(100) READS SQL DATA RETURN (SELECT s FROM victim.secrets LIMIT 1)",
		"CREATE PROCEDURE victim.vp() INSERT INTO victim.secrets VALUES (2, 'through vp')",
	},
	true: {"CREATE DATABASE victim", "in victim", "CREATE TABLE secrets (s text); INSERT INTO secrets VALUES ('topsecret'); REVOKE CONNECT ON DATABASE victim FROM PUBLIC"},
}

// cleanups take away what an attempt has left, so that the next begins afresh.
var cleanups = map[bool][]string{
	false: {"DROP DATABASE IF EXISTS alpha", "DROP USER IF EXISTS alpha_app@localhost"},
	true:  {"DROP DATABASE IF EXISTS alpha WITH (FORCE)", "DROP ROLE IF EXISTS alpha_app", "DROP ROLE IF EXISTS alpha_owner"},
}

func attack(t *testing.T, kind string, o throwaway.Options) {
	dumps, err := filepath.Glob("testdata/hostile/" + kind + "-*.sql")
	require.NoError(t, err)
	require.Greater(t, len(dumps), 35)
	o.Folder, err = os.MkdirTemp(filepath.Join("/", o.Root, "tmp"), "yf-")
	require.NoError(t, err)
	defer os.RemoveAll(o.Folder)
	server, err := throwaway.Start(t.Context(), o)
	require.NoError(t, err)
	defer server.Stop()
	loot := filepath.Join(o.Folder, "loot") // where the server could write
	require.NoError(t, os.Mkdir(loot, 0o777))
	require.NoError(t, os.Chmod(loot, 0o777))
	inside := strings.TrimPrefix(loot, o.Root)
	v := &victim{t: t, login: server.Login(), postgres: o.Product == dbms.PostgreSQL, loot: loot}
	v.do("", neighbours[v.postgres]...)
	before := v.look()
	if os.Getenv("HOSTILE") == "" {
		dumps = oracletest.Sample(dumps, 10)
	}
	for _, dump := range dumps {
		name := strings.TrimSuffix(filepath.Base(dump), ".sql")
		if wanted := os.Getenv("HOSTILE"); wanted != "" && !strings.Contains(name, wanted) {
			continue
		}
		text, err := os.ReadFile(dump)
		require.NoError(t, err)
		for _, scripts := range []string{"dump.sql", "dump.sql, fails.sql"} {
			folder := t.TempDir()
			write := func(name, content string) {
				require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(content), 0o644))
			}
			require.NoError(t, os.Mkdir(filepath.Join(folder, "alpha"), 0o755))
			write("alpha/dump.sql", strings.ReplaceAll(string(text), "@DIR@", inside))
			write("alpha/fails.sql", "SELECT nonsense FROM nowhere;\n")
			write("yellowfield.yaml", fmt.Sprintf(hostileEstate, o.Product, server.Socket, server.Admin, scripts))
			for _, command := range []string{"provision", "verify", "import alpha --dry-run alpha/dump.sql"} {
				ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
				out, err := program(ctx, t, folder, strings.Fields(command)...).CombinedOutput()
				assert.NoError(t, ctx.Err(), "%s: %s hangs", name, command)
				cancel()
				assert.NotContains(t, string(out), "panic:", name)
				assert.NotContains(t, string(out), "topsecret", name)
				if command == "provision" && err != nil && scripts == "dump.sql" {
					assert.Regexp(t, `dump\.sql:\d+`, string(out), "%s: a refusal names its line", name)
				}
				if os.Getenv("HOSTILE") != "" {
					t.Logf("%s: %s (%v)\n%s", name, command, err, out)
				}
			}
			changed := differing(before, v.look())
			v.do("", cleanups[v.postgres]...)
			if !assert.Empty(t, changed, "%s, with %s", name, scripts) {
				before = v.look() // so that each is told once
			}
		}
	}
}

func differing(before, after map[string]string) (changed []string) {
	all := maps.Clone(before)
	maps.Copy(all, after)
	for what := range all {
		if before[what] != after[what] {
			changed = append(changed, fmt.Sprintf("%s\nbefore: %s\nafter:  %s", what, before[what], after[what]))
		}
	}
	sort.Strings(changed)
	return changed
}

// victim is a server under attack, as its administrator sees it.
type victim struct {
	t        *testing.T
	login    dbms.Login
	postgres bool
	loot     string
}

func (v *victim) ask(database, statement string) string {
	login := v.login
	login.Database = database
	out, err := oracletest.Ask(v.family(), login, statement)
	require.NoError(v.t, err, statement)
	return out
}

// family is a product that takes the same statements.
func (v *victim) family() dbms.Product {
	if v.postgres {
		return dbms.PostgreSQL
	}
	return dbms.MariaDB
}

func (v *victim) do(database string, statements ...string) {
	for _, statement := range statements {
		if other, is := strings.CutPrefix(statement, "in "); is {
			database = other
			continue
		}
		v.ask(database, statement)
	}
}

var volatile = regexp.MustCompile(`(?m)^(gtid_\S*|innodb_\S*time\S*|rand_seed\S*|timestamp|last_\S*|pseudo\S*|identity|insert_id|warning_count|error_count|in_transaction)\t.*\n`)

// look gives what no dump may change.
func (v *victim) look() map[string]string {
	seen := map[string]string{}
	entries, err := os.ReadDir(v.loot)
	require.NoError(v.t, err)
	seen["files"] = fmt.Sprint(entries)
	if v.postgres {
		seen["roles"] = v.ask("", "SELECT r.* FROM pg_authid r WHERE rolname NOT LIKE 'alpha%' ORDER BY 1")
		seen["attributes of alpha's roles"] = v.ask("", "SELECT rolname FROM pg_roles WHERE rolname LIKE 'alpha%' AND (rolsuper OR rolcreatedb OR rolcreaterole OR rolreplication OR rolbypassrls)")
		seen["members"] = v.ask("", "SELECT g.rolname, m.rolname FROM pg_auth_members a JOIN pg_roles g ON g.oid = a.roleid JOIN pg_roles m ON m.oid = a.member WHERE g.rolname <> 'alpha_owner' OR m.rolname <> 'alpha_app' AND NOT m.rolsuper ORDER BY 1, 2")
		seen["databases"] = v.ask("", "SELECT datname, datdba, datacl, datconnlimit FROM pg_database WHERE datname <> 'alpha' ORDER BY 1")
		seen["settings of databases and roles"] = v.ask("", "SELECT d.datname, r.rolname, setconfig FROM pg_db_role_setting s LEFT JOIN pg_database d ON d.oid = setdatabase LEFT JOIN pg_roles r ON r.oid = setrole WHERE d.datname IS DISTINCT FROM 'alpha' OR r.rolname IS DISTINCT FROM 'alpha_app' OR setconfig[1] NOT LIKE 'role=%alpha_owner%'")
		seen["settings"] = v.ask("", "SELECT name, setting FROM pg_settings WHERE source NOT IN ('client', 'session') ORDER BY 1")
		seen["rules"] = v.ask("", "SELECT * FROM pg_hba_file_rules")
		seen["tablespaces"] = v.ask("", "SELECT spcname FROM pg_tablespace ORDER BY 1")
		seen["standard database"] = v.ask("", "SELECT relname FROM pg_class WHERE oid > 16383 UNION ALL SELECT proname FROM pg_proc WHERE oid > 16383 ORDER BY 1")
		seen["victim"] = v.ask("victim", "SELECT * FROM secrets ORDER BY 1") + v.ask("victim", "SELECT relname FROM pg_class WHERE oid > 16383 ORDER BY 1")
		if v.ask("", "SELECT 1 FROM pg_database WHERE datname = 'alpha'") != "" {
			for name := range strings.Lines(v.ask("alpha", "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE relkind IN ('r', 'p') AND c.oid > 16383")) {
				seen["stolen"] += found(v.ask("alpha", "SELECT * FROM "+strings.TrimSpace(name)))
			}
			seen["languages"] = v.ask("alpha", "SELECT lanname FROM pg_language WHERE oid > 16383")
			seen["event triggers"] = v.ask("alpha", "SELECT evtname FROM pg_catalog.pg_event_trigger")
		}
		return seen
	}
	const definers = `SELECT 'trigger', TRIGGER_SCHEMA, TRIGGER_NAME, DEFINER FROM information_schema.TRIGGERS UNION ALL SELECT ROUTINE_TYPE, ROUTINE_SCHEMA, ROUTINE_NAME, DEFINER FROM information_schema.ROUTINES
		UNION ALL SELECT 'view', TABLE_SCHEMA, TABLE_NAME, DEFINER FROM information_schema.VIEWS UNION ALL SELECT 'event', EVENT_SCHEMA, EVENT_NAME, DEFINER FROM information_schema.EVENTS`
	accounts := "mysql.global_priv"
	if v.ask("", "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'mysql' AND TABLE_NAME = 'global_priv'") == "0\n" {
		accounts = "mysql.user"
	}
	seen["accounts"] = v.ask("", "SELECT * FROM "+accounts+" WHERE User <> 'alpha_app' ORDER BY 1, 2")
	for _, table := range []string{"db", "tables_priv", "columns_priv", "procs_priv"} {
		seen[table] = v.ask("", "SELECT * FROM mysql."+table+" WHERE User <> 'alpha_app' OR Db <> 'alpha' ORDER BY 1, 2, 3")
	}
	for _, table := range []string{"func", "plugin", "servers", "proxies_priv"} {
		seen[table] = v.ask("", "SELECT * FROM mysql."+table+" ORDER BY 1, 2")
	}
	seen["global rights of alpha"] = v.ask("", "SELECT GRANTEE, PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE LIKE '%alpha%' AND PRIVILEGE_TYPE <> 'USAGE'")
	seen["global variables"] = volatile.ReplaceAllString(v.ask("", "SHOW GLOBAL VARIABLES"), "")
	seen["databases"] = v.ask("", "SELECT SCHEMA_NAME, DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME <> 'alpha' ORDER BY 1")
	seen["definers elsewhere"] = v.ask("", "SELECT * FROM ("+definers+") x WHERE TRIGGER_SCHEMA <> 'alpha' ORDER BY 1, 2, 3")
	seen["definers in alpha"] = v.ask("", "SELECT * FROM ("+definers+") x WHERE TRIGGER_SCHEMA = 'alpha' AND DEFINER <> 'alpha_app@localhost' ORDER BY 1, 2, 3")
	seen["victim"] = v.ask("", "SELECT * FROM victim.secrets") + v.ask("", "SHOW CREATE TRIGGER victim.guard") + v.ask("", "SHOW CREATE FUNCTION victim.vf") + v.ask("", "SHOW CREATE PROCEDURE victim.vp") +
		v.ask("", "SELECT TABLE_NAME, CREATE_OPTIONS FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'victim' ORDER BY 1")
	for name := range strings.Lines(v.ask("", "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'alpha' AND TABLE_TYPE = 'BASE TABLE'")) {
		seen["stolen"] += found(v.ask("", "SELECT * FROM alpha.`"+strings.ReplaceAll(strings.TrimSuffix(name, "\n"), "`", "``")+"`"))
	}
	return seen
}

// found gives the secret where rows hold it.
func found(rows string) string {
	if strings.Contains(rows, "topsecret") {
		return "topsecret"
	}
	return ""
}
