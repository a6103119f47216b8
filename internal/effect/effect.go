// Package effect is the machine that carries out changes. A change is an effect: data, of a
// kind that is registered once with how it is done, undone, told and recognized. A plan's
// effects are done in their order, the intent of each in the journal before it, and undone
// newest first when one fails; whoever takes back what another run has left calls the same
// undo.
//
// It must never know of databases, of file formats, or of how its rows are drawn.
package effect

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// Step is one thing to do, or found to be done.
type Step struct {
	// Name is a word of the output.
	Name string
	// Effect is the change; nil where there is nothing to do.
	Effect *Effect
	// Material is what doing it takes beside the effect's data, see Change.
	Material any
}

// Journal is where a run writes what it is about to do. An entry is on the disk when Record
// returns.
type Journal interface{ Record(state.Entry) error }

// Listener is told what becomes of the steps, each by its place in the plan. UndoSlow may be
// called while an undo is at work.
type Listener interface {
	// Found is told of a step with nothing to do.
	Found(i int)
	Done(i int, facts string)
	Failed(i int, err error)
	Undone(i int)
	// UndoSlow is told of a step whose undoing takes long, while that goes on.
	UndoSlow(i int, since time.Duration)
	// UndoFailed is told of a step that could not be undone, and why.
	UndoFailed(i int, err error)
}

// Plan is what a run does to a world.
type Plan[W any] struct {
	Kinds *Kinds[W]
	Steps []*Step
	// Before is how many effects the run's journal has already.
	Before int
	// Skip reports whether a step is left out, and tells of it; nil for none.
	Skip func(i int) bool
	// Final reports whether what was done so far stands, whatever fails after it; nil for
	// never.
	Final func() bool
	// Passes reports whether what stopped an undo may go away by itself, such as a full disk:
	// it is tried again then, for Waits in all; nil for never.
	Passes func(error) bool
	Waits  time.Duration
}

// Run does the steps. The error is that of the first one that failed; what was done
// before it has been undone then, unless the plan says that it stands. undone reports
// whether that was tried.
func (p Plan[W]) Run(ctx context.Context, w W, journal Journal, l Listener) (undone bool, err error) {
	var done []int
	for i, s := range p.Steps {
		if p.Skip != nil && p.Skip(i) {
			continue
		}
		if s.Effect == nil {
			l.Found(i)
			continue
		}
		facts, changed, err := p.do(ctx, w, i, journal)
		if err == nil {
			done = append(done, i)
			l.Done(i, facts)
			continue
		}
		l.Failed(i, err)
		if p.Final != nil && p.Final() {
			return false, err
		}
		if changed {
			done = append(done, i)
		}
		p.undo(ctx, w, done, journal, l)
		return len(done) > 0, err
	}
	return false, nil
}

// entry is what the journal says of a step. Number tells the effects of a run apart.
func (p Plan[W]) entry(event state.Event, i int) state.Entry {
	s := p.Steps[i]
	recorded := *s.Effect
	return state.Entry{Event: event, Step: s.Name, Object: p.Kinds.Object(recorded), Number: p.Before + i + 1, Effect: &recorded}
}

// do makes one change. changed reports, also with an error, that something may have changed
// and must be undone.
func (p Plan[W]) do(ctx context.Context, w W, i int, journal Journal) (facts string, changed bool, err error) {
	if ctx.Err() != nil {
		return "", false, fault.Stopped(ctx.Err())
	}
	s := p.Steps[i]
	kind := p.Kinds.byName[s.Effect.Kind]
	if kind == nil {
		return "", false, fmt.Errorf("there is no kind of effect %q", s.Effect.Kind)
	}
	if err := journal.Record(p.entry(state.Intended, i)); err != nil {
		return "", false, err
	}
	facts, touched, err := kind.do(w, ctx, s.Effect, s.Material, func() error {
		again := p.entry(state.Intended, i)
		again.Again = true
		return journal.Record(again)
	})
	if err != nil {
		failed := p.entry(state.Failed, i)
		failed.Detail = fault.As(err).What
		_ = journal.Record(failed) // the error at hand matters more
		return "", touched, err
	}
	return facts, true, journal.Record(p.entry(state.Done, i))
}

// patience is how long undoing a step may take before that is told.
var patience = 10 * time.Second

// second is how long lies between two tries of an undo.
var second = time.Second

// undo takes back what was done, newest first. It goes on when the run was interrupted, and
// after a step that cannot be undone.
func (p Plan[W]) undo(ctx context.Context, w W, done []int, journal Journal, l Listener) {
	ctx = context.WithoutCancel(ctx)
	slices.Reverse(done)
	kindOf := func(i int) kind[W] { return p.Kinds.byName[p.Steps[i].Effect.Kind] }
	slices.SortStableFunc(done, func(a, b int) int {
		return cmp.Compare(rank(kindOf(a).traits().undoFirst), rank(kindOf(b).traits().undoFirst))
	})
	for _, i := range done {
		if !kindOf(i).traits().undoable {
			continue
		}
		told := make(chan struct{})
		late := time.AfterFunc(patience, func() { defer close(told); l.UndoSlow(i, patience) })
		err := kindOf(i).undo(w, ctx, *p.Steps[i].Effect, p.Steps[i].Material)
		for err != nil && p.Passes != nil && p.Passes(err) && p.Waits > 0 {
			time.Sleep(second)
			p.Waits -= second
			err = kindOf(i).undo(w, ctx, *p.Steps[i].Effect, p.Steps[i].Material)
		}
		if !late.Stop() { // nothing may be reported after the end
			<-told
		}
		entry := p.entry(state.Undone, i)
		entry.Effect = nil
		if err != nil {
			entry.Event, entry.Detail = state.Failed, "undo: "+fault.As(err).What
		}
		_ = journal.Record(entry)
		if err != nil {
			l.UndoFailed(i, err)
		} else {
			l.Undone(i)
		}
	}
}

func rank(first bool) int {
	if first {
		return 0
	}
	return 1
}
