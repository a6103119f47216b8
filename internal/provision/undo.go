package provision

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// undoneState is the effect that another one takes back.
type undoneState struct {
	Effect *effect.Effect `json:"effect,omitempty"`
}

func init() {
	effectUndone.Means(effect.Spec[*run, undoneState]{
		Do: func(r *run, ctx context.Context, d *effect.Doing[undoneState]) (string, error) {
			return "", kinds.Undo(r, ctx, *d.After.Effect)
		},
	})
}

// planUndo plans to take back what runs have left, the newest first. ended says that these
// have come to an end: then what somebody has changed since is refused, and so is what the
// application may have used.
func (r *run) planUndo(ctx context.Context, left []effect.Left, ended bool) (errs []error) {
	told := map[string]bool{}
	refuse := func(step, what, next string) {
		if !told[what] {
			told[what] = true
			errs = append(errs, &stepError{step, fault.New(fault.Protected, next, "%s", what)})
		}
	}
	for _, l := range left {
		if why, next := kinds.Kept(r, l.Effect); ended && why != "" {
			refuse(l.Step, why, next)
			continue
		}
		irreversible := kinds.IsIrreversible(l.Kind)
		if !irreversible && !kinds.IsUndoable(l.Kind) {
			continue
		}
		standing, err := kinds.Look(ctx, r, l.Effect)
		switch {
		case standing == effect.NotDone:
		case err != nil && (standing != effect.ChangedElse || ended):
			errs = append(errs, &stepError{l.Step, err})
		case (standing == effect.ChangedElse || standing == effect.Between) && ended:
			refuse(l.Step, l.Object+" was changed since", "look at it, and change it by hand")
		case irreversible:
			refuse(l.Step, "this cannot be taken back: "+l.Object, "run the command again, which finishes what was begun")
		default:
			facts := strings.TrimPrefix(strings.TrimPrefix(l.Object, l.Step+" of "), l.Step+" ")
			r.plan.change(Row{Step: l.Step, Outcome: Undone, Facts: facts}, effectUndone.Of(l.Object, undoneState{}, undoneState{&l.Effect}), nil)
		}
	}
	return errs
}

// UndoUnfinished takes back what runs made that were cut off, app by app.
func (e *Engine) UndoUnfinished(ctx context.Context, apps []*estate.App, options Options) ([]Result, error) {
	return e.each(ctx, apps, options, (*run).undoUnfinished)
}

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

// UndoRun takes back a run that has ended, where that is still possible.
func (e *Engine) UndoRun(ctx context.Context, app *estate.App, entries []state.Entry, options Options) ([]Result, error) {
	return e.each(ctx, []*estate.App{app}, options, func(r *run, ctx context.Context) error { return r.undoRun(ctx, entries) })
}

func (r *run) undoRun(ctx context.Context, entries []state.Entry) error {
	r.plan = r.emptyPlan()
	errs := r.planUndo(ctx, effect.LeftOf(asEffects(entries)), true)
	if err := errors.Join(errs...); err != nil {
		return r.tellPlanFaults(err)
	}
	if len(r.plan.steps) == 0 {
		r.tell(Row{Step: stepState, Outcome: Kept, Facts: "there is nothing to take back"})
		return nil
	}
	return r.carryOut(ctx)
}

// leftEffects are those of the runs on the app that were cut off.
func (r *run) leftEffects() []effect.Left {
	if r.cut == nil {
		return nil
	}
	return effect.LeftOf(asEffects(r.cut.Entries))
}

// hasBegun reports whether a run that was cut off has begun with an effect.
func (r *run) hasBegun(kind, subject string) bool {
	return slices.ContainsFunc(r.leftEffects(), func(l effect.Left) bool { return l.Kind == kind && l.Subject == subject })
}

// cutOffAmong gives the newest of some commands that was cut off on the app; empty for none.
func (r *run) cutOffAmong(commands ...string) string {
	if r.cut == nil {
		return ""
	}
	for _, e := range slices.Backward(r.cut.Entries) {
		if e.Event == state.Begun && slices.Contains(commands, e.Command) {
			return e.Command
		}
	}
	return ""
}

// settingsStand reports whether the runs that were cut off have written all settings
// files: what the application may have stored since is not to be lost.
func (r *run) settingsStand() bool {
	if len(r.app.Settings) == 0 || !r.hasFolder() {
		return false
	}
	return !slices.ContainsFunc(r.app.Settings, func(s *estate.Settings) bool {
		path := r.app.InFolder(s.File)
		return !r.hasBegun(settingsWritten.Name, path) || !r.isWritten(path)
	})
}

func (r *run) exists(database string) bool {
	_, exists := r.view.catalogue.Databases[database]
	return exists
}

// undoByHand is the fault of what cannot be put back because nothing is known of it.
func undoByHand(what string) error {
	return fault.New(fault.Protected, "set it by hand", "it is not known any more what was: %s", what)
}
