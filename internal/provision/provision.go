// Package provision does the work: it looks at servers and files, decides
// what each step of an application needs, does it, undoes it on failure, and
// verifies the result by logging in as the application would.
//
// Every step of an application is planned from what was read before anything
// is changed; dry run, run and verification all come from that one plan. The
// package prints nothing: it tells a Listener. It must never know of terminals
// or of how its rows are drawn.
package provision

import (
	"context"
	"strings"

	"yellowfield/internal/fault"
)

// provision plans, and unless this is a dry run, does what is planned.
func (r *run) provision(ctx context.Context) error {
	if was, err := r.finishRetirement(ctx); err != nil || was == RetireQuietly || was == RetireDrop {
		return err
	}
	if err := r.finishTurn(ctx); err != nil {
		return err
	}
	if err := r.finishRotation(ctx); err != nil {
		return err
	}
	err := r.makePlan(ctx)
	if r.view.shared && (err != nil || r.hasWork()) {
		if err := r.lookAgain(ctx); err != nil {
			return err
		}
		err = r.makePlan(ctx)
	}
	if err != nil {
		return r.tellPlanFaults(err)
	}
	if r.options.DryRun {
		r.preview()
		if len(r.plan.settings.files) > 0 && r.options.does(stepSettings) {
			for _, words := range r.app.AfterSettingsChange {
				r.tell(Row{Step: stepSettings, Outcome: "would run", Facts: strings.Join(words, " ")})
			}
		}
		return nil
	}
	if err := r.execute(ctx); err != nil {
		return &toldError{err}
	}
	if err := r.noteDatabases(); err != nil {
		return err
	}
	if err := r.moveIsThrough(ctx); err != nil {
		return err
	}
	if r.options.does(stepLogin) {
		before := r.result.Exit
		r.checkLogins(ctx)
		if r.result.Exit != before && r.result.Exit == fault.Failed.ExitCode() && r.plan.settings.isPublished() {
			r.tell(Row{Step: stepLogin, Outcome: NotReached, Facts: "nothing is undone once the settings are written: database, accounts and files stand",
				Remedy: "correct what is named above, then yellowfield verify " + r.app.Name})
		}
	}
	return nil
}
