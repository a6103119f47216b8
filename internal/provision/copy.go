package provision

import (
	"context"
	"fmt"
	"strings"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/state"
)

// nameCopy finds names for a copy's databases and accounts.
func (e *Base) nameCopy(app *estate.App, folder string, names *estate.Copied) error {
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

// exportToCopy exports the original's databases.
func (r *run) exportToCopy(ctx context.Context, copied *copyOf, names estate.Copied) error {
	r.plan = r.emptyPlan()
	for _, d := range r.app.All() {
		if !r.exists(d.Name) {
			return &stepError{stepExport, r.Estate.Fault(fault.Invalid, r.path(d.Path()), "yellowfield provision "+r.app.Name+" makes it", "the database %s does not exist", d.Name)}
		}
		path, err := r.exportPath(state.Automatic+"copying-", d)
		if err == nil {
			_, err = r.planExport(ctx, d, exporting{step: stepExport, path: path, automatic: true, until: "until the copy is made"})
		}
		if err != nil {
			return r.tellPlanFaults(&stepError{stepExport, err})
		}
		copied.exports[names.Databases[d.Name]] = path
	}
	err := r.carryOut(ctx)
	if err != nil {
		clear(copied.exports)
	}
	return err
}

// copy makes the copy, which the estate that r works with has already; the file gets its
// entry at last.
func (r *run) copy(ctx context.Context) error {
	if !r.view.asAdmin() {
		return &stepError{stepAccount, r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin", "making accounts takes an administrator")}
	}
	began := r.cutOffAmong("copy") != "" && !r.options.DryRun
	through := began && r.settingsStand() // but for its entry
	if began && !through {
		if err := r.undoUnfinished(ctx); err != nil {
			return err
		}
		if err := r.look(ctx); err != nil {
			return err
		}
	}
	r.plan = r.emptyPlan()
	var err error
	if !through {
		err = r.isNew()
	}
	if err == nil {
		err = r.makePlan(ctx)
	}
	if err != nil {
		return r.tellPlanFaults(err)
	}
	r.planEstate(r.Estate, r.copies.change, Row{Step: stepState, Outcome: Written, Facts: "entry of " + r.app.Name})
	if done, err := r.askAndExecute(ctx, r.options.Copy.Confirm, "answer yes, or add --yes"); !done {
		return err
	}
	if err := r.noteDatabases(); err != nil {
		return err
	}
	r.checkLogins(ctx)
	return r.tellOldPlaces(ctx)
}

// isNew refuses to work over something that is there.
func (r *run) isNew() error {
	for _, d := range r.app.All() {
		if r.exists(d.Name) {
			return &stepError{stepDatabase, fault.New(fault.Protected, "choose another name", "server %s has a database %s already", r.app.Server, d.Name)}
		}
	}
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			if _, exists := r.view.catalogue.Accounts[a]; exists {
				return &stepError{stepAccount, fault.New(fault.Protected, "choose another name", "server %s has an account %s already", r.app.Server, a)}
			}
		}
	}
	return nil
}

// tellOldPlaces lists what in the copy still names the original's folder or web site.
func (r *run) tellOldPlaces(ctx context.Context) error {
	old := r.copies.original
	var names []string
	for _, name := range []string{old.URL, old.Folder} {
		if name = strings.TrimRight(strings.TrimPrefix(strings.TrimPrefix(name, "https:"), "http:"), "/"); len(name) > 2 {
			names = append(names, name)
		}
	}
	for _, name := range names {
		for _, s := range r.app.Settings {
			content, err := r.read(r.app.InFolder(s.File))
			if err != nil {
				continue // its login was told of
			}
			for i, line := range strings.Split(string(content), "\n") {
				if strings.Contains(line, name) {
					r.tell(Row{Step: stepSettings, Outcome: Note, Facts: "names the original: " + name, Place: &fault.Place{File: r.app.InFolder(s.File), Line: i + 1, Column: 1}})
				}
			}
		}
		for _, d := range r.app.DatabasesOf(r.app.Accounts[0]) {
			login, err := r.ownLogin(ctx, r.app.Accounts[0], d)
			if err != nil {
				return err
			}
			found, err := login.RowsWith(ctx, d.Name, name)
			login.Close()
			if err != nil {
				return err
			}
			for _, f := range found {
				r.tell(Row{Step: stepDatabase, Outcome: Note, Facts: fmt.Sprintf("%s: %s with the original's %s", f.Column, figures.Counted(f.Rows, "row", "rows"), name), Remedy: "change them in the copy, if it is to be found under another name"})
			}
		}
	}
	return nil
}
