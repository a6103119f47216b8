package main

import (
	"bufio"
	cryptorand "crypto/rand"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/oracle"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/secret"
	"yellowfield/internal/throwaway"
)

const movedEstate = `servers:
  barn: {dbms: %s, socket: %s, admin: {user: %s}}
  shed: {dbms: %s, socket: %s, admin: {user: %s}}
apps:
  combs:
    server: barn   # for now
    folder: www
    database: {name: combs}
    accounts: [{name: combs_app, rights: {installing: structure, running: rows}}, {name: combs_reads, rights: read}]
    import: [combs.sql]
    settings: [{file: db.ini, template: db.dist, values: {host: "{host}", socket: "{socket}", name: "{database}", user: "{user}", word: "{password}"}}]
    ownership: {modes: {installing: "0640", running: "0440"}}
  honey: {server: barn, database: {name: honey}, accounts: [{name: honey_app}]}
`

// mover is an application between two servers.
type mover struct {
	killed
	from, to *throwaway.Server
	more     string // SQL after that of the application
}

// onTwoServers runs a test with servers of each pair of products that apps move between,
// and where there are newer releases of them, between these and the others.
func onTwoServers(t *testing.T, test func(t *testing.T, m *mover)) {
	on := func(name string, from, to func(t *testing.T) *throwaway.Server, product dbms.Product) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := &mover{from: from(t), to: to(t)}
			m.killed = killed{victim: victim{t: t, login: m.from.Login(), postgres: product == dbms.PostgreSQL}, product: product}
			test(t, m)
		})
	}
	usual := func(product dbms.Product) func(t *testing.T) *throwaway.Server {
		return func(t *testing.T) *throwaway.Server { return serverOf(t, product) }
	}
	for _, pair := range oracletest.Sample([][2]dbms.Product{{dbms.MariaDB, dbms.MySQL}, {dbms.MySQL, dbms.MariaDB}, {dbms.MariaDB, dbms.MariaDB}, {dbms.PostgreSQL, dbms.PostgreSQL}}, 3) {
		on(fmt.Sprintf("%s to %s", pair[0], pair[1]), usual(pair[0]), usual(pair[1]), pair[0])
	}
	for product, root := range map[dbms.Product]string{dbms.MariaDB: os.Getenv(nextMariaDB), dbms.PostgreSQL: os.Getenv(nextPostgres)} {
		if root == "" {
			continue
		}
		newer := func(t *testing.T) *throwaway.Server {
			return serverWith(t, throwaway.Options{Product: product, Root: root})
		}
		on(fmt.Sprintf("%s to a newer one", product), usual(product), newer, product)
		on(fmt.Sprintf("%s from a newer one", product), newer, usual(product), product)
	}
}

// prepare unpacks the application anew and provisions it on the first server.
func (m *mover) prepare(t *testing.T) {
	t.Helper()
	m.folder = t.TempDir()
	products := [2]dbms.Product{m.product, m.product}
	if !m.postgres {
		products = [2]dbms.Product{productOf(m.from), productOf(m.to)}
	}
	for name, content := range map[string]string{
		"yellowfield.yaml": fmt.Sprintf(movedEstate, products[0], m.from.Socket, m.from.Admin, products[1], m.to.Socket, m.to.Admin),
		"www/db.dist":      "host =\nsocket =\nname =\nuser =\nword =\n",
		"www/combs.sql":    "CREATE TABLE comb (id int NOT NULL, name varchar(200), at timestamp NULL, PRIMARY KEY (id));\nINSERT INTO comb VALUES (1, 'пчела 🐝', '2026-03-29 02:30:00'), (2, 'it''s', NULL);\nCREATE TABLE cell (id int NOT NULL, comb int REFERENCES comb (id), PRIMARY KEY (id));\nINSERT INTO cell VALUES (1, 1);\nCREATE VIEW cells AS SELECT comb FROM cell;\n" + m.more,
	} {
		path := filepath.Join(m.folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	m.says(t, "1 app: 1 provisioned", "provision", "combs")
}

func productOf(s *throwaway.Server) dbms.Product {
	if strings.Contains(s.Socket, "mysql-root") || os.Getenv("YELLOWFIELD_MYSQL_ROOT") != "" && strings.HasPrefix(s.Socket, os.Getenv("YELLOWFIELD_MYSQL_ROOT")) {
		return dbms.MySQL
	}
	return dbms.MariaDB
}

// says runs a command whose output has to hold some text.
func (m *mover) says(t *testing.T, want string, arguments ...string) {
	t.Helper()
	out, _ := m.run(0, 0, arguments...)
	require.Contains(t, out, want, "%v", arguments)
}

// on asks one of the servers.
func (m *mover) on(server *throwaway.Server, database, statement string) string {
	v := m.victim
	v.login = server.Login()
	return v.ask(database, statement)
}

// isOn reports whether a server has the application's database.
func (m *mover) isOn(server *throwaway.Server) bool {
	if m.postgres {
		return strings.Contains(m.on(server, "", "SELECT datname FROM pg_database WHERE datname = 'combs'"), "combs")
	}
	return strings.Contains(m.on(server, "", "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = 'combs'"), "combs")
}

// isClean reports whether a server has nothing that runs make for a while.
func (m *mover) isClean(server *throwaway.Server) bool {
	names := "SELECT USER FROM mysql.user UNION SELECT SCHEMA_NAME FROM information_schema.SCHEMATA"
	if m.postgres {
		names = "SELECT rolname FROM pg_roles UNION SELECT datname FROM pg_database"
	}
	return !strings.Contains(m.on(server, "", names), "yellowfield_")
}

func (m *mover) drop() {
	for _, server := range []*throwaway.Server{m.from, m.to} {
		v := m.victim
		v.login = server.Login()
		if m.postgres {
			v.do("", "DROP DATABASE IF EXISTS combs WITH (FORCE)", "DROP ROLE IF EXISTS combs_app", "DROP ROLE IF EXISTS combs_reads", "DROP ROLE IF EXISTS combs_owner")
			continue
		}
		if productOf(server) == dbms.MySQL && m.isOn(server) {
			v.do("", "ALTER DATABASE combs READ ONLY = 0")
		}
		v.do("", "DROP DATABASE IF EXISTS combs", "DROP USER IF EXISTS combs_app@localhost", "DROP USER IF EXISTS combs_reads@localhost")
	}
}

// everyKind is SQL with what servers show differently from release to release.
var everyKind = map[bool]string{
	false: `CREATE TABLE kinds (id int NOT NULL AUTO_INCREMENT, a varchar(40) CHARACTER SET latin1 NOT NULL DEFAULT 'it''s', b decimal(9,3) DEFAULT 1.5, c text, d timestamp NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP, e enum('x','y') DEFAULT 'x', f double, g varchar(90) GENERATED ALWAYS AS (concat(a, '!')) STORED, h json, i blob, PRIMARY KEY (id), UNIQUE KEY g (g), KEY c (c(20)), CHECK (b > 0));
INSERT INTO kinds (a, b, c, d, f, h, i) VALUES ('é', 2.125, 'пчела', '2026-03-29 01:30:00', 0.1, '{"a": [1, 2]}', x'00FF0A'), ('b', 3, NULL, NULL, 1e-300, NULL, '');
CREATE TABLE parts (id int NOT NULL, at date NOT NULL, PRIMARY KEY (id, at)) PARTITION BY RANGE (YEAR(at)) (PARTITION old VALUES LESS THAN (2020), PARTITION rest VALUES LESS THAN MAXVALUE);
INSERT INTO parts VALUES (1, '2019-01-01'), (2, '2026-01-01');
CREATE VIEW kinds_of AS SELECT k.a, COALESCE(k.c, 'none') AS c, (SELECT COUNT(*) FROM parts) AS n FROM kinds k LEFT JOIN parts p ON p.id = k.id;
CREATE FUNCTION doubled(n int) RETURNS int DETERMINISTIC RETURN n * 2;
CREATE TRIGGER before_kinds BEFORE INSERT ON kinds FOR EACH ROW SET NEW.c = CONCAT(COALESCE(NEW.c, ''), '.');
CREATE PROCEDURE tell(IN p int, OUT q int) SET q = doubled(p);
`,
	true: `CREATE TYPE state AS ENUM ('x', 'y');
CREATE TABLE kinds (id serial PRIMARY KEY, a varchar(40) NOT NULL DEFAULT 'it''s', b numeric(9,3) DEFAULT 1.5 CHECK (b > 0), c text COLLATE "C", d timestamptz DEFAULT now(), e state DEFAULT 'x', f double precision, g text GENERATED ALWAYS AS (a || '!') STORED, h jsonb, i bytea, k int[] DEFAULT '{1,2}', l bigint GENERATED BY DEFAULT AS IDENTITY);
INSERT INTO kinds (a, b, c, d, f, h, i) VALUES ('é', 2.125, 'пчела', '2026-03-29 01:30:00+00', 0.1, '{"a": [1, 2]}', '\x00FF0A'), ('b', 3, NULL, NULL, 1e-300, NULL, '');
CREATE INDEX of_c ON kinds (lower(c)) WHERE b > 1;
CREATE TABLE parts (id int NOT NULL, at date NOT NULL, PRIMARY KEY (id, at)) PARTITION BY RANGE (at);
CREATE TABLE parts_old PARTITION OF parts FOR VALUES FROM (MINVALUE) TO ('2020-01-01');
CREATE TABLE parts_rest PARTITION OF parts DEFAULT;
INSERT INTO parts VALUES (1, '2019-01-01'), (2, '2026-01-01');
CREATE VIEW kinds_of AS SELECT k.a, COALESCE(k.c, 'none') AS c, (SELECT COUNT(*) FROM parts) AS n FROM kinds k LEFT JOIN parts p ON p.id = k.id;
CREATE MATERIALIZED VIEW counted AS SELECT a, count(*) AS n FROM kinds GROUP BY a;
CREATE FUNCTION doubled(n int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT n * 2';
CREATE FUNCTION dotted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.c := COALESCE(NEW.c, '') || '.'; RETURN NEW; END $$;
CREATE TRIGGER before_kinds BEFORE INSERT ON kinds FOR EACH ROW EXECUTE FUNCTION dotted();
COMMENT ON TABLE kinds IS 'it''s a table';
`,
}

// password is that of the application's account, which stands last in its settings.
func (m *mover) password(t *testing.T) string {
	t.Helper()
	settings, err := os.ReadFile(filepath.Join(m.folder, "www/db.ini"))
	require.NoError(t, err)
	return strings.TrimSpace(strings.Trim(string(settings[strings.LastIndex(string(settings), "=")+1:]), "\" \n"))
}

// TestMoved moves an application there and back, and compares what arrives.
func TestMoved(t *testing.T) {
	t.Parallel()
	onTwoServers(t, func(t *testing.T, m *mover) {
		m.more = everyKind[m.postgres]
		m.prepare(t)
		m.says(t, "1 app: 1 closed", "close", "combs", "--yes")
		if !m.postgres { // of the application and of somebody else
			m.on(m.from, "", "SET GLOBAL event_scheduler = 1")
			m.on(m.to, "", "SET GLOBAL event_scheduler = 0")
			m.on(m.from, "combs", "CREATE EVENT `ti``dy` ON SCHEDULE EVERY 1 SECOND DO INSERT INTO cell SELECT MAX(id) + 1, 1 FROM cell")
			m.on(m.from, "combs", "CREATE DEFINER = combs_app@localhost EVENT rests ON SCHEDULE EVERY 1 DAY DISABLE DO DELETE FROM cell")
		}
		rows := m.on(m.from, "combs", "SELECT id, name FROM comb ORDER BY id")
		m.says(t, "would import", "move", "combs", "--to", "shed", "--dry-run")
		m.says(t, "1 app: 1 provisioned", "provision", "honey")
		m.says(t, "app honey is on server barn", "move", "combs", "honey", "--to", "barn", "--yes")
		require.False(t, m.isOn(m.to))
		m.says(t, "combs_reads", "connection", "combs", "--account", "combs_reads", "--reveal", "--confirm", "combs")
		moved, _ := m.run(0, 0, "move", "--all", "--from", "barn", "--to", "shed", "--yes", "--map-collations") // MySQL's usual one for events
		require.Contains(t, moved, map[bool]string{true: "2 apps: 2 moved", false: "2 apps: 1 moved, 1 with differences"}[m.postgres])
		assert.Regexp(t, `can only read meanwhile: about [0-9.]+ s \(an import into a scratch database took`, moved)
		if !m.postgres {
			events := "SELECT STATUS FROM information_schema.EVENTS WHERE EVENT_SCHEMA = 'combs' ORDER BY EVENT_NAME"
			assert.Contains(t, moved, "server shed runs no events: ti`dy")
			m.on(m.to, "", "SET GLOBAL event_scheduler = 1")
			assert.Equal(t, "DISABLED\nENABLED", strings.TrimSpace(m.on(m.to, "combs", events)))
			if productOf(m.from) == dbms.MariaDB { // MySQL's stand still with their database
				assert.Equal(t, "DISABLED\nDISABLED", strings.TrimSpace(m.on(m.from, "combs", events)))
			}
		}
		if m.postgres || productOf(m.from) == productOf(m.to) {
			assert.Contains(t, moved, "password as on barn") // which is not known here any more
		}
		m.says(t, "1 app: 1 verified", "verify", "honey") // with the password that is in no settings
		assert.Equal(t, rows, m.on(m.to, "combs", "SELECT id, name FROM comb ORDER BY id"))
		m.says(t, "1 app: 1 verified", "verify", "combs")
		estate, err := os.ReadFile(filepath.Join(m.folder, "yellowfield.yaml"))
		require.NoError(t, err)
		assert.Contains(t, string(estate), "    server: shed   # for now\n")
		settings, err := os.ReadFile(filepath.Join(m.folder, "www/db.ini"))
		require.NoError(t, err)
		assert.Contains(t, string(settings), filepath.Dir(m.to.Socket))

		// The old one may be read alone, and is in the way of moving on.
		password := m.password(t)
		old := m.victim
		old.login = m.from.Login()
		old.login.User, old.login.AsApplication = "combs_app", true
		old.login.Password = secret.NewPassword(password)
		assert.Equal(t, rows, old.ask("combs", "SELECT id, name FROM comb ORDER BY id"))
		login := old.login
		login.Database = "combs"
		_, err = oracletest.Ask(m.family(), login, "INSERT INTO comb (id) VALUES (3)")
		assert.Error(t, err)
		m.says(t, "is there still", "move", "combs", "--to", "barn", "--yes")
		m.says(t, "nothing was done", "retire", "combs", "--old")
		m.says(t, "1 app: 1 done", "retire", "combs", "--old", "--confirm", "combs")
		assert.False(t, m.isOn(m.from))
		m.says(t, "has left nothing on another server", "retire", "combs", "--old", "--confirm", "combs")
		m.says(t, "1 app: 1 moved", "move", "combs", "--to", "barn", "--yes", "--map-collations")
		assert.Equal(t, rows, m.on(m.from, "combs", "SELECT id, name FROM comb ORDER BY id"))
		m.says(t, "1 app: 1 verified", "verify", "combs")

		// Back, with what was changed since, and another password.
		m.says(t, "nothing was done", "move", "combs", "--back")
		m.on(m.from, "combs", "DELETE FROM cell")
		m.says(t, "2 apps: 2 moved", "move", "combs", "--back", "--yes", "--new-passwords", "--map-collations")
		assert.Equal(t, "", strings.TrimSpace(m.on(m.to, "combs", "SELECT id FROM cell")))
		again, err := os.ReadFile(filepath.Join(m.folder, "www/db.ini"))
		require.NoError(t, err)
		assert.NotContains(t, string(again), password)
		m.says(t, "1 app: 1 verified", "verify", "combs")

		// The rows come with the first account, whose password has to be known.
		m.says(t, "1 app: 1 done", "retire", "honey", "--old", "--confirm", "honey")
		m.says(t, "honey_app", "connection", "honey", "--reveal", "--confirm", "honey")
		m.says(t, "or move it with --new-passwords", "move", "honey", "--to", "barn", "--yes")
		m.says(t, "1 app: 1 moved", "move", "honey", "--to", "barn", "--yes", "--new-passwords")
	})
}

// kill is the command that ends a server.
func (m *mover) kill(server *throwaway.Server) string {
	if m.postgres {
		return fmt.Sprintf("kill -QUIT %d", server.PID())
	}
	return fmt.Sprintf("kill -9 %d", server.PID())
}

// failsMeanwhile has a command run when the rows are about to go, which lets the move fail,
// and looks that the old accounts have their rights again.
func (m *mover) failsMeanwhile(t *testing.T, meanwhile string, arguments ...string) string {
	t.Helper()
	out, err := m.moveWhile(t, "transfer", meanwhile, arguments...)
	require.Error(t, err)
	require.Contains(t, out, "failed")
	require.Regexp(t, `undone +rights +freeze of combs on barn`, out)
	assert.Empty(t, m.betweenFailureAndThaw(t), "nobody waits for anything but the rights")
	return out
}

// moveWhile has a command run when a step of the move is about to begin.
func (m *mover) moveWhile(t *testing.T, step, meanwhile string, arguments ...string) (string, error) {
	return m.runWhile(t, step+" of combs", meanwhile, append([]string{"move", "combs", "--to", "shed", "--yes"}, arguments...)...)
}

// runWhile has something happen when the journal has a text.
func (m *mover) runWhile(t *testing.T, text, meanwhile string, arguments ...string) (string, error) {
	command := program(t.Context(), t, m.folder, arguments...)
	command.Env = append(command.Env, meanwhileVariable+"="+text+"="+meanwhile)
	out, err := command.CombinedOutput()
	return string(out), err
}

// betweenFailureAndThaw is what the journal has between the failure and the rights that the old
// accounts have again.
func (m *mover) betweenFailureAndThaw(t *testing.T) (between []string) {
	t.Helper()
	journals, err := filepath.Glob(filepath.Join(m.folder, "state", "journal", "*.jsonl"))
	require.NoError(t, err)
	slices.Sort(journals)
	content, err := os.ReadFile(journals[len(journals)-1])
	require.NoError(t, err)
	failed := false
	for line := range strings.Lines(string(content)) {
		var e struct{ Event, Object string }
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		switch {
		case e.Event == "undone" && e.Object == "freeze of combs on barn":
			return between
		case failed:
			between = append(between, e.Event+" "+e.Object)
		}
		failed = failed || e.Event == "failed" && e.Object == "transfer of combs"
	}
	require.Fail(t, "the journal says nothing of it", string(content))
	return nil
}

// moverTo has an application with so many rows of 50 kB, and a folder for the new server that
// is kept when that is started again.
func moverTo(t *testing.T, product dbms.Product, name string, rows int) (*mover, throwaway.Options) {
	m := &mover{from: serverOf(t, product)}
	options := throwaway.Options{Product: product}
	if product == dbms.MySQL {
		options.Root = needMySQL(t)
	}
	options.Folder = filepath.Join("/", options.Root, "tmp", fmt.Sprintf("yf-%s-%d-%s", name, os.Getpid(), product))
	require.NoError(t, os.Mkdir(options.Folder, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(options.Folder) })
	m.killed = killed{victim: victim{t: t, login: m.from.Login(), postgres: product == dbms.PostgreSQL}, product: product}
	m.more = "CREATE TABLE wide (id int NOT NULL, t text, PRIMARY KEY (id));\n"
	for i := range rows {
		m.more += fmt.Sprintf("INSERT INTO wide VALUES (%d, '%s');\n", i, cryptorand.Text()+strings.Repeat(cryptorand.Text(), 2000))
	}
	return m, options
}

// start starts the new server.
func (m *mover) start(t *testing.T, options throwaway.Options) {
	t.Helper()
	var err error
	// PostgreSQL refuses for as long as processes of the server before it live.
	for range 10 {
		if m.to, err = throwaway.Start(t.Context(), options); err == nil || !m.postgres {
			break
		}
		time.Sleep(3 * time.Second)
	}
	if err != nil {
		t.Fatalf("%v\n%s", err, fault.As(err).Excerpt) // its log
	}
	t.Cleanup(m.to.Stop)
}

// TestMovesAtOnce: eight apps of one estate file are moved at once, each with its entry; and one
// whose entry is changed while its rows are on the way stays where it was.
func TestMovesAtOnce(t *testing.T) {
	for _, product := range oracletest.Sample([]dbms.Product{dbms.MariaDB, dbms.PostgreSQL}, 3) {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			m := &mover{from: serverOf(t, product), to: serverOf(t, product)}
			m.killed = killed{victim: victim{t: t, login: m.from.Login(), postgres: product == dbms.PostgreSQL}, product: product}
			m.more = strings.Repeat("INSERT INTO cell SELECT id + (SELECT COUNT(*) FROM cell), 1 FROM cell;\n", 15)
			m.prepare(t)
			estateFile := filepath.Join(m.folder, "yellowfield.yaml")
			change := func(change func(string) string) {
				text, err := os.ReadFile(estateFile)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(estateFile+".new", []byte(change(string(text))), 0o644))
				require.NoError(t, os.Rename(estateFile+".new", estateFile))
			}
			names := []string{"combs"}
			change(func(text string) string {
				for i := range 7 {
					name := fmt.Sprintf("more%d", i)
					names = append(names, name)
					text += fmt.Sprintf("  %s: {server: barn, database: {name: %s}, accounts: [{name: %s_app}]}\n", name, name, name)
				}
				return text
			})
			m.says(t, "9 apps: 8 provisioned", "provision")

			moving := make(chan string)
			go func() {
				out, _ := m.run(0, 0, "move", "combs", "--to", "shed", "--yes")
				moving <- out
			}()
			require.Eventually(t, func() bool { return m.isOn(m.to) }, time.Minute, 10*time.Millisecond)
			change(func(text string) string {
				return strings.Replace(text, "server: barn   # for now", "server: barn   # for now\n    notes: [look]", 1)
			})
			out := <-moving
			require.Contains(t, out, "the entry of app combs was changed by someone else in the meantime")
			require.Contains(t, out, "undone")
			assert.False(t, m.isOn(m.to))
			m.says(t, "9 apps: 9 verified", "verify")

			var all sync.WaitGroup
			for _, name := range names {
				all.Go(func() {
					if out, _ := m.run(0, 0, "move", name, "--to", "shed", "--yes"); !assert.Contains(t, out, "1 app: 1 moved") {
						t.Log(out)
					}
				})
			}
			change(func(text string) string { return "# somebody writes at the same time\n" + text })
			all.Wait()
			m.says(t, "9 apps: 9 verified", "verify")
			change(func(text string) string {
				assert.Equal(t, 8, strings.Count(text, "server: shed"))
				return text
			})
		})
	}
}

// TestMoveMeetsAFullDisk: the old server has its rights back, and the move goes through when
// there is room again.
func TestMoveMeetsAFullDisk(t *testing.T) {
	if underRace {
		t.Skip("the servers wait for a minute; TestMoved looks for races")
	}
	oracletest.NeedTime(t)
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			m, options := moverTo(t, product, "full", 600)
			if err := exec.Command("mount", "-t", "tmpfs", "-o", "size=450m", "none", options.Folder).Run(); err != nil {
				t.Skip("NOT TESTED: nobody may mount a small file system here")
			}
			t.Cleanup(func() { _ = exec.Command("umount", options.Folder).Run() })
			m.start(t, options)
			m.prepare(t)
			// MariaDB and MySQL wait for room when they drop what has arrived.
			filler := filepath.Join(options.Folder, "filler")
			out := m.failsMeanwhile(t, fmt.Sprintf("cat /dev/zero > %s; (sleep 15; rm %s) > /dev/null 2>&1 &", filler, filler))
			assert.Contains(t, out, dbms.MakeRoom)
			m.says(t, "login      as combs_app", "verify", "combs")
			if m.postgres { // which ends without room for its log
				require.Eventually(t, func() bool { _, err := os.Stat(filler); return err != nil }, time.Minute, time.Second)
				m.to.Stop()
				m.start(t, options)
			} else {
				require.Eventually(t, func() bool { // logins wait for room, too
					_, err := oracletest.Ask(product, m.to.Login(), "SELECT 1")
					return err == nil
				}, 2*time.Minute, time.Second)
			}
			m.says(t, "1 app: 1 moved", "move", "combs", "--to", "shed", "--yes")
			m.says(t, "1 app: 1 verified", "verify", "combs")
		})
	}
}

// TestMoveMeetsARestart: the new server dies in the middle and is started again; an export
// meets the end of the disk, and its server dies, on each product.
func TestMoveMeetsARestart(t *testing.T) {
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			m, options := moverTo(t, product, "again", 60)
			m.start(t, options)
			m.prepare(t)
			m.failsMeanwhile(t, m.kill(m.to))
			m.to.Stop()
			m.start(t, options)
			m.says(t, "what had arrived on shed is gone", "provision", "combs")
			require.False(t, m.isOn(m.to))
			m.says(t, "1 app: 1 moved", "move", "combs", "--to", "shed", "--yes")
			m.says(t, "1 app: 1 verified", "verify", "combs")

			small := t.TempDir()
			if err := exec.Command("mount", "-t", "tmpfs", "-o", "size=1m", "none", small).Run(); err != nil {
				t.Skip("NOT TESTED: nobody may mount a small file system here")
			}
			t.Cleanup(func() { _ = exec.Command("umount", small).Run() })
			out, _ := m.run(0, 0, "export", "combs", filepath.Join(small, "combs.sql"))
			assert.Regexp(t, "no space left on device|there is no room for the export", out) // as old as the server's figures are
			left, err := os.ReadDir(small)
			require.NoError(t, err)
			assert.Empty(t, left)

			// The server dies while it is exported.
			out, err = m.runWhile(t, "combs.sql", m.kill(m.to), "export", "combs", "combs.sql")
			assert.Error(t, err, out)
			assert.Regexp(t, `next +(check that the server is running|look at the server's error log|the server is starting or stopping)`, out)
			_, err = os.Stat(filepath.Join(m.folder, "combs.sql"))
			assert.ErrorIs(t, err, fs.ErrNotExist)
			m.to.Stop()
			m.start(t, options)
			m.says(t, "login      as combs_app", "verify", "combs") // what these servers did last may be lost: they do not wait for the disk
			m.says(t, "1 app: 1 exported", "export", "combs", "combs.sql")
		})
	}
}

// TestMoveLosesANode: the node of a cluster that rows go to, or come from, dies; the move is
// taken back, or given up, and goes on through another node.
func TestMoveLosesANode(t *testing.T) {
	t.Parallel()
	oracletest.NeedTime(t)
	start := clusters(t)
	for _, fromCluster := range []bool{false, true} {
		t.Run(fmt.Sprintf("from the cluster %v", fromCluster), func(t *testing.T) {
			t.Parallel()
			cluster, err := start()
			require.NoError(t, err)
			m := &mover{from: serverOf(t, dbms.MariaDB), to: cluster[0]}
			if fromCluster {
				m.from, m.to = m.to, m.from
			}
			t.Cleanup(func() {
				for _, node := range cluster {
					node.Kill()
				}
			})
			m.killed = killed{victim: victim{t: t, login: m.from.Login()}, product: dbms.MariaDB}
			m.prepare(t)
			if fromCluster {
				out, err := m.moveWhile(t, "transfer", m.kill(cluster[0]))
				require.Error(t, err)
				assert.Contains(t, out, "freeze of combs on barn could not be undone")
				assert.Contains(t, out, "what could not be undone is named above")
			} else {
				m.failsMeanwhile(t, m.kill(cluster[0]))
				m.says(t, "login      as combs_app", "verify", "combs")
			}
			path := filepath.Join(m.folder, "yellowfield.yaml")
			estate, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(estate), cluster[0].Socket, cluster[1].Socket, 1)), 0o644))
			if fromCluster {
				m.says(t, "could not take everything back", "verify", "combs")
				m.says(t, "its accounts have their rights on barn again", "provision", "combs", "--fix", "settings")
				m.says(t, "1 app: 1 verified", "verify", "combs")
			}
			m.says(t, "1 app: 1 moved", "move", "combs", "--to", "shed", "--yes")
			m.says(t, "1 app: 1 verified", "verify", "combs")
			assert.True(t, m.isClean(cluster[1]))
		})
	}
}

// TestAnEventInAnothersPlace: until its rights are lowered an application may put an event of
// its own in the place of the administrator's. It must not become the administrator's.
func TestAnEventInAnothersPlace(t *testing.T) {
	for _, fails := range []bool{false, true} {
		t.Run(fmt.Sprintf("the move fails %v", fails), func(t *testing.T) {
			t.Parallel()
			m := &mover{from: serverOf(t, dbms.MariaDB), to: serverOf(t, dbms.MariaDB)}
			m.killed = killed{victim: victim{t: t, login: m.from.Login()}, product: dbms.MariaDB}
			m.prepare(t)
			for _, server := range []*throwaway.Server{m.from, m.to} {
				m.on(server, "", "SET GLOBAL event_scheduler = 1")
			}
			m.on(m.from, "combs", "CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY DO DELETE FROM cell WHERE id > 9")
			body := map[bool]string{true: "CREATE USER mine", false: "DELETE FROM cell WHERE id = 7"}[fails] // a script with the former is refused
			swap := fmt.Sprintf("MYSQL_PWD='%s' %s -e \"DROP EVENT tidy; CREATE EVENT tidy ON SCHEDULE EVERY 1 SECOND DO %s\"", m.password(t),
				strings.Join(oracle.Client(m.from.Socket, "", "combs_app", "combs").Args, " "), body)
			if fails {
				swap += "; " + m.kill(m.to)
			}
			out, err := m.moveWhile(t, "freeze", swap)
			require.Equal(t, fails, err != nil, out)
			events := "SELECT DEFINER, STATUS FROM information_schema.EVENTS WHERE EVENT_NAME = 'tidy'"
			old := strings.Fields(m.on(m.from, "combs", events))
			assert.Equal(t, []string{"combs_app@localhost", map[bool]string{true: "ENABLED", false: "DISABLED"}[fails]}, old)
			assert.NotContains(t, m.on(m.from, "", "SELECT user FROM mysql.user"), "mine")
			if !fails {
				assert.Equal(t, []string{"combs_app@localhost", "ENABLED"}, strings.Fields(m.on(m.to, "combs", events)))
			}
		})
	}
}

// TestMoveKilled lets a move die, at places and at any moment, while applications log in and
// write all the time, and looks that provision leaves the application whole on one of the
// servers, with each row that was written, and that it can be moved then.
func TestMoveKilled(t *testing.T) {
	t.Parallel()
	if underRace {
		t.Skip("a killed program tells of no race; TestMoved does")
	}
	kills, apart := 1, 51
	if oracletest.Thorough() {
		kills, apart = 5, 17
	}
	if n, err := strconv.Atoi(os.Getenv(killsVariable)); err == nil {
		kills, apart = n/4, 1
	}
	onTwoServers(t, func(t *testing.T, m *mover) {
		began := time.Now()
		at := 2
		for m.survivesMove(t, at, 0) {
			at += apart
		}
		took := time.Since(began) / time.Duration(1+at/apart) // much longer than the move alone
		assert.Greater(t, at, 60)
		random := rand.New(rand.NewPCG(32, uint64(at)))
		inTime := 0
		for tries := 0; inTime < kills && tries < 10*kills || goesOnForHours(); tries++ { // some come when the program is through
			if m.survivesMove(t, 0, time.Duration(random.Int64N(int64(took)))) {
				inTime++
			}
		}
		t.Logf("died at %d places of %d, and %d times at random", at/apart, at, inTime)
	})
}

// survivesMove has a move die, at a place or after some time, and provision go on from there.
// died is false where the move was through before.
func (m *mover) survivesMove(t *testing.T, at int, after time.Duration) (died bool) {
	m.prepare(t)
	defer m.drop()
	stop := m.writes(t)
	out, died := m.run(at, after, "move", "combs", "--to", "shed", "--yes")
	if !died {
		stop()
		require.Contains(t, out, "1 app: 1 moved")
		return false
	}
	where := fmt.Sprintf("died at place %d, after %s:\n%s", at, after, out)
	next, _ := m.run(0, 0, "provision", "combs", "--wait", "60s") // the server may be at work yet
	looked, _ := m.run(0, 0, "verify", "combs")
	require.Contains(t, looked, "1 app: 1 verified", "%s\nthe next run:\n%s", where, next)
	require.NotContains(t, looked, "cut off", where)
	estate, err := os.ReadFile(filepath.Join(m.folder, "yellowfield.yaml"))
	require.NoError(t, err)
	if strings.Contains(string(estate), "server: barn   # for now") {
		require.False(t, m.isOn(m.to), "%s\nthe next run:\n%s", where, next)
		m.says(t, "1 app: 1 moved", "move", "combs", "--to", "shed", "--yes")
	}
	stop()
	m.says(t, "1 app: 1 verified", "verify", "combs")
	m.says(t, "1 app: 1 done", "retire", "combs", "--old", "--confirm", "combs")
	for _, server := range []*throwaway.Server{m.from, m.to} {
		require.True(t, m.isClean(server), where)
	}
	return true
}

// writer is an application that logs in with what its settings say, again and again, and writes
// a row where it may.
const writer = `<?php
for ($id = 1000; !file_exists('stop'); $id++) {
	$c = parse_ini_file('www/db.ini', false, INI_SCANNER_RAW);
	try {
		$way = getenv('PGSQL') ? "pgsql:host={$c['host']}" : "mysql:unix_socket={$c['socket']}";
		$db = new PDO("$way;dbname={$c['name']}", $c['user'], trim($c['word'], '"'));
	} catch (Exception $e) {
		file_put_contents('refused', "login: {$e->getMessage()}\n", FILE_APPEND);
		continue;
	}
	try {
		$db->exec("INSERT INTO comb (id, name) VALUES ($id, 'written')");
		file_put_contents('written', "$id\n", FILE_APPEND);
	} catch (Exception $e) { // while the app is moved; and a session that was there is ended
		if (!preg_match('/denied|read[ -]only|killed|gone away|Lost connection|terminating connection|server closed/i', $e->getMessage())) {
			file_put_contents('refused', "row: {$e->getMessage()}\n", FILE_APPEND);
		}
	}
	usleep(2000);
}
`

// writes has the application work until stop is called, which looks that no login failed and no
// row is lost.
func (m *mover) writes(t *testing.T) (stop func()) {
	if m.postgres && exec.Command("php", "-r", `exit((int) !extension_loaded("pdo_pgsql"));`).Run() != nil {
		return func() {}
	}
	require.NoError(t, os.WriteFile(filepath.Join(m.folder, "writer.php"), []byte(writer), 0o644))
	command := exec.CommandContext(t.Context(), "php", "writer.php")
	command.Dir, command.Env = m.folder, append(os.Environ(), map[bool]string{true: "PGSQL=1", false: "MYSQL=1"}[m.postgres])
	require.NoError(t, command.Start())
	return func() {
		require.NoError(t, os.WriteFile(filepath.Join(m.folder, "stop"), nil, 0o644))
		require.NoError(t, command.Wait())
		refused, _ := os.ReadFile(filepath.Join(m.folder, "refused"))
		assert.Empty(t, string(refused))
		written, _ := os.ReadFile(filepath.Join(m.folder, "written"))
		assert.NotEmpty(t, written, "or it tests nothing")
		server := m.from
		if estate, _ := os.ReadFile(filepath.Join(m.folder, "yellowfield.yaml")); strings.Contains(string(estate), "server: shed") {
			server = m.to
		}
		there := map[string]bool{}
		for _, id := range strings.Fields(m.on(server, "combs", "SELECT id FROM comb")) {
			there[id] = true
		}
		for _, id := range strings.Fields(string(written)) {
			require.True(t, there[id], "row %s is lost", id)
		}
	}
}

// TestKilledWhileTheServerGoesOn lets a run die while PostgreSQL makes or drops a database for
// it, which it then does by itself: the next run waits for that, and leaves nothing behind.
func TestKilledWhileTheServerGoesOn(t *testing.T) {
	t.Parallel()
	const makers = "LOCK TABLE pg_catalog.pg_database IN EXCLUSIVE MODE" // whoever makes or drops a database waits for this
	for _, one := range oracletest.Sample([]struct {
		command, holds   string
		on               func(m *mover) *throwaway.Server
		at, next, verify string
	}{
		{"retire combs --drop-database --confirm combs", "COMMENT ON DATABASE combs IS 'it is locked'", func(m *mover) *throwaway.Server { return m.from }, `DROP DATABASE IF EXISTS "combs"`, "1 app: 1 done", ""},
		{"copy combs trial --folder trial --yes", makers, func(m *mover) *throwaway.Server { return m.from }, `CREATE DATABASE "trial"`, "2 apps: 2 copied", "3 apps: 2 verified, 1"},
		{"move combs --to shed --yes", makers, func(m *mover) *throwaway.Server { return m.to }, "CREATE DATABASE", "1 app: 1 moved", "2 apps: 1 verified, 1"},
	}, 3) {
		t.Run(strings.Fields(one.command)[0], func(t *testing.T) {
			t.Parallel()
			m := &mover{from: serverOf(t, dbms.PostgreSQL), to: serverOf(t, dbms.PostgreSQL)}
			m.killed = killed{victim: victim{t: t, login: m.from.Login(), postgres: true}, product: dbms.PostgreSQL}
			m.prepare(t)
			require.NoError(t, os.CopyFS(filepath.Join(m.folder, "trial"), os.DirFS(filepath.Join(m.folder, "www"))))
			server := one.on(m)
			held := make(chan struct{})
			go func() {
				defer close(held)
				_, _ = oracletest.Ask(dbms.PostgreSQL, server.Login(), "DO $$ BEGIN "+one.holds+"; PERFORM pg_sleep(600); END $$")
			}()
			release := func() {
				m.on(server, "", "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'DO %'")
			}
			waits := func(statement string) func() bool {
				return func() bool {
					return strings.Contains(m.on(server, "", "SELECT 'it ' || 'does' FROM pg_stat_activity WHERE state = 'active' AND query LIKE '"+statement+"%' AND wait_event_type IN ('Lock', 'Timeout')"), "it does")
				}
			}
			require.Eventually(t, waits("DO "), time.Minute, 20*time.Millisecond)
			run := program(t.Context(), t, m.folder, strings.Fields(one.command)...)
			var early strings.Builder
			run.Stdout, run.Stderr = &early, &early
			require.NoError(t, run.Start())
			if !assert.Eventually(t, waits(one.at), 20*time.Second, 20*time.Millisecond) {
				t.Log(early.String(), m.on(server, "", "SELECT state, wait_event_type, query FROM pg_stat_activity"))
			}
			require.NoError(t, run.Process.Kill())
			_ = run.Wait()

			next := program(t.Context(), t, m.folder, append(strings.Fields(one.command), "--wait", "60s")...)
			said, err := next.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, next.Start())
			var out strings.Builder
			for lines := bufio.NewScanner(said); lines.Scan(); {
				out.WriteString(lines.Text() + "\n")
				if strings.Contains(lines.Text(), "waiting up to 1m0s") {
					release()
				}
			}
			_ = next.Wait()
			release()
			<-held
			require.Contains(t, out.String(), one.next)
			if one.verify != "" {
				m.says(t, one.verify, "verify")
				return
			}
			assert.NotContains(t, m.on(m.from, "", "SELECT rolname FROM pg_roles"), "combs")
		})
	}
}

// TestMoveFails: what the new server lacks is found before anything stands still, and when
// it goes away in the middle the old one has its rights back.
func TestMoveFails(t *testing.T) {
	t.Parallel()
	onTwoServers(t, func(t *testing.T, m *mover) {
		m.prepare(t)
		if !m.postgres && productOf(m.from) == dbms.MariaDB && productOf(m.to) == dbms.MySQL {
			m.on(m.from, "combs", "CREATE TABLE only_here (t varchar(20) COLLATE utf8mb4_uca1400_ai_ci)")
			out, _ := m.run(0, 0, "move", "combs", "--to", "shed", "--yes")
			assert.Contains(t, out, "utf8mb4_uca1400_ai_ci")
			assert.Contains(t, out, "nothing was touched")
			assert.False(t, m.isOn(m.to))
			// What only an import shows is found by trying it.
			m.on(m.from, "combs", "ALTER TABLE only_here CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_bin, ADD u uuid")
			out, _ = m.run(0, 0, "move", "combs", "--to", "shed", "--yes")
			assert.Contains(t, out, "an import into a scratch database failed: ")
			assert.Contains(t, out, "nothing is left behind")
			assert.NotContains(t, out, "freeze")
			assert.False(t, m.isOn(m.to))
			m.on(m.from, "combs", "DROP TABLE only_here")
		}
		// Somebody else's database of that name is not touched, whatever was cut off before.
		_, died := m.run(4, 0, "export", "combs", "combs.sql")
		require.True(t, died)
		m.on(m.to, "", "CREATE DATABASE combs")
		m.on(m.to, "combs", "CREATE TABLE theirs (id int)")
		m.says(t, "server shed has a database combs already", "move", "combs", "--to", "shed", "--yes")
		m.on(m.to, "combs", "SELECT id FROM theirs")
		m.on(m.to, "", "DROP DATABASE combs")
		m.says(t, "1 app: 1 unchanged", "provision", "combs")

		if !m.postgres {
			m.on(m.from, "combs", "CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY DO DELETE FROM cell")
			m.on(m.to, "", "SET GLOBAL event_scheduler = 1")
		}
		m.failsMeanwhile(t, m.kill(m.to), "--map-collations")
		settings, err := os.ReadFile(filepath.Join(m.folder, "www/db.ini"))
		require.NoError(t, err)
		assert.Contains(t, string(settings), filepath.Dir(m.from.Socket))
		m.says(t, "login      as combs_app", "verify", "combs")
		m.says(t, "what had arrived on shed could not be taken back: server shed cannot be reached", "provision", "combs")
		m.says(t, "move of ", "verify", "combs") // which could not take everything back, and still waits for that
		if !m.postgres {
			assert.Contains(t, m.on(m.from, "combs", "SELECT STATUS FROM information_schema.EVENTS WHERE EVENT_SCHEMA = 'combs'"), "ENABLED")
		}
		rights := m.on(m.from, "", map[bool]string{true: "SELECT pg_has_role('combs_app', 'combs_owner', 'MEMBER')", false: "SELECT Insert_priv, Create_priv FROM mysql.db WHERE User = 'combs_app'"}[m.postgres])
		assert.NotContains(t, rights, map[bool]string{true: "false", false: "N"}[m.postgres])

		// The new one is still away, and so is then the old one.
		m.says(t, "server shed cannot be reached", "move", "combs", "--to", "shed", "--yes")
		m.from.Stop()
		m.says(t, "server barn cannot be reached", "move", "combs", "--to", "shed", "--yes")
		again, err := os.ReadFile(filepath.Join(m.folder, "www/db.ini"))
		require.NoError(t, err)
		assert.Equal(t, string(settings), string(again))
	})
}
