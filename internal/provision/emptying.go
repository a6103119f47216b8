package provision

import (
	"context"
	"maps"
	"path/filepath"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/state"
)

// emptied is the note of a database that was emptied for an import. It is there until the
// import is through, or what was there is back; whoever finds it puts that back.
type emptied struct {
	App    string `json:"app"`
	Estate string `json:"estate"`
	Export string `json:"export"` // of what it held
}

const emptiedDatabases = "emptied-databases"

// everythingOf are the objects of a database that are the app's.
func (r *run) everythingOf(d *estate.Database, contents dbms.Contents) map[dbms.Object]bool {
	objects := maps.Clone(contents.Objects())
	if keep := r.belongs(d); keep != nil {
		maps.DeleteFunc(objects, func(o dbms.Object, _ bool) bool { return !keep(o.Name) })
	}
	return objects
}

// planEmptying exports a database and empties it for an import; what follows is planned for
// an empty one. If the import fails, what was there comes back from the export.
func (r *run) planEmptying(ctx context.Context, d *estate.Database) error {
	objects := r.everythingOf(d, r.plan.contents[d.Name])
	if len(objects) == 0 {
		return nil
	}
	if err := r.mayRestore(d); err != nil {
		return err
	}
	var leftOut []string
	path, err := r.exportPath(state.Automatic+"importing-into-", d)
	if err == nil {
		leftOut, err = r.planExport(ctx, d, exporting{step: stepSQL, path: path, automatic: true})
	}
	if err != nil {
		return err
	}
	if len(leftOut) > 0 {
		return fault.New(fault.Protected, "drop it by hand, or import into another database; yellowfield export "+r.app.Name+" --dry-run says why",
			"what cannot be exported of %s would be lost if the import failed: %s", d.Name, some(leftOut))
	}
	r.plan.change(Row{Step: stepSQL, Outcome: Removed, Facts: "from " + d.Name + ": " + inventory(r.plan.contents[d.Name])},
		databaseEmptied.Of(d.Name, emptiedState{Export: path}, emptiedState{}), objects)
	r.plan.contents[d.Name] = r.plan.contents[d.Name].Without(objects)
	return nil
}

// emptiedState is where a database's contents were exported to.
type emptiedState struct {
	Export string `json:"export,omitempty"`
}

// databaseEmptied is one kind of change, see init.
var databaseEmptied = effect.Define[*run, emptiedState](&kinds, "database-emptied")

func init() {
	databaseEmptied.Means(effect.Spec[*run, emptiedState]{
		Object: func(c effect.Change[emptiedState]) string { return "contents of " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[emptiedState]) (string, error) {
			if err := r.State.SetNote(emptiedDatabases, r.databaseNote(d.Subject), emptied{r.app.Name, r.Estate.Path, d.Before.Export}); err != nil {
				return "", err
			}
			d.Touched = true
			return "", r.view.server.RemoveObjects(ctx, d.Subject, d.Material.(map[dbms.Object]bool), nil)
		},
		Undo: func(r *run, ctx context.Context, c effect.Change[emptiedState]) error {
			for _, d := range r.app.All() {
				if d.Name != c.Subject {
					continue
				}
				r.plan.contents[d.Name] = r.view.catalogue.Contents[d.Name]
				var note emptied
				if found, err := r.State.Note(emptiedDatabases, r.unfinishedName(d), &note); err != nil || !found {
					return err // it was put back, or not begun
				}
				return r.restoreFrom(ctx, d, c.Before.Export)
			}
			return undoByHand("contents of " + c.Subject)
		},
		Kept: func(*run, effect.Change[emptiedState]) (why, next string) { return filled, dropByHand },
	})
}

// planEmptyingIsOver forgets, when the scripts are through, what was there before.
func (r *run) planEmptyingIsOver(d *estate.Database) {
	r.plan.prove(stepSQL, "end of the emptying of "+d.Name, func(context.Context) error {
		return r.State.DropNote(emptiedDatabases, r.unfinishedName(d))
	})
}

// mayRestore makes sure beforehand that the account may make again what it is to be able to
// restore.
func (r *run) mayRestore(d *estate.Database) error {
	if !r.view.asAdmin() {
		return nil
	}
	account := r.app.Accounts[0]
	wanted := r.view.server.Resolve(account.Rights.Installing, r.plan.contents[d.Name])
	for _, a := range r.accountsOf(account) {
		held, _ := r.view.server.HeldOn(d.Name, r.view.catalogue.Grants(a))
		if lacks := wanted.Minus(held); len(lacks) > 0 {
			return fault.New(fault.Protected, "yellowfield reopen "+r.app.Name+" first", "app %s is closed: %s lacks the rights to make tables: %s", r.app.Name, a, some(lacks))
		}
	}
	return nil
}

// finishEmptying puts back what databases held that imports had emptied which were cut off.
// A command that changes nothing says so.
func (r *run) finishEmptying(ctx context.Context) error {
	restored := false
	for _, d := range r.app.All() {
		var note emptied
		found, err := r.State.Note(emptiedDatabases, r.unfinishedName(d), &note)
		if err != nil {
			return err
		}
		if !found {
			continue
		}
		waits := Row{Step: stepSQL, Outcome: Differs, Severity: estate.MustFix, Facts: "an import of app " + note.App + " that was cut off had emptied " + d.Name + ": what it held is still to be put back",
			Place: &fault.Place{File: note.Export}, Remedy: "yellowfield provision " + note.App}
		switch {
		case r.options.DryRun || note.App != r.app.Name:
			r.tell(waits)
			continue
		case !r.exists(d.Name):
			return fault.At(fault.Protected, fault.Place{File: note.Export}, "remove the note in "+filepath.Join(r.State.Path(), emptiedDatabases)+" if nobody needs what it held",
				"an import that was cut off had emptied %s, and the database is gone", d.Name)
		}
		r.plan = r.emptyPlan()
		if r.plan.credentials[r.app.Accounts[0]], err = r.credentialOf(ctx, r.app.Accounts[0]); err != nil {
			return err
		}
		if err := r.restoreFrom(ctx, d, note.Export); err != nil {
			return err
		}
		restored = true
		waits.Outcome, waits.Severity, waits.Remedy, waits.Facts = Fixed, "", "", d.Name+" holds again what it held before an import that was cut off"
		r.tell(waits)
	}
	if restored {
		return r.look(ctx)
	}
	return nil
}

// restoreFrom loads an export in place of whatever is in the database.
func (r *run) restoreFrom(ctx context.Context, d *estate.Database, path string) error {
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			if r.view.asAdmin() {
				_ = r.view.server.EndSessions(ctx, a) // there may be none
			}
		}
	}
	contents, err := r.view.server.Contents(ctx, d.Name)
	if err == nil {
		err = r.view.server.RemoveObjects(ctx, d.Name, r.everythingOf(d, contents[d.Name]), nil)
	}
	if err != nil {
		return err
	}
	login, err := r.ownLogin(ctx, r.app.Accounts[0], d)
	if err != nil {
		return err
	}
	defer login.Close()
	if err := r.loadExport(ctx, login, d.Name, d.Charset, path); err != nil {
		f := fault.As(err)
		return fault.New(fault.Failed, "what it held is in "+path+": "+f.Next, "%s could not be restored: %s", d.Name, f.What).With(err)
	}
	if err := r.importIsOver(d); err != nil {
		return err
	}
	return r.State.DropNote(emptiedDatabases, r.unfinishedName(d))
}

// longestOfExports is how long a statement of theirs may be: the servers take no longer
// ones, and a row is one.
const longestOfExports = 1 << 30

// loadExport loads an export of ours into an empty database.
func (r *run) loadExport(ctx context.Context, login dbms.Server, database, charset, path string) error {
	importer, err := r.importerFor(ctx, load.Target{Database: database, Charset: charset})
	if err != nil {
		return err
	}
	source := script.Source{Path: path, Name: path, LongestStatement: longestOfExports}
	options := load.Options{EventsDisabled: strings.HasPrefix(database, scratchPrefix)}
	survey, err := importer.Check(ctx, source, options)
	if err == nil {
		err = refusals([]*wantedScript{{survey: survey}})
	}
	if err != nil {
		return err
	}
	_, err = r.importScript(ctx, login, &wantedScript{Source: source, importer: importer, survey: survey, options: options})
	return err
}
