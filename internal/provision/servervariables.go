package provision

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// What server_during_import sets for the time of an import, and takes back.

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
	after := variablesState{map[string]string{}}
	for name, value := range wanted {
		after.Values[name] = string(value)
	}
	r.plan.change(Row{Step: stepSQL, Outcome: Made, SQL: sql, Facts: "server " + r.app.Server + ", for the import only: " + strings.Join(facts, ", ")},
		serverVariables.Of(r.app.Server, variablesState{}, after), nil)
	return nil
}

// variablesState are a server's variables as an effect has them. What they were is in a note,
// which whoever comes to the server next restores from.
type variablesState struct {
	Values map[string]string `json:"values,omitempty"`
}

// Kinds of change, see init.
var (
	serverVariables = effect.Define[*run, variablesState](&kinds, "server-variables")
	importEnded     = effect.Define[*run, struct{}](&kinds, "import-ended")
)

func init() {
	serverVariables.Means(effect.Spec[*run, variablesState]{
		Object: func(c effect.Change[variablesState]) string { return "settings of server " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[variablesState]) (string, error) {
			return "", r.changeServer(ctx, &d.Touched, slices.Sorted(maps.Keys(d.After.Values)))
		},
		Undo: func(r *run, ctx context.Context, _ effect.Change[variablesState]) error { return r.restoreServer(ctx) },
		Look: func(r *run, _ context.Context, _ effect.Change[variablesState]) (effect.Standing, error) {
			var note serverSettings
			found, err := r.State.Note(changedServers, r.view.entry.Address().String(), &note)
			if err != nil || !found {
				return effect.NotDone, err
			}
			return effect.Done, nil
		},
	})
	importEnded.Means(effect.Spec[*run, struct{}]{
		Object: func(effect.Change[struct{}]) string { return "the end of the import" },
		Do:     func(r *run, ctx context.Context, _ *effect.Doing[struct{}]) (string, error) { return r.endImport(ctx) },
	})
}

// planRestoring takes the server's variables back once all scripts are
// through, and forgets the note of the import.
func (r *run) planRestoring() {
	row := Row{Step: stepSQL, Outcome: Kept}
	if len(r.app.ServerDuringImport) > 0 {
		row = Row{Step: stepSQL, Outcome: Made, Facts: "server " + r.app.Server + ": its settings restored"}
	}
	r.plan.change(row, importEnded.Of(r.app.Name, struct{}{}, struct{}{}), nil).silent = len(r.app.ServerDuringImport) == 0
}

func (r *run) endImport(ctx context.Context) (facts string, err error) {
	for _, d := range r.app.All() {
		if err := r.importIsOver(d); err != nil {
			return "", err
		}
	}
	if r.freeServer == nil { // what is changed now, if anything, another app's import has changed
		return "", nil
	}
	restored, err := r.restore(ctx, r.view.connection)
	if err != nil {
		return "", err
	}
	r.free()
	if len(restored) == 0 {
		return "", nil
	}
	return "server " + r.app.Server + ", restored: " + strings.Join(restored, ", "), nil
}

// changeServer sets the variables under a lock of the whole server, so that no
// other import takes the changed values for the server's own.
func (r *run) changeServer(ctx context.Context, touched *bool, names []string) error {
	release, holder, err := r.lock(ctx, r.view.server, serverLock(), true)
	if err != nil {
		return err
	}
	if holder != nil {
		return fault.New(fault.Busy, tryLater, "another import has changed settings of server %s for its time (%s)", r.app.Server, holder.Who)
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
	*touched = true
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
func (e *Base) restore(ctx context.Context, c *connection) (restored []string, err error) {
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
// is still at work holds the lock. A command that changes nothing says so. It is for the first
// of a command's apps on the server: what is changed later, another one of them has changed.
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
	release, holder, err := r.lock(ctx, c.admin, serverLock(), false)
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
