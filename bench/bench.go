package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/oracle"
	"yellowfield/internal/throwaway"
)

// workshop is a private server with what the two importers need.
type workshop struct {
	folder  string
	program string // ours
	server  *throwaway.Server
	admin   dbms.Server
	product dbms.Product
	root    string // of the other system that the server runs in
	version string
	// settings is the name of the server's.
	settings string
	// hurried skips all waiting: the figures of such a run mean nothing.
	hurried bool
	// dumpProgram is MariaDB's own.
	dumpProgram string
}

// settings are how a server is set up. Throwaway servers are careless, and would flatter
// one of the two.
type settings struct {
	name, about string
	arguments   map[dbms.Product][]string
}

var (
	usual = settings{"usual", "as packages set servers up: 128 MiB of buffers, the binary log on, everything on the disk at a commit", map[dbms.Product][]string{
		dbms.MariaDB:    {"--innodb-flush-log-at-trx-commit=1", "--innodb-doublewrite=1", "--innodb-buffer-pool-size=128M", "--innodb-log-file-size=96M", "--log-bin=bin", "--log-bin-trust-function-creators=ON"},
		dbms.MySQL:      {"--innodb-flush-log-at-trx-commit=1", "--innodb-doublewrite=ON", "--innodb-buffer-pool-size=128M", "--innodb-redo-log-capacity=100M", "--log-bin=bin", "--log-bin-trust-function-creators=ON"},
		dbms.PostgreSQL: {"-c", "fsync=on", "-c", "shared_buffers=128MB"},
	}}
	generous = settings{"generous", "buffers that hold the data, larger logs, no binary log", map[dbms.Product][]string{
		dbms.MariaDB:    {"--innodb-flush-log-at-trx-commit=1", "--innodb-doublewrite=1", "--innodb-buffer-pool-size=1G", "--innodb-log-file-size=128M"},
		dbms.MySQL:      {"--innodb-flush-log-at-trx-commit=1", "--innodb-doublewrite=ON", "--innodb-buffer-pool-size=1G", "--innodb-redo-log-capacity=256M", "--skip-log-bin"},
		dbms.PostgreSQL: {"-c", "fsync=on", "-c", "shared_buffers=512MB", "-c", "max_wal_size=2GB"},
	}}
)

func openWorkshop(ctx context.Context, product dbms.Product, with settings, root, program, folder string) (*workshop, error) {
	server, err := throwaway.Start(ctx, throwaway.Options{Product: product, Root: root, Arguments: with.arguments[product]})
	if err != nil {
		return nil, err
	}
	w := &workshop{folder: folder, program: program, server: server, product: product, settings: with.name, root: root}
	collation := "utf8mb4_unicode_ci"
	if product == dbms.PostgreSQL {
		collation = "C.UTF-8"
		w.admin, err = postgres.Connect(ctx, server.Login())
	} else {
		w.admin, err = mysql.Connect(ctx, server.Login())
	}
	if err != nil {
		server.Stop()
		return nil, err
	}
	w.version = w.admin.About().Version
	meanwhile := ""
	if product == dbms.MySQL { // which comes with it off
		meanwhile = `, server_during_import: {local_infile: "ON"}`
	}
	estate := fmt.Sprintf("servers: {bench: {dbms: %s, socket: %q, admin: {user: %s}}}\napps:\n  ours: {server: bench, folder: %q, database: {name: ours, collation: %s}, accounts: [{name: bench, password: {file: %q}}]%s}\n",
		product, server.Socket, server.Admin, folder, collation, filepath.Join(folder, "password"), meanwhile)
	if err := os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), []byte(estate), 0o600); err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(folder, "password"), []byte(password), 0o600); err != nil {
		return nil, err
	}
	return w, w.provision()
}

// provision makes the database and the account.
func (w *workshop) provision() error {
	if err := w.execute("DROP DATABASE IF EXISTS ours"); err != nil {
		return err
	}
	if out, err := exec.Command(w.program, w.arguments("provision", "ours", "--take-account", "--quiet")...).CombinedOutput(); err != nil {
		return fmt.Errorf("provisioning: %w\n%s", err, out)
	}
	return nil
}

func (w *workshop) arguments(more ...string) []string {
	return append([]string{"--estate", filepath.Join(w.folder, "yellowfield.yaml"), "--state", filepath.Join(w.folder, "state")}, more...)
}

const password = "bench-3f9a7c51d2"

func (w *workshop) close() {
	w.admin.Close()
	w.server.Stop()
}

// measured is one import.
type measured struct {
	seconds float64
	memory  int64 // the program's peak, bytes
}

// ours imports with this project's program: the whole command, reading the
// script twice included.
func (w *workshop) ours(dump string, more ...string) (measured, error) {
	if err := w.provision(); err != nil {
		return measured{}, err
	}
	if err := w.rest(); err != nil {
		return measured{}, err
	}
	return timed(exec.Command(w.program, append(w.arguments("import", "ours", dump, "--quiet"), more...)...))
}

// firstPass is how long our program takes to read a script and say what it would do,
// without its start and what it asks of the server: those of an empty script.
func (w *workshop) firstPass(dump string) (float64, error) {
	empty := filepath.Join(w.folder, "empty.sql")
	if err := errors.Join(w.provision(), os.WriteFile(empty, []byte("SELECT 1;\n"), 0o600)); err != nil {
		return 0, err
	}
	var seconds []float64
	for _, path := range []string{empty, dump, empty, dump, empty, dump} {
		one, err := timed(exec.Command(w.program, w.arguments("import", "ours", path, "--dry-run", "--quiet")...))
		if err != nil {
			return 0, err
		}
		seconds = append(seconds, one.seconds)
	}
	return max(0, median([]float64{seconds[1], seconds[3], seconds[5]})-median([]float64{seconds[0], seconds[2], seconds[4]})), nil
}

// rest waits until the server has flushed its earlier writes, so that all start alike.
func (w *workshop) rest() error {
	if w.hurried {
		return nil
	}
	if w.product == dbms.PostgreSQL {
		return w.execute("CHECKPOINT")
	}
	db, err := w.open("", w.server.Admin, "")
	if err != nil {
		return err
	}
	defer db.Close()
	ctx := context.Background()
	// How much may wait, and how much is written in a second.
	const most, pace = "innodb_max_dirty_pages_pct", "innodb_io_capacity"
	var before []string
	for _, name := range []string{most, pace} {
		value, err := column(ctx, db, "SELECT @@GLOBAL."+name, 0)
		if err != nil {
			return err
		}
		before = append(before, value...)
	}
	if err := w.execute("SET GLOBAL " + most + " = 0, GLOBAL " + pace + " = 20000"); err != nil {
		return err
	}
	const longest, few = 100, 10
	for range longest {
		dirty, err := column(ctx, db, "SHOW GLOBAL STATUS LIKE 'Innodb_buffer_pool_pages_dirty'", 1)
		if err != nil {
			return err
		}
		if n, _ := strconv.Atoi(dirty[0]); n < few {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return w.execute("SET GLOBAL " + most + " = " + before[0] + ", GLOBAL " + pace + " = " + before[1])
}

// stock imports with the server's own client, as the same account.
func (w *workshop) stock(dump string, options ...string) (measured, error) {
	if w.product == dbms.PostgreSQL {
		for _, statement := range []string{"DROP DATABASE IF EXISTS stock", "CREATE DATABASE stock OWNER bench TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"} {
			if err := w.execute(statement); err != nil {
				return measured{}, err
			}
		}
		if err := w.rest(); err != nil {
			return measured{}, err
		}
		command := oracle.Psql(w.server.Socket, "bench", "stock", append(options, "-f", dump)...)
		command.Env = append(os.Environ(), "PGPASSWORD="+password)
		return timed(command)
	}
	for _, statement := range []string{"DROP DATABASE IF EXISTS stock", "CREATE DATABASE stock CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci", "GRANT ALL ON stock.* TO bench@localhost"} {
		if err := w.execute(statement); err != nil {
			return measured{}, err
		}
	}
	if err := w.rest(); err != nil {
		return measured{}, err
	}
	command := oracle.Client(w.server.Socket, w.root, "bench", "stock")
	command.Env = append(os.Environ(), "MYSQL_PWD="+password)
	file, err := os.Open(dump)
	if err != nil {
		return measured{}, err
	}
	defer file.Close()
	command.Stdin = file
	return timed(command)
}

func timed(command *exec.Cmd) (measured, error) { return timedInto(command, nil) }

// timedInto has the program write to a file; nil for none.
func timedInto(command *exec.Cmd, file *os.File) (measured, error) {
	began := time.Now()
	var out strings.Builder
	command.Stdout, command.Stderr = &out, &out
	if file != nil {
		command.Stdout = file
	}
	err := command.Start()
	var m measured
	if err == nil {
		ended := make(chan struct{})
		var watching sync.WaitGroup
		watching.Go(func() { m.memory = peakOf(command.Process.Pid, ended) })
		err = command.Wait()
		m.seconds = time.Since(began).Seconds()
		close(ended)
		watching.Wait()
	}
	if err != nil {
		return measured{}, fmt.Errorf("%s: %w\n%s", strings.Join(command.Args, " "), err, out.String())
	}
	return m, nil
}

// peakOf watches the peak memory of a process, in bytes, until it ends. What the system
// reports afterwards includes the memory of this program, which it was forked from.
func peakOf(pid int, ended <-chan struct{}) (peak int64) {
	for {
		status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)) // Linux, proc_pid_status(5)
		if _, rest, found := strings.Cut(string(status), "\nVmHWM:"); found {
			if fields := strings.Fields(rest); len(fields) > 0 {
				kB, _ := strconv.ParseInt(fields[0], 10, 64)
				peak = max(peak, kB<<10)
			}
		}
		select {
		case <-ended:
			return peak
		case <-time.After(10 * time.Millisecond):
		}
	}
}

func (w *workshop) execute(statement string) error {
	return w.admin.Exec(context.Background(), dbms.Statement{Text: statement})
}

// compare gives the differences between the two databases.
func (w *workshop) compare(ctx context.Context) ([]string, error) {
	fingerprint := func(database string) (map[string]string, error) {
		if w.product == dbms.PostgreSQL {
			return oracle.PostgresFingerprint(w.server.Login(), database)
		}
		return oracle.Fingerprint(ctx, w.server.Login(), database)
	}
	ours, err := fingerprint("ours")
	if err != nil {
		return nil, err
	}
	stock, err := fingerprint("stock")
	if err != nil {
		return nil, err
	}
	return oracle.Differences(stock, ours), nil
}

// result is one shape on one server.
type result struct {
	Server, Settings, Shape string
	Export                  bool // and no import
	Bytes                   int64
	Stock, Ours             spread
	Limit                   float64 // seconds that the server itself takes for the same rows; 0 where not measured
	FirstPass               float64 // seconds of ours that go into reading the script beforehand
	Memory                  int64   // ours, peak over all runs
	Differences             []string
}

// spread are the seconds of several runs.
type spread struct{ Median, Least, Most float64 }

func spreadOf(seconds []float64) spread {
	return spread{median(seconds), slices.Min(seconds), slices.Max(seconds)}
}

func (r result) ratio() float64 { return r.Stock.Median / r.Ours.Median }

// dump writes a shape's script to a file; through the server and its dump program where
// that is the shape.
func (w *workshop) dump(path string, s shape, size float64) error {
	if err := write(path, func(f *os.File) { s.write(f, size) }); err != nil || !s.dumped {
		return err
	}
	if _, err := w.stock(path); err != nil {
		return err
	}
	_, err := w.stockDump(path)
	return err
}

// run imports a dump with both, in turn, in one of the ways to do so.
func (w *workshop) run(ctx context.Context, s shape, c contest, size float64, runs int, tell func(string, ...any)) (result, error) {
	r := result{Server: w.product.Title() + " " + w.version, Settings: w.settings, Shape: s.name + c.name}
	path := filepath.Join(w.folder, strings.ReplaceAll(s.name, " ", "-")+".sql")
	if err := w.dump(path, s, size); err != nil {
		return r, err
	}
	defer os.Remove(path)
	info, err := os.Stat(path)
	if err != nil {
		return r, err
	}
	r.Bytes = info.Size()
	var ours, stock, limits []float64
	for i := range runs {
		one, err := w.stock(path, c.stock...)
		if err != nil {
			return r, err
		}
		stock = append(stock, one.seconds)
		two, err := w.ours(path, c.ours...)
		if err != nil {
			return r, err
		}
		ours = append(ours, two.seconds)
		r.Memory = max(r.Memory, two.memory)
		if i == 0 {
			if r.Differences, err = w.compare(ctx); err != nil {
				return r, err
			}
		}
		if !s.statements {
			seconds, err := w.limit(ctx)
			if err != nil {
				return r, fmt.Errorf("measuring the limit: %w", err)
			}
			limits = append(limits, seconds)
		}
		tell("%s, %s settings, %s: run %d: stock %.2f s, ours %.2f s", r.Server, r.Settings, r.Shape, i+1, one.seconds, two.seconds)
	}
	r.Stock, r.Ours = spreadOf(stock), spreadOf(ours)
	if len(limits) > 0 {
		r.Limit = median(limits)
	}
	r.FirstPass, err = w.firstPass(path)
	return r, err
}

func write(path string, fill func(*os.File)) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	fill(f)
	return f.Close()
}

func median(values []float64) float64 {
	slices.Sort(values)
	if n := len(values); n%2 == 0 {
		return (values[n/2-1] + values[n/2]) / 2
	}
	return values[len(values)/2]
}

// sum names a dump, so that a table says what was measured.
func sum(s shape) string {
	hash := sha256.New()
	s.write(hash, 0.01)
	return hex.EncodeToString(hash.Sum(nil))[:8]
}
