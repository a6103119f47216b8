package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// missingExtension is the first that provision finds not to be on this machine.
var missingExtension = regexp.MustCompile(`extension missing in \S+: (\w+)`)

// logsIn is code that logs in, and loads code that gets its settings itself: a page.
var (
	loads  = regexp.MustCompile(`\b(?:require|include|parse_ini_file|file_get_contents)`)
	logsIn = regexp.MustCompile(`(?m)^(?:[^/*\s].*)?\b(?:new \\?(?:mysqli|PDO)|mysqli_connect|pg_connect)\(`)
)

// pageOf is the application's own page that logs in, itself or with code beside it.
func pageOf(archive *txtar.Archive) string {
	page := ""
	for _, file := range archive.Files {
		switch {
		case !strings.HasSuffix(file.Name, ".php") || !loads.Match(file.Data):
		case logsIn.Match(file.Data):
			return file.Name
		case file.Name == "index.php":
			page = file.Name
		}
	}
	return page
}

// TestProposalsRun plays the made-up applications of discover's tests to the end: what
// propose writes is provisioned with nothing edited, verify logs in with it, and so does
// the application's own page where it has one. What propose does not write it says, with
// the reason.
func TestProposalsRun(t *testing.T) {
	t.Parallel()
	trees, err := filepath.Glob("../../internal/discover/testdata/trees/*.txtar")
	require.NoError(t, err)
	require.Greater(t, len(trees), 30)
	trees = oracletest.Sample(trees, 6)
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.PostgreSQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			server, err := throwaway.Start(t.Context(), throwaway.Options{Product: product})
			require.NoError(t, err)
			defer server.Stop()
			written, pages := 0, 0
			for n, path := range trees {
				archive, err := txtar.ParseFile(path)
				require.NoError(t, err)
				name := strings.TrimSuffix(filepath.Base(path), ".txtar")
				folder := t.TempDir()
				for _, file := range archive.Files {
					if file.Name == "want" || file.Name == "server" {
						continue
					}
					at := filepath.Join(folder, "www", file.Name)
					require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
					require.NoError(t, os.WriteFile(at, file.Data, 0o644))
				}
				seen := ""
				if product == dbms.MariaDB {
					seen = "seen_by_apps: {socket: '" + server.Socket + "'}, "
				}
				estate := fmt.Sprintf("servers: {barn: {dbms: %s, socket: '%s', %sadmin: {user: %s}}}\n", product, server.Socket, seen, server.Admin)
				require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), []byte(estate), 0o600))
				app := fmt.Sprintf("app%d", n)
				run := func(arguments ...string) (string, int) {
					command := program(t.Context(), t, folder, arguments...)
					out, _ := command.CombinedOutput()
					return string(out), command.ProcessState.ExitCode()
				}
				out, code := run("propose", "www", "--name", app, "--write")
				if code != 0 {
					assert.Equal(t, 3, code, "%s on %s: %s", name, product, out)
					assert.Contains(t, out, "the entry is not written: ", "%s on %s", name, product)
					continue
				}
				written++
				entry, err := os.ReadFile(filepath.Join(folder, "yellowfield.yaml"))
				require.NoError(t, err)
				out, code = run("provision", app)
				if missing := missingExtension.FindStringSubmatch(out); missing != nil {
					assert.Contains(t, string(txtar.Format(archive)), `"ext-`+missing[1]+`"`, "%s on %s: composer.json does not require it", name, product)
					continue
				}
				if !assert.Zero(t, code, "%s on %s:\n%s\n%s", name, product, out, entry) {
					continue
				}
				assert.Regexp(t, `verified +login|waiting +settings`, out, "%s on %s", name, product)
				assert.NotContains(t, out, "not InnoDB with", "%s on %s", name, product)
				out, code = run("verify", app)
				assert.Zero(t, code, "%s on %s:\n%s", name, product, out)
				if page := pageOf(archive); page != "" && !strings.Contains(out, "waiting       settings") {
					php := exec.CommandContext(t.Context(), "php", "-d", "mysqli.default_socket="+server.Socket, "-d", "pdo_mysql.default_socket="+server.Socket, page)
					php.Dir = filepath.Join(folder, "www")
					out, err := php.CombinedOutput()
					assert.NoError(t, err, "%s of %s on %s: %s", page, name, product, out)
					assert.NotRegexp(t, "(Warning|Deprecated|Notice): ", string(out), "%s of %s on %s", page, name, product)
					pages++
				}
			}
			t.Logf("%s: %d of %d, %d pages", product, written, len(trees), pages)
			least := map[dbms.Product][2]int{dbms.MariaDB: {140, 70}, dbms.PostgreSQL: {32, 18}}[product]
			if oracletest.Thorough() {
				assert.GreaterOrEqual(t, written, least[0])
				assert.GreaterOrEqual(t, pages, least[1])
			}
			assert.Positive(t, written)
			assert.Positive(t, pages)
		})
	}
}
