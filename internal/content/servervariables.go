package content

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
	"yellowfield/internal/work"
)

// What server_during_import sets for the time of an import, and takes back.

// ServerSettings is the note of a server whose variables are changed at the moment: their
// original values, by name.
type ServerSettings struct {
	App    string            `json:"app"`
	Before map[string]string `json:"before"`
}

const ChangedServers = "changed-servers"

func serverLock() string { return "yellowfield:server-during-import" }

func isOn(v estate.Variable) bool {
	return strings.EqualFold(string(v), "ON") || v == "1" || strings.EqualFold(string(v), "true")
}

// variables is the app's server as one with global variables: the estate file sets them on no
// other.
func variables(r *work.Run) dbms.HasVariables { return r.View.Server.(dbms.HasVariables) }

// planServerSettings sets what server_during_import asks for; planRestoring takes it back
// after the scripts.
func planServerSettings(r *work.Run) error {
	wanted := r.App.ServerDuringImport
	if len(wanted) == 0 {
		return nil
	}
	if !r.View.AsAdmin() {
		return r.Estate.Fault(fault.Invalid, r.Path("server_during_import"), "give the server an admin, or ask its administrator", "only an administrator can set variables of server %s", r.App.Server)
	}
	have := r.View.Catalogue.GrantsOf(r.View.Server.CurrentUser()).Global
	if !have.Has("SUPER") && !have.Has("SYSTEM_VARIABLES_ADMIN") && !have.Has("ALL PRIVILEGES") {
		return r.Estate.Fault(fault.Invalid, r.Path("server_during_import"), "grant SUPER (on MySQL SYSTEM_VARIABLES_ADMIN), or take the variables out",
			"the administrator %s may not set variables of server %s", r.View.Server.CurrentUser(), r.App.Server)
	}
	var names, facts []string
	for name := range wanted {
		names = append(names, name)
	}
	slices.Sort(names)
	var sql []string
	for _, name := range names {
		facts = append(facts, name+" = "+string(wanted[name]))
		sql = append(sql, variables(r).SetVariable(name, string(wanted[name])).String())
	}
	after := VariablesState{map[string]string{}}
	for name, value := range wanted {
		after.Values[name] = string(value)
	}
	r.Plan.Change(work.Row{Step: work.StepSQL, Outcome: work.Made, SQL: sql, Facts: "server " + r.App.Server + ", for the import only: " + strings.Join(facts, ", ")},
		ServerVariables.Of(r.App.Server, VariablesState{}, after), nil)
	return nil
}

// VariablesState are a server's variables as an effect has them. What they were is in a note,
// which whoever comes to the server next restores from.
type VariablesState struct {
	Values map[string]string `json:"values,omitempty"`
}

// Kinds of change, see init.
var (
	ServerVariables = effect.Define[*work.Run, VariablesState](&work.Kinds, "server-variables")
	importEnded     = effect.Define[*work.Run, struct{}](&work.Kinds, "import-ended")
)

func init() {
	ServerVariables.Means(effect.Spec[*work.Run, VariablesState]{
		Object: func(c effect.Change[VariablesState]) string { return "settings of server " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[VariablesState]) (string, error) {
			return "", changeServer(r, ctx, &d.Touched, slices.Sorted(maps.Keys(d.After.Values)))
		},
		Undo: func(r *work.Run, ctx context.Context, _ effect.Change[VariablesState]) error {
			return restoreServer(r, ctx)
		},
		Look: func(r *work.Run, _ context.Context, _ effect.Change[VariablesState]) (effect.Standing, error) {
			var note ServerSettings
			found, err := r.State.Note(ChangedServers, r.View.Entry.Address().String(), &note)
			if err != nil || !found {
				return effect.NotDone, err
			}
			return effect.Done, nil
		},
	})
	importEnded.Means(effect.Spec[*work.Run, struct{}]{
		Object: func(effect.Change[struct{}]) string { return "the end of the import" },
		Do: func(r *work.Run, ctx context.Context, _ *effect.Doing[struct{}]) (string, error) {
			return endImport(r, ctx)
		},
	})
}

// planRestoring takes the server's variables back once all scripts are
// through, and forgets the note of the import.
func planRestoring(r *work.Run) {
	row := work.Row{Step: work.StepSQL, Outcome: work.Kept}
	if len(r.App.ServerDuringImport) > 0 {
		row = work.Row{Step: work.StepSQL, Outcome: work.Made, Facts: "server " + r.App.Server + ": its settings restored"}
	}
	r.Plan.Change(row, importEnded.Of(r.App.Name, struct{}{}, struct{}{}), nil).Silent = len(r.App.ServerDuringImport) == 0
}

func endImport(r *work.Run, ctx context.Context) (facts string, err error) {
	for _, d := range r.App.All() {
		if err := ImportIsOver(r, d); err != nil {
			return "", err
		}
	}
	if r.FreeServer == nil { // what is changed now, if anything, another app's import has changed
		return "", nil
	}
	restored, err := restore(r.Engine, ctx, r.View.Connection)
	if err != nil {
		return "", err
	}
	free(r)
	if len(restored) == 0 {
		return "", nil
	}
	return "server " + r.App.Server + ", restored: " + strings.Join(restored, ", "), nil
}

// changeServer sets the variables under a lock of the whole server, so that no
// other import takes the changed values for the server's own.
func changeServer(r *work.Run, ctx context.Context, touched *bool, names []string) error {
	release, holder, err := r.Lock(ctx, r.View.Server, serverLock(), true)
	if err != nil {
		return err
	}
	if holder != nil {
		return fault.New(fault.Busy, work.TryLater, "another import has changed settings of server %s for its time (%s)", r.App.Server, holder.Who)
	}
	r.FreeServer = release
	before, err := variables(r).Variables(ctx, names...)
	if err == nil {
		for _, name := range names {
			if _, has := before[name]; !has && err == nil {
				err = r.Estate.Fault(fault.Invalid, r.Path("server_during_import"), "take it out", "server %s has no variable %s", r.App.Server, name)
			}
		}
	}
	if err == nil {
		err = r.State.SetNote(ChangedServers, r.View.Entry.Address().String(), ServerSettings{App: r.App.Name, Before: before})
	}
	if err != nil {
		free(r)
		return err
	}
	*touched = true
	for _, name := range names {
		if err := r.View.Server.Exec(ctx, variables(r).SetVariable(name, string(r.App.ServerDuringImport[name]))); err != nil {
			return err
		}
	}
	return nil
}

func free(r *work.Run) {
	if r.FreeServer != nil {
		r.FreeServer()
		r.FreeServer = nil
	}
}

func restoreServer(r *work.Run, ctx context.Context) error {
	_, err := restore(r.Engine, ctx, r.View.Connection)
	if err == nil {
		free(r)
	}
	return err
}

// plainValue matches the values that a variable may have had which an import may set.
var plainValue = regexp.MustCompile(`^[A-Za-z0-9_.]{0,32}$`)

// restore gives a server its own values back, if a note says that it has
// others.
func restore(e *work.Engine, ctx context.Context, c *work.Connection) (restored []string, err error) {
	var note ServerSettings
	address := c.Entry.Address().String()
	found, err := e.State.Note(ChangedServers, address, &note)
	if err != nil || !found {
		return nil, err
	}
	for name, value := range note.Before {
		if !estate.MaySetDuringImport(name) || !plainValue.MatchString(value) {
			return restored, fault.New(fault.Protected, "look at the note in the state folder", "a note says that the variable %s of server %s waits to be restored to %q, which no import can have left", name, c.Entry.Name, value)
		}
		if err := c.Admin.Exec(ctx, c.Admin.(dbms.HasVariables).SetVariable(name, value)); err != nil {
			return restored, err
		}
		restored = append(restored, name+" = "+value)
	}
	slices.Sort(restored)
	return restored, e.State.DropNote(ChangedServers, address)
}

// RestoreForgotten restores what a killed run left changed; a run that is still at work holds
// the lock. A command that changes nothing says so. It is for the first of a command's apps on
// the server: what is changed later, another one of them has changed.
func RestoreForgotten(r *work.Run, ctx context.Context, c *work.Connection) error {
	var note ServerSettings
	found, err := r.State.Note(ChangedServers, c.Entry.Address().String(), &note)
	if err != nil || !found {
		return err
	}
	waits := work.Row{Step: "server", Outcome: work.Differs, Severity: estate.ShouldLook, Facts: fmt.Sprintf("settings of server %s wait to be restored since an import of app %s: %s", c.Entry.Name, note.App, strings.Join(slices.Sorted(maps.Keys(note.Before)), ", ")),
		Remedy: "yellowfield provision " + r.App.Name}
	if r.Options.DryRun {
		r.Tell(waits)
		return nil
	}
	release, holder, err := r.Lock(ctx, c.Admin, serverLock(), false)
	if err != nil {
		return err
	}
	if holder != nil {
		waits.Remedy = "an import that is at work restores them itself; if none is, end the session of " + holder.Who + ": " + holder.End.String()
		r.Tell(waits)
		return nil
	}
	defer release()
	restored, err := restore(r.Engine, ctx, c)
	if err != nil {
		return err
	}
	r.Tell(work.Row{Step: "server", Outcome: work.Fixed, Facts: "what an interrupted import had changed is restored: " + strings.Join(restored, ", ")})
	return nil
}
