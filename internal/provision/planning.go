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
		plan func(*run, context.Context) error
	}{
		{stepPHP, (*run).planPHP}, {stepDatabase, (*run).planDatabases}, {stepAccount, (*run).planAccounts}, {stepRights, (*run).planRights}, {stepRights, (*run).planHostRules},
		{stepSQL, (*run).planImport}, {stepDatabase, (*run).planCharsets}, {stepSettings, (*run).planSettings},
		{stepInstaller, (*run).planInstallerFiles}, // while the folders can still be written
		{stepOwnership, (*run).planOwnership}, {stepState, (*run).planDeadline}, {stepAccount, (*run).planUnfinishedRotation},
	}
	var errs []error
	if err := r.checkAdministrator(); err != nil {
		errs = append(errs, &stepError{"server", err})
	}
	for _, part := range parts {
		if r.options.Import != nil && part.step != stepAccount && part.step != stepSQL || r.options.Turn != nil && (part.step == stepPHP || part.step == stepSQL) {
			continue
		}
		if err := part.plan(r, ctx); err != nil {
			errs = append(errs, &stepError{part.step, err})
		}
	}
	if r.plan.unmet {
		errs = append(errs, &unmetError{})
	}
	return errors.Join(errs...)
}
