package lifecycle

import (
	"context"
	"fmt"
	"strings"

	"yellowfield/internal/content"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/inspect"
	"yellowfield/internal/planning"
	"yellowfield/internal/proof"
	"yellowfield/internal/state"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// NameCopy finds names for a copy's databases and accounts.
func NameCopy(e *work.Engine, app *estate.App, folder string, names *estate.Copied) error {
	path := "apps." + app.Name
	copied, err := e.Host.Open(folder, host.Options{})
	copied.Close()
	if err != nil {
		return fault.At(fault.Invalid, fault.Place{File: folder}, "copy the folder "+app.Folder+" to it first, and name it with --folder", "the copy's folder cannot be looked at: %v", err).With(err)
	}
	_, inside := host.Below(app.Folder, folder)
	_, around := host.Below(folder, app.Folder)
	if app.Folder != "" && (inside || around) {
		return fault.At(fault.Protected, fault.Place{File: folder}, "name another folder with --folder", "the copy's folder and that of app %s are one, or lie in each other", app.Name)
	}
	begin := strings.ReplaceAll(names.Name, "-", "_")
	for _, d := range app.All() {
		if d.Existing {
			return e.Estate.Fault(fault.Invalid, path+"."+d.Path(), "make the copy's database where this one was made, and write its entry by hand", "the database %s was made by someone else", d.Name)
		}
		if names.Databases[d.Name] = begin; d.Key != "" && d != app.All()[0] {
			names.Databases[d.Name] = begin + "_" + d.Key
		}
	}
	taken := map[string]bool{}
	for i, a := range app.Accounts {
		if a.Password != nil {
			return e.Estate.Fault(fault.Invalid, fmt.Sprintf("%s.accounts[%d].password", path, i), "write the copy's entry by hand, with another password", "%s takes its password from a source, which would be the copy's, too", a.Name)
		}
		name := begin + a.Name[max(0, strings.LastIndexByte(a.Name, '_')):]
		if !strings.Contains(a.Name, "_") {
			name = begin + "_app"
		}
		if taken[name] {
			name = fmt.Sprintf("%s%d", name, i+1)
		}
		taken[name] = true
		names.Accounts[a.Name] = name
	}
	return nil
}

// ExportToCopy exports the original's databases.
func ExportToCopy(r *work.Run, ctx context.Context, copied *work.CopyOf, names estate.Copied) error {
	if r.IsAnew { // the copy's entry was made of the other
		return work.AtStep(work.StepState, r.Estate.Fault(fault.Busy, "apps."+r.App.Name, "run the command again", "the entry of app %s was changed since this command has read it", r.App.Name))
	}
	r.Plan = r.EmptyPlan()
	for _, d := range r.App.All() {
		if !r.Exists(d.Name) {
			return work.AtStep(work.StepExport, r.Estate.Fault(fault.Invalid, r.Path(d.Path()), "yellowfield provision "+r.App.Name+" makes it", "the database %s does not exist", d.Name))
		}
		path, err := content.ExportPath(r, state.Automatic+"copying-", d)
		if err == nil {
			_, err = content.PlanExport(r, ctx, d, content.Exporting{Step: work.StepExport, Path: path, Automatic: true, Until: "until the copy is made"})
		}
		if err != nil {
			return r.TellPlanFaults(work.AtStep(work.StepExport, err))
		}
		copied.Exports[names.Databases[d.Name]] = path
	}
	err := r.CarryOut(ctx)
	if err != nil {
		clear(copied.Exports)
	}
	return err
}

// Copy makes the copy, which the estate that r works with has already; the file gets its
// entry when all is there but the settings.
func Copy(r *work.Run, ctx context.Context) error {
	if !r.View.AsAdmin() {
		return work.AtStep(work.StepAccount, r.Estate.Fault(fault.Invalid, "servers."+r.App.Server, "give the server an admin", "making accounts takes an administrator"))
	}
	began := r.CutOffAmong("copy") != "" && !r.Options.DryRun
	through := began && steps.SettingsStand(r) // but for its entry
	if began && !through {
		if err := planning.UndoUnfinished(r, ctx); err != nil {
			return err
		}
		if err := r.Look(ctx); err != nil {
			return err
		}
	}
	r.Plan = r.EmptyPlan()
	var err error
	if !through {
		err = isNew(r, "choose another name")
	}
	if err == nil {
		err = planning.MakePlan(r, ctx)
	}
	if err != nil {
		return r.TellPlanFaults(err)
	}
	PlanEntry(r, r.Copies.Estate, r.Copies.Change, work.Row{Step: work.StepState, Outcome: work.Written, Facts: "entry of " + r.App.Name})
	r.Plan.LastBefore(work.StepSettings) // after which nothing is taken back
	proveEntryFirst(r)
	if done, err := r.AskAndExecute(ctx, r.Options.Copy.Confirm, "answer yes, or add --yes"); !done {
		return err
	}
	if err := steps.NoteDatabases(r); err != nil {
		return err
	}
	proof.CheckLogins(r, ctx)
	return tellOldPlaces(r, ctx)
}

// isNew refuses to work over something that is there; next is what to do about that.
func isNew(r *work.Run, next string) error {
	if mark := r.MarkOfMove(); r.Options.Move != nil {
		if _, exists := r.View.Catalogue.Accounts[mark]; exists {
			return work.AtStep(work.StepDatabase, fault.New(fault.Protected, "yellowfield inspect "+r.App.Server+" --fix --only "+string(inspect.LeftByRun)+" drops it",
				"server %s has what an earlier move of app %s has brought there, which was cut off and whose records are gone", r.App.Server, r.App.Name))
		}
	}
	for _, d := range r.App.All() {
		if r.Exists(d.Name) {
			return work.AtStep(work.StepDatabase, fault.New(fault.Protected, next, "server %s has a database %s already", r.App.Server, d.Name))
		}
	}
	for _, account := range r.App.Accounts {
		for _, a := range r.AccountsOf(account) {
			if _, exists := r.View.Catalogue.Accounts[a]; exists {
				return work.AtStep(work.StepAccount, fault.New(fault.Protected, next, "server %s has an account %s already", r.App.Server, a))
			}
		}
	}
	return nil
}

// tellOldPlaces lists what in the copy still names the original's folder or web site.
func tellOldPlaces(r *work.Run, ctx context.Context) error {
	old := r.Copies.Original
	var names []string
	for _, name := range []string{old.URL, old.Folder} {
		if name = strings.TrimRight(strings.TrimPrefix(strings.TrimPrefix(name, "https:"), "http:"), "/"); len(name) > 2 {
			names = append(names, name)
		}
	}
	for _, name := range names {
		for _, s := range r.App.Settings {
			content, err := r.Read(r.App.InFolder(s.File))
			if err != nil {
				continue // its login was told of
			}
			for i, line := range strings.Split(string(content), "\n") {
				if strings.Contains(line, name) {
					r.Tell(work.Row{Step: work.StepSettings, Outcome: work.Note, Facts: "names the original: " + name, Place: &fault.Place{File: r.App.InFolder(s.File), Line: i + 1, Column: 1}})
				}
			}
		}
		for _, d := range r.App.DatabasesOf(r.App.Accounts[0]) {
			login, err := r.OwnLogin(ctx, r.App.Accounts[0], d)
			if err != nil {
				return err
			}
			found, err := login.RowsWith(ctx, d.Name, name)
			login.Close()
			if err != nil {
				return err
			}
			for _, f := range found {
				r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Note, Facts: fmt.Sprintf("%s: %s with the original's %s", f.Column, figures.Counted(f.Rows, "row", "rows"), name), Remedy: "change them in the copy, if it is to be found under another name"})
			}
		}
	}
	return nil
}
