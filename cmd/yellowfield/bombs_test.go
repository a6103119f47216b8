package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// bombMemory is what the program may use for whatever a hostile file holds, in KiB.
// What it maps, which is more, is limited to twice that, so that a failure does not
// take the machine with it.
const bombMemory = 256 << 10

// many repeats a text up to nearly the longest settings file that is read, dense
// up to nearly the most words and marks, of which text has pieces.
func many(text string) string              { return strings.Repeat(text, (4<<20-1024)/len(text)) }
func dense(pieces int, text string) string { return strings.Repeat(text, 39_000/pieces) }

// settingsBombs are files that need little to be written, and much to be read.
func settingsBombs() map[string]string {
	deep := func(open string) string { return strings.Repeat(open, 30_000) }
	return map[string]string{
		"long.php":       "<?php\n$a = [" + many("1,") + "];\n",
		"long.yaml":      "a: [" + many("1,") + "]\n",
		"long.xml":       many("<a>"),
		"long.ini":       "[a]\n" + many("b=1\n"),
		"long.env":       "A=mysql://" + many("a:b@"),
		"zeros.php":      "<?php" + many("\x00"),
		"entity.xml":     `<!DOCTYPE a [<!ENTITY x "xxxxxxxxxx"><!ENTITY y "&x;&x;&x;&x;&x;&x;&x;&x;">]><a>` + many("&y;") + "</a>",
		"deep.php":       "<?php\n$a = " + deep("["),
		"deep2.php":      "<?php\n$a = " + deep("[") + deep("]") + ";\n",
		"deep3.php":      "<?php\n" + deep("{") + deep("}"),
		"deep4.php":      "<?php\n" + dense(4, "if(1) "),
		"deep5.php":      "<?php\n$a = " + dense(3, "(1 ? "),
		"deep6.php":      "<?php\n" + deep("namespace{") + deep("}"),
		"deep7.php":      "<?php\n$a = " + strings.Repeat("['abcdefgh'=>", 95) + dense(2, "1,")[2000:] + strings.Repeat("]", 95) + ";",
		"wide.php":       "<?php\n$a = [" + dense(2, "1,") + "];\n",
		"wide2.php":      "<?php\n" + dense(5, "$a=1;"),
		"wide3.php":      "<?php\n$a" + dense(3, "[1]") + "=1;",
		"wide4.php":      "<?php\n" + dense(6, "//a=1\n"),
		"wide5.php":      "<?php\n" + dense(9, "// $a = 'b';\n"),
		"quotes.php":     "<?php\n" + dense(2, "'\\"),
		"deep.yaml":      deep("["),
		"deep2.yaml":     "a: " + deep("[") + deep("]"),
		"deep3.yaml":     deep("{a: "),
		"deep4.yaml":     deep("- "),
		"deep5.yaml":     dense(1, "? "),
		"deep6.yaml":     strings.Repeat("[", 95) + dense(2, "1,")[1000:] + strings.Repeat("]", 95),
		"wide.yaml":      "a: [" + dense(2, "1,") + "]\n",
		"wide2.yaml":     dense(3, "- 1\n"),
		"wide3.yaml":     dense(4, "a: 1\n"),
		"wide4.yaml":     dense(5, "#a: 1\n"),
		"alias.yaml":     "a: &a [x,x]\n" + dense(11, "b: &a [*a,*a]\n"),
		"documents.yaml": dense(4, "---\n"),
		"deep.json":      `{"a": ` + deep("["),
		"deep2.json":     `{"a": ` + deep("[") + deep("]") + "}",
		"deep3.json":     deep(`{"":`),
		"wide.json":      `{"a": [` + dense(2, "1,") + "1]}",
		"deep.xml":       dense(3, "<a>"),
		"deep2.xml":      strings.Repeat("<abcdefgh>", 15_000) + strings.Repeat("</abcdefgh>", 12_000),
		"wide.xml":       "<a>" + dense(4, "<b/>") + "</a>",
		"wide2.xml":      "<a " + dense(4, "b='' ") + "/>",
		"wide.ini":       "[a]\n" + dense(4, "b=1\n"),
		"wide2.ini":      dense(4, "[a]\n"),
		"wide.env":       dense(4, "A=1\n"),
		"wide2.env":      dense(5, "#A=1\n"),
		"wide.conf":      dense(3, "a 1\n"),
		"url.env":        "A=mysql://" + dense(4, "a:b@"),
		"url2.env":       "A=mysql:" + dense(4, "a=b;"),
	}
}

// runBounded runs the program where it may use no more memory, and returns what it
// said.
func runBounded(t *testing.T, folder string, arguments ...string) (out string, err error) {
	ctx, cancel := context.WithTimeout(t.Context(), 15*time.Minute) // only what hangs: a busy machine takes minutes
	defer cancel()
	run := program(ctx, t, folder, arguments...)
	limited := exec.CommandContext(ctx, "sh", append([]string{"-c", fmt.Sprintf("ulimit -d %d; exec \"$0\" \"$@\"", 2*bombMemory), run.Path}, arguments...)...)
	run.Path, run.Args = limited.Path, limited.Args
	began := time.Now()
	var heard bytes.Buffer
	run.Stdout, run.Stderr = &heard, &heard
	require.NoError(t, run.Start())
	ended := make(chan int)
	go func() { ended <- mostResident(run.Process.Pid) }()
	err = run.Wait()
	said, most := heard.Bytes(), <-ended
	assert.Less(t, most, bombMemory, "%q: KiB of memory", arguments)
	require.NoError(t, ctx.Err(), "%q hangs", arguments)
	out = string(said[:min(len(said), 4000)])
	for _, dead := range []string{"panic:", "fatal error:", "goroutine "} {
		assert.NotContains(t, out, dead, "%q", arguments)
	}
	t.Logf("%q: %d MiB, %.1f s, %d bytes said", arguments, most>>10, time.Since(began).Seconds(), len(said))
	return out, err
}

// needOrdinaryMemory skips where the program's memory is not its own.
func needOrdinaryMemory(t *testing.T) {
	t.Helper()
	if runtime.GOOS != "linux" || underRace {
		t.Skip("limits of memory are Linux's here, and the race detector takes some of its own: make test runs it without")
	}
}

// mostResident is the most memory that a process had, in KiB, watched until it ends.
func mostResident(pid int) (most int) {
	for {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		_, peak, has := strings.Cut(string(status), "VmHWM:")
		if err != nil || !has { // a process that has ended has none
			return most
		}
		now := 0
		_, _ = fmt.Sscan(peak, &now)
		most = max(most, now)
		time.Sleep(5 * time.Millisecond)
	}
}

func TestSettingsThatAreBombs(t *testing.T) {
	needOrdinaryMemory(t)
	t.Parallel()
	folder := t.TempDir()
	bombs := settingsBombs()
	for _, name := range oracletest.Sample(slices.Sorted(maps.Keys(bombs)), 3) {
		content := bombs[name]
		t.Run(name, func(t *testing.T) {
			require.Less(t, len(content), 4<<20)
			path := filepath.Join(folder, name)
			require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
			_, _ = runBounded(t, folder, "settings", "show", path, "--quiet")
			if !strings.HasPrefix(name, "wide") {
				_, _ = runBounded(t, folder, "settings", "set", path, "nothing.like.it=1", "--dry-run")
			}
			if strings.HasSuffix(name, ".yaml") && strings.HasPrefix(name, "deep") {
				_, err := runBounded(t, folder, "verify", "--estate", path)
				assert.Error(t, err)
			}
		})
	}
	for name, content := range map[string]string{"longer.xml": strings.Repeat("<a>", 7<<20/3), "longer.yaml": strings.Repeat("[", 7<<20)} {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		out, err := runBounded(t, folder, "settings", "show", path)
		require.Error(t, err)
		assert.Contains(t, out, "longer than 4 MiB")
	}
}

// scriptBomb is a script of a few packed bytes: a head, so many bytes of a body, and a tail.
type scriptBomb struct {
	head, body, tail string
	size             int
	says             string // of the refusal; empty where it may as well go through, runs where it is to be sent, too
}

const runs = "runs"

// Each # in a body is another number each time.
var scriptBombs = func() map[string]scriptBomb {
	const beyond, within, many = 320 << 20, 62 << 20, 100 << 20
	return map[string]scriptBomb{
		"one statement":    {"SELECT ", "1,", "", beyond, "longer than 64 MiB"},
		"one string":       {"INSERT INTO t VALUES ('", "aaaaaaaa", "", beyond, "longer than 64 MiB"},
		"many rows":        {"INSERT INTO t VALUES (1)", ",(1)", "", beyond, "longer than 64 MiB"},
		"one name":         {"CREATE TABLE `", "aaaaaaaa", "", beyond, "longer than 64 MiB"},
		"nested":           {"SELECT ", "(", "", beyond, "longer than 64 MiB"},
		"one comment":      {"/* ", "aaaaaaaa", "", beyond, "is never closed|ends inside a comment"},
		"blanks":           {"", "        ", "", beyond, ""},
		"one short line":   {"-- ", "aaaaaaaa", "", beyond, ""},
		"remarks":          {"", "-- a remark\n", "SELECT 1;", beyond, ""},
		"a long sum":       {"SELECT 1", "+1", ";", within, runs},
		"rows of sums":     {"CREATE TABLE t (a int);\nINSERT INTO t VALUES (1)", ",(1" + strings.Repeat("+1", 30) + ")", ";", within, runs},
		"a long SET":       {"SET @a = 1", "+1", ";", within, "words and marks|SELECT|bytes"},
		"a long list":      {"SET @a0 = 1", ",@a#=1", ";", within, ""},
		"columns":          {"CREATE TABLE t (a int", ",a# int", ");", within, "words and marks"},
		"a long view":      {"CREATE VIEW v AS SELECT 1", "+1", ";", within, "words and marks"},
		"a long condition": {"/*!50000 SELECT 1", "+1", " */;", within, ""},
		"rows":             {"CREATE TABLE t (a int);\nINSERT INTO t VALUES (1)", ",(#)", ";", within, runs},
		"deep":             {"SELECT ", "(", ";", within, ""},
		"tables":           {"", "CREATE TABLE t# (a int);\n", "", many, "kept in memory"},
		"rows of tables":   {"", "INSERT INTO t# VALUES (1);\n", "", many, "kept in memory"},
		"variables":        {"", "SET @a# = 1;\n", "", many, ""},
		"procedures":       {"", "CREATE FUNCTION f#() RETURNS INT RETURN 1;\n", "", many, "kept in memory|LANGUAGE|language"},
		"prepared":         {"PREPARE s FROM 'SELECT 1", "+1", "';", within, ""},
		"dropped":          {"DROP TABLE IF EXISTS t", ",t#", ";", within, ""},
		"indexes":          {"CREATE TABLE t (a int);\nALTER TABLE t ADD KEY k (a)", ",ADD KEY k# (a)", ";", within, "words and marks"},
		"chunks":           {"DELIMITER //\nSELECT 1", ";SELECT 1", "//\n", within, ""},
	}
}()

// pack writes the bomb as gzip.
func (b scriptBomb) pack(t *testing.T, path string) {
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	w, err := gzip.NewWriterLevel(file, gzip.BestSpeed)
	require.NoError(t, err)
	_, _ = io.WriteString(w, b.head)
	const piece = 1 << 20
	for n, written := 0, 0; written < b.size; {
		var text strings.Builder
		for text.Len() < piece {
			if !strings.Contains(b.body, "#") {
				text.WriteString(strings.Repeat(b.body, piece/len(b.body)))
				break
			}
			n++
			text.WriteString(strings.ReplaceAll(b.body, "#", strconv.Itoa(n)))
		}
		written += text.Len()
		_, _ = io.WriteString(w, text.String())
	}
	_, _ = io.WriteString(w, b.tail)
	require.NoError(t, w.Close())
}

// TestScriptsThatAreBombs reads a few packed bytes that become hundreds of megabytes, most of
// them more than a statement may have, others as much as that and hard to hold.
func TestScriptsThatAreBombs(t *testing.T) {
	needOrdinaryMemory(t)
	t.Parallel()
	large := []string{"--max-allowed-packet=1G"}
	for _, o := range []throwaway.Options{{Product: dbms.MariaDB, Arguments: large}, {Product: dbms.PostgreSQL}, {Product: dbms.MySQL, Arguments: large, Root: mysqlRoot()}} {
		product := o.Product
		switch {
		case product == dbms.PostgreSQL && throwaway.PostgresPrograms("") == "":
			t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
		case product == dbms.MySQL && !oracletest.Thorough(): // its reader is MariaDB's
			continue
		case product == dbms.MySQL:
			needMySQL(t)
		}
		var err error
		o.Folder, err = os.MkdirTemp(filepath.Join("/", o.Root, "tmp"), "yf-")
		require.NoError(t, err)
		defer os.RemoveAll(o.Folder)
		server, err := throwaway.Start(t.Context(), o)
		require.NoError(t, err)
		defer server.Stop()
		for _, name := range oracletest.Sample(slices.Sorted(maps.Keys(scriptBombs)), 15) {
			bomb := scriptBombs[name]
			t.Run(string(product)+" "+name, func(t *testing.T) {
				folder := t.TempDir()
				bomb.pack(t, filepath.Join(folder, "bomb.sql.gz"))
				require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), []byte(fmt.Sprintf(
					"servers: {barn: {dbms: %s, socket: %s, admin: {user: %s}}}\napps: {a: {server: barn, folder: ., database: {name: aa}, accounts: [{name: a_app}], import: [bomb.sql.gz]}}\n", product, server.Socket, server.Admin)), 0o600))
				if bomb.says == runs { // whatever the server makes of it
					_, _ = runBounded(t, folder, "provision")
					return
				}
				out, err := runBounded(t, folder, "provision", "--dry-run")
				if bomb.says != "" {
					require.Error(t, err)
					assert.Regexp(t, bomb.says, out)
					assert.Contains(t, out, "bomb.sql.gz:")
				}
			})
		}
	}
}

// TestTreesThatAreBombs has an entry proposed for applications with a script that is hard to
// hold.
func TestTreesThatAreBombs(t *testing.T) {
	needOrdinaryMemory(t)
	t.Parallel()
	for _, name := range oracletest.Sample([]string{"tables", "rows of tables", "a long sum", "columns", "rows", "indexes", "variables"}, 21) {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			scriptBombs[name].pack(t, filepath.Join(folder, "app.sql.gz"))
			require.NoError(t, os.WriteFile(filepath.Join(folder, "config.php"), []byte("<?php\n$db_host = 'localhost'; $db_name = 'x'; $db_user = 'x'; $db_password = '';\nnew mysqli($db_host, $db_user, $db_password, $db_name);\n"), 0o600))
			out, _ := runBounded(t, folder, "propose", folder, "--name", "x")
			assert.Contains(t, out, "$db_password")
		})
	}
}

// TestBombsSideBySide has several apps provisioned at once, each with a script that is hard to
// hold, and nobody waits for ever.
func TestBombsSideBySide(t *testing.T) {
	needOrdinaryMemory(t)
	oracletest.NeedTime(t)
	t.Parallel()
	folder, err := os.MkdirTemp("", "yf-")
	require.NoError(t, err)
	defer os.RemoveAll(folder)
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.MariaDB, Folder: folder, Arguments: []string{"--max-allowed-packet=1G"}})
	require.NoError(t, err)
	defer server.Stop()
	apps := t.TempDir()
	var estate strings.Builder
	fmt.Fprintf(&estate, "servers: {barn: {dbms: mariadb, socket: %s, admin: {user: %s}}}\napps:\n", server.Socket, server.Admin)
	const large, ordinary = 3, 5
	for i := range large + ordinary {
		name := fmt.Sprintf("app%d", i)
		require.NoError(t, os.Mkdir(filepath.Join(apps, name), 0o755))
		bomb := scriptBomb{"CREATE TABLE t (a int, b text);\nINSERT INTO t VALUES (0,'')", ",(#,'" + strings.Repeat("honey ", 99) + "')", ";", 60 << 20, ""}
		if i >= large { // what dump programs write
			bomb = scriptBomb{"CREATE TABLE t (a int, b varchar(99));\n", "INSERT INTO t VALUES " + strings.Repeat("(#,'"+strings.Repeat("honey ", 9)+"'),", 9000) + "(#,'');\n", "", 24 << 20, ""}
		}
		bomb.pack(t, filepath.Join(apps, name, "a.sql.gz"))
		fmt.Fprintf(&estate, "  %s: {server: barn, folder: %s, database: {name: %s}, accounts: [{name: %s}], import: [a.sql.gz]}\n", name, name, name, name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(apps, "yellowfield.yaml"), []byte(estate.String()), 0o600))
	out, err := runBounded(t, apps, "provision", "--jobs", "8", "--yes")
	assert.NoError(t, err, out) // each is provisioned
}

// TestSettingsSideBySide has the settings of many apps read at once, each hard to hold.
func TestSettingsSideBySide(t *testing.T) {
	needOrdinaryMemory(t)
	oracletest.NeedTime(t)
	t.Parallel()
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.MariaDB})
	require.NoError(t, err)
	defer server.Stop()
	apps := t.TempDir()
	var estate strings.Builder
	fmt.Fprintf(&estate, "servers: {barn: {dbms: mariadb, socket: %s, admin: {user: %s}}}\napps:\n", server.Socket, server.Admin)
	bombs := settingsBombs()
	for i := range 16 {
		bomb := []string{"deep7.php", "wide3.php", "wide.yaml", "wide.json"}[i%4]
		name := fmt.Sprintf("app%d", i)
		require.NoError(t, os.Mkdir(filepath.Join(apps, name), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(apps, name, bomb), []byte(bombs[bomb]), 0o644))
		fmt.Fprintf(&estate, "  %s: {server: barn, folder: %s, database: {name: %s}, accounts: [{name: %s}], settings: [{file: %s, values: {a: '{database}'}}]}\n", name, name, name, name, bomb)
	}
	require.NoError(t, os.WriteFile(filepath.Join(apps, "yellowfield.yaml"), []byte(estate.String()), 0o600))
	for _, command := range oracletest.Sample([][]string{{"provision", "--dry-run"}, {"verify"}}, 6) {
		out, err := runBounded(t, apps, append(command, "--jobs", "16")...)
		assert.Error(t, err)
		assert.Contains(t, out, "app0")
	}
}

// TestDatabasesThatAreBombs has an application fill its database with names: it is told so, and
// no other pays for it.
func TestDatabasesThatAreBombs(t *testing.T) {
	needOrdinaryMemory(t)
	t.Parallel()
	if throwaway.PostgresPrograms("") == "" {
		t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL})
	require.NoError(t, err)
	defer server.Stop()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), fmt.Appendf(nil,
		"servers: {barn: {dbms: postgresql, socket: %s, admin: {user: %s}}}\napps:\n  alpha: {server: barn, database: {name: alpha}, accounts: [{name: alpha_app}]}\n  beta: {server: barn, database: {name: beta}, accounts: [{name: beta_app}]}\n",
		server.Socket, server.Admin), 0o600))
	out, err := runBounded(t, folder, "provision")
	require.NoError(t, err, out)
	login := server.Login()
	login.Database = "alpha"
	_, err = oracletest.Ask(dbms.PostgreSQL, login, `DO $$ DECLARE names text := (SELECT string_agg('a' || lpad(n::text, 62, '0') || ' int', ',') FROM generate_series(1, 100) n);
		BEGIN FOR n IN 1..9000 LOOP EXECUTE format('CREATE FUNCTION f%s(%s) RETURNS int LANGUAGE sql AS ''SELECT 1''', n, names); END LOOP; END $$`)
	require.NoError(t, err)
	for _, command := range []string{"verify", "provision", "inspect", "access"} {
		out, err := runBounded(t, folder, command)
		if command == "verify" || command == "provision" {
			assert.Error(t, err)
			assert.Contains(t, out, "alpha holds too many objects to keep account of")
			assert.Contains(t, out, "beta_app")
		}
	}
}
