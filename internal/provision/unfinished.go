package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// UndoUnfinished takes back what runs made that were cut off, app by app.
func (e *Engine) UndoUnfinished(ctx context.Context, apps []*estate.App, options Options) ([]Result, error) {
	return e.each(ctx, apps, options, (*run).undoUnfinished)
}

// undoUnfinished takes back what the journals say that was begun, newest first: files,
// what an import left, accounts, databases. What a run has changed, and not made, is told.
func (r *run) undoUnfinished(ctx context.Context) error {
	if r.cut == nil {
		r.tell(Row{Step: "server", Outcome: Kept, Facts: "no run on this app was cut off"})
		return nil
	}
	if !r.view.asAdmin() {
		return r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin", "taking back what a run has made takes an administrator")
	}
	if was, err := r.finishRetirement(ctx, true); err != nil || was != "" {
		return err
	}
	r.plan = r.emptyPlan()
	if r.settingsStand() {
		return fault.New(fault.Protected, "yellowfield provision "+r.app.Name+" finishes it",
			"its settings files are written, so that the application may have been at work with them: what was made stands")
	}
	errs := append(r.planChangesBack(r.cut.Entries, true), r.planFilesBack(), r.planRotationsBack(ctx), r.planImportsBack(ctx))
	r.planAccountsBack()
	for _, d := range r.app.All() {
		left := r.view.server.LeftOfMaking(d.Name)
		switch {
		case !r.hasBegun(stepDatabase, "database "+d.Name):
		case r.exists(d.Name):
			r.takeBackBy(stepDatabase, "database "+d.Name, func(ctx context.Context) error { return r.dropOwnDatabase(ctx, d.Name) })
		case len(left) > 0:
			r.takeBackBy(stepDatabase, "database "+d.Name, func(ctx context.Context) error { return r.view.server.Exec(ctx, left...) })
		}
	}
	r.tellWhatCannotBeTakenBack()
	if err := errors.Join(errs...); err != nil {
		return r.tellPlanFaults(err)
	}
	return r.carryOut(ctx)
}

// cutOffAmong gives the newest of some commands that was cut off on the app; empty for none.
func (r *run) cutOffAmong(commands ...string) string {
	if r.cut == nil {
		return ""
	}
	for _, e := range slices.Backward(r.cut.Entries) {
		if e.Event == state.Begun && slices.Contains(commands, e.Command) {
			return e.Command
		}
	}
	return ""
}

// finishTurn goes on with a close or a reopen that was cut off, and looks anew.
func (r *run) finishTurn(ctx context.Context) error {
	command := r.cutOffAmong("close", "reopen")
	if command == "" || r.options.DryRun {
		return nil
	}
	asked := r.options
	r.options = Options{Command: asked.Command, Turn: &Turn{Close: command == "close", Overdue: true}, Only: turnSteps}
	defer func() { r.options = asked }()
	if err := r.makePlan(ctx); err != nil {
		return r.tellPlanFaults(err)
	}
	if err := r.execute(ctx); err != nil {
		return &toldError{err}
	}
	return r.look(ctx)
}

// settingsStand reports whether the runs that were cut off have written all settings
// files: what the application may have stored since is not to be lost.
func (r *run) settingsStand() bool {
	if len(r.app.Settings) == 0 || !r.hasFolder() {
		return false
	}
	return !slices.ContainsFunc(r.app.Settings, func(s *estate.Settings) bool {
		path := r.app.InFolder(s.File)
		return !r.hasBegun(stepSettings, "settings "+path) || !r.isWritten(path)
	})
}

func (r *run) exists(database string) bool {
	_, exists := r.view.catalogue.Databases[database]
	return exists
}

// hasBegun reports whether a run that was cut off has begun with an object.
func (r *run) hasBegun(step, object string) bool {
	return slices.ContainsFunc(r.cut.Entries, func(e state.Entry) bool {
		return e.Event == state.Intended && e.Step == step && e.Object == object
	})
}

func (r *run) takeBackBy(name, object string, act func(context.Context) error) {
	facts := strings.TrimPrefix(strings.TrimPrefix(object, name+" of "), name+" ")
	s := r.plan.change(Row{Step: name, Outcome: Undone, Facts: facts}, object)
	s.Act = func(ctx context.Context) (string, error) { return "", act(ctx) }
}

// planFilesBack puts old contents of settings files back, and removes files and folders
// that were not there. What is removed is kept as a copy.
func (r *run) planFilesBack() error {
	if !r.hasFolder() {
		return nil
	}
	files, err := r.files()
	if err != nil {
		return err
	}
	for _, s := range r.app.Settings {
		path := r.app.InFolder(s.File)
		if !r.hasBegun(stepSettings, "settings "+path) || !files.Exists(path) {
			continue
		}
		kept := "" // by the first of these runs, which found what was there before them
		for _, e := range slices.Backward(r.cut.Entries) {
			if e.Step == stepSettings && e.Object == path && e.Copy != "" {
				kept = e.Copy
			}
		}
		r.takeBackBy(stepSettings, path, func(context.Context) error { return r.fileBack(path, kept) })
	}
	if r.app.Ownership == nil {
		return nil
	}
	for _, name := range r.app.Ownership.Writable {
		path := r.app.InFolder(name)
		if r.hasBegun(stepOwnership, "folder "+path) && files.Exists(path) {
			r.takeBackBy(stepOwnership, "folder "+path, func(context.Context) error { return files.Remove(path) })
		}
	}
	return nil
}

// sweep removes what writing the estate file and the settings has left that was cut off.
func (r *run) sweep() error {
	atomicfile.SweepBeside(r.Estate.Path)
	if !r.hasFolder() {
		return nil
	}
	files, err := r.files()
	if err != nil {
		return err
	}
	for _, s := range r.app.Settings {
		if err := files.Sweep(r.app.InFolder(s.File)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (r *run) fileBack(path, kept string) error {
	files, err := r.files()
	if err != nil {
		return err
	}
	now, err := files.Read(path)
	if err != nil {
		return err
	}
	if _, err := r.journal.KeepCopy(path, now); err != nil {
		return err
	}
	if kept == "" {
		return files.Remove(path)
	}
	old, err := r.State.Copy(kept)
	if err != nil {
		return err
	}
	attributes, err := files.Attributes(path)
	if err != nil {
		return err
	}
	return files.Write(path, old, attributes)
}

// planImportsBack removes what imports left, those that came to their end, too, if they
// went into a database that these runs have made.
func (r *run) planImportsBack(ctx context.Context) error {
	var errs []error
	for _, d := range r.app.All() {
		if !r.exists(d.Name) {
			continue
		}
		if err := r.planCleaning(d); err != nil {
			errs = append(errs, err)
		}
		if r.hasBegun(stepDatabase, "database "+d.Name) {
			errs = append(errs, r.planImportBack(ctx, d))
		}
	}
	return errors.Join(errs...)
}

func (r *run) planImportBack(ctx context.Context, d *estate.Database) error {
	made := map[dbms.Object]bool{}
	importer, err := r.importerFor(ctx, r.importTarget(d))
	if err != nil {
		return err
	}
	for _, s := range r.scripts() {
		if s.into != d || !r.hasBegun(stepSQL, "import of "+s.Name) {
			continue
		}
		survey, err := importer.Check(ctx, s.Source, s.options)
		if err != nil {
			return err
		}
		for object := range survey.Makes {
			made[object] = true
		}
	}
	left := map[dbms.Object]bool{}
	for object := range r.plan.contents[d.Name].Objects() {
		if made[object.AsMade(made, r.view.server.TableName)] {
			left[object] = true
		}
	}
	if len(left) > 0 {
		if _, pending, err := r.State.Pending(r.stateAccount(r.app.Accounts[0].Name)); err != nil || !pending {
			return errors.Join(err, fault.New(fault.Protected, "yellowfield provision "+r.app.Name+" finishes it; or drop by hand what nobody needs",
				"the password of %s is not kept here alone, so that the application may have been at work in %s: what was imported stands", r.app.Accounts[0].Name, d.Name))
		}
		r.takeBackBy(stepSQL, "import into "+d.Name, func(ctx context.Context) error {
			return r.view.server.RemoveObjects(ctx, d.Name, left, nil)
		})
	}
	return nil
}

// planAccountsBack drops the accounts that were made, unless they have got rights
// elsewhere since.
func (r *run) planAccountsBack() {
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			if !r.hasBegun(stepAccount, "account "+a.String()) {
				continue
			}
			if _, exists := r.view.catalogue.Accounts[a]; !exists { // its password may be kept already
				s := r.plan.change(Row{Step: stepAccount}, "pending password of "+a.User)
				s.silent = true
				s.Act = func(context.Context) (string, error) { return "", r.State.DropPending(r.stateAccount(a.User)) }
				continue
			}
			if _, elsewhere := r.ours(r.view.catalogue.Grants(a)); len(elsewhere) > 0 {
				r.plan.note(stepAccount, "drop it by hand if nobody needs it", fmt.Sprintf("%s stays: it has rights elsewhere: %s", a, strings.Join(elsewhere, ", ")))
				continue
			}
			r.takeBackBy(stepAccount, "account "+a.String(), func(ctx context.Context) error {
				_ = r.view.server.EndSessions(ctx, a) // there may be none
				for _, d := range r.app.All() {
					statements, _ := r.view.server.ChangeRights(a, d.Name, r.view.catalogue.Grants(a), nil)
					if err := r.view.server.Exec(ctx, statements...); err != nil && r.exists(d.Name) {
						return err
					}
				}
				if err := r.view.server.Exec(ctx, r.view.server.DropAccount(a)); err != nil {
					return err
				}
				return r.State.DropPending(r.stateAccount(a.User))
			})
		}
	}
}

// tellWhatCannotBeTakenBack names what was there before these runs, and was changed.
func (r *run) tellWhatCannotBeTakenBack() {
	told := map[string]bool{}
	for _, e := range r.cut.Entries {
		made := false
		for _, account := range r.app.Accounts {
			for _, a := range r.accountsOf(account) {
				made = made || strings.HasPrefix(e.Object, "rights of "+a.String()+" on ") && r.hasBegun(stepAccount, "account "+a.String())
			}
		}
		for _, s := range r.app.Settings {
			made = made || e.Object == "owner and mode of "+r.app.InFolder(s.File) || e.Object == "owner and mode of the settings"
		}
		changes := e.Step == stepRights || e.Step == stepOwnership && strings.HasPrefix(e.Object, "owner and mode") || strings.HasPrefix(e.Object, "password of") || e.Step == stepDatabase && !strings.HasPrefix(e.Object, "database ")
		made = made || e.Before != "" // it is taken back
		if e.Event != state.Intended || !changes || made || told[e.Object] {
			continue
		}
		told[e.Object] = true
		r.plan.note(e.Step, "yellowfield provision "+r.app.Name+" makes it as the estate file says", "may have been changed, and is not taken back: "+e.Object)
	}
}
