package provision

import (
	"context"
	"errors"
)

// makePlan looks at everything and decides. The error holds every fault
// found, each with its step; the plan then has the steps that could be told.
func (r *run) makePlan(ctx context.Context) error {
	r.plan = r.emptyPlan()
	parts := []struct {
		step string
		plan func(context.Context) error
	}{
		{stepPHP, r.planPHP}, {stepDatabase, r.planDatabases}, {stepAccount, r.planAccounts}, {stepRights, r.planRights}, {stepRights, r.planHostRules},
		{stepSQL, r.planImport}, {stepDatabase, r.planCharsets}, {stepSettings, r.planSettings},
		{stepInstaller, r.planInstallerFiles}, // while the folders can still be written
		{stepOwnership, r.planOwnership}, {stepState, r.planDeadline}, {stepAccount, r.planUnfinishedRotation},
	}
	var errs []error
	if err := r.checkAdministrator(); err != nil {
		errs = append(errs, &stepError{"server", err})
	}
	for _, part := range parts {
		if r.options.Import != nil && part.step != stepAccount && part.step != stepSQL || r.options.Turn != nil && (part.step == stepPHP || part.step == stepSQL) {
			continue
		}
		if err := part.plan(ctx); err != nil {
			errs = append(errs, &stepError{part.step, err})
		}
	}
	if r.plan.unmet {
		errs = append(errs, &unmetError{})
	}
	return errors.Join(errs...)
}
