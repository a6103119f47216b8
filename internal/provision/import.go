package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
)

// planImport reads every script to its end, so that what can be known is known
// before anything is changed, and decides whether to import.
func (r *run) planImport(ctx context.Context) error {
	app := r.app
	own := ownTables(app, r.plan.contents)
	if app.Installer.Tables && len(own) == 0 {
		r.plan.add(&step{Row: Row{Step: stepSQL, Outcome: Waiting, Facts: "the installer makes the tables"}})
	}
	if len(app.Import) == 0 {
		return nil
	}
	if _, err := os.Stat(app.Folder); errors.Is(err, fs.ErrNotExist) && len(own) == 0 {
		r.plan.add(&step{Row: Row{Step: stepSQL, Outcome: Waiting, Facts: "the folder " + app.Folder + " is not there yet", Remedy: "unpack the application, then yellowfield provision " + app.Name}})
		return nil
	}
	sources, summaries, expected, err := r.readScripts(ctx, len(own) > 0)
	if err != nil {
		return err
	}
	there := 0
	for _, table := range expected {
		if slices.Contains(own, r.view.server.TableName(table)) {
			there++
		}
	}
	switch {
	case len(own) > 0 && there == len(expected):
		for i, source := range sources {
			facts := filepath.Base(source.Name) + ": the tables are there"
			if n := len(summaries[i].Tables); n > 0 {
				facts = filepath.Base(source.Name) + ": its " + counted(n, "table is", "tables are") + " there"
			}
			r.plan.keep(stepSQL, facts)
		}
		return nil
	case len(own) > 0:
		return r.Estate.Fault(fault.Protected, r.path("import"), "look at the database, and empty it if nothing in it is needed",
			"the database %s holds %s (%s), among them %d of the %d that the scripts make: it is not known who made them",
			app.Database.Name, counted(len(own), "table", "tables"), some(own), there, len(expected))
	}
	if err := r.mayDefineRoutines(summaries); err != nil {
		return err
	}
	if err := r.canLogInFromHere(); err != nil {
		return err
	}
	for i, source := range sources {
		r.planScript(source, summaries[i])
	}
	return nil
}

// ownTables are the tables that count as the app's: all, or those with its
// prefix where the database is shared.
func ownTables(app *estate.App, contents dbms.Contents) []string {
	var own []string
	for _, t := range contents.Tables {
		if !app.Shared || strings.HasPrefix(t.Name, app.Prefix) {
			own = append(own, t.Name)
		}
	}
	return own
}

// readScripts reads all scripts and collects the tables they make. A script
// that is gone is no error when the tables are there.
func (r *run) readScripts(ctx context.Context, tablesThere bool) (sources []load.Source, summaries []load.Summary, expected []string, err error) {
	var errs []error
	for _, script := range r.app.Import {
		source := load.Source{Path: r.app.InFolder(script.File), Name: script.File, PrefixToken: script.PrefixToken, Prefix: r.app.Prefix}
		summary, err := load.Check(ctx, source)
		source.Length = summary.Length
		if errors.Is(err, fs.ErrNotExist) && tablesThere {
			err = nil
		}
		if err != nil {
			errs = append(errs, err)
		}
		sources, summaries, expected = append(sources, source), append(summaries, summary), append(expected, summary.Tables...)
	}
	return sources, summaries, expected, errors.Join(errs...)
}

func some(names []string) string {
	const most = 3
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " ..."
	}
	return strings.Join(names, ", ")
}

// mayDefineRoutines checks beforehand what binary logging would refuse half
// way: triggers and functions of an account without SUPER.
func (r *run) mayDefineRoutines(summaries []load.Summary) error {
	routines := 0
	for _, s := range summaries {
		routines += s.Triggers + s.Functions
	}
	facts := r.view.server.Facts
	if routines == 0 || !facts.BinaryLog || facts.TrustFunctionCreators {
		return nil
	}
	what := counted(routines, "trigger or function", "triggers and functions")
	if !r.view.asAdmin() {
		return r.Estate.Fault(fault.Invalid, r.path("import"), "give the server an admin, or have log_bin_trust_function_creators set for the import",
			"the scripts define %s, which server %s lets only an administrator do while its binary log is on", what, r.app.Server)
	}
	// SUPER alone gets past error 1419, and it takes foreign definers as well.
	if r.view.catalogue.GrantsOf(r.view.server.CurrentUser).Global.Has("SUPER") {
		return nil
	}
	return fault.New(fault.Invalid, "grant it, or set log_bin_trust_function_creators for the import",
		"the scripts define %s, and the administrator %s lacks SUPER, which that takes while the binary log is on", what, r.view.server.CurrentUser)
}

// canLogInFromHere makes sure that the account may come from where we are.
func (r *run) canLogInFromHere() error {
	if r.view.entry.Socket == "" {
		return nil // how the server sees this host over TCP shows at the login
	}
	hosts := r.app.Accounts[0].ClientHosts
	for _, host := range hosts {
		if host == "localhost" || host == "%" {
			return nil
		}
	}
	return r.Estate.Fault(fault.Invalid, r.path("accounts[0].client_hosts"), "add localhost to its client_hosts",
		"the import runs as %s, which may come from %s and not through the socket", r.app.Accounts[0].Name, strings.Join(hosts, ", "))
}

func (r *run) planScript(source load.Source, summary load.Summary) {
	facts := filepath.Base(source.Name) + ": " + counted(summary.Statements, "statement", "statements")
	if n := len(summary.Tables); n > 0 {
		facts += ", " + counted(n, "table", "tables")
	}
	s := &step{Row: Row{Step: stepSQL, Outcome: Imported, Facts: facts}, object: "import of " + source.Name}
	var report load.Report
	s.act = func(ctx context.Context) (string, error) {
		began := time.Now()
		s.touched = true // what came before a statement that fails is there
		var err error
		report, err = r.importScript(ctx, source)
		s.Seconds = time.Since(began).Seconds()
		if err != nil {
			return "", err
		}
		facts := filepath.Base(source.Name) + ": " + report.Describe()
		if report.Replayed > 0 {
			facts += fmt.Sprintf(" (%d defined by the administrator for the binary log)", report.Replayed)
		}
		return facts, nil
	}
	s.undo = func(ctx context.Context) error { return r.removeImported(ctx, report.Made) }
	r.plan.add(s)
}

// importScript runs a script as the app's own account, so that the server
// itself keeps it inside the database.
func (r *run) importScript(ctx context.Context, source load.Source) (load.Report, error) {
	login, err := r.ownLogin(ctx)
	if err != nil {
		return load.Report{}, err
	}
	defer login.Close()
	session, err := login.OpenImport(ctx)
	if err != nil {
		return load.Report{}, err
	}
	defer session.Close()
	target := load.Target{
		Database: r.app.Database.Name, Exec: session.Exec,
		Definer: mysql.Definer(currentAccount(login.CurrentUser)),
	}
	if r.view.asAdmin() {
		target.Replay = func(ctx context.Context, statement string) error {
			return r.view.server.ReplayAs(ctx, session, r.app.Database.Name, statement)
		}
	}
	return load.Import(ctx, source, target, func(p load.Progress) {
		if r.Listener.Progress != nil {
			r.Listener.Progress(r.result.Header, p)
		}
	})
}

// ownLogin logs in with the app's first account, the way we reach the server.
func (r *run) ownLogin(ctx context.Context) (*mysql.Server, error) {
	account := r.app.Accounts[0]
	return mysql.Connect(ctx, mysql.Login{
		Server: r.app.Server, Address: r.view.entry.Address(), User: account.Name,
		Password: r.plan.credentials[account].password, Database: r.app.Database.Name,
	})
}

// removeImported removes what a script made, and nothing else: an application
// may be at work in a database that stood before.
func (r *run) removeImported(ctx context.Context, made map[dbms.Object]bool) error {
	name := r.app.Database.Name
	if r.view.asAdmin() {
		// A statement that was given up here may still be at work there.
		for _, a := range accountsOf(r.app.Accounts[0]) {
			_ = r.view.server.EndSessions(ctx, a) // there may be none
		}
	}
	contents, err := r.view.server.Contents(ctx, name)
	if err != nil {
		return err
	}
	before, now := objectsOf(r.plan.contents), objectsOf(contents[name])
	var statements []mysql.Statement
	for object := range made {
		if object.Kind == "TABLE" || object.Kind == "VIEW" || object.Kind == "SEQUENCE" { // MariaDB lists sequences as tables
			object.Name = r.view.server.TableName(object.Name)
			// Dumps hold the place of a view with a table for a while.
			for _, kind := range []string{"TABLE", "VIEW"} {
				if object.Kind = kind; now[object] && !before[object] {
					statements = append(statements, mysql.DropObject(kind, name, object.Name))
				}
			}
		} else if now[object] && !before[object] {
			statements = append(statements, mysql.DropObject(object.Kind, name, object.Name))
		}
	}
	return r.view.server.ExecWithoutForeignKeys(ctx, statements...)
}

// objectsOf lists what a database holds by keyword and name, but for triggers,
// which go with their tables.
func objectsOf(c dbms.Contents) map[dbms.Object]bool {
	objects := map[dbms.Object]bool{}
	for _, t := range c.Tables {
		kind := "TABLE"
		if t.View {
			kind = "VIEW"
		}
		objects[dbms.Object{Kind: kind, Name: t.Name}] = true
	}
	for _, list := range [][]dbms.Object{c.Routines, c.Events} {
		for _, o := range list {
			objects[o] = true
		}
	}
	return objects
}

// counted writes a number with the noun that fits it.
func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return load.Thousands(int64(n)) + " " + many
}
