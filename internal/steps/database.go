// Package steps plans what makes an app usable, and defines what its changes mean: PHP's
// configuration, databases, accounts, rights, host-based rules, settings files, owners and modes.
//
// It must never know what databases hold, or which command is running beyond its options.
package steps

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/work"
)

func PlanDatabases(r *work.Run, _ context.Context) error {
	var errs []error
	for _, d := range r.App.All() {
		errs = append(errs, planDatabase(r, d))
	}
	return errors.Join(errs...)
}

func planDatabase(r *work.Run, d *estate.Database) error {
	if err := othersDatabase(r, d); err != nil {
		return err
	}
	want := dbms.Database{Name: d.Name}
	want.Charset, want.Collation = r.View.Catalogue.OwnNames(d.Charset, d.Collation)
	facts := want.Name + ", " + want.Charset + " " + want.Collation
	has, exists := r.View.Catalogue.Databases[want.Name]
	if has.Drift != "" {
		r.Plan.Differs(work.StepDatabase, estate.ShouldLook, "REINDEX DATABASE "+want.Name+", then ALTER DATABASE "+want.Name+" REFRESH COLLATION VERSION",
			fmt.Sprintf("%s was made with another version of its locale's rules (%s): indexes of text may miss rows", want.Name, has.Drift)).MayAccept(estate.FindingLocaleRules, want.Name)
	}
	if freezer, is := r.View.Server.(dbms.Freezes); is && has.ReadOnly {
		for _, lifts := range freezer.ReadOnly(want.Name, false) {
			r.Plan.Differs(work.StepDatabase, estate.MustFix, lifts.String(), want.Name+" is read-only, so that the application cannot write; a move that was cut off leaves it so")
		}
	}
	switch {
	case exists && has.HalfDropped:
		return r.Estate.Fault(fault.Protected, r.Path(d.Path()+".name"), "as the administrator: "+r.View.Server.DropDatabase(want.Name)[0].String(),
			"dropping the database %s was cut off on server %s: what it held is lost, and nobody can log in there", want.Name, r.App.Server)
	case exists && has.Charset != want.Charset && r.Options.Fixes(work.FixCharset):
	case exists && has.Charset != want.Charset:
		return r.Estate.Fault(fault.Differs, r.Path(d.Path()), "write its character set into the estate file; or yellowfield provision "+r.App.Name+" --fix charset, once yellowfield verify "+r.App.Name+" names nothing against it",
			"the database %s exists with the character set %s, not %s", want.Name, has.Charset, want.Charset)
	case exists && has.Collation != want.Collation:
		r.Plan.Differs(work.StepDatabase, estate.ShouldLook, "write its collation into the estate file, or ALTER DATABASE for tables made later",
			fmt.Sprintf("%s has the collation %s, not %s", want.Name, has.Collation, want.Collation)).MayAccept(estate.FindingDatabaseCollation, want.Name)
	case exists && has.HalfMade:
		PlanMaking(r, want, facts+"; an interrupted run had begun with it", r.View.Server.FinishDatabase(want.Name))
	case exists:
		r.Plan.Keep(work.StepDatabase, facts)
	case d.Existing:
		return r.Estate.Fault(fault.Invalid, r.Path(d.Path()+".name"), "ask whoever was to make it, or check its name",
			"the estate file says existing: true for the database %s, and server %s shows this login no such database", want.Name, r.App.Server)
	default:
		if err := checkCollation(r, want, r.Path(d.Path())); err != nil {
			return err
		}
		PlanMaking(r, want, facts, r.View.Server.CreateDatabase(want))
	}
	return nil
}

type worksOn struct {
	App    string `json:"app"`
	Estate string `json:"estate"`
}

// NoteDatabases writes down whose the databases are.
func NoteDatabases(r *work.Run) error {
	for _, d := range r.App.All() {
		var known worksOn
		now := worksOn{r.App.Name, r.Estate.Path}
		if found, err := r.State.Note(work.Databases, r.DatabaseNote(d.Name), &known); err != nil || found && known == now {
			return err
		}
		if err := r.State.SetNote(work.Databases, r.DatabaseNote(d.Name), now); err != nil {
			return err
		}
	}
	return nil
}

// othersDatabase refuses a database that is another app's of another estate file: its own
// file tells nothing of that one.
func othersDatabase(r *work.Run, d *estate.Database) error {
	var known worksOn
	if found, err := r.State.Note(work.Databases, r.DatabaseNote(d.Name), &known); err != nil || !found || known.Estate == r.Estate.Path || r.App.Shared {
		return err
	}
	loaded, err := estate.Loader{}.LoadSome(known.Estate)
	if err != nil || loaded.Apps[known.App] == nil {
		return nil // it is no more
	}
	other := loaded.Apps[known.App]
	here := r.Where(loaded.Servers[other.Server].Address()) == r.Where(r.View.Entry.Address())
	named := slices.ContainsFunc(other.All(), func(one *estate.Database) bool { return one.Name == d.Name })
	if !here || !named || other.Folder == r.App.Folder {
		return nil
	}
	return r.Estate.Fault(fault.Protected, r.Path(d.Path()+".name"), "choose another name, or remove it there; shared: true lets both use it, with different prefixes",
		"the database %s is that of app %s in %s", d.Name, known.App, known.Estate)
}

func PlanMaking(r *work.Run, want dbms.Database, facts string, statements []dbms.Statement) {
	after := DatabaseState{Exists: true, Charset: want.Charset, Collation: want.Collation}
	r.Plan.Change(work.Row{Step: work.StepDatabase, Outcome: work.Made, Facts: facts, SQL: work.Texts(statements)}, DatabaseMade.Of(want.Name, DatabaseState{}, after), statements)
}

// DatabaseState is a database as an effect has it.
type DatabaseState struct {
	Exists    bool   `json:"exists"`
	Charset   string `json:"charset,omitempty"`
	Collation string `json:"collation,omitempty"`
}

// DatabaseMade is one kind of change, see init.
var DatabaseMade = effect.Define[*work.Run, DatabaseState](&work.Kinds, "database")

func DatabaseObject(c effect.Change[DatabaseState]) string { return "database " + c.Subject }

func LookAtDatabase(r *work.Run, _ context.Context, c effect.Change[DatabaseState]) (effect.Standing, error) {
	if r.Exists(c.Subject) == c.Before.Exists && (c.Before.Exists || len(leftOf(r, c.Subject)) == 0) {
		return effect.NotDone, nil
	}
	return effect.Done, nil
}

// leftOf removes what is left of a database that is not there: its making was cut off before it
// was, or its dropping after it was gone.
func leftOf(r *work.Run, database string) []dbms.Statement {
	return append(r.View.Server.LeftOfMaking(database), r.View.Server.LeftOfDropping(database)...)
}

func init() {
	DatabaseMade.Means(effect.Spec[*work.Run, DatabaseState]{
		Object: DatabaseObject, Look: LookAtDatabase,
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[DatabaseState]) (string, error) {
			return "", r.Send(ctx, &d.Touched, d.Material.([]dbms.Statement)...)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[DatabaseState]) error {
			now, err := r.Now(ctx)
			if err != nil {
				return err
			}
			if _, exists := now.Databases[c.Subject]; exists {
				return dropOwnDatabase(r, ctx, c.Subject)
			}
			return r.View.Server.Exec(ctx, leftOf(r, c.Subject)...)
		},
		Kept: func(*work.Run, effect.Change[DatabaseState]) (why, next string) { return work.Filled, work.DropByHand },
	})
}

func checkCollation(r *work.Run, want dbms.Database, path string) error {
	charset, known := r.View.Catalogue.Collations[want.Collation]
	product := r.View.Server.About().Product.Title() + " " + r.View.Server.About().Version
	var names []string
	for name, of := range r.View.Catalogue.Collations {
		if of == want.Charset {
			names = append(names, name)
		}
	}
	switch {
	case !r.View.Catalogue.HasCharset(want.Charset):
		return r.Estate.Fault(fault.Invalid, path+".charset", "write utf8mb4, or one that SHOW CHARACTER SET lists",
			"%s has no character set %s", product, want.Charset)
	case !known:
		return r.Estate.Fault(fault.Invalid, path+".collation", fault.DidYouMean(want.Collation, names, r.View.Entry.DBMS.Traits().WhereCollations),
			"%s has no collation %s", product, want.Collation)
	case charset != want.Charset:
		return r.Estate.Fault(fault.Invalid, path+".collation", "name one that begins with "+want.Charset+"_",
			"the collation %s belongs to %s, not to %s", want.Collation, charset, want.Charset)
	}
	return nil
}

// dropOwnDatabase undoes the making of a database: only while it holds
// nothing, and with the app's accounts locked out, so that nothing can come
// in between the look and the drop.
func dropOwnDatabase(r *work.Run, ctx context.Context, name string) error {
	unlock := func() {}
	for account, c := range r.Plan.Credentials {
		for _, a := range r.AccountsOf(account) {
			if state, exists := r.View.Catalogue.Accounts[a]; exists && !state.Locked && c != nil {
				if err := r.View.Server.Exec(ctx, r.View.Server.LockAccount(a)); err != nil {
					return err
				}
				before := unlock
				unlock = func() { _ = r.View.Server.Exec(ctx, r.View.Server.UnlockAccount(a)); before() }
				_ = r.View.Server.EndSessions(ctx, a)
			}
		}
	}
	defer func() { unlock() }()
	contents, err := r.View.Server.Contents(ctx, name)
	if err != nil {
		return err
	}
	if !contents[name].Empty() {
		return fault.New(fault.Protected, "look at it, and drop it by hand if nothing in it is needed",
			"the database %s holds what this run did not make: %s", name, work.Inventory(contents[name]))
	}
	return r.View.Server.Exec(ctx, r.View.Server.DropDatabase(name)...)
}
