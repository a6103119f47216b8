package provision

import (
	"context"
	"errors"
	"time"

	"yellowfield/internal/estate"
)

// verify tells the plan as a comparison: what would be kept is verified, what
// would be changed differs.
func (r *run) verify(ctx context.Context) error {
	err := r.makePlan(ctx)
	for _, s := range r.plan.steps {
		row := s.Row
		row.SQL, row.Diff = nil, ""
		switch {
		case s.silent:
			continue
		case s.Effect != nil:
			row.Outcome, row.Severity = Differs, estate.MustFix
			row.Facts = "missing: " + s.object()
			row.Remedy = "yellowfield provision " + r.app.Name
		case s.Outcome == Kept:
			row.Outcome = Verified
		}
		r.tell(row)
	}
	if err != nil {
		var unmet *unmetError
		for _, part := range parts(err) {
			if !errors.As(part, &unmet) {
				r.tellFault(stepOf(part), part)
			}
		}
	}
	r.checkLogins(ctx)
	r.lookOver(ctx)
	return r.noteAges()
}

// noteAges tells how old the passwords are, for whoever watches over them.
func (r *run) noteAges() error {
	r.result.PasswordAges = map[string]time.Duration{}
	for _, account := range r.app.Accounts {
		age, known, err := r.ageOf(account)
		if err != nil {
			return err
		}
		if known {
			r.result.PasswordAges[account.Name] = age
		}
	}
	return nil
}
