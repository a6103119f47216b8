package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/state"
	"yellowfield/internal/throwaway"
	"yellowfield/internal/work"
)

// Options of a demo.
type Options struct {
	// Program is the path of the yellowfield to run.
	Program string
	// Keep is a folder in which everything stays, the server running; empty
	// to remove all at the end.
	Keep string
	// Prepare stops once server and applications are there, so that someone can
	// try the commands; it goes with Keep.
	Prepare bool
	// Colour is passed on to the commands as --color.
	Colour   string
	Out, Err *os.File
	// Tell writes a heading or a remark of the demo.
	Tell func(Line)
}

// Line is what the demo itself says between the commands.
type Line struct {
	Kind LineKind
	Text string
}

// LineKind says what a line is.
type LineKind int

// Kinds of lines.
const (
	Remark  LineKind = iota // what happens and why
	Command                 // a command, as typed
)

// play is a demo at work.
type play struct {
	Options
	folder string
	server *throwaway.Server // barn
	byre   *throwaway.Server // nil where no PostgreSQL is installed
	shed   *throwaway.Server // another MariaDB, once it is needed
}

// stop ends the servers.
func (p *play) stop() {
	for _, server := range []*throwaway.Server{p.server, p.byre, p.shed} {
		if server != nil {
			server.Stop()
		}
	}
}

// Run plays the scenario. It fails when a command ends otherwise than it
// should.
func Run(ctx context.Context, o Options) error {
	if o.Prepare && o.Keep == "" {
		return fault.New(fault.Invalid, "add --keep DIR", "--prepare keeps servers and files, and no folder was given for them")
	}
	p := &play{Options: o}
	if err := p.prepare(ctx); err != nil {
		return err
	}
	if o.Keep == "" {
		defer func() {
			p.stop()
			_ = os.RemoveAll(p.folder)
		}()
	}
	if !o.Prepare {
		if err := p.scenes(ctx); err != nil {
			if o.Keep != "" {
				p.stop()
			}
			return err
		}
	}
	if o.Keep != "" {
		p.sayHowToReach()
	}
	return nil
}

func (p *play) prepare(ctx context.Context) error {
	if _, err := exec.LookPath("php"); err != nil {
		return fault.New(fault.Invalid, "apt-get install php-cli php-mysql", "the demo's applications run on PHP, and there is no php")
	}
	var err error
	if p.Keep == "" {
		if p.folder, err = os.MkdirTemp("", "meadowgate-"); err != nil {
			return err
		}
	} else if p.folder, err = emptyFolder(p.Keep); err != nil {
		return err
	}
	p.remark("A private MariaDB server is started, reached by its socket only.")
	p.server, err = throwaway.Start(ctx, throwaway.Options{
		Product: dbms.MariaDB, Folder: p.serverFolder("server"), Outlive: p.Keep != "",
		// With a binary log, as on servers that others copy: broodgauge's
		// import has to deal with it.
		Arguments: []string{"--log-bin=binlog"},
	})
	if err == nil {
		err = p.startByre(ctx)
	}
	if err == nil {
		err = Unpack(p.folder, p.server, p.byre)
	}
	if err != nil {
		p.stop()
		if p.Keep == "" {
			_ = os.RemoveAll(p.folder)
		}
	}
	return err
}

// startByre starts the PostgreSQL server, with a rule in it that nobody remembers.
func (p *play) startByre(ctx context.Context) error {
	if throwaway.PostgresPrograms("") == "" || exec.CommandContext(ctx, "php", "-r", `exit((int) !(extension_loaded("pgsql") && extension_loaded("pdo_pgsql")));`).Run() != nil {
		p.remark("NOT SHOWN: no PostgreSQL is installed, or PHP cannot speak to it, so that the second server is left out (apt-get install postgresql php-pgsql).")
		return nil
	}
	p.remark("And a private PostgreSQL server, with an old host-based rule in it.")
	var err error
	p.byre, err = throwaway.Start(ctx, throwaway.Options{Product: dbms.PostgreSQL, Folder: p.serverFolder("byre"), Outlive: p.Keep != ""})
	if err != nil {
		return err
	}
	rules := filepath.Join(p.byre.Data(), "pg_hba.conf")
	content, err := os.ReadFile(rules)
	if err == nil {
		err = os.WriteFile(rules, append([]byte(oldRule), content...), 0o600)
	}
	if err != nil {
		return err
	}
	admin, err := postgres.Connect(ctx, p.byre.Login())
	if err != nil {
		return err
	}
	defer admin.Close()
	return admin.Exec(ctx, dbms.Statement{Text: "SELECT pg_reload_conf()"})
}

// serverFolder is inside the kept folder, or a temporary one of its own.
func (p *play) serverFolder(name string) string {
	if p.Keep == "" {
		return ""
	}
	return filepath.Join(p.folder, name)
}

func emptyFolder(path string) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	if entries, err := os.ReadDir(path); err == nil && len(entries) > 0 {
		return "", fault.New(fault.Invalid, "name an empty folder or a new one", "the folder %s is not empty", path)
	}
	if err := os.MkdirAll(path, 0o755); err != nil {
		return "", fault.New(fault.Invalid, "name a folder you may write to", "the folder cannot be made: %v", err).With(err)
	}
	return path, nil
}

func (p *play) scenes(ctx context.Context) error {
	type scene struct {
		remark string
		run    func() error
	}
	yellowfield := func(exit int, arguments ...string) func() error {
		return func() error { return p.yellowfield(ctx, exit, arguments...) }
	}
	page := func(app string) func() error {
		return func() error { return p.php(ctx, nil, "www/"+app+"/index.php") }
	}
	scenes := []scene{
		{"What would be done on barn? Nothing is touched.", yellowfield(0, "provision", "combledger", "honeystall", "--dry-run")},
		{"What does broodgauge's SQL hold? It is read to its end, and nothing runs.", yellowfield(0, "provision", "broodgauge", "--dry-run", "--only", "sql")},
	}
	if p.byre != nil {
		scenes = append(scenes, []scene{
			{"On byre an old host-based rule takes bloomchart's logins for users of the operating system. That is said, and nothing is touched.", yellowfield(1, "provision", "bloomchart")},
			{"With the rule before it, in a copy that is put back if the login fails, it goes through.", yellowfield(0, "provision", "bloomchart", "--write-host-rule")},
		}...)
	}
	scenes = append(scenes, []scene{
		{"All the rest: combledger, broodgauge and nectarpost with their SQL, honeystall as far as its own installer lets us.", yellowfield(0, "provision")},
		{"The shop's installer wants the facts typed in.", yellowfield(0, "connection", "honeystall")},
		{"", func() error { return p.typeIntoInstaller(ctx) }},
		{"A second run changes nothing, and finds what the installer wrote.", yellowfield(0, "provision")},
		{"Does it all agree? Each application's login is tried with what its files say.", yellowfield(0, "verify")},
		{"The applications read their rows.", page("combledger")},
		{"", page("broodgauge")},
		{"", page("honeystall")},
	}...)
	if p.byre != nil {
		scenes = append(scenes, scene{"", page("nectarpost")}, scene{"", page("bloomchart")})
	}
	scenes = append(scenes, []scene{
		{"A further application was unpacked in www/smokerloan, and the estate file does not know it yet. What is it?", yellowfield(0, "propose", "www/smokerloan", "--write")},
		{"", yellowfield(0, "provision", "smokerloan")},
		{"", page("smokerloan")},
		{"combledger's installation is done. It is closed: lesser rights, the settings read-only, its installer away.", yellowfield(0, "close", "combledger", "--yes", "--acknowledged")},
		{"Its upgrade would change a table, and may not.", func() error { return p.upgrade(ctx, 1) }},
		{"Opened for that, for two hours at most ...", yellowfield(0, "reopen", "combledger", "--for", "2h", "--yes")},
		{"", func() error { return p.upgrade(ctx, 0) }},
		{"... and closed again.", yellowfield(0, "close", "combledger", "--yes")},
		{"It gets a new password while somebody reads its page all the time.", func() error { return p.rotateUnderReaders(ctx) }},
		{"Someone changes a password on the server by hand ...", func() error { return p.breakPassword(ctx) }},
		{"... and verify names it.", yellowfield(1, "verify", "combledger")},
		{"", yellowfield(0, "provision", "combledger", "--fix", "server-password")},
		{"", yellowfield(0, "verify", "combledger")},
		{"", page("combledger")},
		{"Its rows as a file that every client loads.", yellowfield(0, "export", "combledger", "combledger.sql.gz")},
		{"A copy to try the next version on: its folder is copied by hand, all else is made.", func() error { return p.copyFolder(ctx) }},
		{"", yellowfield(0, "copy", "combledger", "combtrial", "--folder", "www/combtrial", "--yes")},
		{"", page("combtrial")},
		{"smokerloan is out of use: its accounts are locked, its settings taken away. It turns out to be missed, and comes back.", yellowfield(0, "retire", "smokerloan", "--yes")},
		{"", yellowfield(0, "retire", "smokerloan", "--back", "--yes")},
		{"", page("smokerloan")},
		{"Next year nobody does. It is dropped, once a copy of it was loaded again and compared.", yellowfield(0, "retire", "smokerloan", "--drop-database", "--confirm", "smokerloan")},
		{"barn is to be replaced. A second MariaDB server, shed, comes into the estate file ...", func() error { return p.startShed(ctx) }},
		{"... and the shop moves there: rows with nothing on the disk between, and compared.", yellowfield(0, "move", "honeystall", "--to", "shed", "--yes")},
		{"", page("honeystall")},
		{"shed turns out to be too small: back, with the rows as they are now.", yellowfield(0, "move", "honeystall", "--back", "--yes")},
		{"", page("honeystall")},
		{"All applications at a glance ...", yellowfield(0, "list")},
		{"... what is to be said of barn as their host ...", yellowfield(0, "inspect", "barn")},
		{"... and who can do what on which database.", yellowfield(0, "access")},
		{"What was done to combledger?", yellowfield(0, "history", "combledger")},
	}...)
	for _, s := range scenes {
		if ctx.Err() != nil {
			return fault.New(fault.Interrupted, "run the command again when it suits", "the demo was interrupted").With(ctx.Err())
		}
		if s.remark != "" {
			p.remark(s.remark)
		}
		if err := s.run(); err != nil {
			return err
		}
	}
	return nil
}

func (p *play) remark(text string) { p.Tell(Line{Remark, text}) }

// environment is what a user would have exported once.
func (p *play) environment() []string {
	var kept []string
	for _, variable := range os.Environ() {
		if !strings.HasPrefix(variable, "YELLOWFIELD_") && !strings.HasPrefix(variable, "PHP_INI_SCAN_DIR=") {
			kept = append(kept, variable)
		}
	}
	return append(kept, "YELLOWFIELD_STATE="+p.statePath())
}

func (p *play) statePath() string { return filepath.Join(p.folder, "state") }

// yellowfield runs a command and expects its exit code.
func (p *play) yellowfield(ctx context.Context, exit int, arguments ...string) error {
	p.Tell(Line{Command, "yellowfield " + strings.Join(arguments, " ")})
	err := p.run(ctx, exit, nil, p.Program, append(arguments, "--color", p.Colour)...)
	_, _ = fmt.Fprintln(p.Out)
	return err
}

// php runs a page of an application, as its web server would.
func (p *play) php(ctx context.Context, typed io.Reader, page string) error {
	p.Tell(Line{Command, "php -c php/php.ini " + page})
	err := p.run(ctx, 0, typed, "php", "-c", "php/php.ini", page)
	_, _ = fmt.Fprintln(p.Out)
	return err
}

func (p *play) run(ctx context.Context, exit int, typed io.Reader, program string, arguments ...string) error {
	command := exec.CommandContext(ctx, program, arguments...)
	command.Dir, command.Env = p.folder, p.environment()
	command.Stdin, command.Stdout, command.Stderr = typed, p.Out, p.Err
	// On Ctrl-C the command gets the signal from the terminal as well and undoes its work:
	// wait for it, do not kill it.
	command.Cancel = func() error { return command.Process.Signal(os.Interrupt) }
	err := command.Run()
	if ctx.Err() != nil {
		return fault.New(fault.Interrupted, "run the command again when it suits", "the demo was interrupted").With(ctx.Err())
	}
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return fmt.Errorf("running %s: %w", program, err)
	}
	if got := command.ProcessState.ExitCode(); got != exit {
		return fault.New(fault.Failed, "its own message is above", "the demo's %s ended with exit code %d, not %d",
			filepath.Base(program)+" "+strings.Join(arguments, " "), got, exit)
	}
	return nil
}

// startShed starts another server and writes it into the estate file.
func (p *play) startShed(ctx context.Context) error {
	var err error
	if p.shed, err = throwaway.Start(ctx, throwaway.Options{Product: dbms.MariaDB, Folder: p.serverFolder("shed"), Outlive: p.Keep != ""}); err != nil {
		return err
	}
	path := filepath.Join(p.folder, estate.FileName)
	content, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	text, err := estate.Loader{}.Insert(path, content, []estate.Entry{{Name: "shed", Text: fmt.Sprintf("dbms: mariadb\nsocket: %s\nadmin: {user: %s}\n", p.shed.Socket, p.shed.Admin)}}, nil)
	if err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o644)
}

// copyFolder copies an application's folder, as an administrator would.
func (p *play) copyFolder(ctx context.Context) error {
	p.Tell(Line{Command, "cp -a www/combledger www/combtrial"})
	return p.run(ctx, 0, nil, "cp", "-a", "www/combledger", "www/combtrial")
}

// upgrade runs combledger's upgrade, which may change tables while it is open.
func (p *play) upgrade(ctx context.Context, exit int) error {
	page := "www/combledger/upgrade/colours.php"
	p.Tell(Line{Command, "php -c php/php.ini " + page})
	err := p.run(ctx, exit, nil, "php", "-c", "php/php.ini", page)
	_, _ = fmt.Fprintln(p.Out)
	return err
}

// rotateUnderReaders changes a password while the application's page is read over and over.
func (p *play) rotateUnderReaders(ctx context.Context) error {
	reading, stop := context.WithCancel(ctx)
	defer stop()
	read, failed := 0, 0
	done := make(chan struct{})
	go func() {
		defer close(done)
		for reading.Err() == nil {
			command := exec.CommandContext(ctx, "php", "-c", "php/php.ini", "www/combledger/index.php")
			command.Dir, command.Env = p.folder, p.environment()
			if read++; command.Run() != nil {
				failed++
			}
		}
	}()
	err := p.yellowfield(ctx, 0, "rotate", "combledger", "--yes", "--overlap", "2s")
	stop()
	<-done
	if err == nil && failed > 0 {
		err = fault.New(fault.Failed, "report this", "%d of %d pages could not be read while the password was changed", failed, read)
	}
	if err == nil {
		p.remark(fmt.Sprintf("The page was read %d times meanwhile, and each time it came.", read))
	}
	return err
}

// typeIntoInstaller plays the person who has the connection facts and types
// them into the shop's installer.
func (p *play) typeIntoInstaller(ctx context.Context) error {
	loaded, err := estate.Loader{}.Load(filepath.Join(p.folder, estate.FileName))
	if err != nil {
		return err
	}
	kept, err := state.Open(p.statePath())
	if err != nil {
		return err
	}
	engine := &provision.Engine{Engine: work.Engine{Estate: loaded, State: kept}}
	facts, err := engine.Connection(ctx, loaded.Apps["honeystall"], "")
	if err != nil {
		return err
	}
	typed := strings.Join([]string{facts.Host, facts.Database, facts.User, facts.Password.Reveal()}, "\n") + "\n"
	return p.php(ctx, strings.NewReader(typed), "www/honeystall/setup/install.php")
}

func (p *play) breakPassword(ctx context.Context) error {
	const statement = "ALTER USER comb_app@localhost IDENTIFIED BY 'summer2026'"
	p.Tell(Line{Command, "(at the server's own prompt) " + statement})
	server, err := mysql.Connect(ctx, p.server.Login())
	if err != nil {
		return err
	}
	defer server.Close()
	return server.Exec(ctx, dbms.Statement{Text: statement})
}

func (p *play) sayHowToReach() {
	p.remark(fmt.Sprintf(`Everything stays in %[1]s, and the server runs on (process %[2]d). To try it:

  cd %[1]s
  export YELLOWFIELD_STATE=%[3]s
  yellowfield provision --dry-run

Its socket is %[4]s, its administrator %[5]s.
To end it: kill %[2]d`, p.folder, p.server.PID(), p.statePath(), p.server.Socket, p.server.Admin))
	if p.byre != nil {
		p.remark(fmt.Sprintf("The PostgreSQL server is process %d, its socket %s. To end it: kill %[1]d", p.byre.PID(), p.byre.Socket))
	}
}
