package provision

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// unfinished is the note of an import under way. It is there as long as the
// import is neither through nor taken back; whoever finds it removes what the
// import left.
type unfinished struct {
	App     string        `json:"app"`
	Estate  string        `json:"estate"`
	Scripts []string      `json:"scripts"`
	Makes   []dbms.Object `json:"makes"`  // by the scripts
	Before  []dbms.Object `json:"before"` // in the database, before them
}

const unfinishedImports = "unfinished-imports"

func (r *run) unfinishedName(d *estate.Database) string {
	return r.where(r.view.entry.Address()) + "/" + d.Name
}

// noteUnfinished writes down what the scripts will make, before the first
// statement runs.
func (r *run) noteUnfinished(d *estate.Database) error {
	note := unfinished{App: r.app.Name, Estate: r.Estate.Path}
	for _, s := range r.plan.scripts {
		if s.into != d {
			continue
		}
		note.Scripts = append(note.Scripts, s.Name)
		for object := range s.survey.Makes {
			note.Makes = append(note.Makes, object)
		}
	}
	for object := range r.plan.contents[d.Name].Objects() {
		note.Before = append(note.Before, object)
	}
	return r.State.SetNote(unfinishedImports, r.unfinishedName(d), note)
}

func (r *run) importIsOver(d *estate.Database) error {
	return r.State.DropNote(unfinishedImports, r.unfinishedName(d))
}

// planCleaning removes what an import left that was cut off together with its
// undoing: the program was killed, or the server went away.
func (r *run) planCleaning(d *estate.Database) error {
	var note unfinished
	found, err := r.State.Note(unfinishedImports, r.unfinishedName(d), &note)
	if err != nil || !found {
		return err
	}
	left := map[dbms.Object]bool{}
	made := map[dbms.Object]bool{}
	for _, object := range note.Makes {
		made[object] = true
	}
	for object := range r.plan.contents[d.Name].Objects() {
		if made[r.asMade(object, made)] && !slices.Contains(note.Before, object) {
			left[object] = true
		}
	}
	if len(left) == 0 {
		if r.options.DryRun {
			return nil
		}
		return r.importIsOver(d)
	}
	what := fmt.Sprintf("%s that an interrupted import of %s left", counted(len(left), "object", "objects"), strings.Join(note.Scripts, ", "))
	s := &step{Row: Row{Step: stepSQL, Outcome: Fixed, Facts: "removed " + what}, object: "the end of an interrupted import: " + what}
	s.act = func(ctx context.Context) (string, error) {
		if err := r.view.server.RemoveObjects(ctx, d.Name, left, nil); err != nil {
			return "", err
		}
		return "", r.importIsOver(d)
	}
	r.plan.add(s)
	// What follows is planned for a database without these.
	r.plan.contents[d.Name] = without(r.plan.contents[d.Name], left)
	return nil
}

// asMade gives the object as a script would have made it: servers may store
// names in small letters, MariaDB lists sequences as tables, and PostgreSQL
// routines with their arguments.
func (r *run) asMade(object dbms.Object, made map[dbms.Object]bool) dbms.Object {
	bare, _, routine := strings.Cut(object.Name, "(")
	for candidate := range made {
		if name, _, _ := strings.Cut(candidate.Name, "("); routine && candidate.Kind == object.Kind && name == bare {
			return candidate
		}
		table := candidate.Kind == "TABLE" || candidate.Kind == "VIEW" || candidate.Kind == "SEQUENCE"
		if (candidate.Kind == object.Kind || table && (object.Kind == "TABLE" || object.Kind == "VIEW")) && r.view.server.TableName(candidate.Name) == r.view.server.TableName(object.Name) {
			return candidate
		}
	}
	return object
}

func without(c dbms.Contents, gone map[dbms.Object]bool) dbms.Contents {
	var rest dbms.Contents
	for _, t := range c.Tables {
		if !gone[dbms.Object{Kind: "TABLE", Name: t.Name}] && !gone[dbms.Object{Kind: "VIEW", Name: t.Name}] {
			rest.Tables = append(rest.Tables, t)
		}
	}
	for _, o := range c.Routines {
		if !gone[o] {
			rest.Routines = append(rest.Routines, o)
		}
	}
	for _, o := range c.Events {
		if !gone[o] {
			rest.Events = append(rest.Events, o)
		}
	}
	if len(rest.Tables) > 0 {
		rest.Triggers = c.Triggers
	}
	return rest
}

// importOnly imports SQL into a database that is there.
func (r *run) importOnly(ctx context.Context) error {
	if _, exists := r.view.catalogue.Databases[r.app.Database.Name]; !exists {
		return r.Estate.Fault(fault.Invalid, r.path("database"), "run yellowfield provision "+r.app.Name+" first", "the database %s does not exist", r.app.Database.Name)
	}
	err := r.makePlan(ctx)
	for _, s := range r.plan.steps {
		if s.Step == stepAccount && s.act != nil && err == nil {
			err = &stepError{stepAccount, r.Estate.Fault(fault.Invalid, r.path("accounts[0]"), "run yellowfield provision "+r.app.Name+" first",
				"the import runs as %s, which is not as the estate file says", r.app.Accounts[0].Name)}
		}
	}
	if c := r.plan.credentials[r.app.Accounts[0]]; err == nil && (c == nil || !c.knows()) {
		err = &stepError{stepAccount, r.Estate.Fault(fault.Invalid, r.path("accounts[0]"), sayPassword,
			"the import runs as %s, whose password is not known", r.app.Accounts[0].Name)}
	}
	if err == nil && len(r.plan.scripts) == 0 {
		err = &stepError{stepSQL, r.Estate.Fault(fault.Invalid, r.path("import"), "name the files: yellowfield import "+r.app.Name+" FILE...", "the estate file names no script for app %s", r.app.Name)}
	}
	if err != nil {
		return r.tellPlanFaults(err)
	}
	if r.options.DryRun {
		for _, s := range r.plan.steps {
			if s.Step == stepSQL {
				r.tellPlanned(s)
			}
		}
		return nil
	}
	if err := r.execute(ctx); err != nil {
		return &toldError{err}
	}
	return nil
}

// serverSettings is the note of a server whose variables are not its own just
// now: what they were, by name.
type serverSettings struct {
	App    string            `json:"app"`
	Before map[string]string `json:"before"`
}

const changedServers = "changed-servers"

func serverLock() string { return "yellowfield:server-during-import" }

func isOn(v estate.Variable) bool {
	return strings.EqualFold(string(v), "ON") || v == "1" || strings.EqualFold(string(v), "true")
}

// variables is the app's server as one that has some: the estate file asks for them
// of no other.
func (r *run) variables() dbms.HasVariables { return r.view.server.(dbms.HasVariables) }

// planServerSettings sets what server_during_import asks for; planRestoring
// takes it back behind the scripts.
func (r *run) planServerSettings() error {
	wanted := r.app.ServerDuringImport
	if len(wanted) == 0 {
		return nil
	}
	if !r.view.asAdmin() {
		return r.Estate.Fault(fault.Invalid, r.path("server_during_import"), "give the server an admin, or ask its administrator", "only an administrator can set variables of server %s", r.app.Server)
	}
	have := r.view.catalogue.GrantsOf(r.view.server.CurrentUser()).Global
	if !have.Has("SUPER") && !have.Has("SYSTEM_VARIABLES_ADMIN") && !have.Has("ALL PRIVILEGES") {
		return r.Estate.Fault(fault.Invalid, r.path("server_during_import"), "grant SUPER (on MySQL SYSTEM_VARIABLES_ADMIN), or take the variables out",
			"the administrator %s may not set variables of server %s", r.view.server.CurrentUser(), r.app.Server)
	}
	var names, facts []string
	for name := range wanted {
		names = append(names, name)
	}
	slices.Sort(names)
	var sql []string
	for _, name := range names {
		facts = append(facts, name+" = "+string(wanted[name]))
		sql = append(sql, r.variables().SetVariable(name, string(wanted[name])).String())
	}
	s := &step{Row: Row{Step: stepSQL, Outcome: Made, SQL: sql, Facts: "server " + r.app.Server + ", for the import only: " + strings.Join(facts, ", ")},
		object: "settings of server " + r.app.Server}
	s.act = func(ctx context.Context) (string, error) { return "", r.changeServer(ctx, s, names) }
	s.undo = r.restoreServer
	r.plan.add(s)
	return nil
}

// planRestoring takes the server's variables back once all scripts are
// through, and forgets the note of the import.
func (r *run) planRestoring() {
	s := &step{Row: Row{Step: stepSQL, Outcome: Kept}, object: "the end of the import"}
	if len(r.app.ServerDuringImport) > 0 {
		s.Row = Row{Step: stepSQL, Outcome: Made, Facts: "server " + r.app.Server + ": its own settings are back"}
	}
	s.silent = len(r.app.ServerDuringImport) == 0
	s.act = func(ctx context.Context) (string, error) {
		for _, d := range r.app.All() {
			if err := r.importIsOver(d); err != nil {
				return "", err
			}
		}
		return "", r.restoreServer(ctx)
	}
	r.plan.add(s)
}

// changeServer sets the variables under a lock of the whole server, so that no
// other import takes the changed values for the server's own.
func (r *run) changeServer(ctx context.Context, s *step, names []string) error {
	release, holder, err := r.lock(ctx, r.view.server, serverLock())
	if err != nil {
		return err
	}
	if holder != nil {
		return fault.New(fault.Protected, "wait until it is done, and run the command again", "another import has changed settings of server %s for its time (%s)", r.app.Server, holder.Who)
	}
	r.freeServer = release
	before, err := r.variables().Variables(ctx, names...)
	if err == nil {
		for _, name := range names {
			if _, has := before[name]; !has && err == nil {
				err = r.Estate.Fault(fault.Invalid, r.path("server_during_import"), "take it out", "server %s has no variable %s", r.app.Server, name)
			}
		}
	}
	if err == nil {
		err = r.State.SetNote(changedServers, r.view.entry.Address().String(), serverSettings{App: r.app.Name, Before: before})
	}
	if err != nil {
		r.free()
		return err
	}
	s.touched = true
	for _, name := range names {
		if err := r.view.server.Exec(ctx, r.variables().SetVariable(name, string(r.app.ServerDuringImport[name]))); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) free() {
	if r.freeServer != nil {
		r.freeServer()
		r.freeServer = nil
	}
}

func (r *run) restoreServer(ctx context.Context) error {
	_, err := r.restore(ctx, r.view.connection)
	if err == nil {
		r.free()
	}
	return err
}

// plainValue is what a variable that an import may set can have been.
var plainValue = regexp.MustCompile(`^[A-Za-z0-9_.]{0,32}$`)

// restore gives a server its own values back, if a note says that it has
// others.
func (e *Engine) restore(ctx context.Context, c *connection) (restored []string, err error) {
	var note serverSettings
	address := c.entry.Address().String()
	found, err := e.State.Note(changedServers, address, &note)
	if err != nil || !found {
		return nil, err
	}
	for name, value := range note.Before {
		if !estate.MaySetDuringImport(name) || !plainValue.MatchString(value) {
			return restored, fault.New(fault.Protected, "look at the note in the state folder", "a note says that the variable %s of server %s waits to be restored to %q, which no import can have left", name, c.entry.Name, value)
		}
		if err := c.admin.Exec(ctx, c.admin.(dbms.HasVariables).SetVariable(name, value)); err != nil {
			return restored, err
		}
		restored = append(restored, name+" = "+value)
	}
	slices.Sort(restored)
	return restored, e.State.DropNote(changedServers, address)
}

// restoreForgotten restores what a run that was killed left changed; one that
// is still at work holds the lock. A command that changes nothing says so.
func (r *run) restoreForgotten(ctx context.Context, c *connection) error {
	var note serverSettings
	found, err := r.State.Note(changedServers, c.entry.Address().String(), &note)
	if err != nil || !found {
		return err
	}
	waits := Row{Step: "server", Outcome: Differs, Severity: estate.ShouldLook, Facts: fmt.Sprintf("settings of server %s wait to be restored since an import of app %s: %s", c.entry.Name, note.App, strings.Join(slices.Sorted(maps.Keys(note.Before)), ", ")),
		Remedy: "yellowfield provision " + r.app.Name}
	if r.options.DryRun {
		r.tell(waits)
		return nil
	}
	release, holder, err := r.lock(ctx, c.admin, serverLock())
	if err != nil {
		return err
	}
	if holder != nil {
		waits.Remedy = "an import that is at work restores them itself; if none is, end the session of " + holder.Who + ": " + holder.End.String()
		r.tell(waits)
		return nil
	}
	defer release()
	restored, err := r.restore(ctx, c)
	if err != nil {
		return err
	}
	r.tell(Row{Step: "server", Outcome: Fixed, Facts: "what an interrupted import had changed is restored: " + strings.Join(restored, ", ")})
	return nil
}
