// Package throwaway starts private database servers in temporary folders, for
// the demo and the tests: reached by socket only unless asked otherwise, run
// by an unprivileged user even when started by root, and gone when stopped.
//
// It must never touch a server it did not start, and it knows nothing of what
// its servers are used for.
package throwaway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/fault"
)

// Options say what server to start.
type Options struct {
	Product dbms.Product
	// Folder is where data, socket and log go; empty for a new temporary
	// folder, which Stop removes. A Folder that is given is kept.
	Folder string
	// Root is the folder of another Debian system to run the server in, for
	// products that this one does not package; empty for this system.
	Root string
	// Data is the data folder of a server that was stopped, to begin with a copy of it; empty
	// to begin as a new one.
	Data string
	// Port is the port of a PostgreSQL server, after which its socket is named;
	// empty for the usual one.
	Port string
	// Arguments are further options of the server.
	Arguments []string
	// Programs is a folder with further programs that the server may start.
	Programs string
	// Outlive lets the server run on when this program ends.
	Outlive bool
}

// Server is a running private server.
type Server struct {
	Folder string
	Socket string
	// Admin is the administrator's name; it logs in through the socket
	// without a password.
	Admin     string
	options   Options
	temporary bool
	process   *process
	logged    int64 // the size of the log before that process
}

// unprivilegedUser runs the server when root starts it.
const unprivilegedUser = "nobody"

const startTimeout = 60 * time.Second

// missing names the package that a missing server program comes from.
func missing(product dbms.Product, program string) error {
	install := map[dbms.Product]string{dbms.MariaDB: "apt-get install mariadb-server-core", dbms.PostgreSQL: "scripts/setup test", dbms.MySQL: "see the README on real MySQL for the tests"}
	return fault.New(fault.Invalid, "install it: "+install[product],
		"%s is not installed: there is no program %s", product.Title(), program)
}

// Start initialises and starts a server and waits until it takes logins.
// Errors say what is missing, or show the end of the server's log.
func Start(ctx context.Context, o Options) (*Server, error) {
	s := &Server{options: o, Folder: o.Folder}
	if err := s.prepareFolder(); err != nil {
		return nil, err
	}
	err := s.fillFrom(ctx, os.Getenv(TemplatesVariable))
	if err == nil {
		err = s.giveAway()
	}
	if err == nil {
		err = s.launch(ctx)
	}
	if err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

func (s *Server) prepareFolder() error {
	var err error
	if s.Folder == "" {
		s.temporary = true
		// Short, because the path of a socket has 107 characters at most.
		if s.Folder, err = os.MkdirTemp(filepath.Join("/", s.options.Root, "tmp"), "yf-"); err != nil {
			return fmt.Errorf("making a temporary folder for the server: %w", err)
		}
	}
	s.Socket = filepath.Join(s.Folder, "run", "server.sock")
	if s.options.Product == dbms.PostgreSQL {
		s.Socket = filepath.Join(s.Folder, "run", ".s.PGSQL."+cmp.Or(s.options.Port, "5432")) // the server makes the name
	}
	const longest = 107
	if len(s.Socket) > longest {
		return fault.New(fault.Invalid, "choose a folder with a shorter path",
			"the socket %s would have a path of %d characters, and %d are allowed", s.Socket, len(s.Socket), longest)
	}
	for _, folder := range []string{s.Folder, s.path("run"), s.path("data")} {
		if err := os.MkdirAll(folder, 0o711); err != nil {
			return fault.New(fault.Invalid, "choose a folder you may write to", "the server's folder cannot be made: %v", err).With(err)
		}
	}
	if err := os.Chmod(s.Folder, 0o711); err != nil {
		return fmt.Errorf("opening the server's folder to its user: %w", err)
	}
	return nil
}

func (s *Server) path(name string) string { return filepath.Join(s.Folder, name) }

// inside is a path as the server sees it.
func (s *Server) inside(path string) string {
	if s.options.Root == "" {
		return path
	}
	return "/" + strings.TrimPrefix(strings.TrimPrefix(path, filepath.Clean(s.options.Root)), "/")
}

// giveAway makes the data belong to the unprivileged user.
func (s *Server) giveAway() error {
	if os.Geteuid() != 0 {
		return nil
	}
	uid, gid, err := unprivileged()
	if err != nil {
		return err
	}
	for _, part := range []string{s.path("data"), s.path("run")} {
		err := filepath.WalkDir(part, func(path string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return atomicfile.Chown(path, uid, gid)
		})
		if err != nil {
			return fmt.Errorf("giving the data to %s: %w", unprivilegedUser, err)
		}
	}
	return nil
}

func unprivileged() (uid, gid int, err error) {
	account, err := user.Lookup(unprivilegedUser)
	if err != nil {
		return 0, 0, fault.New(fault.Invalid, "run as an ordinary user", "there is no user %s to run the server as", unprivilegedUser).With(err)
	}
	uid, _ = strconv.Atoi(account.Uid)
	gid, _ = strconv.Atoi(account.Gid)
	return uid, gid, nil
}

// program finds a server program, also in the folders that only root has in
// its PATH.
func (s *Server) program(names ...string) (string, error) {
	for _, name := range names {
		for _, folder := range []string{"/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin"} {
			if info, err := os.Stat(filepath.Join("/", s.options.Root, folder, name)); err == nil && !info.IsDir() {
				return filepath.Join(folder, name), nil
			}
		}
		if found, err := exec.LookPath(name); err == nil && s.options.Root == "" {
			return found, nil
		}
	}
	return "", missing(s.options.Product, names[0])
}

func (s *Server) launch(ctx context.Context) error {
	if s.options.Product == dbms.PostgreSQL {
		return s.launchPostgres(ctx)
	}
	serverProgram, arguments := "", []string{
		"--no-defaults", "--datadir=" + s.inside(s.path("data")), "--socket=" + s.inside(s.Socket),
		"--pid-file=" + s.inside(s.path("run/server.pid")), "--tmpdir=" + s.inside(s.path("run")),
		"--innodb-buffer-pool-size=64M", "--innodb-flush-log-at-trx-commit=0", "--skip-networking",
	}
	var err error
	if s.options.Product == dbms.MariaDB {
		if serverProgram, err = s.program("mariadbd", "mysqld"); err != nil {
			return err
		}
		arguments = append(arguments, "--lc-messages-dir=/usr/share/mysql", "--innodb-log-file-size=8M", "--innodb-doublewrite=0", "--innodb-flush-method=nosync")
		s.Admin = currentUser()
	} else {
		if serverProgram, err = s.program("mysqld"); err != nil {
			return err
		}
		arguments = append(arguments, "--mysqlx=OFF", "--sync-binlog=0", "--innodb-flush-method=nosync", "--innodb-redo-log-capacity=16M", "--innodb-doublewrite=OFF", "--performance-schema=ON")
		s.Admin = "root"
	}
	if entries, err := os.ReadDir(s.path("data")); err == nil && len(entries) == 0 {
		if err := s.initialise(ctx, serverProgram); err != nil {
			return err
		}
	}
	if s.process, err = s.start(serverProgram, append(arguments, s.options.Arguments...), "server.log"); err != nil {
		return err
	}
	return s.await(ctx)
}

func (s *Server) initialise(ctx context.Context, serverProgram string) error {
	arguments := []string{"--no-defaults", "--initialize-insecure", "--datadir=" + s.inside(s.path("data"))}
	program := serverProgram
	if s.options.Product == dbms.MariaDB {
		var err error
		if program, err = s.program("mariadb-install-db", "mysql_install_db"); err != nil {
			return err
		}
		arguments = []string{
			"--no-defaults", "--datadir=" + s.inside(s.path("data")), "--skip-test-db", "--force", "--innodb-log-file-size=8M",
			"--auth-root-authentication-method=socket", "--auth-root-socket-user=" + s.Admin,
		}
	}
	return s.run(ctx, program, arguments)
}

// run runs the program that makes the data folder, to its end.
func (s *Server) run(ctx context.Context, program string, arguments []string) error {
	p, err := s.start(program, arguments, "initialise.log")
	if err != nil {
		return err
	}
	select {
	case err = <-p.ended:
	case <-ctx.Done():
		p.kill()
		return fault.Stopped(ctx.Err())
	}
	if err != nil {
		return s.brokenOff("could not be initialised", "initialise.log", err)
	}
	return nil
}

// await waits for the first login that succeeds.
func (s *Server) await(ctx context.Context) error {
	deadline := time.Now().Add(startTimeout)
	for time.Now().Before(deadline) {
		select {
		case err := <-s.process.ended:
			s.process = nil
			return s.brokenOff("ended at its start", "server.log", err)
		case <-ctx.Done():
			return fault.Stopped(ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
		if s.takesLogins(ctx) {
			return nil
		}
	}
	return s.brokenOff("took no login for "+startTimeout.String(), "server.log", errors.New("timed out"))
}

func (s *Server) takesLogins(ctx context.Context) bool {
	if s.options.Product == dbms.PostgreSQL {
		server, err := postgres.Connect(ctx, s.Login())
		if err == nil {
			server.Close()
		}
		return err == nil
	}
	server, err := mysql.Connect(ctx, s.Login())
	if err == nil {
		server.Close()
	}
	return err == nil
}

func (s *Server) brokenOff(what, log string, err error) error {
	content, _ := os.ReadFile(s.path(log))
	content = content[min(s.logged, int64(len(content))):]
	lines := strings.Split(strings.TrimSpace(string(content)), "\n")
	// The programs that make a data folder print advice after their error.
	from := slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, "ERROR") || strings.Contains(line, "FATAL") })
	if from < 0 {
		from = max(0, len(lines)-6)
	}
	tail := strings.Join(lines[from:min(from+6, len(lines))], "\n")
	broken := fault.New(fault.Failed, "its log is above; is the disk full, or the folder out of reach for "+unprivilegedUser+"?",
		"the private %s server %s: %v", s.options.Product.Title(), what, err).With(err)
	broken.Excerpt = tail
	return broken
}

// Login is how the administrator logs in.
func (s *Server) Login() dbms.Login {
	return dbms.Login{Server: "throwaway", Address: dbms.Address{Socket: s.Socket}, User: s.Admin}
}

// Stop ends the server and removes its folder if it is a temporary one.
func (s *Server) Stop() {
	if s.process != nil {
		s.process.stop()
		s.process = nil
	}
	if s.temporary {
		_ = os.RemoveAll(s.Folder)
	}
}

// PID is the process id of the running server.
func (s *Server) PID() int { return s.process.pid }

// Data is the server's data folder, for use as Options.Data of another server
// once this one has been stopped.
func (s *Server) Data() string { return s.path("data") }

func currentUser() string {
	if account, err := user.Current(); err == nil {
		return account.Username
	}
	return "root"
}
