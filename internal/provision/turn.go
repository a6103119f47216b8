package provision

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/state"
)

// Turn brings an app into one of its two states: closed for running, or open for
// installing and upgrading.
type Turn struct {
	Close bool
	// For is how long an app is to stay open; 0 for no limit. verify reports one that is
	// open for longer.
	For time.Duration
	// Overdue closes apps that were to be closed by now: nobody is asked anything.
	Overdue bool
	// WithoutExport opens without exporting the databases first.
	WithoutExport bool
	// Delete removes installer files for good; else they are kept for a while.
	Delete bool
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
	// Acknowledge is asked whether the app's notes were read and followed; nil says no.
	Acknowledge func(app string, notes []string) bool
}

// turnSteps are the steps of a plan that closing and opening do.
var turnSteps = []string{stepExport, stepRights, stepOwnership, stepInstaller, stepLogin}

// Close closes apps for running: rights, modes and installer files.
func (e *Engine) Close(ctx context.Context, apps []*estate.App, options Options) ([]Result, error) {
	return e.turn(ctx, apps, options)
}

// Reopen opens apps for an upgrade.
func (e *Engine) Reopen(ctx context.Context, apps []*estate.App, options Options) ([]Result, error) {
	return e.turn(ctx, apps, options)
}

func (e *Engine) turn(ctx context.Context, apps []*estate.App, options Options) ([]Result, error) {
	options.Only = turnSteps
	return e.each(ctx, apps, options, (*run).turn)
}

func (r *run) turn(ctx context.Context) error {
	err := r.makePlan(ctx)
	if err == nil {
		err = r.mayTurn()
	}
	t := r.options.Turn
	if err == nil && !t.Close && !t.WithoutExport && !r.plan.wasOpen {
		err = r.planExportsFirst(ctx)
	}
	if err != nil {
		return r.tellPlanFaults(err)
	}
	if r.options.DryRun || t.Confirm != nil && r.hasWork() {
		r.preview()
	}
	if r.options.DryRun {
		return nil
	}
	if t.Confirm != nil && r.hasWork() && !t.Confirm(r.app.Name) {
		return &stepError{stepState, fault.New(fault.Protected, "answer yes, or add --yes", "nothing was done")}
	}
	if t.Close && !t.Overdue {
		if err := r.acknowledgeNotes(); err != nil {
			return err
		}
	}
	if !t.Close {
		if err := r.noteOpening(); err != nil {
			return err
		}
	}
	if err := r.execute(ctx); err != nil {
		return &toldError{err}
	}
	if t.Close {
		if err := r.State.DropNote(openApps, r.noteName()); err != nil {
			return err
		}
		r.askWebSite(ctx)
		r.tellCodeThatDefines(ctx)
	}
	r.checkLogins(ctx)
	return nil
}

// planExportsFirst has the databases exported before anything is changed: an upgrade may go
// wrong.
func (r *run) planExportsFirst(ctx context.Context) error {
	others := r.plan.steps
	r.plan.steps = nil
	for _, d := range r.app.All() {
		path, err := r.exportPath(state.Automatic+"reopening-", d)
		if err == nil {
			_, err = r.planExport(ctx, d, exporting{step: stepExport, path: path, automatic: true})
		}
		if err != nil {
			f := fault.As(err)
			return &stepError{stepExport, fault.At(f.Class, f.Place, f.Next+"; or have a copy of your own, and add --without-export", "%s", f.What).With(err)}
		}
	}
	r.plan.steps = append(r.plan.steps, others...)
	return nil
}

// mayTurn refuses an app that is not made yet, or whose installer is not done.
func (r *run) mayTurn() error {
	for _, s := range r.plan.steps {
		made := slices.Contains([]string{stepDatabase, stepAccount, stepSettings}, s.Step)
		switch {
		case s.Outcome == Waiting:
			return &stepError{s.Step, fault.New(fault.Protected, "finish its installer; then yellowfield settings accept "+r.app.Name, "app %s waits for its installer: %s", r.app.Name, s.Facts)}
		case made && s.Effect != nil:
			return &stepError{s.Step, fault.New(fault.Protected, "yellowfield provision "+r.app.Name+" first", "app %s is not made yet: %s is missing", r.app.Name, s.object())}
		}
	}
	tables := slices.ContainsFunc(r.databaseNames(), func(name string) bool { return len(r.plan.contents[name].Tables) > 0 })
	if r.options.Turn.Close && r.app.Installer.Tables && !tables {
		return &stepError{stepSQL, fault.New(fault.Protected, "finish its installer first", "app %s waits for its installer, which has made no tables yet", r.app.Name)}
	}
	return nil
}

// hasWork reports whether there is anything to do.
func (r *run) hasWork() bool {
	return slices.ContainsFunc(r.plan.steps, func(s *step) bool { return s.Effect != nil && r.options.does(s.Step) })
}

// preview tells what will be done; what was really done comes into the result later.
func (r *run) preview() {
	if r.options.DryRun {
		for _, s := range r.plan.steps {
			if r.options.does(s.Step) {
				r.tellPlanned(s)
			}
		}
		return
	}
	r.begin()
	for _, s := range r.plan.steps {
		told := s.Effect != nil || r.options.Move != nil && s.Outcome == Note // what a move meets is to be known before
		if r.options.does(s.Step) && told && !s.silent && r.Listener.Row != nil {
			row := s.Row
			row.SQL = nil
			if s.Effect != nil {
				row.Outcome = planned[s.Outcome]
			}
			r.Listener.Row(r.result.Header, row)
		}
	}
}

// askAndExecute shows what will be done, where somebody is asked or nothing is to be
// touched, and does it. done is false for a dry run; otherwise says how to answer.
func (r *run) askAndExecute(ctx context.Context, confirm func(app string) bool, otherwise string) (done bool, err error) {
	ask := confirm != nil && r.hasWork()
	if r.options.DryRun || ask {
		r.preview()
	}
	if r.options.DryRun {
		return false, nil
	}
	if ask && !confirm(r.app.Name) {
		return false, &stepError{stepState, fault.New(fault.Protected, otherwise, "nothing was done")}
	}
	if err := r.execute(ctx); err != nil {
		return false, &toldError{err}
	}
	return true, nil
}

const acknowledgedNotes = "acknowledged-notes"

func (r *run) noteName() string { return r.app.Name + "@" + r.Estate.Path }

// acknowledgeNotes has the app's notes read once: they are what the administrator has to
// have done before an application runs.
func (r *run) acknowledgeNotes() error {
	if len(r.app.Notes) == 0 {
		return nil
	}
	var known []string
	if _, err := r.State.Note(acknowledgedNotes, r.noteName(), &known); err != nil {
		return err
	}
	unread := slices.DeleteFunc(slices.Clone(r.app.Notes), func(note string) bool { return slices.Contains(known, note) })
	if len(unread) == 0 {
		return nil
	}
	if ask := r.options.Turn.Acknowledge; ask == nil || !ask(r.app.Name, unread) {
		return &stepError{stepNotes, fault.New(fault.Protected, "do what they say, and add --acknowledged", "the notes of app %s were not acknowledged: %s", r.app.Name, strings.Join(unread, " / "))}
	}
	r.options.Only = append(slices.Clone(turnSteps), stepNotes)
	_, err := r.planNote(Row{Step: stepNotes, Outcome: Changed, Facts: figures.Counted(len(unread), "note", "notes") + " acknowledged"},
		acknowledgedNotes, r.noteName(), "acknowledgement of the notes", append(known, unread...))
	return err
}

// openApps are the notes of apps that are to be closed again by some time.
const openApps = "open-apps"

type openUntil struct {
	App    string    `json:"app"`
	Estate string    `json:"estate"`
	Until  time.Time `json:"until"`
}

// noteOpening writes down until when an app stays open. Without a limit an earlier one is
// forgotten.
func (r *run) noteOpening() error {
	object, row := "until somebody closes it", Row{Step: stepState, Outcome: Note, Facts: "open until yellowfield close " + r.app.Name}
	var note any
	if t := r.options.Turn; t.For > 0 {
		until := time.Now().Add(t.For).Truncate(time.Second)
		object = "until " + until.Format(time.RFC3339)
		row = Row{Step: stepState, Outcome: Changed, Facts: "open until " + until.Local().Format("2006-01-02 15:04") + "; then verify reports it, and close --overdue closes it"}
		note = openUntil{r.app.Name, r.Estate.Path, until}
	}
	if _, err := r.planNote(row, openApps, r.noteName(), object, note); err != nil {
		return err
	}
	r.plan.lastFirst()
	if r.options.Turn.WithoutExport {
		r.tell(Row{Step: stepState, Outcome: Note, Facts: "no copy of the database is made: have one before an upgrade"})
	}
	r.options.Only = append(slices.Clone(turnSteps), stepState)
	return nil
}

// Overdue chooses the apps that were to be closed by now.
func (e *Engine) Overdue(apps []*estate.App) ([]*estate.App, error) {
	var overdue []*estate.App
	for _, app := range apps {
		if app.Retired != "" {
			continue
		}
		r := &run{Engine: e, app: app}
		until, err := r.openUntil()
		if err != nil {
			return nil, err
		}
		if !until.IsZero() && time.Now().After(until) {
			overdue = append(overdue, app)
		}
	}
	return overdue, nil
}

// openUntil is when an app was to be closed; zero for never.
func (r *run) openUntil() (time.Time, error) {
	var note openUntil
	_, err := r.State.Note(openApps, r.noteName(), &note)
	return note.Until, err
}

// planDeadline tells of an app that is open for longer than it was to be.
func (r *run) planDeadline(context.Context) error {
	until, err := r.openUntil()
	if err != nil || until.IsZero() || r.options.Turn != nil {
		return err
	}
	when := until.Local().Format("2006-01-02 15:04")
	switch {
	case !r.plan.open: // the rights were lowered by hand, or by a close that was cut off
	case time.Now().After(until):
		r.plan.differs(stepState, estate.MustFix, "yellowfield close "+r.app.Name, "it is open, and was to be closed at "+when)
	default:
		r.plan.note(stepState, "", "open until "+when)
	}
	return nil
}

// planInstallerFiles has the installer and its samples moved away when the app is closed,
// and names them where they are in a closed one.
func (r *run) planInstallerFiles(context.Context) error {
	if r.plan.absent || len(r.app.InstallerFiles) == 0 || r.options.Turn != nil && !r.options.Turn.Close {
		return nil
	}
	files, err := r.files()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range r.app.InstallerFiles {
		path := r.app.InFolder(strings.TrimSuffix(name, "/"))
		switch {
		case !files.Exists(path):
		case r.options.Turn != nil:
			r.planRemoval(name, path)
		case !r.plan.open:
			r.plan.differs(stepInstaller, estate.MustFix, "yellowfield close "+r.app.Name+" moves it away", name+" is there, and the app is closed: whoever finds it may install it anew")
		}
	}
	return nil
}

func (r *run) planRemoval(name, path string) {
	facts := name + ", kept in the state folder for " + figures.Counted(int(keepsRemoved.Hours()/24), "day", "days")
	if r.options.Turn.Delete {
		facts = name + ", for good"
	}
	r.plan.change(Row{Step: stepInstaller, Outcome: Removed, Facts: facts}, installerMoved.Of(path, removedState{Exists: true}, removedState{Name: name, Deleted: r.options.Turn.Delete}), nil)
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
