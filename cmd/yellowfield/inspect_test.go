package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// inspected is a server that has gone wild.
type inspected struct {
	product   dbms.Product
	arguments []string // that log all statements
	wild      []string // statements, those for another database than the usual after "DATABASE: "
	want      []string // findings: severity, kind and what they are on
	mends     []string // kinds that --fix is let loose on
	proof     string   // a query that tells that they are mended, and its answer then
	answer    string
}

// reads is what a session that looks may say.
var reads = `(?i)^(SELECT|SHOW|WITH|SET STATEMENT max_statement_time = [0-9]+ FOR SELECT|SET (SESSION|NAMES|sql_mode|autocommit|character)|SET [@a-z_]+ ?=|START TRANSACTION READ ONLY|BEGIN READ ONLY|COMMIT|ROLLBACK|/\*|-- |;|DISCARD|DEALLOCATE)`

var wildMySQL = []string{
	"CREATE USER ''@'localhost'", "CREATE USER nobody@localhost", "CREATE USER chief@'%' IDENTIFIED BY 'Smoke-41'", "GRANT ALL PRIVILEGES ON *.* TO chief@'%' WITH GRANT OPTION",
	"CREATE USER comb_app@localhost IDENTIFIED BY 'Smoke-42'", "CREATE DATABASE comb_shop CHARACTER SET utf8mb4", "CREATE DATABASE combXshop CHARACTER SET utf8mb4",
	"GRANT SELECT, INSERT ON `comb_shop`.* TO comb_app@localhost WITH GRANT OPTION", "GRANT FILE ON *.* TO comb_app@localhost",
	"CREATE USER gone@localhost", "CREATE DEFINER=gone@localhost VIEW comb_shop.orphan AS SELECT 1 AS one", "DROP USER gone@localhost",
	"CREATE TABLE comb_shop.old (t varchar(20)) CHARACTER SET latin1 ENGINE = MyISAM", "CREATE TABLE comb_shop.`\x1b[2J` (t varchar(20)) CHARACTER SET latin1",
	"CREATE TABLE comb_shop.page (t text)", "INSERT INTO comb_shop.page VALUES ('HonigglÃ¤ser'), ('ok')", "SET GLOBAL max_allowed_packet = 1048576", "CREATE USER `\x1b]0;x` IDENTIFIED BY 'Smoke-43'",
	"ALTER USER `\x1b]0;x` ACCOUNT LOCK", "CREATE USER far@'db.example' IDENTIFIED BY 'Smoke-44'",
}

var wantMySQL = []string{"must-fix anonymous-account @localhost", "must-fix empty-password nobody@localhost", "must-fix any-host-administrator chief@%", "must-fix wildcard-grant comb_app@localhost on comb_shop",
	"must-fix global-rights comb_app@localhost", "should-look grant-option comb_app@localhost on comb_shop", "should-look definer-gone comb_shop", "should-look table-charset comb_shop", "should-look table-engine comb_shop",
	"should-look text-encoded-twice comb_shop, page.t", "should-look small-packet max_allowed_packet", "good-to-know locked-account \x1b]0;x@%", "good-to-know account-reaches-nothing nobody@localhost", "should-look host-by-name far@db.example"}

var servers = []inspected{
	{dbms.MariaDB, []string{"--general-log", "--general-log-file=%s", "--skip-name-resolve"}, slices.Concat(wildMySQL, []string{"GRANT SELECT ON `open%`.* TO PUBLIC"}),
		slices.Concat(wantMySQL, []string{"must-fix open-database open%"}), []string{"anonymous-account", "any-host-administrator", "global-rights", "wildcard-grant", "grant-option", "small-packet"},
		`SELECT CONCAT((SELECT COUNT(*) FROM mysql.user WHERE Host = '%' AND User = 'chief'), (SELECT COUNT(*) FROM mysql.user WHERE User = 'comb_app' AND File_priv = 'Y'),
			(SELECT GROUP_CONCAT(Db) FROM mysql.db WHERE User = 'comb_app'), @@GLOBAL.max_allowed_packet)`, `00comb\_shop67108864`},
	{dbms.MySQL, []string{"--general-log", "--general-log-file=%s", "--skip-name-resolve"}, slices.Concat(wildMySQL, []string{"CREATE USER oldie@localhost IDENTIFIED WITH sha256_password BY 'Smoke-45'"}),
		slices.Concat(wantMySQL, []string{"should-look weak-verifier oldie@localhost"}), []string{"anonymous-account", "any-host-administrator", "global-rights", "wildcard-grant", "grant-option", "small-packet"},
		`SELECT CONCAT((SELECT COUNT(*) FROM mysql.user WHERE Host = '%' AND User = 'chief'), (SELECT COUNT(*) FROM mysql.user WHERE User = 'comb_app' AND File_priv = 'Y'),
			(SELECT GROUP_CONCAT(Db) FROM mysql.db WHERE User = 'comb_app'), @@GLOBAL.max_allowed_packet)`, `00comb\_shop67108864`},
	{dbms.PostgreSQL, []string{"-c", "log_statement=all"}, []string{
		"CREATE ROLE comb_app LOGIN CREATEDB PASSWORD 'Smoke-42'", "GRANT pg_write_server_files TO comb_app", "CREATE ROLE chief LOGIN SUPERUSER", "SET password_encryption = 'md5'; CREATE ROLE oldie LOGIN PASSWORD 'Smoke-45'",
		"CREATE DATABASE comb_shop TEMPLATE template0 ENCODING 'UTF8'", "CREATE DATABASE old TEMPLATE template0 ENCODING 'LATIN1' LOCALE 'C'", "ALTER DATABASE comb_shop SET row_security = off",
		"comb_shop: CREATE TABLE page (t text); INSERT INTO page VALUES ('HonigglÃ¤ser'), ('ok'); GRANT SELECT ON page TO PUBLIC; GRANT SELECT ON page TO comb_app; GRANT CREATE ON SCHEMA public TO PUBLIC",
		"comb_shop: CREATE FUNCTION \"\x1b[2J\"() RETURNS int LANGUAGE sql SECURITY DEFINER AS 'SELECT 1'", "template1: CREATE TABLE stray (n int)", "CREATE ROLE idle LOGIN VALID UNTIL '2020-01-01'",
		// What a session of an administrator would fall over if it looked there first.
		"comb_shop: CREATE SCHEMA trap; CREATE FUNCTION trap.aclexplode(aclitem[]) RETURNS SETOF record LANGUAGE sql AS 'DELETE FROM public.page; SELECT 1'; ALTER DATABASE comb_shop SET search_path = trap, pg_catalog",
	}, []string{"must-fix global-rights comb_app", "must-fix server-programs comb_app", "should-look superuser-account chief", "should-look weak-verifier oldie", "should-look table-charset old", "should-look preset comb_shop",
		"good-to-know preset comb_shop", "should-look public-rows comb_shop", "must-fix public-create comb_shop, schema public", "must-fix security-definer comb_shop, public.\x1b[2J()", "should-look template-drift template1",
		"good-to-know expired-account idle", "should-look public-connect comb_shop", "should-look text-encoded-twice comb_shop, public.page.t", "good-to-know account-reaches-nothing idle"},
		[]string{"global-rights", "superuser-account", "public-connect", "public-create"},
		`SELECT (SELECT string_agg(rolname, ',') FROM pg_roles WHERE (rolsuper OR rolcreatedb) AND rolname IN ('chief', 'comb_app')) IS NULL AND NOT EXISTS (SELECT FROM pg_database d, aclexplode(COALESCE(d.datacl, acldefault('d', d.datdba))) a WHERE d.datname = 'comb_shop' AND a.grantee = 0 AND a.privilege_type = 'CONNECT')`, "t"},
}

// TestInspect looks at servers with every kind of thing that should not be there, and holds
// from the servers' own logs that nothing but questions was asked.
func TestInspect(t *testing.T) {
	for _, kind := range servers {
		t.Run(string(kind.product), func(t *testing.T) {
			t.Parallel()
			options := throwaway.Options{Product: kind.product}
			if kind.product == dbms.MySQL {
				options.Root = needMySQL(t)
			}
			log := "/tmp/yf-statements-" + throwaway.FreePort() + ".log"
			for _, argument := range kind.arguments {
				options.Arguments = append(options.Arguments, strings.ReplaceAll(argument, "%s", log))
			}
			log = filepath.Join(options.Root, log)
			defer os.Remove(log)
			server := serverWith(t, options)
			if kind.product == dbms.PostgreSQL {
				log = filepath.Join(server.Folder, "server.log")
			}
			for _, statement := range kind.wild {
				login := server.Login()
				if database, rest, named := strings.Cut(statement, ": "); named {
					login.Database, statement = database, rest
				}
				_, err := oracletest.Ask(kind.product, login, statement)
				require.NoError(t, err, statement)
			}
			folder := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), fmt.Appendf(nil, `servers: {barn: {dbms: %s, socket: %s, admin: {user: %s}}}
apps:
  combs:
    server: barn
    folder: www
    database: {name: comb_shop}
    accounts: [{name: comb_app, password: {file: comb.password}}]
`, kind.product, server.Socket, server.Admin), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(folder, "comb.password"), []byte("Smoke-42\n"), 0o600))
			require.NoError(t, os.Mkdir(filepath.Join(folder, "www"), 0o755))
			before, err := os.ReadFile(log)
			require.NoError(t, err)

			run := func(arguments ...string) string {
				command := program(t.Context(), t, folder, arguments...)
				out, _ := command.CombinedOutput()
				require.Equal(t, 3, command.ProcessState.ExitCode(), "%s", out)
				return string(out)
			}
			var document struct {
				Servers []struct {
					Findings []struct{ Kind, Severity, On, Evidence, Why, Remedy string }
					Unseen   []string
				}
			}
			out := run("inspect", "--sample", "--json")
			require.NoError(t, json.Unmarshal([]byte(out), &document), out)
			var found []string
			for _, f := range document.Servers[0].Findings {
				found = append(found, f.Severity+" "+f.Kind+" "+f.On)
				assert.NotEmpty(t, f.Evidence)
				assert.NotEmpty(t, f.Why, f.Kind)
				assert.NotEmpty(t, f.Remedy)
			}
			if kind.product != dbms.MySQL { // whose folder is another system's
				assert.Empty(t, document.Servers[0].Unseen)
			}
			assert.Subset(t, found, kind.want)
			assert.NotContains(t, found, "must-fix any-host-administrator root@localhost")
			shown := run("inspect", "--sample")
			assert.NotContains(t, shown, "\x1b", "a name from the server speaks to the terminal")
			assert.Contains(t, shown, "text-encoded-twice")

			after, err := os.ReadFile(log)
			require.NoError(t, err)
			asked := statementsIn(string(after[len(before):]), kind.product == dbms.PostgreSQL)
			assert.Greater(t, len(asked), 20)
			for _, statement := range asked {
				assert.Regexp(t, reads, statement)
			}

			try := func(arguments ...string) (string, int) {
				command := program(t.Context(), t, folder, arguments...)
				out, _ := command.CombinedOutput()
				return string(out), command.ProcessState.ExitCode()
			}
			proof := func() string {
				out, err := oracletest.Ask(kind.product, server.Login(), kind.proof)
				require.NoError(t, err)
				return strings.TrimSpace(out)
			}
			asFound := proof()
			require.NotEqual(t, kind.answer, asFound)
			out, exit := try("inspect", "--fix", "--yes")
			assert.Equal(t, 2, exit, out)
			only := []string{"--only", strings.Join(kind.mends, ",")}
			out, _ = try(append([]string{"inspect", "--dry-run"}, only...)...)
			assert.Contains(t, out, "would fix")
			assert.Contains(t, out, "yellowfield inspect barn --fix --only "+only[1], "the same is advised, and no more")
			assert.Equal(t, asFound, proof())
			out, exit = try(append([]string{"inspect", "--fix"}, only...)...) // with nobody to ask
			assert.Equal(t, 0, exit, out)
			assert.Equal(t, asFound, proof())
			out, exit = try(append([]string{"inspect", "--fix", "--yes"}, only...)...)
			assert.Equal(t, 0, exit, out)
			assert.Equal(t, kind.answer, proof(), out)
			undo := regexp.MustCompile(`history --undo (\S+)`).FindStringSubmatch(out)
			require.NotNil(t, undo, out)
			out, exit = try("history", "--undo", undo[1], "--yes")
			assert.Equal(t, 0, exit, out)
			assert.Equal(t, asFound, proof(), out)
			// A run that is killed between two findings: the next one goes on, and both are taken back.
			if !underRace {
				killed := program(t.Context(), t, folder, append([]string{"inspect", "--fix", "--yes"}, only...)...)
				killed.Env = append(killed.Env, diesAt+map[bool]string{true: "=9", false: "=8"}[kind.product == dbms.PostgreSQL]) // in the journal, and not yet done
				_, _ = killed.CombinedOutput()
				require.False(t, killed.ProcessState.Exited())
				out, exit = try(append([]string{"inspect", "--fix", "--yes"}, only...)...)
				assert.Equal(t, 0, exit, out)
				assert.Contains(t, out, "was cut off at: ")
				assert.Equal(t, kind.answer, proof(), out)
				var history struct{ Runs []struct{ ID string } }
				out, _ = try("history", "--json")
				require.NoError(t, json.Unmarshal([]byte(out), &history))
				for _, run := range history.Runs[:2] {
					out, exit = try("history", "--undo", run.ID, "--yes")
					assert.Equal(t, 0, exit, out)
				}
				assert.Contains(t, out, "the run had not come to it")
				assert.Equal(t, asFound, proof(), out)
			}
			notLockedOut(t, kind.product, server, folder, try, proof)
		})
	}
}

// statementsIn reads a server's log.
func statementsIn(log string, postgres bool) (statements []string) {
	begins := regexp.MustCompile(`(?m)(?:\t| )(?:Query|Execute|Prepare)\t`)
	if postgres {
		begins = regexp.MustCompile(`(?m)LOG:  (?:statement|execute [^:]*): `)
	}
	for _, at := range begins.FindAllStringIndex(log, -1) {
		line, _, _ := strings.Cut(log[at[1]:], "\n")
		statements = append(statements, strings.TrimSpace(line))
	}
	return statements
}

// notLockedOut: what is on the administrator's own account is left alone, and a step after
// which he could not come in again is taken back.
func notLockedOut(t *testing.T, product dbms.Product, server *throwaway.Server, folder string, try func(...string) (string, int), proof func() string) {
	asFound := proof()
	only := map[bool]string{true: "superuser-account", false: "any-host-administrator"}[product == dbms.PostgreSQL]
	other := map[bool]string{true: "public-create", false: "wildcard-grant"}[product == dbms.PostgreSQL]
	estate := func(admin string) {
		if product == dbms.PostgreSQL {
			admin = strings.ReplaceAll(admin, "chief", server.Admin)
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), fmt.Appendf(nil, "servers: {barn: {dbms: %s, socket: %s, admin: %s}}\n", product, server.Socket, admin), 0o600))
	}
	if product != dbms.PostgreSQL {
		_, err := oracletest.Ask(product, server.Login(), "DROP USER ''@localhost") // it would take chief's logins
		require.NoError(t, err)
		estate("{user: chief, password: {file: chief.password}}")
		require.NoError(t, os.WriteFile(filepath.Join(folder, "chief.password"), []byte("Smoke-41\n"), 0o600))
		out, exit := try("inspect", "--fix", "--yes", "--only", only, "--on", "chief@%")
		assert.Equal(t, 4, exit, out)
		assert.Contains(t, out, "logged in with")
		assert.Equal(t, asFound, proof())
	}
	// The password is another one when it is asked for again.
	estate("{user: chief, password: {command: [sh, -c, 'test -e " + folder + "/asked && echo wrong || echo Smoke-41; touch " + folder + "/asked']}}")
	if product == dbms.PostgreSQL {
		return // whose administrators come in by the socket, whatever their password
	}
	out, exit := try("inspect", "--fix", "--yes", "--only", other)
	assert.NotEqual(t, 0, exit, out)
	assert.Contains(t, out, "could not log in a second time")
	assert.Contains(t, out, "undone")
	assert.Equal(t, asFound, proof())
}
