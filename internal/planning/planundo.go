package planning

import (
	"context"
	"errors"

	"yellowfield/internal/content"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// UndoUnfinished takes back what the journals say that was begun, newest first.
func UndoUnfinished(r *work.Run, ctx context.Context) error {
	if r.Interrupted == nil {
		r.Tell(work.Row{Step: "server", Outcome: work.Kept, Facts: "no run on this app was cut off"})
		return nil
	}
	if !r.View.AsAdmin() {
		return r.Estate.Fault(fault.Invalid, "servers."+r.App.Server, "give the server an admin", "taking back what a run has made takes an administrator")
	}
	r.Plan = r.EmptyPlan()
	if steps.SettingsStand(r) {
		return fault.New(fault.Protected, "yellowfield provision "+r.App.Name+" finishes it",
			"its settings files are written, so that the application may have been at work with them: what was made stands")
	}
	left, err := content.WithoutPutBack(r, r.LeftEffects())
	if err != nil {
		return err
	}
	errs := append(r.PlanUndo(ctx, left, false), mayHaveBeenAtWork(r, left))
	for _, d := range r.App.All() {
		if err := content.PlanCleaning(r, d); err != nil { // what an earlier run could not take back
			errs = append(errs, err)
		}
	}
	if err := errors.Join(errs...); err != nil {
		return r.TellPlanFaults(err)
	}
	return r.CarryOut(ctx)
}

// mayHaveBeenAtWork refuses to take back an import that came to its end where somebody
// else knows the account's password.
func mayHaveBeenAtWork(r *work.Run, left []effect.Left) error {
	for _, l := range left {
		if l.Kind != content.SqlImported.Name || !l.Done {
			continue
		}
		c, err := content.SqlImported.Change(l.Effect)
		if err != nil || !r.Exists(c.After.Database) || r.Options.Move != nil {
			continue
		}
		if _, pending, err := r.State.Pending(r.StateAccount(r.App.Accounts[0].Name)); err != nil || !pending {
			return errors.Join(err, work.AtStep(work.StepSQL, fault.New(fault.Protected, "yellowfield provision "+r.App.Name+" finishes it; or drop by hand what nobody needs",
				"the password of %s is not kept here alone, so that the application may have been at work in %s: what was imported stands", r.App.Accounts[0].Name, c.After.Database)))
		}
	}
	return nil
}

func UndoRun(r *work.Run, ctx context.Context, entries []state.Entry) error {
	r.Plan = r.EmptyPlan()
	errs := r.PlanUndo(ctx, effect.LeftOf(effect.Converted(entries)), true)
	if err := errors.Join(errs...); err != nil {
		return r.TellPlanFaults(err)
	}
	if len(r.Plan.Steps) == 0 {
		r.Tell(work.Row{Step: work.StepState, Outcome: work.Kept, Facts: "there is nothing to take back"})
		return nil
	}
	return r.CarryOut(ctx)
}
