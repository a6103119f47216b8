package content

import (
	"context"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// emptied is the note of a database that was emptied for an import. It is there until the
// import is through, or what was there is back; the next run that finds it restores the
// contents.
type emptied struct {
	App    string `json:"app"`
	Estate string `json:"estate"`
	Export string `json:"export"` // of what it held
	// Back says that what it held is back, while the journal of the import that was cut off
	// is still open.
	Back bool `json:"back,omitempty"`
}

const emptiedDatabases = "emptied-databases"

// everythingOf are the objects of a database that are the app's.
func everythingOf(r *work.Run, d *estate.Database, contents dbms.Contents) map[dbms.Object]bool {
	objects := maps.Clone(contents.Objects())
	if keep := belongs(r, d); keep != nil {
		maps.DeleteFunc(objects, func(o dbms.Object, _ bool) bool { return !keep(o.Name) })
	}
	return objects
}

// planEmptying exports a database and empties it for an import; what follows is planned for
// an empty one. If the import fails, what was there comes back from the export.
func planEmptying(r *work.Run, ctx context.Context, d *estate.Database) error {
	objects := everythingOf(r, d, r.Plan.Contents[d.Name])
	if len(objects) == 0 {
		return nil
	}
	if err := mayRestore(r, d); err != nil {
		return err
	}
	var leftOut []string
	path, err := ExportPath(r, state.Automatic+"importing-into-", d)
	if err == nil {
		leftOut, err = PlanExport(r, ctx, d, Exporting{Step: work.StepSQL, Path: path, Automatic: true})
	}
	if err != nil {
		return err
	}
	if len(leftOut) > 0 {
		return fault.New(fault.Protected, "drop it by hand, or import into another database; yellowfield export "+r.App.Name+" --dry-run says why",
			"what cannot be exported of %s would be lost if the import failed: %s", d.Name, work.JoinSome(leftOut))
	}
	r.Plan.Change(work.Row{Step: work.StepSQL, Outcome: work.Removed, Facts: "from " + d.Name + ": " + work.Inventory(r.Plan.Contents[d.Name])},
		DatabaseEmptied.Of(d.Name, EmptiedState{Export: path}, EmptiedState{}), objects)
	r.Plan.Contents[d.Name] = r.Plan.Contents[d.Name].Without(objects)
	return nil
}

// EmptiedState is where a database's contents were exported to.
type EmptiedState struct {
	Export string `json:"export,omitempty"`
}

// DatabaseEmptied is one kind of change, see init.
var DatabaseEmptied = effect.Define[*work.Run, EmptiedState](&work.Kinds, "database-emptied")

func init() {
	DatabaseEmptied.Means(effect.Spec[*work.Run, EmptiedState]{
		Object: func(c effect.Change[EmptiedState]) string { return "contents of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[EmptiedState]) (string, error) {
			if err := r.State.SetNote(emptiedDatabases, r.DatabaseNote(d.Subject), emptied{App: r.App.Name, Estate: r.Estate.Path, Export: d.Before.Export}); err != nil {
				return "", err
			}
			d.Touched = true
			return "", r.View.Server.RemoveObjects(ctx, d.Subject, d.Material.(map[dbms.Object]bool), nil)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[EmptiedState]) error {
			for _, d := range r.App.All() {
				if d.Name != c.Subject {
					continue
				}
				r.Plan.Contents[d.Name] = r.View.Catalogue.Contents[d.Name]
				var note emptied
				if found, err := r.State.Note(emptiedDatabases, UnfinishedName(r, d), &note); err != nil || !found {
					return err // it was put back, or not begun
				}
				if err := restoreFrom(r, ctx, d, c.Before.Export); err != nil {
					return err
				}
				return r.State.DropNote(emptiedDatabases, UnfinishedName(r, d))
			}
			return work.UndoByHand("contents of " + c.Subject)
		},
		Kept: func(*work.Run, effect.Change[EmptiedState]) (why, next string) { return work.Filled, work.DropByHand },
	})
}

// EmptyingOver is one kind of change: the scripts are through, and nobody has to put back
// what was there before. See init.
var EmptyingOver = effect.Define[*work.Run, EmptiedState](&work.Kinds, "emptying-over")

func init() {
	EmptyingOver.Means(effect.Spec[*work.Run, EmptiedState]{
		Object: func(c effect.Change[EmptiedState]) string { return "note that " + c.Subject + " was emptied" },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[EmptiedState]) (string, error) {
			d.Touched = true
			return "", r.State.DropNote(emptiedDatabases, r.DatabaseNote(d.Subject))
		},
		Undo: func(r *work.Run, _ context.Context, c effect.Change[EmptiedState]) error {
			return r.State.SetNote(emptiedDatabases, r.DatabaseNote(c.Subject), emptied{App: r.App.Name, Estate: r.Estate.Path, Export: c.Before.Export})
		},
		Kept: func(*work.Run, effect.Change[EmptiedState]) (why, next string) { return work.Filled, work.DropByHand },
	})
}

// planEmptyingIsOver forgets, when the scripts are through, what was there before.
func planEmptyingIsOver(r *work.Run, d *estate.Database) {
	for _, s := range r.Plan.Steps {
		if e := s.Effect; e != nil && e.Kind == DatabaseEmptied.Name && e.Subject == d.Name {
			r.Plan.Change(work.Row{Step: work.StepSQL}, &effect.Effect{Kind: EmptyingOver.Name, Subject: e.Subject, Before: e.Before}, nil).Silent = true
			return
		}
	}
}

// WithoutPutBack leaves out the emptying of databases whose contents were put back, and
// what was imported into them meanwhile, which went with that. It takes what is left with
// the newest first.
func WithoutPutBack(r *work.Run, left []effect.Left) (still []effect.Left, err error) {
	putBack := map[string]bool{}
	for _, d := range r.App.All() {
		var note emptied
		if _, err := r.State.Note(emptiedDatabases, UnfinishedName(r, d), &note); err != nil {
			return nil, err
		}
		putBack[d.Name] = note.Back
	}
	for _, l := range slices.Backward(left) {
		database := l.Subject
		if l.Kind == SqlImported.Name {
			c, err := SqlImported.Change(l.Effect)
			if err != nil {
				return nil, err
			}
			database = c.After.Database
		} else if l.Kind != DatabaseEmptied.Name && l.Kind != EmptyingOver.Name {
			database = ""
		}
		if !putBack[database] {
			still = append(still, l)
		}
	}
	slices.Reverse(still)
	return still, nil
}

// mayRestore makes sure beforehand that the account may make again what it is to be able to
// restore.
func mayRestore(r *work.Run, d *estate.Database) error {
	if !r.View.AsAdmin() {
		return nil
	}
	account := r.App.Accounts[0]
	wanted := r.View.Server.Resolve(account.Rights.Installing, r.Plan.Contents[d.Name])
	for _, a := range r.AccountsOf(account) {
		held, _ := r.View.Server.HeldOn(d.Name, r.View.Catalogue.Grants(a))
		if lacks := wanted.Minus(held); len(lacks) > 0 {
			return fault.New(fault.Protected, "yellowfield reopen "+r.App.Name+" first", "app %s is closed: %s lacks the rights to make tables: %s", r.App.Name, a, work.JoinSome(lacks))
		}
	}
	return nil
}

// FinishEmptying puts back what databases held that imports had emptied which were cut off.
// A command that changes nothing says so.
func FinishEmptying(r *work.Run, ctx context.Context) error {
	restored := false
	for _, d := range r.App.All() {
		var note emptied
		found, err := r.State.Note(emptiedDatabases, UnfinishedName(r, d), &note)
		if err != nil {
			return err
		}
		if !found || note.Back {
			continue
		}
		waits := work.Row{Step: work.StepSQL, Outcome: work.Differs, Severity: estate.MustFix, Facts: "an import of app " + note.App + " that was cut off had emptied " + d.Name + ": what it held is still to be put back",
			Place: &fault.Place{File: note.Export}, Remedy: "yellowfield provision " + note.App}
		switch {
		case r.Options.DryRun || note.App != r.App.Name:
			r.Tell(waits)
			continue
		case !r.Exists(d.Name):
			return fault.At(fault.Protected, fault.Place{File: note.Export}, "remove the note in "+filepath.Join(r.State.Path(), emptiedDatabases)+" if nobody needs what it held",
				"an import that was cut off had emptied %s, and the database is gone", d.Name)
		}
		r.Plan = r.EmptyPlan()
		if r.Plan.Credentials[r.App.Accounts[0]], err = r.CredentialOf(ctx, r.App.Accounts[0]); err != nil {
			return err
		}
		if err := restoreFrom(r, ctx, d, note.Export); err != nil {
			return err
		}
		if note.Back = true; r.Interrupted == nil {
			err = r.State.DropNote(emptiedDatabases, UnfinishedName(r, d))
		} else {
			err = r.State.SetNote(emptiedDatabases, UnfinishedName(r, d), note)
		}
		if err != nil {
			return err
		}
		restored = true
		waits.Outcome, waits.Severity, waits.Remedy, waits.Facts = work.Fixed, "", "", d.Name+" holds again what it held before an import that was cut off"
		r.Tell(waits)
	}
	if restored {
		return r.Look(ctx)
	}
	return nil
}

// restoreFrom loads an export in place of whatever is in the database.
func restoreFrom(r *work.Run, ctx context.Context, d *estate.Database, path string) error {
	for _, account := range r.App.Accounts {
		for _, a := range r.AccountsOf(account) {
			if r.View.AsAdmin() {
				_ = r.View.Server.EndSessions(ctx, a) // there may be none
			}
		}
	}
	contents, err := r.View.Server.Contents(ctx, d.Name)
	if err == nil {
		err = r.View.Server.RemoveObjects(ctx, d.Name, everythingOf(r, d, contents[d.Name]), nil)
	}
	if err != nil {
		return err
	}
	login, err := r.OwnLogin(ctx, r.App.Accounts[0], d)
	if err != nil {
		return err
	}
	defer login.Close()
	if err := LoadExport(r, ctx, login, d.Name, d.Charset, path); err != nil {
		f := fault.As(err)
		return fault.New(fault.Failed, "what it held is in "+path+": "+f.Next, "%s could not be restored: %s", d.Name, f.What).With(err)
	}
	return ImportIsOver(r, d)
}

// ForgetPutBack is for when the journal of the import that was cut off is ended.
func ForgetPutBack(r *work.Run) error {
	for _, d := range r.App.All() {
		var note emptied
		found, err := r.State.Note(emptiedDatabases, UnfinishedName(r, d), &note)
		if err == nil && found && note.Back {
			err = r.State.DropNote(emptiedDatabases, UnfinishedName(r, d))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// LongestOfExports is how long a statement of theirs may be: the servers take no longer
// ones, and a row is one.
const LongestOfExports = 1 << 30

// LoadExport loads an export of ours into an empty database.
func LoadExport(r *work.Run, ctx context.Context, login dbms.Server, database, charset, path string) error {
	importer, err := r.ImporterFor(ctx, load.Target{Database: database, Charset: charset})
	if err != nil {
		return err
	}
	source := script.Source{Path: path, Name: path, LongestStatement: LongestOfExports}
	options := load.Options{EventsDisabled: strings.HasPrefix(database, dbms.ScratchPrefix)}
	survey, err := importer.Check(ctx, source, options)
	if err == nil {
		err = Refusals([]*work.WantedScript{{Survey: survey}})
	}
	if err != nil {
		return err
	}
	_, err = ImportScript(r, ctx, login, &work.WantedScript{Source: source, Importer: importer, Survey: survey, Options: options})
	return err
}
