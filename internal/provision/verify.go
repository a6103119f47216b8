package provision

import (
	"context"
	"errors"
	"time"

	"yellowfield/internal/estate"
	"yellowfield/internal/overview"
	"yellowfield/internal/planning"
	"yellowfield/internal/proof"
	"yellowfield/internal/work"
)

// verify reports the plan as a comparison: what would be kept is verified, what would change
// differs.
func verify(r *work.Run, ctx context.Context) error {
	err := planning.MakePlan(r, ctx)
	for _, s := range r.Plan.Steps {
		row := s.Row
		row.SQL, row.Diff = nil, ""
		switch {
		case s.Silent:
			continue
		case s.Effect != nil:
			row.Outcome, row.Severity = work.Differs, estate.MustFix
			row.Facts = "missing: " + s.Object()
			row.Remedy = "yellowfield provision " + r.App.Name
		case s.Outcome == work.Kept:
			row.Outcome = work.Verified
		}
		r.Tell(row)
	}
	if err != nil {
		var unmet *work.UnmetError
		for _, part := range work.Parts(err) {
			if !errors.As(part, &unmet) {
				r.TellFault(work.StepOf(part), part)
			}
		}
	}
	if err := r.TellLeftovers(ctx); err != nil {
		return err
	}
	proof.CheckLogins(r, ctx)
	overview.LookOver(r, ctx)
	return noteAges(r)
}

// noteAges reports the age of the passwords, for monitoring.
func noteAges(r *work.Run) error {
	r.Result.PasswordAges = map[string]time.Duration{}
	for _, account := range r.App.Accounts {
		age, known, err := r.AgeOf(account)
		if err != nil {
			return err
		}
		if known {
			r.Result.PasswordAges[account.Name] = age
		}
	}
	return nil
}
