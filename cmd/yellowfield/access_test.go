package main

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

var reachMySQL = []string{
	"CREATE DATABASE comb_shop", "CREATE DATABASE moth_log", "CREATE DATABASE stray", "CREATE TABLE moth_log.t (n int)", "CREATE VIEW comb_shop.peek AS SELECT * FROM moth_log.t",
	"CREATE USER comb_app@localhost", "CREATE USER moth_app@localhost", "CREATE USER intern@localhost", "GRANT SELECT, INSERT ON `comb\\_shop`.* TO comb_app@localhost", "GRANT SELECT, SHOW VIEW ON `comb\\_sho_`.* TO moth_app@localhost",
	"CREATE ROLE keeper", "CREATE ROLE inner_keeper", "GRANT SELECT, SHOW VIEW ON `moth\\_log`.* TO inner_keeper", "GRANT inner_keeper TO keeper", "GRANT SELECT ON *.* TO keeper", "GRANT keeper TO intern@localhost",
	"CREATE USER `=cmd|x`@localhost", "GRANT SELECT ON comb_shop.peek TO `=cmd|x`@localhost", "CREATE USER `<b onclick=x>`@localhost", "GRANT ALL PRIVILEGES ON *.* TO `<b onclick=x>`@localhost WITH GRANT OPTION",
}

// reaches are servers, and what must be told of them: account, database, rights, through what.
var reaches = []struct {
	product dbms.Product
	made    []string
	want    []string
	later   string
}{
	{dbms.MariaDB, append(slices.Clone(reachMySQL), "GRANT INSERT ON stray.* TO PUBLIC"), []string{
		"comb_app@localhost comb_shop INSERT, SELECT by grant", "comb_app@localhost moth_log through a view by view comb_shop.peek, which runs as root@localhost: it is the account of app combs", "moth_app@localhost comb_shop read by pattern comb\\_sho_: it is the account of app moths",
		"intern@localhost moth_log read, through a view by role keeper, rights on the whole server; role keeper; role inner_keeper; view comb_shop.peek, which runs as root@localhost: the estate file gives app moths no such account", "intern@localhost comb_shop SELECT by role keeper", "comb_app@localhost stray INSERT by everybody",
		"=cmd|x@localhost comb_shop SINGLE TABLES by grants on single tables", "root@localhost moth_log everything by administrator", "<b onclick=x>@localhost comb_shop everything by administrator"}, "GRANT DELETE ON stray.* TO intern@localhost"},
	{dbms.MySQL, reachMySQL, []string{
		"comb_app@localhost comb_shop INSERT, SELECT by grant", "comb_app@localhost moth_log through a view by view comb_shop.peek", "moth_app@localhost comb_shop read by pattern comb\\_sho_: it is the account of app moths",
		"intern@localhost moth_log read, through a view by role keeper, rights on the whole server; role inner_keeper; view", "intern@localhost comb_shop SELECT by role keeper", "=cmd|x@localhost comb_shop SINGLE TABLES by",
		"root@localhost moth_log everything by administrator"}, "GRANT DELETE ON stray.* TO intern@localhost"},
	{dbms.PostgreSQL, []string{
		"CREATE ROLE comb_app LOGIN", "CREATE ROLE moth_app LOGIN", "CREATE ROLE keeper", "CREATE ROLE inner_keeper IN ROLE keeper", "CREATE ROLE intern LOGIN IN ROLE inner_keeper", `CREATE ROLE "=cmd|x" LOGIN`,
		"CREATE DATABASE comb_shop", "CREATE DATABASE moth_log OWNER moth_app", "CREATE DATABASE stray", "REVOKE CONNECT, TEMPORARY ON DATABASE comb_shop FROM PUBLIC", "GRANT CONNECT ON DATABASE comb_shop TO keeper", "GRANT CONNECT ON DATABASE comb_shop TO comb_app",
		"comb_shop: CREATE TABLE t (n int); GRANT SELECT ON t TO keeper; GRANT SELECT ON t TO comb_app; REVOKE USAGE ON SCHEMA public FROM PUBLIC; CREATE TABLE hidden (n int); CREATE VIEW shown AS SELECT n FROM hidden; GRANT SELECT ON shown TO keeper; CREATE VIEW own AS SELECT n FROM t; GRANT SELECT ON own TO keeper",
		"moth_log: CREATE FUNCTION peek() RETURNS int LANGUAGE sql SECURITY DEFINER AS 'SELECT 1'",
		`CREATE ROLE "<b onclick=x>" LOGIN SUPERUSER`}, []string{
		"comb_app comb_shop CONNECT, SINGLE TABLES by grant", "comb_app moth_log CONNECT, TEMPORARY, USAGE, through a function by everybody (PUBLIC); function public.peek, which runs as", "intern comb_shop CONNECT, SINGLE TABLES, through a view by role keeper; grants on single tables; view public.shown, which runs as",
		"moth_app moth_log structure", "<b onclick=x> comb_shop everything by superuser"}, "GRANT CREATE ON DATABASE stray TO keeper; GRANT CONNECT ON DATABASE stray TO intern"},
}

// TestAccess tells by what rights really reach who can do what.
func TestAccess(t *testing.T) {
	for _, kind := range reaches {
		t.Run(string(kind.product), func(t *testing.T) {
			t.Parallel()
			options := throwaway.Options{Product: kind.product}
			if kind.product == dbms.MySQL {
				options.Root = needMySQL(t)
			}
			server := serverWith(t, options)
			do := func(statement string) {
				login := server.Login()
				if database, rest, named := strings.Cut(statement, ": "); named {
					login.Database, statement = database, rest
				}
				_, err := oracletest.Ask(kind.product, login, statement)
				require.NoError(t, err, statement)
			}
			for _, statement := range kind.made {
				do(statement)
			}
			folder := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), fmt.Appendf(nil, `servers: {barn: {dbms: %s, socket: %s, admin: {user: %s}}}
apps:
  combs: {server: barn, folder: www, database: {name: comb_shop}, accounts: [{name: comb_app}]}
  moths: {server: barn, folder: www2, database: {name: moth_log}, accounts: [{name: moth_app}]}
`, kind.product, server.Socket, server.Admin), 0o600))
			run := func(exit int, arguments ...string) string {
				command := program(t.Context(), t, folder, arguments...)
				out, err := command.Output()
				require.Equal(t, exit, command.ProcessState.ExitCode(), "%v\n%s", err, out)
				return string(out)
			}
			type cell struct {
				Account, Database, Level, Unexpected string
				Privileges, By                       []string
			}
			var document struct{ Cells []cell }
			before := run(3, "access", "--json")
			require.NoError(t, json.Unmarshal([]byte(before), &document))
			var told []string
			for _, c := range document.Cells {
				rights := strings.TrimPrefix(strings.Join(append([]string{c.Level}, c.Privileges...), ", "), ", ")
				told = append(told, fmt.Sprintf("%s %s %s by %s: %s", c.Account, c.Database, rights, strings.Join(c.By, "; "), c.Unexpected))
			}
			for _, want := range kind.want {
				assert.Condition(t, func() bool {
					for _, line := range told {
						if strings.HasPrefix(line, want) {
							return true
						}
					}
					return false
				}, "%s\nis not in\n%s", want, strings.Join(told, "\n"))
			}
			assert.NotContains(t, strings.Join(told, "\n"), "comb_app@localhost comb_shop INSERT, SELECT by grant: more")

			require.NoError(t, os.WriteFile(filepath.Join(folder, "before.json"), []byte(before), 0o600))
			assert.Contains(t, run(0, "access", "--since", "before.json"), "0 changes")
			do(kind.later)
			assert.Contains(t, run(3, "access", "--since", "before.json"), "intern")

			lines, err := csv.NewReader(strings.NewReader(run(3, "access", "--csv"))).ReadAll()
			require.NoError(t, err)
			assert.Greater(t, len(lines), 5)
			for _, line := range lines {
				for _, field := range line {
					assert.NotRegexp(t, `^[=+@|%-]`, field)
				}
			}
			run(3, "access", "--html", "page.html")
			page := filepath.Join(folder, "page.html")
			content, err := os.ReadFile(page)
			require.NoError(t, err)
			assert.NotContains(t, string(content), "<b onclick")
			readInBrowser(t, page, len(document.Cells))
		})
	}
}

// readInBrowser drives the page as somebody would with keyboard and mouse.
func readInBrowser(t *testing.T, page string, atLeast int) {
	program, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("NOT TESTED: no chromium is installed, the page was not driven: scripts/setup test")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.NoSandbox, chromedp.WindowSize(1280, 800), chromedp.UserDataDir(t.TempDir()))
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	require.NoError(t, chromedp.Do(ctx)) // it would end with a shorter time's context
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	do := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		require.NoError(t, chromedp.Do(ctx, steps...))
	}
	number := func(expression string) int {
		t.Helper()
		n, err := chromedp.Run(ctx, chromedp.Evaluate[int](expression))
		require.NoError(t, err)
		return n
	}
	text := func(expression string) string {
		t.Helper()
		found, err := chromedp.Run(ctx, chromedp.Evaluate[string](expression))
		require.NoError(t, err)
		return found
	}
	const visible = `Array.from(document.querySelectorAll("#cells tbody tr")).filter((row) => !row.hidden).length`
	const firstAccount = `document.querySelector("#cells tbody tr th").textContent`
	do(chromedp.Navigate("file://" + page))
	all := number(visible)
	assert.GreaterOrEqual(t, all, atLeast)
	assert.Zero(t, number(`document.querySelectorAll("#cells b, #cells script, #cells img").length`), "a name became a part of the page")
	assert.LessOrEqual(t, number(`document.documentElement.scrollWidth - document.documentElement.clientWidth`), 0, "the page is wider than its window")

	// By keyboard alone: to the search field, and a word into it.
	do(chromedp.KeyEvent(kb.Tab))
	assert.Equal(t, "search", text(`document.activeElement.id`))
	do(chromedp.KeyEvent("intern"))
	found := number(visible)
	assert.Positive(t, found)
	assert.Less(t, found, all)
	assert.Equal(t, fmt.Sprintf("%d of %d rows", found, all), text(`document.getElementById("count").textContent`))
	do(chromedp.KeyEvent("no such thing"))
	assert.Zero(t, number(visible))
	do(chromedp.KeyEvent(strings.Repeat(kb.Backspace, len("internno such thing"))))
	assert.Equal(t, all, number(visible))
	do(chromedp.KeyEvent(kb.Tab), chromedp.KeyEvent(" "))
	unexpected := number(visible)
	assert.Positive(t, unexpected)
	assert.Less(t, unexpected, all)
	do(chromedp.KeyEvent(" "), chromedp.Click("#cells thead th:first-child button"))
	sorted := text(firstAccount)
	do(chromedp.Click("#cells thead th:first-child button"))
	assert.NotEqual(t, sorted, text(firstAccount))
	assert.Equal(t, "descending", text(`document.querySelector("#cells thead th").getAttribute("aria-sort")`))
}
