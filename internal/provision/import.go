package provision

import (
	"context"

	"yellowfield/internal/fault"
)

// importOnly imports SQL into a database that is there.
func (r *run) importOnly(ctx context.Context) error {
	if _, exists := r.view.catalogue.Databases[r.app.Database.Name]; !exists {
		return r.Estate.Fault(fault.Invalid, r.path("database"), "run yellowfield provision "+r.app.Name+" first", "the database %s does not exist", r.app.Database.Name)
	}
	err := r.makePlan(ctx)
	for _, s := range r.plan.steps {
		if s.Step == stepAccount && s.Effect != nil && err == nil {
			err = &stepError{stepAccount, r.Estate.Fault(fault.Invalid, r.path("accounts[0]"), "run yellowfield provision "+r.app.Name+" first",
				"the import runs as %s, which is not as the estate file says", r.app.Accounts[0].Name)}
		}
	}
	if c := r.plan.credentials[r.app.Accounts[0]]; err == nil && (c == nil || !c.knows()) {
		err = &stepError{stepAccount, r.Estate.Fault(fault.Invalid, r.path("accounts[0]"), r.sayPassword(r.app.Accounts[0].Name),
			"the import runs as %s, whose password is not known", r.app.Accounts[0].Name)}
	}
	if err == nil && len(r.plan.scripts) == 0 {
		err = &stepError{stepSQL, r.Estate.Fault(fault.Invalid, r.path("import"), "name the files: yellowfield import "+r.app.Name+" FILE...", "the estate file names no script for app %s", r.app.Name)}
	}
	if err != nil {
		return r.tellPlanFaults(err)
	}
	return r.carryOut(ctx)
}
