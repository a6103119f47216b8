package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

func (r *run) planDatabases(context.Context) error {
	var errs []error
	for _, d := range r.app.All() {
		errs = append(errs, r.planDatabase(d))
	}
	return errors.Join(errs...)
}

func (r *run) planDatabase(d *estate.Database) error {
	if err := r.othersDatabase(d); err != nil {
		return err
	}
	want := dbms.Database{Name: d.Name}
	want.Charset, want.Collation = r.view.catalogue.OwnNames(d.Charset, d.Collation)
	facts := want.Name + ", " + want.Charset + " " + want.Collation
	has, exists := r.view.catalogue.Databases[want.Name]
	if has.Drift != "" {
		r.plan.differs(stepDatabase, estate.ShouldLook, "REINDEX DATABASE "+want.Name+", then ALTER DATABASE "+want.Name+" REFRESH COLLATION VERSION",
			fmt.Sprintf("%s was made with another version of its locale's rules (%s): indexes of text may miss rows", want.Name, has.Drift)).mayAccept(estate.FindingLocaleRules, want.Name)
	}
	switch {
	case exists && has.HalfDropped:
		return r.Estate.Fault(fault.Protected, r.path(d.Path()+".name"), "as the administrator: "+r.view.server.DropDatabase(want.Name)[0].String(),
			"dropping the database %s was cut off on server %s: what it held is lost, and nobody can log in there", want.Name, r.app.Server)
	case exists && has.Charset != want.Charset && r.options.fixes(fixCharset):
	case exists && has.Charset != want.Charset:
		return r.Estate.Fault(fault.Differs, r.path(d.Path()), "write its character set into the estate file; or yellowfield provision "+r.app.Name+" --fix charset, once yellowfield verify "+r.app.Name+" names nothing against it",
			"the database %s exists with the character set %s, not %s", want.Name, has.Charset, want.Charset)
	case exists && has.Collation != want.Collation:
		r.plan.differs(stepDatabase, estate.ShouldLook, "write its collation into the estate file, or ALTER DATABASE for tables made later",
			fmt.Sprintf("%s has the collation %s, not %s", want.Name, has.Collation, want.Collation)).mayAccept(estate.FindingDatabaseCollation, want.Name)
	case exists && has.HalfMade:
		r.planMaking(want, facts+"; an interrupted run had begun with it", r.view.server.FinishDatabase(want.Name))
	case exists:
		r.plan.keep(stepDatabase, facts)
	case d.Existing:
		return r.Estate.Fault(fault.Invalid, r.path(d.Path()+".name"), "ask whoever was to make it, or check its name",
			"the estate file says existing: true for the database %s, and server %s shows this login no such database", want.Name, r.app.Server)
	default:
		if err := r.checkCollation(want, r.path(d.Path())); err != nil {
			return err
		}
		r.planMaking(want, facts, r.view.server.CreateDatabase(want))
	}
	return nil
}

type worksOn struct {
	App    string `json:"app"`
	Estate string `json:"estate"`
}

// noteDatabases writes down whose the databases are.
func (r *run) noteDatabases() error {
	for _, d := range r.app.All() {
		var known worksOn
		now := worksOn{r.app.Name, r.Estate.Path}
		if found, err := r.State.Note(databases, r.databaseNote(d.Name), &known); err != nil || found && known == now {
			return err
		}
		if err := r.State.SetNote(databases, r.databaseNote(d.Name), now); err != nil {
			return err
		}
	}
	return nil
}

// othersDatabase refuses a database that is another app's of another estate file: its own
// file tells nothing of that one.
func (r *run) othersDatabase(d *estate.Database) error {
	var known worksOn
	if found, err := r.State.Note(databases, r.databaseNote(d.Name), &known); err != nil || !found || known.Estate == r.Estate.Path || r.app.Shared {
		return err
	}
	loaded, err := estate.Loader{}.LoadSome(known.Estate)
	if err != nil || loaded.Apps[known.App] == nil {
		return nil // it is no more
	}
	other := loaded.Apps[known.App]
	here := r.where(loaded.Servers[other.Server].Address()) == r.where(r.view.entry.Address())
	named := slices.ContainsFunc(other.All(), func(one *estate.Database) bool { return one.Name == d.Name })
	if !here || !named || other.Folder == r.app.Folder {
		return nil
	}
	return r.Estate.Fault(fault.Protected, r.path(d.Path()+".name"), "choose another name, or remove it there; shared: true lets both use it, with different prefixes",
		"the database %s is that of app %s in %s", d.Name, known.App, known.Estate)
}

func (r *run) planMaking(want dbms.Database, facts string, statements []dbms.Statement) {
	after := databaseState{Exists: true, Charset: want.Charset, Collation: want.Collation}
	r.plan.change(Row{Step: stepDatabase, Outcome: Made, Facts: facts, SQL: texts(statements)}, databaseMade.Of(want.Name, databaseState{}, after), statements)
}

// databaseState is a database as an effect has it.
type databaseState struct {
	Exists    bool   `json:"exists"`
	Charset   string `json:"charset,omitempty"`
	Collation string `json:"collation,omitempty"`
}

// databaseMade is one kind of change, see init.
var databaseMade = effect.Define[*run, databaseState](&kinds, "database")

func databaseObject(c effect.Change[databaseState]) string { return "database " + c.Subject }

func (r *run) lookAtDatabase(_ context.Context, c effect.Change[databaseState]) (effect.Standing, error) {
	if r.exists(c.Subject) == c.Before.Exists && len(r.view.server.LeftOfMaking(c.Subject)) == 0 {
		return effect.NotDone, nil
	}
	return effect.Done, nil
}

func init() {
	databaseMade.Means(effect.Spec[*run, databaseState]{
		Object: databaseObject, Look: (*run).lookAtDatabase,
		Do: func(r *run, ctx context.Context, d *effect.Doing[databaseState]) (string, error) {
			return "", r.send(ctx, &d.Touched, d.Material.([]dbms.Statement)...)
		},
		Undo: func(r *run, ctx context.Context, c effect.Change[databaseState]) error {
			now, err := r.now(ctx)
			if err != nil {
				return err
			}
			if _, exists := now.Databases[c.Subject]; exists {
				return r.dropOwnDatabase(ctx, c.Subject)
			}
			return r.view.server.Exec(ctx, r.view.server.LeftOfMaking(c.Subject)...)
		},
		Kept: func(*run, effect.Change[databaseState]) (why, next string) { return filled, dropByHand },
	})
}

func (r *run) checkCollation(want dbms.Database, path string) error {
	charset, known := r.view.catalogue.Collations[want.Collation]
	product := r.view.server.About().Product.Title() + " " + r.view.server.About().Version
	var names []string
	for name, of := range r.view.catalogue.Collations {
		if of == want.Charset {
			names = append(names, name)
		}
	}
	switch {
	case !r.view.catalogue.HasCharset(want.Charset):
		return r.Estate.Fault(fault.Invalid, path+".charset", "write utf8mb4, or one that SHOW CHARACTER SET lists",
			"%s has no character set %s", product, want.Charset)
	case !known:
		return r.Estate.Fault(fault.Invalid, path+".collation", fault.DidYouMean(want.Collation, names, r.view.entry.DBMS.Traits().WhereCollations),
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
func (r *run) dropOwnDatabase(ctx context.Context, name string) error {
	unlock := func() {}
	for account, c := range r.plan.credentials {
		for _, a := range r.accountsOf(account) {
			if state, exists := r.view.catalogue.Accounts[a]; exists && !state.Locked && c != nil {
				if err := r.view.server.Exec(ctx, r.view.server.LockAccount(a)); err != nil {
					return err
				}
				before := unlock
				unlock = func() { _ = r.view.server.Exec(ctx, r.view.server.UnlockAccount(a)); before() }
				_ = r.view.server.EndSessions(ctx, a)
			}
		}
	}
	defer func() { unlock() }()
	contents, err := r.view.server.Contents(ctx, name)
	if err != nil {
		return err
	}
	if !contents[name].Empty() {
		return fault.New(fault.Protected, "look at it, and drop it by hand if nothing in it is needed",
			"the database %s holds what this run did not make: %s", name, inventory(contents[name]))
	}
	return r.view.server.Exec(ctx, r.view.server.DropDatabase(name)...)
}
