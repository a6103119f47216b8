package provision

import (
	"context"
	"errors"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// undoUnfinished takes back what the journals say that was begun, newest first.
func (r *run) undoUnfinished(ctx context.Context) error {
	if r.cut == nil {
		r.tell(Row{Step: "server", Outcome: Kept, Facts: "no run on this app was cut off"})
		return nil
	}
	if !r.view.asAdmin() {
		return r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin", "taking back what a run has made takes an administrator")
	}
	r.plan = r.emptyPlan()
	if r.settingsStand() {
		return fault.New(fault.Protected, "yellowfield provision "+r.app.Name+" finishes it",
			"its settings files are written, so that the application may have been at work with them: what was made stands")
	}
	left := r.leftEffects()
	errs := append(r.planUndo(ctx, left, false), r.mayHaveBeenAtWork(left))
	for _, d := range r.app.All() {
		if err := r.planCleaning(d); err != nil { // what an earlier run could not take back
			errs = append(errs, err)
		}
	}
	if err := errors.Join(errs...); err != nil {
		return r.tellPlanFaults(err)
	}
	return r.carryOut(ctx)
}

// mayHaveBeenAtWork refuses to take back an import that came to its end where somebody
// else knows the account's password.
func (r *run) mayHaveBeenAtWork(left []effect.Left) error {
	for _, l := range left {
		if l.Kind != sqlImported.Name || !l.Done {
			continue
		}
		c, err := sqlImported.Change(l.Effect)
		if err != nil || !r.exists(c.After.Database) || r.options.Move != nil {
			continue
		}
		if _, pending, err := r.State.Pending(r.stateAccount(r.app.Accounts[0].Name)); err != nil || !pending {
			return errors.Join(err, &stepError{stepSQL, fault.New(fault.Protected, "yellowfield provision "+r.app.Name+" finishes it; or drop by hand what nobody needs",
				"the password of %s is not kept here alone, so that the application may have been at work in %s: what was imported stands", r.app.Accounts[0].Name, c.After.Database)})
		}
	}
	return nil
}

func (r *run) undoRun(ctx context.Context, entries []state.Entry) error {
	r.plan = r.emptyPlan()
	errs := r.planUndo(ctx, effect.LeftOf(effect.Converted(entries)), true)
	if err := errors.Join(errs...); err != nil {
		return r.tellPlanFaults(err)
	}
	if len(r.plan.steps) == 0 {
		r.tell(Row{Step: stepState, Outcome: Kept, Facts: "there is nothing to take back"})
		return nil
	}
	return r.carryOut(ctx)
}
