package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// forbidden says what a folder must not import, as beginnings of paths below
// this module or of other modules.
var forbidden = map[string][]string{
	"fault":     {"yellowfield/"},
	"sqltext":   {"yellowfield/internal/dbms", "yellowfield/internal/settings", "database/sql"},
	"phpclient": {"yellowfield/internal/estate", "yellowfield/internal/settings", "yellowfield/internal/dbms/"},
	"script":    {"yellowfield/internal/dbms", "yellowfield/internal/estate", "yellowfield/internal/settings", "yellowfield/internal/load", "database/sql"},
	"settings":  {"yellowfield/internal/dbms", "yellowfield/internal/estate", "yellowfield/internal/sqltext", "database/sql"},
	"secret":    {"yellowfield/internal/dbms", "yellowfield/internal/estate", "yellowfield/internal/settings"},
	"dbms":      {"yellowfield/internal/estate", "yellowfield/internal/settings", "yellowfield/internal/sqltext", "yellowfield/internal/load"},
	"estate":    {"yellowfield/internal/dbms/mysql", "yellowfield/internal/dbms/postgres", "yellowfield/internal/settings", "database/sql"},
	"discover":  {"yellowfield/internal/load", "yellowfield/internal/dbms", "yellowfield/internal/estate", "database/sql"},
	"propose":   {"yellowfield/internal/state", "database/sql"},
	"state":     {"yellowfield/internal/dbms", "yellowfield/internal/estate"},
	"load":      {"yellowfield/internal/estate", "yellowfield/internal/settings"},
	"export":    {"yellowfield/internal/estate", "yellowfield/internal/settings", "yellowfield/internal/load"},
	"access":    {"yellowfield/internal/settings", "yellowfield/internal/state", "yellowfield/internal/load"},
	"inspect":   {"yellowfield/internal/settings", "yellowfield/internal/state", "yellowfield/internal/load"},
	"applogin":  {"yellowfield/internal/dbms/", "yellowfield/internal/estate", "yellowfield/internal/settings", "yellowfield/internal/state"},
	"wordset":   {"yellowfield/"},
	"figures":   {"yellowfield/"},
	// The products share nothing but what is above both.
	"load/mysql":       {"yellowfield/internal/load/postgres", "yellowfield/internal/dbms/postgres", "yellowfield/internal/sqltext/postgres"},
	"load/postgres":    {"yellowfield/internal/load/mysql", "yellowfield/internal/dbms/mysql", "yellowfield/internal/sqltext/mysql"},
	"export/mysql":     {"yellowfield/internal/export/postgres", "yellowfield/internal/dbms/postgres", "yellowfield/internal/sqltext/postgres"},
	"export/postgres":  {"yellowfield/internal/export/mysql", "yellowfield/internal/dbms/mysql", "yellowfield/internal/sqltext/mysql"},
	"access/mysql":     {"yellowfield/internal/access/postgres", "yellowfield/internal/dbms/postgres"},
	"access/postgres":  {"yellowfield/internal/access/mysql", "yellowfield/internal/dbms/mysql"},
	"inspect/mysql":    {"yellowfield/internal/inspect/postgres", "yellowfield/internal/dbms/postgres"},
	"inspect/postgres": {"yellowfield/internal/inspect/mysql", "yellowfield/internal/dbms/mysql"},
	"dbms/mysql":       {"yellowfield/internal/dbms/postgres"},
	"dbms/postgres":    {"yellowfield/internal/dbms/mysql"},
	"sqltext/mysql":    {"yellowfield/internal/sqltext/postgres"},
	"sqltext/postgres": {"yellowfield/internal/sqltext/mysql"},
	"sqltext/window":   {"yellowfield/internal/sqltext"},
	"phpini":           {"yellowfield/internal/dbms", "yellowfield/internal/estate"},
	"host":             {"yellowfield/internal/dbms", "yellowfield/internal/estate", "yellowfield/internal/settings"},
	"atomicfile":       {"yellowfield/internal/dbms", "yellowfield/internal/estate"},
	"throwaway":        {"yellowfield/internal/estate"},
}

// floors are the rooms in which work on apps is done, the lowest first: each may know those
// below it, and nobody else but the command line, the demo and the benchmarks knows any.
var floors = []string{"effect", "work", "steps", "content", "proof", "rotation", "planning", "lifecycle", "overview", "mending", "provision"}

// knowsFloorsAbove reports whether a room imports a floor that is not below it.
func knowsFloorsAbove(room, imported string) bool {
	floor, is := strings.CutPrefix(imported, "yellowfield/internal/")
	at := slices.Index(floors, floor)
	return is && at >= 0 && at >= slices.Index(floors, room) && room != "demo"
}

// interfaceCode is what only internal/cli may import, and what is there for
// tests.
var interfaceCode = []string{"yellowfield/internal/cli", "yellowfield/internal/oracle", "yellowfield/internal/manual", "github.com/spf13/cobra", "charm.land/", "github.com/charmbracelet/", "github.com/vbauerster/", "golang.org/x/term"}

// TestWhoMayKnowWhom holds the rules of docs/architecture.md.
func TestWhoMayKnowWhom(t *testing.T) {
	checked := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		room, _, _ := strings.Cut(filepath.ToSlash(path), "/")
		if slices.Contains([]string{"cli", "manual", "oracle"}, room) { // one is a program of its own, and oracles are for tests
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, spec := range file.Imports {
			imported, _ := strconv.Unquote(spec.Path.Value)
			for _, ban := range slices.Concat(forbidden[room], forbidden[filepath.ToSlash(filepath.Dir(path))], interfaceCode) {
				assert.False(t, strings.HasPrefix(imported, ban), "%s must not import %s", path, imported)
			}
			assert.False(t, knowsFloorsAbove(room, imported), "%s must not import %s", path, imported)
		}
		opens(t, filepath.ToSlash(path), file)
		asksForProduct(t, filepath.ToSlash(path), file)
		// The core prints nothing.
		ast.Inspect(file, func(node ast.Node) bool {
			if selector, ok := node.(*ast.SelectorExpr); ok {
				if of, ok := selector.X.(*ast.Ident); ok {
					name := of.Name + "." + selector.Sel.Name
					prints := name == "os.Stdout" || name == "os.Stderr" || strings.HasPrefix(name, "fmt.Print") || of.Name == "log"
					assert.False(t, prints, "%s uses %s", path, name)
				}
			}
			return true
		})
		checked++
		return nil
	}))
	assert.Greater(t, checked, 25)
}

// connects are the files that may open a connection to a server: each makes it from
// the one configuration of its package.
var connects = []string{"dbms/mysql/server.go", "dbms/mysql/session.go", "dbms/postgres/server.go", "dbms/postgres/import.go"}

// opensFiles are rooms and files that reach files by their paths, and whose files those
// are. An application's files are reached by host alone.
var opensFiles = map[string]string{
	"host": "the application's", "atomicfile": "what is published for host, and our own", "state/state.go": "our own", "state/history.go": "our own", "state/exports.go": "our own", "estate/load.go": "the estate file",
	"propose/propose.go": "the estate file", "discover/tree/tree.go": "an unpacked tree, opened as a root",
	"secret/source.go": "the administrator's passwords", "dbms/mysql/optionfile.go": "the administrator's", "dbms/tls.go": "the administrator's",
	"script/script.go": "a temporary one of our own", "throwaway": "private servers", "applogin/line_unix.go": "the running program", "applogin/confine_linux.go": "the system's word about this process", "demo": "the demo's", "oracle": "tests'",
	"load/loadtest/loadtest.go": "tests'",
}

var fileFunctions = map[string]bool{
	"Open": true, "OpenFile": true, "OpenRoot": true, "ReadFile": true, "WriteFile": true, "Create": true, "CreateTemp": true, "Remove": true, "RemoveAll": true, "Rename": true,
	"Chmod": true, "Chown": true, "Lchown": true, "Mkdir": true, "MkdirAll": true, "Symlink": true, "Link": true, "Stat": true, "Lstat": true, "ReadDir": true, "Truncate": true,
}

// opens holds who opens connections and files.
func opens(t *testing.T, path string, file *ast.File) {
	room, _, _ := strings.Cut(path, "/")
	ast.Inspect(file, func(node ast.Node) bool {
		selector, ok := node.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		of, ok := selector.X.(*ast.Ident)
		if !ok {
			return true
		}
		name := of.Name + "." + selector.Sel.Name
		switch {
		case strings.HasPrefix(name, "pgx.Connect"), strings.HasPrefix(name, "pgconn.Connect"), strings.HasPrefix(name, "sql.Open"), name == "driver.NewConnector":
			assert.True(t, slices.Contains(connects, path) || room == "oracle", "%s connects by %s", path, name)
		case of.Name == "os" && fileFunctions[selector.Sel.Name]:
			assert.True(t, opensFiles[room] != "" || opensFiles[path] != "", "%s reaches a file by %s", path, name)
		}
		return true
	})
}

// productRooms may ask for a product by its name: what is particular to one stands
// there, or they are there for tests.
var productRooms = []string{"dbms/", "load/mysql/", "load/postgres/", "inspect/mysql/", "inspect/postgres/", "access/mysql/", "access/postgres/", "throwaway/", "demo/", "oracle/"}

// asksByName are the files elsewhere that must, and why.
var asksByName = map[string]string{
	"work/product.go":    "the one place that picks",
	"steps/hostrules.go": "host-based rules are PostgreSQL's alone",
	"propose/servers.go": "it looks for servers of each product in its own way",
}

// asksForProduct finds conditions on a product: elsewhere a trait is asked for, or a
// method of the server.
func asksForProduct(t *testing.T, path string, file *ast.File) {
	if asksByName[path] != "" || slices.ContainsFunc(productRooms, func(room string) bool { return strings.HasPrefix(path, room) }) {
		return
	}
	ast.Inspect(file, func(node ast.Node) bool {
		selector, ok := node.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		if of, ok := selector.X.(*ast.Ident); ok {
			name := of.Name + "." + selector.Sel.Name
			byName := name == "dbms.MariaDB" || name == "dbms.MySQL" || name == "dbms.PostgreSQL" || name == "mysql.Server" || name == "postgres.Server"
			assert.False(t, byName, "%s asks for a product: %s", path, name)
		}
		return true
	})
}

// TestRoomsOfASizeOneCanKnow: no package has more lines than one can know, and no function more
// than fit on two screens.
func TestRoomsOfASizeOneCanKnow(t *testing.T) {
	const mostLines, longest = 4000, 80
	rooms, all := map[string]int{}, 0
	require.NoError(t, filepath.WalkDir("..", func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		lines := set.File(file.Pos()).LineCount()
		rooms[filepath.Dir(path)], all = rooms[filepath.Dir(path)]+lines, all+lines
		for _, declared := range file.Decls {
			if f, is := declared.(*ast.FuncDecl); is {
				length := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1
				assert.LessOrEqual(t, length, longest, "%s: %s", path, f.Name.Name)
			}
		}
		return nil
	}))
	for room, lines := range rooms {
		assert.LessOrEqual(t, lines, mostLines, room)
		assert.LessOrEqual(t, lines, all/10, "%s holds more than a tenth of all lines", room)
	}
}
