// Package provision is what the commands call: it locks apps, finishes what earlier runs have
// left, and has the packages below plan, do and prove the work, on several apps at once.
//
// It must never know of terminals or of how its rows are drawn.
package provision

import (
	"context"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/lifecycle"
	"yellowfield/internal/planning"
	"yellowfield/internal/proof"
	"yellowfield/internal/rotation"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// provision plans, and unless this is a dry run, does what is planned.
func provision(r *work.Run, ctx context.Context) error {
	if was, err := lifecycle.FinishRetirement(r, ctx); err != nil || was == lifecycle.RetireQuietly || was == lifecycle.RetireDrop {
		return err
	}
	if err := finishTurn(r, ctx); err != nil {
		return err
	}
	if err := rotation.FinishRotation(r, ctx); err != nil {
		return err
	}
	err := planning.MakePlan(r, ctx)
	if r.View.Shared && (err != nil || r.HasWork()) {
		if err := r.LookAgain(ctx); err != nil {
			return err
		}
		err = planning.MakePlan(r, ctx)
	}
	if err != nil {
		return r.TellPlanFaults(err)
	}
	if r.Options.DryRun {
		r.Preview()
		if len(r.Plan.Settings.Files) > 0 && r.Options.Does(work.StepSettings) {
			for _, words := range r.App.AfterSettingsChange {
				r.Tell(work.Row{Step: work.StepSettings, Outcome: "would run", Facts: strings.Join(words, " ")})
			}
		}
		return nil
	}
	if err := r.Execute(ctx); err != nil {
		return work.Told(err)
	}
	if err := steps.NoteDatabases(r); err != nil {
		return err
	}
	if err := lifecycle.MoveIsThrough(r, ctx); err != nil {
		return err
	}
	if r.Options.Does(work.StepLogin) {
		before := r.Result.Exit
		proof.CheckLogins(r, ctx)
		if r.Result.Exit != before && r.Result.Exit == fault.Failed.ExitCode() && r.Plan.Settings.IsPublished() {
			r.Tell(work.Row{Step: work.StepLogin, Outcome: work.NotReached, Facts: "nothing is undone once the settings are written: database, accounts and files stand",
				Remedy: "correct what is named above, then yellowfield verify " + r.App.Name})
		}
	}
	return nil
}
