package provision

import (
	"context"
	"path/filepath"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
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
	// wasOpen tells whether it was found so by a run that closes or opens it.
	wasOpen bool
	// stuck says why the app's own login cannot be used, so that what needs
	// it is not reached; empty when it can.
	stuck string
	// unmet says that something must be fixed without which the application could not
	// work or log in: then nothing is begun.
	unmet bool
	// dropped says that a database with rows is, or may be, gone: then nothing is undone, since
	// what stands would stand for nothing.
	dropped bool
	// stays says that something could not be taken back, so that the next run goes on with it.
	stays bool
	// failed is the place of the step that failed in the run.
	failed int
	// absent tells that the app's folder is not there yet.
	absent   bool
	settings *publication
	scripts  []*wantedScript // that will be imported
	charsets map[string]bool // tables whose character set the app's own scripts say
}

// action is what the machine does of a step.
type action = effect.Step

// step is one thing to do, or found to be done, with what is told of it.
type step struct {
	action
	Row // Outcome is what is, or what will be once the effect is done
	// silent steps tell no row of their own.
	silent bool
	// also are rows told behind the step's own.
	also []Row
}

// tell adds a step with nothing to do.
func (p *plan) tell(row Row) *step { return p.change(row, nil, nil) }

// change adds a step with an effect. Its material is what doing it takes, and what no journal
// may hold.
func (p *plan) change(row Row, e *effect.Effect, material any) *step {
	s := &step{action: action{Name: row.Step, Effect: e, Material: material}, Row: row}
	p.steps = append(p.steps, s)
	return s
}

// lastFirst puts the step that was added last before all others.
func (p *plan) lastFirst() {
	last := len(p.steps) - 1
	p.steps = append([]*step{p.steps[last]}, p.steps[:last]...)
}

// prove adds a step that tells no row and changes nothing that could be taken back.
func (p *plan) prove(name, object string, act func(context.Context) error) *step {
	s := p.change(Row{Step: name}, proofMade.Of(object, struct{}{}, struct{}{}), proof(func(ctx context.Context) (string, error) { return "", act(ctx) }))
	s.silent = true
	return s
}

// object names for people what a step makes or changes.
func (s *step) object() string { return kinds.Object(*s.Effect) }

// send sends the statements of a step one by one. The step counts as touched
// once one of them succeeded, or may have: the server did not refuse it.
func (r *run) send(ctx context.Context, touched *bool, statements ...dbms.Statement) error {
	for _, statement := range statements {
		err := r.view.server.Exec(ctx, statement)
		*touched = *touched || !dbms.IsRefusal(err) && !statement.ChangesNothing
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *plan) keep(name, facts string) {
	p.tell(Row{Step: name, Outcome: Kept, Facts: facts})
}

// differs notes a difference that is left alone.
func (p *plan) differs(name string, severity estate.Severity, remedy, facts string) *step {
	if severity == estate.GoodToKnow {
		return p.note(name, remedy, facts)
	}
	return p.tell(Row{Step: name, Outcome: Differs, Severity: severity, Facts: facts, Remedy: remedy})
}

// mayAccept gives a difference the code and the object by which it can be accepted.
func (s *step) mayAccept(finding, object string) { s.Finding, s.On = finding, object }

func (p *plan) note(name, remedy, facts string) *step {
	return p.tell(Row{Step: name, Outcome: Note, Facts: facts, Remedy: remedy})
}

// unmetError says that something must be fixed first; the rows that say what are in
// the plan.
type unmetError struct{}

func (*unmetError) Error() string { return "what must be fixed is named above" }

// emptyPlan is one without steps.
func (r *run) emptyPlan() *plan {
	p := &plan{contents: map[string]dbms.Contents{}, credentials: map[*estate.Account]*credential{}, charsets: map[string]bool{}, settings: &publication{}}
	for _, d := range r.app.All() {
		p.contents[d.Name] = r.view.catalogue.Contents[d.Name]
	}
	return p
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

// wantedScript is one script of the import with what is known of it.
type wantedScript struct {
	script.Source
	into    *estate.Database
	options load.Options
	// importer and survey are there once the script was read.
	importer load.Importer
	survey   *load.Survey
}

// title names a script, and its database where there are several.
func (s *wantedScript) title() string {
	if s.into.Key != "" {
		return filepath.Base(s.Name) + " into " + s.into.Name
	}
	return filepath.Base(s.Name)
}

// describe says what a script holds.
func (s *wantedScript) describe() string {
	facts := s.title() + ": " + figures.Size(s.survey.Length) + ", " + figures.Counted(s.survey.Statements, "statement", "statements")
	if n := len(s.survey.Tables); n > 0 {
		facts += ", " + figures.Counted(n, "table", "tables")
	}
	if s.survey.Rows > 0 {
		facts += ", " + figures.Counted(s.survey.Rows, "row", "rows")
	}
	for _, kind := range []string{"VIEW", "TRIGGER", "FUNCTION", "PROCEDURE", "EVENT", "SEQUENCE", "TYPE"} {
		if n := s.survey.Defines[kind]; n > 0 {
			noun := strings.ToLower(kind)
			facts += ", " + figures.Counted(n, noun, noun+"s")
		}
	}
	return facts
}
