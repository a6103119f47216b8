package work

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
var effectUndone = effect.Define[*Run, undoneState](&Kinds, "undo")

func init() {
	effectUndone.Means(effect.Spec[*Run, undoneState]{
		Do: func(r *Run, ctx context.Context, d *effect.Doing[undoneState]) (string, error) {
			return "", Kinds.Undo(r, ctx, *d.After.Effect)
		},
	})
}

// PlanUndo plans to take back what runs have left, the newest first. ended says that these
// have come to an end: then what somebody has changed since is refused, and so is what the
// application may have used.
func (r *Run) PlanUndo(ctx context.Context, left []effect.Left, ended bool) (errs []error) {
	told := map[string]bool{}
	refuse := func(step, what, next string) {
		if !told[what] {
			told[what] = true
			errs = append(errs, AtStep(step, fault.New(fault.Protected, next, "%s", what)))
		}
	}
	for _, l := range left {
		if why, next := Kinds.Kept(r, l.Effect); ended && why != "" {
			refuse(l.Step, why, next)
			continue
		}
		irreversible := Kinds.IsIrreversible(l.Kind)
		if !irreversible && !Kinds.IsUndoable(l.Kind) {
			continue
		}
		standing, err := Kinds.Look(ctx, r, l.Effect)
		switch {
		case standing == effect.NotDone:
		case err != nil && (standing != effect.ChangedElse || ended):
			errs = append(errs, AtStep(l.Step, err))
		case (standing == effect.ChangedElse || standing == effect.Between) && ended:
			refuse(l.Step, l.Object+" was changed since", "look at it, and change it by hand")
		case irreversible:
			refuse(l.Step, "this cannot be taken back: "+l.Object, "run the command again, which finishes it")
		default:
			facts := strings.TrimPrefix(strings.TrimPrefix(l.Object, l.Step+" of "), l.Step+" ")
			r.Plan.Change(Row{Step: l.Step, Outcome: Undone, Facts: facts}, effectUndone.Of(l.Object, undoneState{}, undoneState{&l.Effect}), nil)
		}
	}
	return errs
}

// LeftEffects are those of the runs on the app that were cut off.
func (r *Run) LeftEffects() []effect.Left {
	if r.Interrupted == nil {
		return nil
	}
	return effect.LeftOf(effect.Converted(r.Interrupted.Entries))
}

// HasBegun reports whether a run that was cut off has begun with an effect.
func (r *Run) HasBegun(kind, subject string) bool {
	return slices.ContainsFunc(r.LeftEffects(), func(l effect.Left) bool { return l.Kind == kind && l.Subject == subject })
}

// CutOffAmong gives the newest of some commands that was cut off on the app; empty for none.
func (r *Run) CutOffAmong(commands ...string) string {
	if r.Interrupted == nil {
		return ""
	}
	for _, e := range slices.Backward(r.Interrupted.Entries) {
		if e.Event == state.Begun && slices.Contains(commands, e.Command) {
			return e.Command
		}
	}
	return ""
}

func (r *Run) Exists(database string) bool {
	_, exists := r.View.Catalogue.Databases[database]
	return exists
}

// UndoByHand is the fault of what cannot be put back because nothing is known of it.
func UndoByHand(what string) error {
	return fault.New(fault.Protected, "set it by hand", "it is not known any more what was: %s", what)
}
