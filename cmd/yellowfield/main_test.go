package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/secret"
	"yellowfield/internal/throwaway"
)

// builtProgram is the program with its places, which the tests of this package drive.
var builtProgram string

// TestMain builds it. testscript knows the command by its name, and the scenes' PATH leads
// to what was built.
func TestMain(m *testing.M) {
	testscript.Main(withProgram{m}, map[string]func(){"yellowfield": func() { panic("the scenes' PATH does not lead to the built program") }})
}

type withProgram struct{ *testing.M }

func (m withProgram) Run() int {
	folder, err := os.MkdirTemp("", "yf-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o711); err != nil { // it starts itself as another user
		panic(err)
	}
	builtProgram = filepath.Join(folder, "yellowfield")
	build := exec.Command("go", "build", "-tags", "places", "-ldflags=-s", "-o", builtProgram)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if underRace {
		build.Args, build.Env = append(build.Args, "-race"), os.Environ()
	}
	build.Args = append(build.Args, ".")
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	return m.M.Run()
}

// mysqlRoot is the folder of a system that has a MySQL server, made by
// scripts/setup.
func mysqlRoot() string {
	if root := os.Getenv("YELLOWFIELD_MYSQL_ROOT"); root != "" {
		return root
	}
	return "/var/cache/yellowfield-tests/mysql-root"
}

// mariadbExtras is where scripts/setup unpacks what Debian keeps in other
// packages than the server program: plugins, and the stock dump program.
func mariadbExtras() string {
	if folder := os.Getenv("YELLOWFIELD_MARIADB_EXTRAS"); folder != "" {
		return folder
	}
	return "/var/cache/yellowfield-tests/mariadb-extras"
}

const pluginFolder = "usr/lib/mysql/plugin"

func TestScenesOnMariaDB(t *testing.T) {
	t.Parallel()
	playScenes(t, throwaway.Options{Product: dbms.MariaDB})
}

func TestScenesOnMySQL(t *testing.T) {
	t.Parallel()
	playScenes(t, throwaway.Options{Product: dbms.MySQL, Root: needMySQL(t)})
}

// The folders of systems with newer servers, which make test-servers names.
const (
	nextMariaDB  = "YELLOWFIELD_MARIADB_NEXT_ROOT"
	nextPostgres = "YELLOWFIELD_POSTGRESQL_NEXT_ROOT"
)

// TestScenesOnNewerMariaDB plays them on the MariaDB of Debian's next release;
// make test-servers asks for that.
func TestScenesOnNewerMariaDB(t *testing.T) {
	root := os.Getenv(nextMariaDB)
	if root == "" {
		t.Skip("make test-servers plays the scenes on it")
	}
	if _, err := os.Stat(filepath.Join(root, "usr/sbin/mariadbd")); err != nil || os.Geteuid() != 0 {
		t.Skip("NOT TESTED: a newer MariaDB needs root and a system folder made by scripts/setup servers")
	}
	playScenes(t, throwaway.Options{Product: dbms.MariaDB, Root: root})
}

// TestScenesOnPostgreSQL plays scenes of its own beside those for every server.
func TestScenesOnPostgreSQL(t *testing.T) {
	t.Parallel()
	if throwaway.PostgresPrograms("") == "" {
		t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	playScenesIn(t, "testdata/postgresql", throwaway.Options{Product: dbms.PostgreSQL})
}

// TestScenesOnNewerPostgreSQL is TestScenesOnNewerMariaDB for PostgreSQL.
func TestScenesOnNewerPostgreSQL(t *testing.T) {
	root := os.Getenv(nextPostgres)
	if root == "" {
		t.Skip("make test-servers plays the scenes on it")
	}
	if throwaway.PostgresPrograms(root) == "" || os.Geteuid() != 0 {
		t.Skip("NOT TESTED: a newer PostgreSQL needs root and a system folder made by scripts/setup servers")
	}
	playScenesIn(t, "testdata/postgresql", throwaway.Options{Product: dbms.PostgreSQL, Root: root})
}

// needMySQL skips, loudly: scripts/test counts what it finds in the output.
func needMySQL(t *testing.T) string {
	t.Helper()
	if _, err := os.Stat(filepath.Join(mysqlRoot(), "usr/sbin/mysqld")); err != nil || os.Geteuid() != 0 {
		t.Skip("NOT TESTED: real MySQL needs root and a system folder made by scripts/setup test")
	}
	return mysqlRoot()
}

func playScenes(t *testing.T, o throwaway.Options) { playScenesIn(t, "testdata/script", o) }

// playScenesIn plays the scenes of a folder, and those that are the same on every
// server.
func playScenesIn(t *testing.T, folder string, o throwaway.Options) {
	var scenes []string
	for _, f := range []string{folder, "testdata/every"} {
		found, err := filepath.Glob(f + "/*.txtar")
		require.NoError(t, err)
		require.NotEmpty(t, found)
		scenes = append(scenes, found...)
	}
	if o.Product == dbms.MySQL { // most of what they are about is MariaDB's, too
		scenes = oracletest.Sample(scenes, 2)
	}
	servers := &oracletest.Pool{Options: o}
	t.Cleanup(servers.Close)
	testscript.Run(t, testscript.Params{
		Files:              scenes,
		RequireUniqueNames: true,
		Setup:              func(env *testscript.Env) error { return setTheScene(env, o, servers) },
		Condition: func(word string) (bool, error) {
			switch word {
			case "mariadb", "mysql", "postgresql":
				return string(o.Product) == word, nil
			case "extras":
				_, err := os.Stat(filepath.Join(mariadbExtras(), "usr/bin/mariadb-dump"))
				return err == nil || o.Root != "", nil
			case "ownSystem": // the server sees the same files
				return o.Root == "", nil
			case "pgsql":
				return exec.Command("php", "-r", `exit((int) !extension_loaded("pdo_pgsql"));`).Run() == nil, nil
			case "root":
				return os.Geteuid() == 0, nil
			case "mayMount": // not in every container
				folder := t.TempDir()
				if exec.Command("mount", "-t", "tmpfs", "none", folder).Run() != nil {
					return false, nil
				}
				return true, exec.Command("umount", folder).Run()
			}
			return false, fmt.Errorf("unknown condition %q", word)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"sql": runSQL, "server": controlServer, "gzip": zipFile, "cut": cutFile, "noline": noLine, "fits": fitsSchema, "dump": dumpDatabase, "stock-import": importByStock,
		},
	})
}

// stage is the server of one scene.
type stage struct {
	sync.Mutex
	server  *throwaway.Server
	options throwaway.Options
	port    string // that nobody else listens on
}

func (s *stage) start() error {
	s.Lock()
	defer s.Unlock()
	var err error
	s.server, err = throwaway.Start(context.Background(), s.options)
	return err
}

func (s *stage) stop() {
	s.Lock()
	defer s.Unlock()
	s.server.Stop()
}

type stageKey struct{}

// setTheScene has a server and puts its socket and administrator into the scene's files. A
// file server-options gives the scene a server of its own with more options.
func setTheScene(env *testscript.Env, o throwaway.Options, servers *oracletest.Pool) error {
	s := &stage{options: o, port: throwaway.FreePort()}
	options, special := optionsOf(env.WorkDir, o.Product)
	if special {
		if err := s.startWith(options); err != nil {
			return err
		}
		env.Defer(func() { s.stop(); _ = os.RemoveAll(s.options.Folder) })
	} else {
		shared, err := servers.Take(context.Background())
		if err != nil {
			return err
		}
		s.server, s.options.Folder = shared.Server, shared.Folder
		env.Defer(func() {
			if s.server == shared.Server {
				servers.GiveBack(shared)
				return
			}
			s.stop() // it was started again
			_ = os.RemoveAll(s.options.Folder)
		})
	}
	env.Values[stageKey{}] = s
	env.Setenv("PATH", filepath.Dir(builtProgram)+string(os.PathListSeparator)+env.Getenv("PATH"))
	env.Setenv("HOME", env.WorkDir)
	env.Setenv("COLUMNS", "200") // so that what a scene looks for stands on one line
	env.Setenv("SOCKET", s.server.Socket)
	env.Setenv("ADMIN", s.server.Admin)
	env.Setenv("DBMS", string(o.Product))
	env.Setenv("RULES", filepath.Join(s.server.Folder, "data", "pg_hba.conf"))
	env.Setenv("YELLOWFIELD_STATE", filepath.Join(env.WorkDir, "state"))
	return fillIn(env.WorkDir, strings.NewReplacer(append(seenByApps(o.Product, s.server.Socket), "@WORK@", env.WorkDir, "@SOCKET@", s.server.Socket, "@ADMIN@", s.server.Admin, "@DBMS@", string(o.Product), "@PORT@", s.port, "@CERTS@", s.server.Folder)...))
}

// optionsOf are options that a scene wants its server to have, of every product or of one
// alone.
func optionsOf(scene string, product dbms.Product) (options string, special bool) {
	for _, name := range []string{"server-options", string(product) + "-options"} {
		if content, err := os.ReadFile(filepath.Join(scene, name)); err == nil {
			return string(content), true
		}
	}
	return "", false
}

// startWith starts a server with options, in a folder with certificates and on a port.
func (s *stage) startWith(options string) (err error) {
	o := &s.options
	if o.Folder, err = os.MkdirTemp(filepath.Join("/", o.Root, "tmp"), "yf-"); err != nil {
		return err
	}
	plugins := filepath.Join(mariadbExtras(), pluginFolder)
	if o.Root != "" {
		plugins = "/" + pluginFolder
	}
	inside := "/" + strings.TrimPrefix(strings.TrimPrefix(o.Folder, o.Root), "/") // as the server sees the folder
	o.Arguments = strings.Fields(strings.NewReplacer("@PORT@", s.port, "@CERTS@", inside, "@PLUGINS@", plugins).Replace(options))
	if err := makeCertificates(o.Folder); err != nil {
		return err
	}
	if o.Product == dbms.PostgreSQL {
		o.Port = s.port
		if account, err := user.Lookup("nobody"); err == nil && os.Geteuid() == 0 { // it takes no key that others can read
			uid, _ := strconv.Atoi(account.Uid)
			if err := errors.Join(os.Chown(filepath.Join(o.Folder, "key.pem"), uid, -1), os.Chmod(filepath.Join(o.Folder, "key.pem"), 0o600)); err != nil {
				return err
			}
		}
	}
	return s.start()
}

// seenByApps has PHP find a private server by its socket, as it finds one of a
// distribution, in scenes that are about other things; one that writes the socket in
// single quotes meets PHP as it is.
func seenByApps(product dbms.Product, socket string) (fill []string) {
	if !product.Traits().LocalhostIsSocket {
		return nil
	}
	for _, written := range []string{`"@SOCKET@"`, `@SOCKET@`} {
		for _, name := range []string{"near: {", "far: {"} { // which say it themselves
			head := name + "dbms: @DBMS@, socket: " + written
			fill = append(fill, head, strings.NewReplacer("@DBMS@", string(product), "@SOCKET@", socket).Replace(head))
		}
		said := "barn: {dbms: @DBMS@, socket: " + written + ", admin: {user: @ADMIN@}, seen_by_apps: {socket: " + written + "}"
		fill = append(fill, said, strings.NewReplacer("@DBMS@", string(product), "@SOCKET@", socket, "@ADMIN@", "root").Replace(said))
		apart := "seen_by_apps: {socket: " + written + "}"
		fill = append(fill, apart, strings.Replace(apart, "@SOCKET@", socket, 1))
		for _, behind := range []string{", admin", "}"} {
			fill = append(fill, "socket: "+written+behind, "socket: '"+socket+"', seen_by_apps: {socket: '"+socket+"'}"+behind)
		}
	}
	return fill
}

// fillIn puts what is known only now into a scene's files.
func fillIn(folder string, fill *strings.Replacer) error {
	return filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil || !bytes.Contains(content, []byte("@")) {
			return err
		}
		return os.WriteFile(path, []byte(fill.Replace(string(content))), 0o644)
	})
}

// runSQL runs a statement as administrator, or, with "as USER PASSWORD", as
// someone else, and prints what comes back.
func runSQL(ts *testscript.TestScript, negated bool, args []string) {
	s := ts.Value(stageKey{}).(*stage)
	login := s.server.Login()
	if len(args) > 2 && args[0] == "in" { // a database
		login.Database, args = args[1], args[2:]
	}
	if len(args) > 3 && args[0] == "as" {
		login.User, login.Password = args[1], secret.NewPassword(args[2])
		args = args[3:]
	}
	out, err := oracletest.Ask(s.options.Product, login, strings.Join(args, " "))
	_, _ = fmt.Fprint(ts.Stdout(), out)
	switch {
	case err != nil && !negated:
		ts.Fatalf("sql: %v", err)
	case err == nil && negated:
		ts.Fatalf("sql: succeeded against expectation")
	}
}

func controlServer(ts *testscript.TestScript, _ bool, args []string) {
	s := ts.Value(stageKey{}).(*stage)
	switch args[0] {
	case "stop":
		s.stop()
	case "start":
		ts.Check(s.start())
	default:
		ts.Fatalf("usage: server stop|start")
	}
}

// stock runs one of the servers' stock programs, which are the oracles for
// what an import has to be able to read and what has to come of it.
func stock(ts *testscript.TestScript, mariadb, mysql string, input []byte, arguments ...string) []byte {
	s := ts.Value(stageKey{}).(*stage)
	program, socket := []string{mariadb}, s.server.Socket
	if s.options.Root != "" { // the server's own programs
		own := mysql
		if s.options.Product == dbms.MariaDB {
			own = filepath.Base(mariadb)
		}
		program, socket = []string{"chroot", s.options.Root, own}, strings.TrimPrefix(socket, s.options.Root)
	}
	program = append(append(program, "--no-defaults", "-S", socket, "-u", s.server.Admin), arguments...)
	command := exec.Command(program[0], program[1:]...)
	var complaints bytes.Buffer
	command.Stdin, command.Stderr = bytes.NewReader(input), &complaints
	out, err := command.Output()
	if err != nil {
		ts.Fatalf("%s: %v: %s", strings.Join(program, " "), err, complaints.String())
	}
	return out
}

// stockPostgres is stock for PostgreSQL. The client goes on after errors, as it does for
// people.
func stockPostgres(ts *testscript.TestScript, program string, input []byte, arguments ...string) []byte {
	s := ts.Value(stageKey{}).(*stage)
	folder := filepath.Dir(s.server.Socket)
	command := []string{throwaway.PostgresProgram(s.options.Root, program)}
	if s.options.Root != "" {
		folder = strings.TrimPrefix(folder, s.options.Root)
		command = []string{"chroot", s.options.Root, strings.TrimPrefix(command[0], s.options.Root)}
	}
	command = append(append(command, "-h", folder, "-U", s.server.Admin), arguments...)
	run := exec.Command(command[0], command[1:]...)
	run.Stdin = bytes.NewReader(input)
	var complaints bytes.Buffer
	run.Stderr = &complaints
	out, err := run.Output()
	if err != nil {
		ts.Fatalf("%s: %v: %s", strings.Join(command, " "), err, complaints.String())
	}
	return out
}

// dumpDatabase writes a dump of a database into a file.
func dumpDatabase(ts *testscript.TestScript, _ bool, args []string) {
	if ts.Value(stageKey{}).(*stage).options.Product == dbms.PostgreSQL {
		out := stockPostgres(ts, "pg_dump", nil, append([]string{"--restrict-key=same", args[0]}, args[2:]...)...)
		ts.Check(os.WriteFile(ts.MkAbs(args[1]), out, 0o644))
		return
	}
	arguments := []string{"--routines", "--events", "--triggers", "--skip-dump-date", args[0]}
	if ts.Value(stageKey{}).(*stage).options.Product == dbms.MySQL {
		arguments = append(arguments, "--set-gtid-purged=OFF") // else it begins with settings for replicas
	}
	out := stock(ts, filepath.Join(mariadbExtras(), "usr/bin/mariadb-dump"), "mysqldump", nil, arguments...)
	ts.Check(os.WriteFile(ts.MkAbs(args[1]), out, 0o644))
}

// importByStock imports a file into a database as people do it today.
func importByStock(ts *testscript.TestScript, _ bool, args []string) {
	if ts.Value(stageKey{}).(*stage).options.Product == dbms.PostgreSQL {
		stockPostgres(ts, "psql", []byte(ts.ReadFile(args[1])), "-q", "-d", args[0])
		return
	}
	stock(ts, "mariadb", "mysql", []byte(ts.ReadFile(args[1])), args[0])
}

func zipFile(ts *testscript.TestScript, _ bool, args []string) {
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err := w.Write([]byte(ts.ReadFile(args[0])))
	ts.Check(err)
	ts.Check(w.Close())
	ts.Check(os.WriteFile(ts.MkAbs(args[0]+".gz"), packed.Bytes(), 0o644))
}

// cutFile cuts a number of bytes off the end of a file.
func cutFile(ts *testscript.TestScript, _ bool, args []string) {
	n, err := strconv.Atoi(args[1])
	ts.Check(err)
	info, err := os.Stat(ts.MkAbs(args[0]))
	ts.Check(err)
	ts.Check(os.Truncate(ts.MkAbs(args[0]), info.Size()-int64(n)))
}

// fitsSchema holds the last output against the schema of a JSON document. Other fields than
// the schema's are none that a script could know of.
func fitsSchema(ts *testscript.TestScript, negated bool, args []string) {
	if negated || len(args) != 1 {
		ts.Fatalf("usage: fits NAME")
	}
	path, err := filepath.Abs("../../docs/json/" + args[0] + ".schema.json")
	ts.Check(err)
	text, err := os.ReadFile(path)
	ts.Check(err)
	var schema, document any
	ts.Check(json.Unmarshal(text, &schema))
	closeObjects(schema)
	ts.Check(json.Unmarshal([]byte(ts.ReadFile("stdout")), &document))
	compiler := jsonschema.NewCompiler()
	ts.Check(compiler.AddResource(path, schema))
	compiled, err := compiler.Compile(path)
	ts.Check(err)
	ts.Check(compiled.Validate(document))
}

// closeObjects has the objects of a schema hold no other fields than it names.
func closeObjects(schema any) {
	switch of := schema.(type) {
	case map[string]any:
		for _, part := range of {
			closeObjects(part)
		}
		if of["properties"] != nil {
			of["additionalProperties"] = false
		}
	case []any:
		for _, part := range of {
			closeObjects(part)
		}
	}
}

// noLine fails when the last output has a line longer than so many characters.
func noLine(ts *testscript.TestScript, _ bool, args []string) {
	most, err := strconv.Atoi(args[0])
	ts.Check(err)
	for _, line := range strings.Split(ts.ReadFile("stdout"), "\n") {
		if len([]rune(line)) > most {
			ts.Fatalf("a line of %d characters: %s", len([]rune(line)), line)
		}
	}
}
