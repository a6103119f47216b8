package provision

import (
	"context"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/content"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/overview"
	"yellowfield/internal/planning"
	"yellowfield/internal/proof"
	"yellowfield/internal/state"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// turnSteps are the steps of a plan that closing and opening do.
var turnSteps = []string{work.StepExport, work.StepRights, work.StepOwnership, work.StepInstaller, work.StepLogin}

func turn(r *work.Run, ctx context.Context) error {
	err := planning.MakePlan(r, ctx)
	if err == nil {
		err = mayTurn(r)
	}
	t := r.Options.Turn
	if err == nil && !t.Close && !t.WithoutExport && !r.Plan.WasOpen {
		err = planExportsFirst(r, ctx)
	}
	if err != nil {
		return r.TellPlanFaults(err)
	}
	if confirmed, err := r.Confirmed(t.Confirm, "answer yes, or add --yes"); !confirmed || err != nil {
		return err
	}
	if t.Close && !t.Overdue {
		if err := acknowledgeNotes(r); err != nil {
			return err
		}
	}
	if !t.Close {
		if err := noteOpening(r); err != nil {
			return err
		}
	}
	if err := r.Execute(ctx); err != nil {
		return work.Told(err)
	}
	if t.Close {
		if err := r.State.DropNote(steps.OpenApps, r.NoteName()); err != nil {
			return err
		}
		overview.AskWebSite(r, ctx)
		overview.TellCodeThatDefines(r, ctx)
	}
	proof.CheckLogins(r, ctx)
	return nil
}

// planExportsFirst has the databases exported before anything is changed: an upgrade may go
// wrong.
func planExportsFirst(r *work.Run, ctx context.Context) error {
	others := r.Plan.Steps
	r.Plan.Steps = nil
	for _, d := range r.App.All() {
		path, err := content.ExportPath(r, state.Automatic+"reopening-", d)
		if err == nil {
			_, err = content.PlanExport(r, ctx, d, content.Exporting{Step: work.StepExport, Path: path, Automatic: true})
		}
		if err != nil {
			f := fault.As(err)
			return work.AtStep(work.StepExport, fault.At(f.Class, f.Place, f.Next+"; or have a copy of your own, and add --without-export", "%s", f.What).With(err))
		}
	}
	r.Plan.Steps = append(r.Plan.Steps, others...)
	return nil
}

// mayTurn refuses an app that is not made yet, or whose installer is not done.
func mayTurn(r *work.Run) error {
	for _, s := range r.Plan.Steps {
		made := slices.Contains([]string{work.StepDatabase, work.StepAccount, work.StepSettings}, s.Step)
		switch {
		case s.Outcome == work.Waiting:
			return work.AtStep(s.Step, fault.New(fault.Protected, "finish its installer; then yellowfield settings accept "+r.App.Name, "app %s waits for its installer: %s", r.App.Name, s.Facts))
		case made && s.Effect != nil:
			return work.AtStep(s.Step, fault.New(fault.Protected, "yellowfield provision "+r.App.Name+" first", "app %s is not made yet: %s is missing", r.App.Name, s.Object()))
		}
	}
	tables := slices.ContainsFunc(r.DatabaseNames(), func(name string) bool { return len(r.Plan.Contents[name].Tables) > 0 })
	if r.Options.Turn.Close && r.App.Installer.Tables && !tables {
		return work.AtStep(work.StepSQL, fault.New(fault.Protected, "finish its installer first", "app %s waits for its installer, which has made no tables yet", r.App.Name))
	}
	return nil
}

const acknowledgedNotes = "acknowledged-notes"

// acknowledgeNotes has the app's notes read once: they are what the administrator has to
// have done before an application runs.
func acknowledgeNotes(r *work.Run) error {
	if len(r.App.Notes) == 0 {
		return nil
	}
	var known []string
	if _, err := r.State.Note(acknowledgedNotes, r.NoteName(), &known); err != nil {
		return err
	}
	unread := slices.DeleteFunc(slices.Clone(r.App.Notes), func(note string) bool { return slices.Contains(known, note) })
	if len(unread) == 0 {
		return nil
	}
	if ask := r.Options.Turn.Acknowledge; ask == nil || !ask(r.App.Name, unread) {
		return work.AtStep(work.StepNotes, fault.New(fault.Protected, "do what they say, and add --acknowledged", "the notes of app %s were not acknowledged: %s", r.App.Name, strings.Join(unread, " / ")))
	}
	r.Options.Only = append(slices.Clone(turnSteps), work.StepNotes)
	_, err := r.PlanNote(work.Row{Step: work.StepNotes, Outcome: work.Changed, Facts: figures.Counted(len(unread), "note", "notes") + " acknowledged"},
		acknowledgedNotes, r.NoteName(), "acknowledgement of the notes", append(known, unread...))
	return err
}

// noteOpening writes down until when an app stays open. Without a limit an earlier one is
// forgotten.
func noteOpening(r *work.Run) error {
	object, row := "until somebody closes it", work.Row{Step: work.StepState, Outcome: work.Note, Facts: "open until yellowfield close " + r.App.Name}
	var note any
	if t := r.Options.Turn; t.For > 0 {
		until := time.Now().Add(t.For).Truncate(time.Second)
		object = "until " + until.Format(time.RFC3339)
		row = work.Row{Step: work.StepState, Outcome: work.Changed, Facts: "open until " + until.Local().Format("2006-01-02 15:04") + "; then verify reports it, and close --overdue closes it"}
		note = steps.OpenNote{App: r.App.Name, Estate: r.Estate.Path, Until: until}
	}
	if _, err := r.PlanNote(row, steps.OpenApps, r.NoteName(), object, note); err != nil {
		return err
	}
	r.Plan.LastFirst()
	if r.Options.Turn.WithoutExport {
		r.Tell(work.Row{Step: work.StepState, Outcome: work.Note, Facts: "no copy of the database is made: have one before an upgrade"})
	}
	r.Options.Only = append(slices.Clone(turnSteps), work.StepState)
	return nil
}

// finishTurn goes on with a close or a reopen that was cut off, and looks anew.
func finishTurn(r *work.Run, ctx context.Context) error {
	command := r.CutOffAmong("close", "reopen")
	if command == "" || r.Options.DryRun {
		return nil
	}
	asked := r.Options
	r.Options = work.Options{Command: asked.Command, Turn: &work.StateChange{Close: command == "close", Overdue: true}, Only: turnSteps}
	defer func() { r.Options = asked }()
	if err := planning.MakePlan(r, ctx); err != nil {
		return r.TellPlanFaults(err)
	}
	if err := r.Execute(ctx); err != nil {
		return work.Told(err)
	}
	return r.Look(ctx)
}
