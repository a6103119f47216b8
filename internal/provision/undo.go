package provision

import (
	"context"
	"slices"
	"strings"

	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// undoneState is the effect that another one takes back.
type undoneState struct {
	Effect *effect.Effect `json:"effect,omitempty"`
}

// effectUndone is one kind of change, see init.
var effectUndone = effect.Define[*run, undoneState](&kinds, "undo")

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

// leftEffects are those of the runs on the app that were cut off.
func (r *run) leftEffects() []effect.Left {
	if r.cut == nil {
		return nil
	}
	return effect.LeftOf(effect.Converted(r.cut.Entries))
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

func (r *run) exists(database string) bool {
	_, exists := r.view.catalogue.Databases[database]
	return exists
}

// undoByHand is the fault of what cannot be put back because nothing is known of it.
func undoByHand(what string) error {
	return fault.New(fault.Protected, "set it by hand", "it is not known any more what was: %s", what)
}
