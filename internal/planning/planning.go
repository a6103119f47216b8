// Package planning puts the steps of an app together into one plan, from what was read before
// anything is changed, and plans the undoing of what other runs have left.
//
// It must never know of the commands that ask for a plan.
package planning

import (
	"context"
	"errors"

	"yellowfield/internal/content"
	"yellowfield/internal/rotation"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// MakePlan looks at everything and decides. The error holds every fault
// found, each with its step; the plan then has the steps that could be told.
func MakePlan(r *work.Run, ctx context.Context) error {
	r.Plan = r.EmptyPlan()
	parts := []struct {
		step string
		plan func(*work.Run, context.Context) error
	}{
		{work.StepPHP, steps.PlanPHP}, {work.StepDatabase, steps.PlanDatabases}, {work.StepAccount, steps.PlanAccounts}, {work.StepRights, steps.PlanRights}, {work.StepRights, steps.PlanHostRules},
		{work.StepSQL, content.PlanImport}, {work.StepDatabase, content.PlanCharsets}, {work.StepSettings, steps.PlanSettings},
		{work.StepInstaller, steps.PlanInstallerFiles}, // while the folders can still be written
		{work.StepOwnership, steps.PlanOwnership}, {work.StepState, steps.PlanDeadline}, {work.StepAccount, rotation.PlanUnfinishedRotation},
	}
	var errs []error
	if err := r.CheckAdministrator(); err != nil {
		errs = append(errs, work.AtStep("server", err))
	}
	for _, part := range parts {
		if r.Options.Import != nil && part.step != work.StepAccount && part.step != work.StepSQL || r.Options.Turn != nil && (part.step == work.StepPHP || part.step == work.StepSQL) {
			continue
		}
		if err := part.plan(r, ctx); err != nil {
			errs = append(errs, work.AtStep(part.step, err))
		}
	}
	if r.Plan.Unmet {
		errs = append(errs, &work.UnmetError{})
	}
	return errors.Join(errs...)
}
