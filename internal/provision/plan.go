package provision

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// plan is all that will be done for an app, decided before anything is.
type plan struct {
	steps []*step

	contents    map[string]dbms.Contents // of the app's databases, as they were
	credentials map[*estate.Account]*credential
	// fresh tells that this run makes the app's first account or gives it its
	// password: then whatever the settings file says cannot be in use.
	fresh bool
	// open tells whether the app is, or will be, open for its installer.
	open bool
	// stuck says why the app's own login cannot be used, so that what needs
	// it is not reached; empty when it can.
	stuck string
	// unmet says that something must be fixed without which the application could not
	// work or log in: then nothing is begun.
	unmet bool
	// failed is the place of the step that failed in the run.
	failed int
	// absent tells that the app's folder is not there yet.
	absent   bool
	settings *publication
	scripts  []*wantedScript // that will be imported
}

// step is one thing to do, or found to be done.
type step struct {
	Row // Outcome is what is, or what will be once act has succeeded
	// act makes the change and may replace the facts by what really came of
	// it; nil where there is nothing to do.
	act func(ctx context.Context) (facts string, err error)
	// undo takes the change back; nil where there is nothing to take back.
	undo func(ctx context.Context) error
	// touched is set by act as soon as something may have been changed, so
	// that it is undone also when act fails later.
	touched bool
	// object names what act makes, for the journal and for "undone".
	object string
	// silent steps tell no row of their own.
	silent bool
	// also are rows told behind the step's own.
	also []Row
}

func (p *plan) add(s *step) *step {
	p.steps = append(p.steps, s)
	return s
}

// send sends the statements of a step one by one. The step counts as touched
// once one of them succeeded, or may have: the server did not refuse it.
func (r *run) send(ctx context.Context, s *step, statements ...dbms.Statement) error {
	for _, statement := range statements {
		err := r.view.server.Exec(ctx, statement)
		s.touched = s.touched || !dbms.IsRefusal(err)
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *plan) keep(name, facts string) {
	p.add(&step{Row: Row{Step: name, Outcome: Kept, Facts: facts}})
}

// differs notes a difference that is left alone.
func (p *plan) differs(name string, severity estate.Severity, remedy, facts string) *step {
	if severity == estate.GoodToKnow {
		return p.note(name, remedy, facts)
	}
	return p.add(&step{Row: Row{Step: name, Outcome: Differs, Severity: severity, Facts: facts, Remedy: remedy}})
}

func (p *plan) note(name, remedy, facts string) *step {
	return p.add(&step{Row: Row{Step: name, Outcome: Note, Facts: facts, Remedy: remedy}})
}

// unmetError says that something must be fixed first; the rows that say what are in
// the plan.
type unmetError struct{}

func (*unmetError) Error() string { return "what must be fixed is named above" }

// makePlan looks at everything and decides. The error holds every fault
// found, each with its step; the plan then has the steps that could be told.
func (r *run) makePlan(ctx context.Context) error {
	r.plan = &plan{
		contents:    map[string]dbms.Contents{},
		credentials: map[*estate.Account]*credential{},
	}
	parts := []struct {
		step string
		plan func(context.Context) error
	}{
		{stepPHP, r.planPHP}, {stepDatabase, r.planDatabases}, {stepAccount, r.planAccounts}, {stepRights, r.planRights}, {stepRights, r.planHostRules},
		{stepSQL, r.planImport}, {stepSettings, r.planSettings}, {stepOwnership, r.planOwnership},
	}
	for _, d := range r.app.All() {
		r.plan.contents[d.Name] = r.view.catalogue.Contents[d.Name]
	}
	var errs []error
	if err := r.checkAdministrator(); err != nil {
		errs = append(errs, &stepError{"server", err})
	}
	for _, part := range parts {
		if r.options.Import != nil && part.step != stepAccount && part.step != stepSQL {
			continue
		}
		if err := part.plan(ctx); err != nil {
			errs = append(errs, &stepError{part.step, err})
		}
	}
	if r.plan.unmet {
		errs = append(errs, &unmetError{})
	}
	return errors.Join(errs...)
}

// checkAdministrator makes sure beforehand that the administrator may do all
// that the run could need, undoing included.
func (r *run) checkAdministrator() error {
	if !r.view.asAdmin() {
		return nil
	}
	var wanted dbms.Privileges
	for _, account := range r.app.Accounts {
		wanted = wanted.Plus(r.view.server.Resolve(account.Rights.Installing, dbms.Contents{})).Plus(r.view.server.Resolve(account.Rights.Running, dbms.Contents{}))
	}
	grants := r.view.catalogue.GrantsOf(r.view.server.CurrentUser())
	for _, d := range r.app.All() {
		if lacks := r.view.server.AdministratorLacks(grants, d.Name, wanted); len(lacks) > 0 {
			return fault.New(fault.Invalid, "grant them, WITH GRANT OPTION, or name another administrator in the estate file",
				"server %s: the administrator %s lacks rights for this: %s", r.app.Server, r.view.server.CurrentUser(), strings.Join(lacks, ", "))
		}
	}
	return nil
}

func (r *run) path(key string) string { return "apps." + r.app.Name + "." + key }

func (r *run) planDatabases(context.Context) error {
	var errs []error
	for _, d := range r.app.All() {
		errs = append(errs, r.planDatabase(d))
	}
	return errors.Join(errs...)
}

func (r *run) planDatabase(d *estate.Database) error {
	want := dbms.Database{Name: d.Name, Charset: d.Charset, Collation: d.Collation}
	facts := want.Name + ", " + want.Charset + " " + want.Collation
	has, exists := r.view.catalogue.Databases[want.Name]
	if has.Drift != "" {
		r.plan.differs(stepDatabase, estate.ShouldLook, "REINDEX DATABASE "+want.Name+", then ALTER DATABASE "+want.Name+" REFRESH COLLATION VERSION",
			fmt.Sprintf("%s was made with another version of its locale's rules (%s): indexes of text may miss rows", want.Name, has.Drift))
	}
	switch {
	case exists && has.Charset != want.Charset:
		return r.Estate.Fault(fault.Differs, r.path(d.Path()), "write its character set into the estate file, or convert it: ALTER DATABASE changes only what is made later",
			"the database %s exists with the character set %s, not %s", want.Name, has.Charset, want.Charset)
	case exists && has.Collation != want.Collation:
		r.plan.differs(stepDatabase, estate.ShouldLook, "write its collation into the estate file, or ALTER DATABASE for tables made later",
			fmt.Sprintf("%s has the collation %s, not %s", want.Name, has.Collation, want.Collation))
	case exists:
		r.plan.keep(stepDatabase, facts)
	case d.Existing:
		return r.Estate.Fault(fault.Invalid, r.path(d.Path()+".name"), "ask whoever was to make it, or check its name",
			"the database %s is said to exist, and server %s has none of that name for this login", want.Name, r.app.Server)
	default:
		if err := r.checkCollation(want, r.path(d.Path())); err != nil {
			return err
		}
		statements := r.view.server.CreateDatabase(want)
		s := r.plan.add(&step{
			Row: Row{Step: stepDatabase, Outcome: Made, Facts: facts, SQL: texts(statements)}, object: "database " + want.Name,
			undo: func(ctx context.Context) error { return r.dropOwnDatabase(ctx, want.Name) },
		})
		s.act = func(ctx context.Context) (string, error) { return "", r.send(ctx, s, statements...) }
	}
	return nil
}

func (r *run) checkCollation(want dbms.Database, path string) error {
	charset, known := r.view.catalogue.Collations[want.Collation]
	product := r.view.server.Facts().Product.Title() + " " + r.view.server.Facts().Version
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

// inventory names what a database holds, in short.
func inventory(c dbms.Contents) string {
	var names []string
	for _, t := range c.Tables {
		names = append(names, t.Name)
	}
	for _, list := range [][]dbms.Object{c.Routines, c.Events} {
		for _, o := range list {
			names = append(names, o.Name)
		}
	}
	const most = 4
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}
