package provision

import (
	"context"

	"yellowfield/internal/fault"
	"yellowfield/internal/planning"
	"yellowfield/internal/work"
)

// importOnly imports SQL into a database that is there.
func importOnly(r *work.Run, ctx context.Context) error {
	if _, exists := r.View.Catalogue.Databases[r.App.Database.Name]; !exists {
		return r.Estate.Fault(fault.Invalid, r.Path("database"), "run yellowfield provision "+r.App.Name+" first", "the database %s does not exist", r.App.Database.Name)
	}
	err := planning.MakePlan(r, ctx)
	for _, s := range r.Plan.Steps {
		if s.Step == work.StepAccount && s.Effect != nil && err == nil {
			err = work.AtStep(work.StepAccount, r.Estate.Fault(fault.Invalid, r.Path("accounts[0]"), "run yellowfield provision "+r.App.Name+" first",
				"the import runs as %s, which is not as the estate file says", r.App.Accounts[0].Name))
		}
	}
	if c := r.Plan.Credentials[r.App.Accounts[0]]; err == nil && (c == nil || !c.Knows()) {
		err = work.AtStep(work.StepAccount, r.Estate.Fault(fault.Invalid, r.Path("accounts[0]"), r.SayPassword(r.App.Accounts[0].Name),
			"the import runs as %s, whose password is not known", r.App.Accounts[0].Name))
	}
	if err == nil && len(r.Plan.Scripts) == 0 {
		err = work.AtStep(work.StepSQL, r.Estate.Fault(fault.Invalid, r.Path("import"), "name the files: yellowfield import "+r.App.Name+" FILE...", "the estate file names no script for app %s", r.App.Name))
	}
	if err != nil {
		return r.TellPlanFaults(err)
	}
	return r.CarryOut(ctx)
}
