package provision

import (
	"context"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/state"
)

// turnSteps are the steps of a plan that closing and opening do.
var turnSteps = []string{stepExport, stepRights, stepOwnership, stepInstaller, stepLogin}

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

const acknowledgedNotes = "acknowledged-notes"

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
