package main

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// diesAt names the variable of the environment that has a program with places die at one,
// counted from 1.
const diesAt = "YELLOWFIELD_DIES_AT"

// meanwhileVariable names the one that has something happen in the middle of a run of such a
// program.
const meanwhileVariable = "YELLOWFIELD_MEANWHILE"

// killsVariable names the variable that says how often a program is killed at random, and
// has it die at every place, as make test-kills does; else there are a few of each.
const killsVariable = "YELLOWFIELD_KILLS"

// deadly is a command that is killed.
type deadly struct {
	name   string
	before [][]string // what comes first
	run    []string
	next   []string // what is run again
	fewest int      // places that it must have, or the test tests nothing
	alone  bool     // provision does not finish it
}

var (
	provisionCombs = []string{"provision", "combs"}
	closeCombs     = []string{"close", "combs", "--yes", "--acknowledged"}
	reopenCombs    = []string{"reopen", "combs", "--yes", "--for", "2h"}
	rotateCombs    = []string{"rotate", "combs", "--yes", "--overlap", "20ms"}
	importAnew     = []string{"import", "combs", "--drop-existing"}
	retireCombs    = []string{"retire", "combs", "--yes"}
	backCombs      = []string{"retire", "combs", "--back", "--yes"}
	dropCombs      = []string{"retire", "combs", "--drop-database", "--confirm", "combs"}
	copyCombs      = []string{"copy", "combs", "combs-trial", "--folder", "trial", "--yes"}
	secondRole     = append(slices.Clone(rotateCombs), "--second-role")
)

var deadlies = []deadly{
	{"provision", nil, provisionCombs, provisionCombs, 30, false},
	{"close", [][]string{provisionCombs}, closeCombs, closeCombs, 20, false},
	{"reopen", [][]string{provisionCombs, closeCombs}, reopenCombs, reopenCombs, 18, false},
	{"rotate", [][]string{provisionCombs}, rotateCombs, rotateCombs, 20, false},
	{"import --drop-existing", [][]string{provisionCombs}, importAnew, importAnew, 20, false},
	{"retire", [][]string{provisionCombs}, retireCombs, retireCombs, 20, false},
	{"retire --back", [][]string{provisionCombs, retireCombs}, backCombs, backCombs, 15, false},
	{"retire --drop-database", [][]string{provisionCombs}, dropCombs, dropCombs, 40, true},
	{"copy", [][]string{provisionCombs}, copyCombs, copyCombs, 50, true},
	{"rotate with a second role", [][]string{provisionCombs}, secondRole, rotateCombs, 40, false},
}

// serverOf starts a server of a product that the test has for itself.
func serverOf(t *testing.T, product dbms.Product) *throwaway.Server {
	t.Helper()
	options := throwaway.Options{Product: product}
	if product == dbms.MySQL {
		options.Root = needMySQL(t)
	}
	return serverWith(t, options)
}

func serverWith(t *testing.T, options throwaway.Options) *throwaway.Server {
	t.Helper()
	product := options.Product
	if product == dbms.PostgreSQL && throwaway.PostgresPrograms("") == "" {
		t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	server, err := throwaway.Start(t.Context(), options)
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	return server
}

// TestKilled lets commands die at places where something has changed or is about to, and
// at any instant, and looks what the next run makes of that: the same as one that nothing
// stopped.
func TestKilled(t *testing.T) {
	t.Parallel()
	kills, every := 0, 25
	if oracletest.Thorough() {
		kills, every = 6, 5
	}
	if n, err := strconv.Atoi(os.Getenv(killsVariable)); err == nil {
		kills, every = n, 1
	}
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			server := serverOf(t, product)
			all := slices.DeleteFunc(slices.Clone(deadlies), func(d deadly) bool { // what is not needed there
				return slices.Contains(d.run, "--second-role") && product.Traits().TwoPasswords
			})
			for i, d := range oracletest.Sample(all, 3) {
				t.Run(d.name, func(t *testing.T) {
					k := &killed{victim: victim{t: t, login: server.Login(), postgres: product == dbms.PostgreSQL}, server: server, product: product, deadly: d}
					k.unpack()
					k.nothing = k.look()
					began := time.Now()
					out, died := k.run(0, 0, d.run...)
					took := time.Since(began)
					require.False(t, died)
					require.Regexp(t, `(?m)^\d apps?: \d `, out, "or the test tests nothing")
					require.NotContains(t, out, "failed")
					want := k.look()
					k.clean()
					at, apart := 1, every
					if apart > 1 && d.name != "provision" {
						apart = d.fewest*every/10 | 1 // a few of each, odd and even ones
					}
					for k.survives(want, at, 0) {
						at += apart
					}
					assert.Greater(t, at, d.fewest)
					random := rand.New(rand.NewPCG(14, uint64(i)))
					inTime, share := 0, (kills+len(all)-1)/len(all)
					for tries := 0; inTime < share && tries < 10*share || goesOnForHours(); tries++ { // some come when the program is through
						if k.survives(want, 0, time.Duration(random.Int64N(int64(took)))) {
							inTime++
						}
					}
					t.Logf("%s of %s: died at %d places of %d, and %d times at random", d.name, product, (at-1)/apart, at, inTime)
				})
			}
		})
	}
}

// goesOnForHours reports whether tests that kill go on: until YELLOWFIELD_HOURS are over.
func goesOnForHours() bool {
	hours, err := strconv.ParseFloat(os.Getenv("YELLOWFIELD_HOURS"), 64)
	return err == nil && time.Since(testsBegan).Hours() < hours
}

var testsBegan = time.Now()

// survives has the command die, at a place or after some time, and the next run go on from
// there. died is false where the program was through before.
func (k *killed) survives(want map[string]string, at int, after time.Duration) (died bool) {
	defer k.clean()
	k.unpack()
	before, died := k.run(at, after, k.deadly.run...)
	if !died {
		return false
	}
	where := fmt.Sprintf("died at place %d, after %s:\n%s", at, after, before)
	if at%4 == 1 {
		seen := k.look()
		k.run(0, 0, "verify", "combs")
		looked := k.look()
		looked["notes: pending"] = seen["notes: pending"] // a password that it has proved to be in the file is forgotten
		assert.Empty(k.t, differing(seen, looked), "verify changes something: %s", where)
	}
	if at%2 == 0 && k.deadly.name != "copy" { // and at random; a copy is another app
		seen := k.look()
		next, _ := k.run(0, 0, "provision", "combs", "--undo-unfinished")
		wanted := k.nothing
		if strings.Contains(next, " finishes it") || strings.Contains(next, "no run on this app was cut off") {
			wanted = seen
			maps.DeleteFunc(wanted, func(what, _ string) bool { return strings.Contains(what, strayFile) }) // it is swept all the same
		}
		assert.Empty(k.t, differing(wanted, k.look()), "%s\ntaken back:\n%s", where, next)
	}
	command := k.deadly.next
	if at%45 == 23 && !k.deadly.alone { // provision finishes it, too
		command = provisionCombs
	}
	seen := k.look()
	next, _ := k.run(0, 0, command...)
	if strings.Contains(next, "app combs-trial is in the estate file already") { // it was through, but for the login
		k.run(0, 0, "provision", "combs-trial")
	}
	if command[0] == "provision" && k.deadly.name != "provision" && !strings.Contains(next, "was cut off") {
		want = seen // it had not begun
	}
	if !assert.Empty(k.t, differing(want, k.look()), "%s\nthe next run, %v:\n%s", where, command, next) {
		k.t.FailNow()
	}
	out, _ := k.run(0, 0, "verify", "combs")
	assert.Contains(k.t, out, "1 app: 1 verified", "%s\nthe next run:\n%s", where, next)
	assert.NotContains(k.t, out, "cut off")
	return true
}

// killed is a server, and an application on it that a run dies on.
type killed struct {
	victim
	server  *throwaway.Server
	product dbms.Product
	deadly  deadly
	folder  string
	nothing map[string]string // before the command
}

const killedEstate = `servers:
  barn: {dbms: %s, socket: %s, %sadmin: {user: %s}}
apps:
  combs:
    server: barn
    folder: www
    database: {name: combs}
    accounts: [{name: combs_app, client_hosts: [localhost, 127.0.0.1], rights: {installing: structure, running: rows}}]
    installer_files: [setup/, etc/second.ini.dist]
    notes: [change the keeper's password]
    import: [combs.sql, rows.sql]
%s    settings:
      - {file: config.php, template: config.sample.php, values: {DB_HOST: "{host}", DB_NAME: "{database}", DB_USER: "{user}", DB_WORD: "{password}"}}
      - {file: etc/second.ini, template: etc/second.ini.dist, values: {"[db] user": "{user}", "[db] password": "{password}", "[db] name": "{database}", "[db] host": "{host}"}}
    ownership: {modes: {installing: "0640", running: "0440"}, writable: [uploads]}
`

func (k *killed) unpack() {
	k.folder = k.t.TempDir()
	seen, during := "seen_by_apps: {socket: "+k.server.Socket+"}, ", "    server_during_import: {max_allowed_packet: 33554432}\n"
	if k.postgres {
		seen, during = "", ""
	}
	for name, content := range map[string]string{
		"yellowfield.yaml":         fmt.Sprintf(killedEstate, k.product, k.server.Socket, seen, k.server.Admin, during),
		"www/config.sample.php":    "<?php\ndefine('DB_HOST', '');\ndefine('DB_NAME', '');\ndefine('DB_USER', '');\ndefine('DB_WORD', '');\n",
		"www/etc/second.ini.dist":  "[db]\nhost =\nname =\nuser =\npassword =\n",
		"www/combs.sql":            "CREATE TABLE comb (id int NOT NULL, name varchar(20), PRIMARY KEY (id));\nCREATE TABLE cell (id int NOT NULL, comb int NOT NULL, PRIMARY KEY (id));\nCREATE VIEW cells AS SELECT comb FROM cell;\n",
		"www/rows.sql":             "INSERT INTO comb VALUES (1, 'first');\nINSERT INTO cell VALUES (1, 1), (2, 1);\nUPDATE comb SET name = 'one' WHERE id = 1;\n",
		"www/uploads.readme/x.txt": "x",
		"www/setup/index.php":      "<?php",
		"www/setup/steps/1.php":    "<?php // one",
	} {
		for _, to := range []string{name, strings.Replace(name, "www/", "trial/", 1)} { // the folder of a copy, too
			path := filepath.Join(k.folder, to)
			require.NoError(k.t, os.MkdirAll(filepath.Dir(path), 0o755))
			require.NoError(k.t, os.WriteFile(path, []byte(content), 0o644))
		}
	}
	for _, command := range k.deadly.before {
		out, _ := k.run(0, 0, command...)
		require.NotContains(k.t, out, "failed")
	}
}

// run has the program die at a place, or after some time; 0 for neither.
func (k *killed) run(at int, after time.Duration, arguments ...string) (out string, died bool) {
	ctx := k.t.Context()
	if after > 0 {
		limited, cancel := context.WithTimeout(ctx, after)
		defer cancel()
		ctx = limited
	}
	command := program(ctx, k.t, k.folder, arguments...)
	if at > 0 {
		command.Env = append(command.Env, fmt.Sprintf("%s=%d", diesAt, at))
	}
	said, _ := command.CombinedOutput()
	return string(said), !command.ProcessState.Exited()
}

// strayFile begins the names of files that a write which was cut off has left.
const strayFile = ".yellowfield-"

var madePassword = regexp.MustCompile(`DB_WORD', '([^']*)'|password ="?([^"\n]*)"?`)

// look gives all that may not differ from an uninterrupted run: the password itself does.
func (k *killed) look() map[string]string {
	seen := map[string]string{}
	passwords := map[string]bool{}
	require.NoError(k.t, filepath.WalkDir(k.folder, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.IsDir() && entry.Name() == "state" {
			return fs.SkipDir
		}
		if err != nil || entry.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		require.NoError(k.t, err)
		info, err := entry.Info()
		require.NoError(k.t, err)
		name, _ := filepath.Rel(k.folder, path)
		for _, m := range madePassword.FindAllStringSubmatch(string(content), -1) {
			if word := m[1] + m[2]; word != "" && !strings.Contains(name, strayFile) {
				passwords[word] = true
			}
		}
		seen["file "+name] = info.Mode().String() + " " + madePassword.ReplaceAllString(string(content), "PASSWORD")
		return nil
	}))
	seen["passwords"] = fmt.Sprint(len(passwords))
	for _, kind := range []string{"pending", "unfinished-imports", "changed-servers", "open-apps", "emptied-databases", "short-lived-accounts", "retired-apps"} {
		left := 0
		_ = filepath.WalkDir(filepath.Join(k.folder, "state", kind), func(_ string, entry fs.DirEntry, err error) error {
			if err == nil && !entry.IsDir() && !strings.HasPrefix(entry.Name(), ".") { // nor what a write that was cut off has left, which the next one sweeps
				left++
			}
			return nil
		})
		seen["notes: "+kind] = fmt.Sprint(left)
	}
	if k.postgres {
		seen["accounts"] = k.ask("", "SELECT rolname, rolcanlogin, rolpassword IS NULL FROM pg_authid WHERE rolname LIKE 'combs%' OR rolname LIKE 'yellowfield%' ORDER BY 1")
		seen["databases"] = k.ask("", "SELECT datname, datacl, pg_get_userbyid(datdba) FROM pg_database ORDER BY 1")
		for _, database := range k.databasesIn(seen) {
			objects, err := oracle.PostgresFingerprint(k.login, database)
			require.NoError(k.t, err)
			seen["objects of "+database] = fmt.Sprint(objects)
		}
		return seen
	}
	seen["accounts"] = k.ask("", "SELECT GRANTEE, PRIVILEGE_TYPE, IS_GRANTABLE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE LIKE '%combs%' OR GRANTEE LIKE '%yellowfield%' ORDER BY 1, 2") +
		k.ask("", "SELECT * FROM mysql.db WHERE User LIKE 'combs%' ORDER BY Host, Db, User")
	second := "SELECT COUNT(*) FROM mysql.user WHERE User LIKE 'combs%' AND JSON_EXTRACT(User_attributes, '$.additional_password') IS NOT NULL"
	if k.product == dbms.MariaDB {
		second = "SELECT COUNT(*) FROM mysql.global_priv WHERE User LIKE 'combs%' AND JSON_EXISTS(Priv, '$.auth_or[1]')"
	}
	seen["second passwords"] = k.ask("", second)
	seen["variables"] = k.ask("", "SHOW GLOBAL VARIABLES LIKE 'max_allowed_packet'")
	seen["databases"] = k.ask("", "SHOW DATABASES")
	for _, database := range k.databasesIn(seen) {
		objects, err := oracle.Fingerprint(k.t.Context(), k.login, database)
		require.NoError(k.t, err)
		seen["objects of "+database] = fmt.Sprint(objects)
	}
	return seen
}

// databasesIn are those of the application and of its copy that are there.
func (k *killed) databasesIn(seen map[string]string) (there []string) {
	for _, name := range []string{"combs", "combs_trial"} {
		if regexp.MustCompile(`\b` + name + `\b`).MatchString(seen["databases"]) {
			there = append(there, name)
		}
	}
	return there
}

func (k *killed) clean() {
	if k.postgres {
		k.do("", "DROP DATABASE IF EXISTS combs WITH (FORCE)", "DROP DATABASE IF EXISTS combs_trial WITH (FORCE)", "DROP ROLE IF EXISTS combs_trial_app", "DROP ROLE IF EXISTS combs_trial_owner", "DROP ROLE IF EXISTS combs_app", "DROP ROLE IF EXISTS combs_app_meanwhile", "DROP ROLE IF EXISTS combs_owner")
		return
	}
	k.do("", "DROP DATABASE IF EXISTS combs", "DROP DATABASE IF EXISTS combs_trial", "DROP USER IF EXISTS combs_trial_app@localhost", "DROP USER IF EXISTS combs_trial_app@127.0.0.1", "DROP USER IF EXISTS combs_app@localhost", "DROP USER IF EXISTS combs_app@127.0.0.1", "SET GLOBAL max_allowed_packet = DEFAULT")
}
