package work

import (
	"context"
	"path/filepath"
	"slices"
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
	Steps []*Step

	Contents    map[string]dbms.Contents // of the app's databases, as they were
	Credentials map[*estate.Account]*Credential
	// Fresh tells that this run makes the app's first account or gives it its
	// password: then whatever the settings file says cannot be in use.
	Fresh bool
	// Open tells whether the app is, or will be, open for its installer.
	Open bool
	// WasOpen tells whether it was found so by a run that closes or opens it.
	WasOpen bool
	// Stuck says why the app's own login cannot be used, so that what needs it is not reached;
	// empty when it can.
	LoginBlocked string
	// Unmet says that something must be fixed without which the application could not
	// work or log in: then nothing is begun.
	Unmet bool
	// Dropped says that a database with rows is, or may be, gone: then nothing is undone, since
	// what stands would stand for nothing.
	Dropped bool
	// stays says that something could not be taken back, so that the next run goes on with it.
	stays bool
	// failed is the place of the step that failed in the run.
	failed int
	// Absent tells that the app's folder is not there yet.
	Absent   bool
	Settings *Publication
	Scripts  []*WantedScript // that will be imported
	Charsets map[string]bool // tables whose character set the app's own scripts say
}

// Action is what the machine does of a step.
type Action = effect.Step

// Step is one thing to do, or found to be done, with what is told of it.
type Step struct {
	Action
	Row // Outcome is what is, or what will be once the effect is done
	// Silent steps tell no row of their own.
	Silent bool
	// Also are rows told after the step's own.
	Also []Row
}

// Tell adds a step with nothing to do.
func (p *plan) Tell(row Row) *Step { return p.Change(row, nil, nil) }

// Change adds a step with an effect. Its material is what doing it takes, and what no journal
// may hold.
func (p *plan) Change(row Row, e *effect.Effect, material any) *Step {
	s := &Step{Action: Action{Name: row.Step, Effect: e, Material: material}, Row: row}
	p.Steps = append(p.Steps, s)
	return s
}

// LastFirst moves the step that was added last to the front.
func (p *plan) LastFirst() { p.LastTo(0) }

// LastTo moves the step that was added last to a place.
func (p *plan) LastTo(at int) {
	last := len(p.Steps) - 1
	p.Steps = slices.Insert(p.Steps[:last:last], at, p.Steps[last])
}

// LastBefore moves the step that was added last before the first one of a name.
func (p *plan) LastBefore(name string) {
	if at := slices.IndexFunc(p.Steps, func(s *Step) bool { return s.Step == name }); at >= 0 {
		p.LastTo(at)
	}
}

// Prove adds a step that tells no row and changes nothing that could be taken back.
func (p *plan) Prove(name, object string, act func(context.Context) error) *Step {
	s := p.Change(Row{Step: name}, proofMade.Of(object, struct{}{}, struct{}{}), Proof(func(ctx context.Context) (string, error) { return "", act(ctx) }))
	s.Silent = true
	return s
}

// Object names for people what a step makes or changes.
func (s *Step) Object() string { return Kinds.Object(*s.Effect) }

// Send sends the statements of a step one by one. The step counts as touched
// once one of them succeeded, or may have: the server did not refuse it.
func (r *Run) Send(ctx context.Context, touched *bool, statements ...dbms.Statement) error {
	for _, statement := range statements {
		err := r.View.Server.Exec(ctx, statement)
		*touched = *touched || !dbms.IsRefusal(err) && !statement.ChangesNothing
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *plan) Keep(name, facts string) {
	p.Tell(Row{Step: name, Outcome: Kept, Facts: facts})
}

// Differs records a difference that is left alone.
func (p *plan) Differs(name string, severity estate.Severity, remedy, facts string) *Step {
	if severity == estate.GoodToKnow {
		return p.Note(name, remedy, facts)
	}
	return p.Tell(Row{Step: name, Outcome: Differs, Severity: severity, Facts: facts, Remedy: remedy})
}

// MayAccept gives a difference the code and the object by which it can be accepted.
func (s *Step) MayAccept(finding, object string) { s.Finding, s.On = finding, object }

func (p *plan) Note(name, remedy, facts string) *Step {
	return p.Tell(Row{Step: name, Outcome: Note, Facts: facts, Remedy: remedy})
}

// UnmetError says that something must be fixed first; the rows that say what are in
// the plan.
type UnmetError struct{}

func (*UnmetError) Error() string { return "what must be fixed is named above" }

// EmptyPlan is one without steps.
func (r *Run) EmptyPlan() *plan {
	p := &plan{Contents: map[string]dbms.Contents{}, Credentials: map[*estate.Account]*Credential{}, Charsets: map[string]bool{}, Settings: &Publication{}}
	for _, d := range r.App.All() {
		p.Contents[d.Name] = r.View.Catalogue.Contents[d.Name]
	}
	return p
}

// CheckAdministrator makes sure beforehand that the administrator may do everything that the
// run could need, including undo.
func (r *Run) CheckAdministrator() error {
	if !r.View.AsAdmin() {
		return nil
	}
	var wanted dbms.Privileges
	for _, account := range r.App.Accounts {
		wanted = wanted.Plus(r.View.Server.Resolve(account.Rights.Installing, dbms.Contents{})).Plus(r.View.Server.Resolve(account.Rights.Running, dbms.Contents{}))
	}
	grants := r.View.Catalogue.GrantsOf(r.View.Server.CurrentUser())
	for _, d := range r.App.All() {
		if lacks := r.View.Server.AdministratorLacks(grants, d.Name, wanted); len(lacks) > 0 {
			return fault.New(fault.Invalid, "grant them, WITH GRANT OPTION, or name another administrator in the estate file",
				"server %s: the administrator %s lacks rights for this: %s", r.App.Server, r.View.Server.CurrentUser(), strings.Join(lacks, ", "))
		}
	}
	return nil
}

// WantedScript is one script of the import with what is known of it.
type WantedScript struct {
	script.Source
	Into    *estate.Database
	Options load.Options
	// Importer and survey are there once the script was read.
	Importer load.Importer
	Survey   *load.Survey
}

// Title names a script, and its database where there are several.
func (s *WantedScript) Title() string {
	if s.Into.Key != "" {
		return filepath.Base(s.Name) + " into " + s.Into.Name
	}
	return filepath.Base(s.Name)
}

// Describe says what a script holds.
func (s *WantedScript) Describe() string {
	facts := s.Title() + ": " + figures.Size(s.Survey.Length) + ", " + figures.Counted(s.Survey.Statements, "statement", "statements")
	if n := len(s.Survey.Tables); n > 0 {
		facts += ", " + figures.Counted(n, "table", "tables")
	}
	if s.Survey.Rows > 0 {
		facts += ", " + figures.Counted(s.Survey.Rows, "row", "rows")
	}
	for _, kind := range []string{"VIEW", "TRIGGER", "FUNCTION", "PROCEDURE", "EVENT", "SEQUENCE", "TYPE"} {
		if n := s.Survey.Defines[kind]; n > 0 {
			noun := strings.ToLower(kind)
			facts += ", " + figures.Counted(n, noun, noun+"s")
		}
	}
	return facts
}
