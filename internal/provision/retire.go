package provision

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"slices"
	"strings"
	"time"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// What retirements are called in the journal.
const (
	RetireQuietly = "retire"
	RetireBack    = "retire --back"
	RetireDrop    = "retire --drop-database"
)

// retiredApp is the note of an app that is retired: what is to be put back if it comes into
// use again.
type retiredApp struct {
	Locked []dbms.Account `json:"locked"`
	Files  []retiredFile  `json:"files"`
}

type retiredFile struct {
	Path    string                `json:"path"`
	Content []byte                `json:"content"`
	Of      atomicfile.Attributes `json:"of"`
}

const retiredApps = "retired-apps"

func (r *run) retire(ctx context.Context) error {
	if !r.view.asAdmin() {
		return &stepError{stepAccount, r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin", "locking accounts takes an administrator")}
	}
	how := r.options.Retire
	if err := r.planRetirement(ctx, how); err != nil {
		return r.tellPlanFaults(err)
	}
	if done, err := r.askAndExecute(ctx, how.Confirm, "answer yes, or add --yes; what drops a database wants --confirm "+r.app.Name); !done {
		return err
	}
	if how.Back {
		r.plan.credentials = map[*estate.Account]*credential{}
		r.checkLogins(ctx)
	} else {
		r.tell(Row{Step: stepState, Outcome: Note, Facts: "cron jobs, backups and other programs that still name its database or accounts are out of reach here"})
	}
	return nil
}

func (r *run) planRetirement(ctx context.Context, how *Retirement) error {
	r.plan = r.emptyPlan()
	var note retiredApp
	_, err := r.State.Note(retiredApps, r.noteName(), &note)
	switch {
	case err != nil:
		return err
	case how.Back:
		return r.planBack(&note)
	}
	if err := r.planQuietEnd(&note); err != nil || !how.DropDatabase {
		return err
	}
	return r.planDrop(ctx)
}

// finishRetirement goes on with one that was cut off. A database is dropped by nobody but
// who asks for that.
func (r *run) finishRetirement(ctx context.Context) (was string, err error) {
	if was = r.cutOffAmong(RetireQuietly, RetireBack, RetireDrop); was == "" || r.options.DryRun {
		return "", nil
	}
	if err := r.planRetirement(ctx, &Retirement{Back: was == RetireBack}); err != nil {
		return was, r.tellPlanFaults(err)
	}
	if err := r.execute(ctx); err != nil {
		return was, &toldError{err}
	}
	if was == RetireDrop {
		r.tell(Row{Step: stepDatabase, Outcome: Note, Facts: "what was to be dropped is left", Remedy: "yellowfield " + RetireDrop + " " + r.app.Name})
	}
	return was, r.look(ctx)
}

// planEntry writes into the estate file, or takes out of it, since when the app is retired.
func (r *run) planEntry(date, facts string) error {
	change, err := r.Estate.Retire(r.app.Name, date)
	if err != nil {
		return err
	}
	r.planEstate(r.Estate, change, Row{Step: stepState, Outcome: Changed, Facts: facts})
	return nil
}

// planEstate puts a changed file of the estate in place; of is the estate as it is loaded,
// for the next app of the run.
func (r *run) planEstate(of *estate.Estate, change *estate.Change, row Row) {
	row.Place = &fault.Place{File: change.Path}
	after := fileWith(change.After)
	after.App = r.app.Name
	r.plan.change(row, entryChanged.Of(change.Path, fileWith(change.Before), after), &entryChange{of, change})
}

// entryChange is what changing a file of the estate takes beside the effect's data.
type entryChange struct {
	of     *estate.Estate
	change *estate.Change
}

// Kinds of change, see init.
var (
	databaseDropped = effect.Define[*run, databaseState](&kinds, "database-dropped")
	accountDropped  = effect.Define[*run, accountState](&kinds, "account-dropped")
	settingsRetired = effect.Define[*run, fileState](&kinds, "retired-file")
	retirementNoted = effect.Define[*run, retirementState](&kinds, "retirement-note")
	entryChanged    = effect.Define[*run, fileState](&kinds, "estate-file")
)

func init() {
	databaseDropped.Means(effect.Spec[*run, databaseState]{
		Object: databaseObject, Look: (*run).lookAtDatabase, Irreversible: true,
		Do: func(r *run, ctx context.Context, d *effect.Doing[databaseState]) (string, error) {
			return "", r.dropAsFound(ctx, d)
		},
		Kept: func(r *run, _ effect.Change[databaseState]) (why, next string) { return r.outOfUse() },
	})
	settingsRetired.Means(effect.Spec[*run, fileState]{
		Object: settingsObject, Undo: (*run).restoreSettings, Look: (*run).lookAtSettings,
		Do: func(r *run, _ context.Context, d *effect.Doing[fileState]) (string, error) {
			if d.After.Absent {
				return "", r.takeAway(d)
			}
			d.Touched = true
			return "", r.putBackFile(d.Material.(retiredFile))
		},
		Kept: func(r *run, _ effect.Change[fileState]) (why, next string) { return r.outOfUse() },
	})
	entryChanged.Means(effect.Spec[*run, fileState]{
		Object: func(c effect.Change[fileState]) string { return "entry of " + c.After.App },
		Do: func(r *run, _ context.Context, d *effect.Doing[fileState]) (_ string, err error) {
			m := d.Material.(*entryChange)
			if d.Before.Copy, err = r.journal.KeepCopy(d.Subject, m.change.Before); err == nil {
				err = d.Record()
			}
			if err == nil {
				err = writeEstate(d.Subject, m.change.Before, m.change.After)
			}
			if err == nil {
				m.of.Took(d.Subject, m.change.After)
			}
			return "", err
		},
		Undo: func(r *run, _ context.Context, c effect.Change[fileState]) error {
			now, err := host.ReadFile(c.Subject)
			standing, err := standingOf(c.Before, c.After, now, err)
			switch {
			case err != nil:
				return err
			case standing == effect.NotDone:
				return nil
			case standing != effect.Done:
				return changedSince(c.Subject, c.Before.Copy)
			}
			old, err := r.State.Copy(c.Before.Copy)
			if err == nil {
				err = writeEstate(c.Subject, now, old)
			}
			if err != nil {
				return err
			}
			of := r.Estate
			if m, is := c.Material.(*entryChange); is {
				of = m.of
			}
			of.Took(c.Subject, old)
			return nil
		},
		Look: func(_ *run, _ context.Context, c effect.Change[fileState]) (effect.Standing, error) {
			now, err := host.ReadFile(c.Subject)
			return standingOf(c.Before, c.After, now, err)
		},
		Kept: func(*run, effect.Change[fileState]) (why, next string) {
			return "the run has changed the estate file", "change it by hand, or by the command that takes that back"
		},
	})
	retirementNoted.Means(effect.Spec[*run, retirementState]{
		Object: func(effect.Change[retirementState]) string { return "note of what is taken away" },
		Do: func(r *run, _ context.Context, d *effect.Doing[retirementState]) (string, error) {
			return "", r.State.SetNote(retiredApps, r.noteName(), d.Material.(retiredApp))
		},
		Undo: func(r *run, _ context.Context, c effect.Change[retirementState]) error {
			var note, before retiredApp
			if found, err := r.State.Note(retiredApps, r.noteName(), &note); err != nil || !found {
				return err
			}
			before.Locked = c.Before.Locked
			for _, f := range note.Files {
				if slices.Contains(c.Before.Files, f.Path) {
					before.Files = append(before.Files, f)
				}
			}
			if len(before.Locked)+len(before.Files) == 0 {
				return r.State.DropNote(retiredApps, r.noteName())
			}
			return r.State.SetNote(retiredApps, r.noteName(), before)
		},
		Kept: func(r *run, _ effect.Change[retirementState]) (why, next string) { return r.outOfUse() },
	})
	accountDropped.Means(effect.Spec[*run, accountState]{
		Object: func(c effect.Change[accountState]) string { return "account " + c.Subject }, Irreversible: true,
		Do: func(r *run, ctx context.Context, d *effect.Doing[accountState]) (string, error) {
			a := dbms.ParseAccount(d.Subject)
			_ = r.view.server.EndSessions(ctx, a) // there may be none
			if err := r.send(ctx, &d.Touched, r.view.server.DropAccount(a)); err != nil {
				return "", err
			}
			return "", r.State.DropPending(r.stateAccount(a.User))
		},
		Look: func(r *run, _ context.Context, c effect.Change[accountState]) (effect.Standing, error) {
			if _, exists := r.view.catalogue.Accounts[dbms.ParseAccount(c.Subject)]; exists {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(r *run, _ effect.Change[accountState]) (why, next string) { return r.outOfUse() },
	})
}

// retirementState is the note of an app that is retired, without what the files hold.
type retirementState struct {
	Locked []dbms.Account `json:"locked,omitempty"`
	Files  []string       `json:"files,omitempty"`
}

func (n retiredApp) state() (s retirementState) {
	s.Locked = n.Locked
	for _, f := range n.Files {
		s.Files = append(s.Files, f.Path)
	}
	return s
}

// writeEstate puts a changed file of the estate in place of the one that was read.
func writeEstate(path string, from, to []byte) error {
	attributes, err := atomicfile.AttributesOf(path)
	if err != nil {
		return atomicfile.Failure(path, "check the rights of this user on it", err)
	}
	prepared, err := atomicfile.Prepare(path, to, attributes)
	if err == nil {
		err = prepared.Expect(from)
	}
	if err != nil {
		return err
	}
	return prepared.Commit()
}

// planQuietEnd locks the accounts, ends their sessions and takes the settings files away;
// all of it can be taken back.
func (r *run) planQuietEnd(note *retiredApp) error {
	if r.app.Retired == "" {
		today := time.Now().Format(time.DateOnly)
		if err := r.planEntry(today, "retired: "+today+", so that provision leaves it alone"); err != nil {
			return err
		}
	}
	var locks []dbms.Account
	for _, account := range r.app.Accounts {
		user := r.usedBy(account.Name)
		for _, a := range r.accountsOf(account) {
			has, exists := r.view.catalogue.Accounts[a]
			switch {
			case !exists:
			case user != "":
				r.plan.note(stepAccount, "", a.String()+" stays as it is: app "+user+" uses it, too")
			case has.Locked:
				r.plan.keep(stepAccount, a.String()+" is locked")
			default:
				locks = append(locks, a)
			}
		}
	}
	files, err := r.filesToRetire()
	if err != nil {
		return err
	}
	if len(locks)+len(files) == 0 {
		return nil
	}
	after := retiredApp{slices.Concat(note.Locked, locks), slices.Clone(files)}
	for _, f := range note.Files { // of a retirement that was cut off
		if !slices.ContainsFunc(files, func(other retiredFile) bool { return other.Path == f.Path }) {
			after.Files = append(after.Files, f)
		}
	}
	r.plan.change(Row{Step: stepState}, retirementNoted.Of(r.app.Name, note.state(), after.state()), after).silent = true
	for _, a := range locks {
		r.planLock(a, true, " locked, its sessions ended")
	}
	for _, f := range files {
		r.planRetiredFile(Row{Step: stepSettings, Outcome: Removed, Facts: r.app.Shown(f.Path) + ", kept in the state folder"}, f, true)
	}
	return nil
}

// planLock has an account locked or unlocked.
func (r *run) planLock(a dbms.Account, locked bool, facts string) {
	r.plan.change(Row{Step: stepAccount, Outcome: Changed, Facts: a.String() + facts, SQL: texts([]dbms.Statement{r.lockStatement(a, locked)})},
		accountLock.Of(a.String(), lockState{!locked}, lockState{locked}), nil)
}

// planRetiredFile has a settings file taken away, or put back.
func (r *run) planRetiredFile(row Row, f retiredFile, away bool) {
	there, absent := fileWith(f.Content), fileState{Absent: true, App: r.app.Name}
	there.Attributes, there.App = &f.Of, r.app.Name
	if away {
		r.plan.change(row, settingsRetired.Of(f.Path, there, absent), f)
	} else {
		r.plan.change(row, settingsRetired.Of(f.Path, absent, there), f)
	}
}

// usedBy gives another app in use that has an account; empty for none.
func (r *run) usedBy(account string) string {
	for _, name := range estate.Names(r.Estate.Apps) {
		other := r.Estate.Apps[name]
		if other != r.app && other.Retired == "" && other.Server == r.app.Server && slices.ContainsFunc(other.Accounts, func(a *estate.Account) bool { return a.Name == account }) {
			return name
		}
	}
	return ""
}

// filesToRetire reads the settings files that are there.
func (r *run) filesToRetire() (all []retiredFile, err error) {
	if !r.hasFolder() {
		return nil, nil
	}
	for _, s := range r.app.Settings {
		path := r.app.InFolder(s.File)
		content, err := r.read(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		attributes, err := r.attributes(path)
		if err != nil {
			return nil, err
		}
		all = append(all, retiredFile{path, content, attributes})
	}
	return all, nil
}

// takeAway removes a settings file, when what was kept of it has been read back.
func (r *run) takeAway(d *effect.Doing[fileState]) error {
	f := d.Material.(retiredFile)
	var note retiredApp
	if _, err := r.State.Note(retiredApps, r.noteName(), &note); err != nil {
		return err
	}
	now, err := r.read(f.Path)
	if err != nil {
		return err
	}
	kept := slices.ContainsFunc(note.Files, func(other retiredFile) bool { return other.Path == f.Path && string(other.Content) == string(now) })
	if !kept {
		return fault.At(fault.Protected, fault.Place{File: f.Path}, "look at the file and run the command again", "%v", atomicfile.ErrChanged)
	}
	files, err := r.files()
	if err != nil {
		return err
	}
	if d.Before.Copy, err = r.journal.KeepCopy(f.Path, now); err == nil {
		err = d.Record()
	}
	if err != nil {
		return err
	}
	d.Touched = true
	return files.Remove(f.Path)
}

// putBackFile writes a settings file as it was; one that says the same is there already.
func (r *run) putBackFile(f retiredFile) error {
	files, err := r.files()
	if err != nil {
		return err
	}
	switch now, err := files.Read(f.Path); {
	case errors.Is(err, fs.ErrNotExist):
		return files.Write(f.Path, f.Content, f.Of)
	case err != nil:
		return err
	case string(now) != string(f.Content):
		return fault.At(fault.Protected, fault.Place{File: f.Path}, "look at the file, and move it away", "another file is there than the one that was taken away")
	}
	return nil
}

// planBack brings an app into use again.
func (r *run) planBack(note *retiredApp) error {
	if r.app.Retired == "" && len(note.Locked)+len(note.Files) == 0 {
		if r.cut != nil { // it had not begun, or was through
			r.plan.keep(stepState, "in use")
			return nil
		}
		return fault.New(fault.Protected, "see retired: in the estate file", "app %s is not retired", r.app.Name)
	}
	for _, d := range r.app.All() {
		if !r.exists(d.Name) {
			return r.Estate.Fault(fault.Protected, r.path(d.Path()), "take retired: out of the estate file, yellowfield provision "+r.app.Name+", and import the export with --drop-existing: yellowfield history "+r.app.Name+" says where it lies",
				"the database %s was dropped", d.Name)
		}
	}
	for _, a := range note.Locked {
		if has, exists := r.view.catalogue.Accounts[a]; !exists || !has.Locked {
			continue
		}
		r.planLock(a, false, " unlocked")
	}
	for _, f := range note.Files {
		r.planRetiredFile(Row{Step: stepSettings, Outcome: Written, Facts: r.app.Shown(f.Path) + ", as it was"}, f, false)
	}
	if r.app.Retired != "" {
		if err := r.planEntry("", "in use again: retired: "+r.app.Retired+" taken out"); err != nil {
			return err
		}
	}
	r.plan.prove(stepState, "end of the note of what was taken away", func(context.Context) error { return r.State.DropNote(retiredApps, r.noteName()) })
	return nil
}

// planDrop drops an app's databases and accounts, behind a copy that was proved.
func (r *run) planDrop(ctx context.Context) error {
	for _, d := range r.app.All() {
		if !r.exists(d.Name) {
			r.plan.keep(stepDatabase, d.Name+" is gone")
			continue
		}
		if d.Existing {
			return r.Estate.Fault(fault.Protected, r.path(d.Path()), "drop it by hand", "the database %s was made by someone else", d.Name)
		}
		for _, name := range estate.Names(r.Estate.Apps) {
			if other := r.Estate.Apps[name]; other != r.app && other.Server == r.app.Server && slices.ContainsFunc(other.All(), func(o *estate.Database) bool { return o.Name == d.Name }) {
				return r.Estate.Fault(fault.Protected, r.path(d.Path()), "drop this app's tables by hand, by their prefix", "the database %s is that of app %s, too", d.Name, name)
			}
		}
		mentions, err := r.view.server.Mentions(ctx, d.Name)
		if err != nil {
			return err
		}
		for _, m := range mentions {
			r.plan.note(stepDatabase, "it will not work without "+d.Name+": look at it, and drop it by hand if nobody needs it", "named elsewhere: "+m)
		}
		if err := r.planProvedCopy(d); err != nil {
			return err
		}
	}
	for _, d := range r.app.All() { // when all are proved
		if r.exists(d.Name) {
			r.planDropping(d)
		}
	}
	r.planAccountsEnd()
	if err := r.planDropInsEnd(); err != nil {
		return err
	}
	r.plan.prove(stepState, "end of the notes of "+r.app.Name, func(context.Context) error {
		var errs []error
		for _, d := range r.app.All() {
			errs = append(errs, r.State.DropNote(databases, r.databaseNote(d.Name)))
		}
		return errors.Join(append(errs, r.State.DropNote(openApps, r.noteName()), r.State.DropNote(retiredApps, r.noteName()))...)
	})
	return nil
}

// planProvedCopy has a database exported, the export loaded again into a database of its own
// by an account of its own, and both compared.
func (r *run) planProvedCopy(d *estate.Database) error {
	path, err := r.exportPath("", d)
	if err != nil {
		return err
	}
	proved := "loaded again and compared"
	if r.options.Retire.Unproved {
		proved = "not loaded again"
	}
	row := Row{Step: stepExport, Outcome: Written, Facts: "export of " + d.Name + ", " + proved + ": " + inventory(r.plan.contents[d.Name]), Place: placeOf(path)}
	e := exporting{step: stepExport, path: path, automatic: true} // it stays, whatever becomes of the rest
	e.Sums = !r.options.Retire.Unproved
	var s *step
	s = r.planExportBy(row, d, e, func(ctx context.Context, doing *effect.Doing[exportState]) (string, error) {
		defer r.endReaders(ctx) // before the database is dropped
		reader, err := r.shortLived(ctx, d.Name, r.view.server.Reading(r.plan.contents[d.Name]), "")
		if err != nil {
			return "", err
		}
		exporter := r.exporterOf(reader.Server, d.Name)
		survey, err := r.lookBefore(ctx, exporter, e)
		if err != nil {
			return "", err
		}
		leftOut := make([]string, 0, len(survey.LeftOut))
		for _, left := range survey.LeftOut {
			leftOut = append(leftOut, left.String())
		}
		if len(leftOut) > 0 && !r.options.Retire.Unproved {
			return "", fault.New(fault.Protected, "drop these first, or add --unproved-copy if they are not needed", "the export of %s does not hold everything: %s", d.Name, some(leftOut))
		}
		report, facts, err := r.exportNow(ctx, s, doing, exporter, e, leftOut)
		if err != nil {
			return "", err
		}
		if !r.options.Retire.Unproved {
			if err := r.prove(ctx, d, path, report); err != nil {
				f := fault.As(err)
				return "", fault.At(f.Class, f.Place, f.Next+"; --unproved-copy drops the database all the same", "the copy of %s in %s could not be proved: %s", d.Name, path, f.What).With(err)
			}
		}
		s.Row.Excerpt = s.Row.Export.SHA256
		return fmt.Sprintf("export of %s, %s: %s; its sha256 checksum:", d.Name, proved, facts), nil
	})
	return nil
}

func (r *run) planDropping(d *estate.Database) {
	drop := r.view.server.DropDatabase(d.Name)
	r.plan.change(Row{Step: stepDatabase, Outcome: Removed, Facts: d.Name, SQL: texts(drop)}, databaseDropped.Of(d.Name, databaseState{Exists: true}, databaseState{}), drop)
}

// dropAsFound drops a database that holds what it held when that was shown.
func (r *run) dropAsFound(ctx context.Context, d *effect.Doing[databaseState]) error {
	now, err := r.view.server.Contents(ctx, d.Subject)
	if err != nil {
		return err
	}
	if had := r.plan.contents[d.Subject].Everything(); !sameObjects(had, now[d.Subject].Everything()) {
		return fault.New(fault.Protected, "see who is at work there, and run the command again", "somebody has changed what %s holds", d.Subject)
	}
	r.plan.dropped = true // or on the way
	return r.send(ctx, &d.Touched, d.Material.([]dbms.Statement)...)
}

func sameObjects(a, b map[dbms.Object]bool) bool {
	for o := range a {
		if !b[o] {
			return false
		}
	}
	return len(a) == len(b)
}

// planAccountsEnd drops the app's accounts, but for those that have rights elsewhere, and
// takes others' rights on its databases.
func (r *run) planAccountsEnd() {
	own := map[dbms.Account]bool{}
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			own[a] = true
			_, exists := r.view.catalogue.Accounts[a]
			_, elsewhere := r.ours(r.view.catalogue.Grants(a))
			switch {
			case !exists || r.usedBy(account.Name) != "":
				continue
			case len(elsewhere) > 0:
				r.plan.note(stepAccount, "drop it by hand if nobody needs it", fmt.Sprintf("%s stays, locked: it has rights elsewhere: %s", a, strings.Join(elsewhere, ", ")))
				continue
			}
			r.plan.change(Row{Step: stepAccount, Outcome: Removed, Facts: a.String(), SQL: texts([]dbms.Statement{r.view.server.DropAccount(a)})},
				accountDropped.Of(a.String(), accountState{Exists: true}, accountState{}), nil)
		}
	}
	for _, d := range r.app.All() {
		for a, g := range r.view.catalogue.Granted {
			held := g.Databases[r.view.server.Pattern(d.Name)]
			if own[a] || len(held) == 0 || !r.view.entry.DBMS.Traits().Privileges { // elsewhere they go with the database
				continue
			}
			r.planRightsChange(Row{Step: stepRights, Outcome: Removed, Facts: fmt.Sprintf("%s of %s on %s", held, a, d.Name)}, rightsState{Account: a, Database: d.Name, Held: held}, nil,
				r.view.server.Revoke(held, r.view.server.Pattern(d.Name), a), false)
		}
	}
}

// lookAtRetired is what provision and verify make of an app that is retired.
func (r *run) lookAtRetired(ctx context.Context) error {
	if was, err := r.finishRetirement(ctx); err != nil || was == RetireBack {
		return err
	}
	r.plan = r.emptyPlan()
	dropped := true
	for _, d := range r.app.All() {
		dropped = dropped && !r.exists(d.Name)
	}
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			if has, exists := r.view.catalogue.Accounts[a]; exists && !has.Locked && r.usedBy(account.Name) == "" {
				r.tell(Row{Step: stepAccount, Outcome: Differs, Severity: estate.MustFix, Facts: "the app is retired, and " + a.String() + " can still log in", Remedy: "yellowfield retire " + r.app.Name + " finishes it, and with --back takes it back"})
			}
		}
	}
	facts := "retired since " + r.app.Retired + ", and left alone"
	if dropped {
		facts = "retired since " + r.app.Retired + "; its database is gone"
	}
	r.tell(Row{Step: stepState, Outcome: Kept, Facts: facts})
	return nil
}

// refuseRetired is what other commands make of it.
func (r *run) refuseRetired(context.Context) error {
	return &stepError{stepState, r.Estate.Fault(fault.Protected, r.path("retired"), "yellowfield retire "+r.app.Name+" --back first", "app %s is retired since %s", r.app.Name, r.app.Retired)}
}

// prove loads an export into a database of its own, with an account of its own and events
// that do not run, and compares what that holds with what was exported.
func (r *run) prove(ctx context.Context, d *estate.Database, path string, want *export.Report) error {
	like := r.view.catalogue.Databases[d.Name]
	scratch, err := r.scratchDatabase(ctx, like.Charset, like.Collation)
	if err != nil {
		return err
	}
	if err := r.loadExport(ctx, scratch.Server, scratch.database, like.Charset, path); err != nil {
		return err
	}
	got, err := r.exporterOf(scratch.Server, scratch.database).Export(ctx, io.Discard, export.Options{Sums: true}, nil)
	if err != nil {
		return r.exportFailed(ctx, err)
	}
	if differences := export.Differences(want, got); len(differences) > 0 {
		return fault.New(fault.Protected, "was somebody at work in it? Look at these, and run the command again", "what was loaded again is not the same: %s", some(differences))
	}
	return nil
}
