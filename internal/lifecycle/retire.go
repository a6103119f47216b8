package lifecycle

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
	"yellowfield/internal/content"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	"yellowfield/internal/fault"
	"yellowfield/internal/proof"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// What retirements are called in the journal.
const (
	RetireQuietly = "retire"
	RetireBack    = "retire --back"
	RetireDrop    = "retire --drop-database"
)

// RetiredApp is the note of an app that is retired: what is to be put back if it comes into
// use again.
type RetiredApp struct {
	Locked []dbms.Account `json:"locked"`
	Files  []RetiredFile  `json:"files"`
}

type RetiredFile struct {
	Path    string                `json:"path"`
	Content []byte                `json:"content"`
	Of      atomicfile.Attributes `json:"of"`
}

const RetiredApps = "retired-apps"

func Retire(r *work.Run, ctx context.Context) error {
	if !r.View.AsAdmin() {
		return work.AtStep(work.StepAccount, r.Estate.Fault(fault.Invalid, "servers."+r.App.Server, "give the server an admin", "locking accounts takes an administrator"))
	}
	how := r.Options.Retire
	if err := planRetirement(r, ctx, how); err != nil {
		return r.TellPlanFaults(err)
	}
	proveEntryFirst(r)
	if done, err := r.AskAndExecute(ctx, how.Confirm, "answer yes, or add --yes; what drops a database wants --confirm "+r.App.Name); !done {
		return err
	}
	if how.Back {
		r.Plan.Credentials = map[*estate.Account]*work.Credential{}
		proof.CheckLogins(r, ctx)
	} else {
		r.Tell(work.Row{Step: work.StepState, Outcome: work.Note, Facts: "cron jobs, backups and other programs that still name its database or accounts are out of reach here"})
	}
	return nil
}

func planRetirement(r *work.Run, ctx context.Context, how *work.Retirement) error {
	r.Plan = r.EmptyPlan()
	var note RetiredApp
	_, err := r.State.Note(RetiredApps, r.NoteName(), &note)
	switch {
	case err != nil:
		return err
	case how.Back:
		return planBack(r, &note)
	}
	if err := planQuietEnd(r, &note); err != nil || !how.DropDatabase {
		return err
	}
	return planDrop(r, ctx)
}

// FinishRetirement goes on with one that was cut off. A database is dropped by nobody but
// who asks for that.
func FinishRetirement(r *work.Run, ctx context.Context) (was string, err error) {
	if was = r.CutOffAmong(RetireQuietly, RetireBack, RetireDrop); was == "" || r.Options.DryRun {
		return "", nil
	}
	if err := planRetirement(r, ctx, &work.Retirement{Back: was == RetireBack}); err != nil {
		return was, r.TellPlanFaults(err)
	}
	if err := r.Execute(ctx); err != nil {
		return was, work.Told(err)
	}
	if was == RetireDrop {
		r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Note, Facts: "what was to be dropped is left", Remedy: "yellowfield " + RetireDrop + " " + r.App.Name})
	}
	return was, r.Look(ctx)
}

// planEntry writes into the estate file, or takes out of it, since when the app is retired.
func planEntry(r *work.Run, date, facts string) error {
	change, err := r.Estate.Retire(r.App.Name, date)
	if err != nil {
		return err
	}
	PlanEntry(r, r.Estate, change, work.Row{Step: work.StepState, Outcome: work.Changed, Facts: facts})
	return nil
}

// Kinds of change, see init.
var (
	databaseDropped = effect.Define[*work.Run, steps.DatabaseState](&work.Kinds, "database-dropped")
	accountDropped  = effect.Define[*work.Run, steps.AccountState](&work.Kinds, "account-dropped")
	SettingsRetired = effect.Define[*work.Run, work.FileState](&work.Kinds, "retired-file")
	RetirementNoted = effect.Define[*work.Run, RetirementState](&work.Kinds, "retirement-note")
)

func init() {
	databaseDropped.Means(effect.Spec[*work.Run, steps.DatabaseState]{
		Object: steps.DatabaseObject, Look: steps.LookAtDatabase, Irreversible: true,
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[steps.DatabaseState]) (string, error) {
			return "", dropAsFound(r, ctx, d)
		},
		Kept: func(r *work.Run, _ effect.Change[steps.DatabaseState]) (why, next string) { return r.OutOfUse() },
	})
	SettingsRetired.Means(effect.Spec[*work.Run, work.FileState]{
		Object: steps.SettingsObject, Undo: steps.RestoreSettings, Look: steps.LookAtSettings,
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[work.FileState]) (string, error) {
			if d.After.Absent {
				return "", takeAway(r, d)
			}
			d.Touched = true
			return "", putBackFile(r, d.Material.(RetiredFile))
		},
		Kept: func(r *work.Run, _ effect.Change[work.FileState]) (why, next string) { return r.OutOfUse() },
	})
	RetirementNoted.Means(effect.Spec[*work.Run, RetirementState]{
		Object: func(effect.Change[RetirementState]) string { return "note of what is taken away" },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[RetirementState]) (string, error) {
			if d.After.isEmpty() {
				d.Touched = true
				return "", r.State.DropNote(RetiredApps, r.NoteName())
			}
			return "", r.State.SetNote(RetiredApps, r.NoteName(), d.Material.(RetiredApp))
		},
		Undo: func(r *work.Run, _ context.Context, c effect.Change[RetirementState]) error {
			var note, before RetiredApp
			found, err := r.State.Note(RetiredApps, r.NoteName(), &note)
			switch {
			case err == nil && !found && c.After.isEmpty():
				return noteAgain(r, c.Before)
			case err != nil || !found || c.After.isEmpty():
				return err
			}
			before.Locked = c.Before.Locked
			for _, f := range note.Files {
				if slices.Contains(c.Before.Files, f.Path) {
					before.Files = append(before.Files, f)
				}
			}
			if len(before.Locked)+len(before.Files) == 0 {
				return r.State.DropNote(RetiredApps, r.NoteName())
			}
			return r.State.SetNote(RetiredApps, r.NoteName(), before)
		},
		Kept: func(r *work.Run, _ effect.Change[RetirementState]) (why, next string) { return r.OutOfUse() },
	})
	accountDropped.Means(effect.Spec[*work.Run, steps.AccountState]{
		Object: func(c effect.Change[steps.AccountState]) string { return "account " + c.Subject }, Irreversible: true,
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[steps.AccountState]) (string, error) {
			a := dbms.ParseAccount(d.Subject)
			_ = r.View.Server.EndSessions(ctx, a) // there may be none
			if err := r.Send(ctx, &d.Touched, r.View.Server.DropAccount(a)); err != nil {
				return "", err
			}
			return "", r.State.DropPending(r.StateAccount(a.User))
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[steps.AccountState]) (effect.Standing, error) {
			if _, exists := r.View.Catalogue.Accounts[dbms.ParseAccount(c.Subject)]; exists {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(r *work.Run, _ effect.Change[steps.AccountState]) (why, next string) { return r.OutOfUse() },
	})
}

// RetirementState is the note of an app that is retired, without what the files hold.
type RetirementState struct {
	Locked []dbms.Account `json:"locked,omitempty"`
	Files  []string       `json:"files,omitempty"`
}

func (s RetirementState) isEmpty() bool { return len(s.Locked)+len(s.Files) == 0 }

func (n RetiredApp) State() (s RetirementState) {
	s.Locked = n.Locked
	for _, f := range n.Files {
		s.Files = append(s.Files, f.Path)
	}
	return s
}

// planQuietEnd locks the accounts, ends their sessions and takes the settings files away;
// all of it can be taken back.
func planQuietEnd(r *work.Run, note *RetiredApp) error {
	if r.App.Retired == "" {
		today := time.Now().Format(time.DateOnly)
		if err := planEntry(r, today, "retired: "+today+", so that provision leaves it alone"); err != nil {
			return err
		}
	}
	var locks []dbms.Account
	for _, account := range r.App.Accounts {
		user := usedBy(r, account.Name)
		for _, a := range r.AccountsOf(account) {
			has, exists := r.View.Catalogue.Accounts[a]
			switch {
			case !exists:
			case user != "":
				r.Plan.Note(work.StepAccount, "", a.String()+" stays as it is: app "+user+" uses it, too")
			case has.Locked:
				r.Plan.Keep(work.StepAccount, a.String()+" is locked")
			default:
				locks = append(locks, a)
			}
		}
	}
	files, err := filesToRetire(r)
	if err != nil {
		return err
	}
	if len(locks)+len(files) == 0 {
		return nil
	}
	after := RetiredApp{slices.Concat(note.Locked, locks), slices.Clone(files)}
	for _, f := range note.Files { // of a retirement that was cut off
		if !slices.ContainsFunc(files, func(other RetiredFile) bool { return other.Path == f.Path }) {
			after.Files = append(after.Files, f)
		}
	}
	r.Plan.Change(work.Row{Step: work.StepState}, RetirementNoted.Of(r.App.Name, note.State(), after.State()), after).Silent = true
	for _, a := range locks {
		PlanLock(r, a, true, " locked, its sessions ended")
	}
	for _, f := range files {
		PlanRetiredFile(r, work.Row{Step: work.StepSettings, Outcome: work.Removed, Facts: r.App.Shown(f.Path) + ", kept in the state folder"}, f, true)
	}
	return nil
}

// PlanLock has an account locked or unlocked.
func PlanLock(r *work.Run, a dbms.Account, locked bool, facts string) {
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Changed, Facts: a.String() + facts, SQL: work.Texts([]dbms.Statement{steps.LockStatement(r, a, locked)})},
		steps.AccountLock.Of(a.String(), steps.LockState{Locked: !locked}, steps.LockState{Locked: locked}), nil)
}

// PlanRetiredFile has a settings file taken away, or put back.
func PlanRetiredFile(r *work.Run, row work.Row, f RetiredFile, away bool) {
	there, absent := work.FileWith(f.Content), work.FileState{Absent: true, App: r.App.Name}
	there.Attributes, there.App = &f.Of, r.App.Name
	if away {
		r.Plan.Change(row, SettingsRetired.Of(f.Path, there, absent), f)
	} else {
		r.Plan.Change(row, SettingsRetired.Of(f.Path, absent, there), f)
	}
}

// usedBy gives another app in use that has an account; empty for none.
func usedBy(r *work.Run, account string) string {
	for _, name := range estate.Names(r.Estate.Apps) {
		other := r.Estate.Apps[name]
		if other != r.App && other.Retired == "" && other.Server == r.App.Server && slices.ContainsFunc(other.Accounts, func(a *estate.Account) bool { return a.Name == account }) {
			return name
		}
	}
	return ""
}

// filesToRetire reads the settings files that are there.
func filesToRetire(r *work.Run) (all []RetiredFile, err error) {
	if !r.HasFolder() {
		return nil, nil
	}
	for _, s := range r.App.Settings {
		path := r.App.InFolder(s.File)
		content, err := r.Read(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		attributes, err := r.Attributes(path)
		if err != nil {
			return nil, err
		}
		all = append(all, RetiredFile{path, content, attributes})
	}
	return all, nil
}

// takeAway removes a settings file, when what was kept of it has been read back.
func takeAway(r *work.Run, d *effect.Doing[work.FileState]) error {
	f := d.Material.(RetiredFile)
	var note RetiredApp
	if _, err := r.State.Note(RetiredApps, r.NoteName(), &note); err != nil {
		return err
	}
	now, err := r.Read(f.Path)
	if err != nil {
		return err
	}
	kept := slices.ContainsFunc(note.Files, func(other RetiredFile) bool { return other.Path == f.Path && string(other.Content) == string(now) })
	if !kept {
		return fault.At(fault.Protected, fault.Place{File: f.Path}, "look at the file and run the command again", "%v", atomicfile.ErrChanged)
	}
	files, err := r.Files()
	if err != nil {
		return err
	}
	if d.Before.Copy, err = r.Journal.KeepCopy(f.Path, now); err == nil {
		err = d.Record()
	}
	if err != nil {
		return err
	}
	d.Touched = true
	return files.Remove(f.Path)
}

// putBackFile writes a settings file as it was; one that says the same is there already.
func putBackFile(r *work.Run, f RetiredFile) error {
	files, err := r.Files()
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
func planBack(r *work.Run, note *RetiredApp) error {
	if r.App.Retired == "" && len(note.Locked)+len(note.Files) == 0 {
		if r.Interrupted != nil { // it had not begun, or was through
			r.Plan.Keep(work.StepState, "in use")
			return nil
		}
		return fault.New(fault.Protected, "see retired: in the estate file", "app %s is not retired", r.App.Name)
	}
	for _, d := range r.App.All() {
		if !r.Exists(d.Name) {
			return r.Estate.Fault(fault.Protected, r.Path(d.Path()), "take retired: out of the estate file, yellowfield provision "+r.App.Name+", and import the export with --drop-existing: yellowfield history "+r.App.Name+" says where it lies",
				"the database %s was dropped", d.Name)
		}
	}
	if r.App.Retired != "" { // also where the note is lost: retiring it has locked them
		for _, account := range r.App.Accounts {
			if usedBy(r, account.Name) == "" {
				note.Locked = append(note.Locked, r.AccountsOf(account)...)
			}
		}
	}
	locked := map[dbms.Account]bool{}
	for _, a := range note.Locked {
		if locked[a] {
			continue
		}
		locked[a] = true
		if has, exists := r.View.Catalogue.Accounts[a]; !exists || !has.Locked {
			continue
		}
		PlanLock(r, a, false, " unlocked")
	}
	for _, f := range note.Files {
		PlanRetiredFile(r, work.Row{Step: work.StepSettings, Outcome: work.Written, Facts: r.App.Shown(f.Path) + ", as it was"}, f, false)
	}
	if r.App.Retired != "" {
		if err := planEntry(r, "", "in use again: retired: "+r.App.Retired+" taken out"); err != nil {
			return err
		}
	}
	r.Plan.Change(work.Row{Step: work.StepState}, RetirementNoted.Of(r.App.Name, note.State(), RetirementState{}), nil).Silent = true
	return nil
}

// noteAgain writes down what the note held that was dropped when the app came into use again:
// the files are still where they were put back.
func noteAgain(r *work.Run, was RetirementState) error {
	note := RetiredApp{Locked: was.Locked}
	files, err := r.Files()
	if err != nil {
		return err
	}
	for _, path := range was.Files {
		content, err := r.Read(path)
		if err != nil {
			return err
		}
		of, err := files.Attributes(path)
		if err != nil {
			return err
		}
		note.Files = append(note.Files, RetiredFile{path, content, of})
	}
	return r.State.SetNote(RetiredApps, r.NoteName(), note)
}

// planDrop drops an app's databases and accounts, after a copy that was proved.
func planDrop(r *work.Run, ctx context.Context) error {
	for _, d := range r.App.All() {
		if !r.Exists(d.Name) {
			r.Plan.Keep(work.StepDatabase, d.Name+" is gone")
			if left := r.View.Server.LeftOfDropping(d.Name); len(left) > 0 {
				r.Plan.Change(work.Row{Step: work.StepDatabase, Outcome: work.Removed, Facts: "what was left when " + d.Name + " was dropped", SQL: work.Texts(left)}, databaseDropped.Of(d.Name, steps.DatabaseState{}, steps.DatabaseState{}), left)
			}
			continue
		}
		if d.Existing {
			return r.Estate.Fault(fault.Protected, r.Path(d.Path()), "drop it by hand", "the database %s was made by someone else", d.Name)
		}
		for _, name := range estate.Names(r.Estate.Apps) {
			if other := r.Estate.Apps[name]; other != r.App && other.Server == r.App.Server && slices.ContainsFunc(other.All(), func(o *estate.Database) bool { return o.Name == d.Name }) {
				return r.Estate.Fault(fault.Protected, r.Path(d.Path()), "drop this app's tables by hand, by their prefix", "the database %s is that of app %s, too", d.Name, name)
			}
		}
		mentions, err := r.View.Server.Mentions(ctx, d.Name)
		if err != nil {
			return err
		}
		for _, m := range mentions {
			r.Plan.Note(work.StepDatabase, "it will not work without "+d.Name+": look at it, and drop it by hand if nobody needs it", "named elsewhere: "+m)
		}
		if err := planProvedCopy(r, d); err != nil {
			return err
		}
	}
	for _, d := range r.App.All() { // when all are proved
		if r.Exists(d.Name) {
			planDropping(r, d)
		}
	}
	planAccountsEnd(r)
	if err := steps.PlanDropInsEnd(r); err != nil {
		return err
	}
	r.Plan.Prove(work.StepState, "end of the notes of "+r.App.Name, func(context.Context) error {
		var errs []error
		for _, d := range r.App.All() {
			errs = append(errs, r.State.DropNote(work.Databases, r.DatabaseNote(d.Name)))
		}
		return errors.Join(append(errs, r.State.DropNote(steps.OpenApps, r.NoteName()), r.State.DropNote(RetiredApps, r.NoteName()))...)
	})
	return nil
}

// planProvedCopy has a database exported, the export loaded again into a database of its own
// by an account of its own, and both compared.
func planProvedCopy(r *work.Run, d *estate.Database) error {
	path, err := content.ExportPath(r, "", d)
	if err != nil {
		return err
	}
	proved := "loaded again and compared"
	if r.Options.Retire.Unproved {
		proved = "not loaded again"
	}
	row := work.Row{Step: work.StepExport, Outcome: work.Written, Facts: "export of " + d.Name + ", " + proved + ": " + work.Inventory(r.Plan.Contents[d.Name]), Place: content.PlaceOf(path)}
	e := content.Exporting{Step: work.StepExport, Path: path, Automatic: true} // it stays, whatever becomes of the rest
	e.Sums = !r.Options.Retire.Unproved
	var s *work.Step
	s = content.PlanExportBy(r, row, d, e, func(ctx context.Context, doing *effect.Doing[content.ExportState]) (string, error) {
		defer r.EndReaders(ctx) // before the database is dropped
		reader, err := r.ShortLived(ctx, d.Name, r.View.Server.Reading(r.Plan.Contents[d.Name]), "")
		if err != nil {
			return "", err
		}
		exporter := r.ExporterOf(reader.Server, d.Name)
		survey, err := content.LookBefore(r, ctx, exporter, e)
		if err != nil {
			return "", err
		}
		leftOut := make([]string, 0, len(survey.LeftOut))
		for _, left := range survey.LeftOut {
			leftOut = append(leftOut, left.String())
		}
		if len(leftOut) > 0 && !r.Options.Retire.Unproved {
			return "", fault.New(fault.Protected, "drop these first, or add --unproved-copy if they are not needed", "the export of %s does not hold everything: %s", d.Name, work.JoinSome(leftOut))
		}
		report, facts, err := content.ExportNow(r, ctx, s, doing, exporter, e, leftOut)
		if err != nil {
			return "", err
		}
		if !r.Options.Retire.Unproved {
			if err := prove(r, ctx, d, path, report); err != nil {
				f := fault.As(err)
				return "", fault.At(f.Class, f.Place, f.Next+"; --unproved-copy drops the database all the same", "the copy of %s in %s could not be proved: %s", d.Name, path, f.What).With(err)
			}
		}
		s.Row.Excerpt = s.Row.Export.SHA256
		return fmt.Sprintf("export of %s, %s: %s; its sha256 checksum:", d.Name, proved, facts), nil
	})
	return nil
}

func planDropping(r *work.Run, d *estate.Database) {
	drop := r.View.Server.DropDatabase(d.Name)
	r.Plan.Change(work.Row{Step: work.StepDatabase, Outcome: work.Removed, Facts: d.Name, SQL: work.Texts(drop)}, databaseDropped.Of(d.Name, steps.DatabaseState{Exists: true}, steps.DatabaseState{}), drop)
}

// dropAsFound drops a database that holds what it held when that was shown.
func dropAsFound(r *work.Run, ctx context.Context, d *effect.Doing[steps.DatabaseState]) error {
	if !d.Before.Exists {
		return r.Send(ctx, &d.Touched, d.Material.([]dbms.Statement)...)
	}
	now, err := r.View.Server.Contents(ctx, d.Subject)
	if err != nil {
		return err
	}
	if had := r.Plan.Contents[d.Subject].Everything(); !sameObjects(had, now[d.Subject].Everything()) {
		return fault.New(fault.Protected, "see who is at work there, and run the command again", "somebody has changed what %s holds", d.Subject)
	}
	r.Plan.Dropped = true // or on the way
	return r.Send(ctx, &d.Touched, d.Material.([]dbms.Statement)...)
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
func planAccountsEnd(r *work.Run) {
	own := map[dbms.Account]bool{}
	for _, account := range r.App.Accounts {
		for _, a := range r.AccountsOf(account) {
			own[a] = true
			_, exists := r.View.Catalogue.Accounts[a]
			_, elsewhere := steps.Ours(r, r.View.Catalogue.Grants(a))
			switch {
			case !exists || usedBy(r, account.Name) != "":
				continue
			case len(elsewhere) > 0:
				r.Plan.Note(work.StepAccount, "drop it by hand if nobody needs it", fmt.Sprintf("%s stays, locked: it has rights elsewhere: %s", a, strings.Join(elsewhere, ", ")))
				continue
			}
			r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Removed, Facts: a.String(), SQL: work.Texts([]dbms.Statement{r.View.Server.DropAccount(a)})},
				accountDropped.Of(a.String(), steps.AccountState{Exists: true}, steps.AccountState{}), nil)
		}
	}
	for _, d := range r.App.All() {
		for a, g := range r.View.Catalogue.Granted {
			held := g.Databases[r.View.Server.Pattern(d.Name)]
			if own[a] || len(held) == 0 || !r.View.Entry.DBMS.Traits().Privileges { // elsewhere they go with the database
				continue
			}
			steps.PlanRightsChange(r, work.Row{Step: work.StepRights, Outcome: work.Removed, Facts: fmt.Sprintf("%s of %s on %s", held, a, d.Name)}, steps.RightsState{Account: a, Database: d.Name, Held: held}, nil,
				r.View.Server.Revoke(held, r.View.Server.Pattern(d.Name), a), false)
		}
	}
}

// LookAtRetired is what provision and verify make of an app that is retired.
func LookAtRetired(r *work.Run, ctx context.Context) error {
	if was, err := FinishRetirement(r, ctx); err != nil || was == RetireBack {
		return err
	}
	r.Plan = r.EmptyPlan()
	dropped := true
	for _, d := range r.App.All() {
		dropped = dropped && !r.Exists(d.Name)
	}
	for _, account := range r.App.Accounts {
		for _, a := range r.AccountsOf(account) {
			if has, exists := r.View.Catalogue.Accounts[a]; exists && !has.Locked && usedBy(r, account.Name) == "" {
				r.Tell(work.Row{Step: work.StepAccount, Outcome: work.Differs, Severity: estate.MustFix, Facts: "the app is retired, and " + a.String() + " can still log in", Remedy: "yellowfield retire " + r.App.Name + " finishes it, and with --back takes it back"})
			}
		}
	}
	facts := "retired since " + r.App.Retired + ", and left alone"
	if dropped {
		facts = "retired since " + r.App.Retired + "; its database is gone"
	}
	r.Tell(work.Row{Step: work.StepState, Outcome: work.Kept, Facts: facts})
	return nil
}

// RefuseRetired is what other commands make of it.
func RefuseRetired(r *work.Run, _ context.Context) error {
	return work.AtStep(work.StepState, r.Estate.Fault(fault.Protected, r.Path("retired"), "yellowfield retire "+r.App.Name+" --back first", "app %s is retired since %s", r.App.Name, r.App.Retired))
}

// prove loads an export into a database of its own, with an account of its own and events
// that do not run, and compares what that holds with what was exported.
func prove(r *work.Run, ctx context.Context, d *estate.Database, path string, want *export.Report) error {
	like := r.View.Catalogue.Databases[d.Name]
	scratch, err := r.ScratchDatabase(ctx, like.Charset, like.Collation)
	if err != nil {
		return err
	}
	if err := content.LoadExport(r, ctx, scratch.Server, scratch.Database, like.Charset, path); err != nil {
		return err
	}
	got, err := r.ExporterOf(scratch.Server, scratch.Database).Export(ctx, io.Discard, export.Options{Sums: true}, nil)
	if err != nil {
		return content.ExportFailed(r, ctx, err)
	}
	if differences := export.Differences(want, got); len(differences) > 0 {
		return fault.New(fault.Protected, "was somebody at work in it? Look at these, and run the command again", "what was loaded again is not the same: %s", work.JoinSome(differences))
	}
	return nil
}
