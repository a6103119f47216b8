// Package step is the machine that a plan runs on: steps that were decided beforehand
// are done in their order, the intent of each in the journal before it, and undone
// newest first when one fails.
//
// It must never know of databases, of file formats, or of how its rows are drawn.
package step

import (
	"cmp"
	"context"
	"slices"
	"time"

	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// Step is one thing to do, or found to be done.
type Step struct {
	// Name is the kind of step, a word of the output.
	Name string
	// Object names what Act makes, for the journal and for what is told of undoing.
	Object string
	// Before and After are what the object was and will be, for whoever takes the change
	// back when the run has long ended; empty where that cannot be said.
	Before, After string
	// Act makes the change, and may give facts about what really came of it; nil
	// where there is nothing to do.
	Act func(ctx context.Context) (facts string, err error)
	// Undo takes the change back; nil where there is nothing to take back.
	Undo func(ctx context.Context) error
	// First has it taken back before all others: somebody waits for that.
	First bool
	// Touched is set by Act as soon as something may have been changed, so that it is
	// undone also when Act fails later.
	Touched bool
}

// Journal is where a run writes what it is about to do. What Record has taken is on
// the disk when it returns.
type Journal interface{ Record(state.Entry) error }

// Listener is told what becomes of the steps, each by its place in the plan. Waits may be
// called while an Undo is at work.
type Listener interface {
	// Found is told of a step with nothing to do.
	Found(i int)
	Done(i int, facts string)
	Failed(i int, err error)
	Undone(i int)
	// Waits is told of a step whose undoing takes long, while that goes on.
	Waits(i int, since time.Duration)
	// Stays is told of a step that could not be undone, and why.
	Stays(i int, err error)
}

// Plan is what a run does.
type Plan struct {
	Steps []*Step
	// Left reports whether a step is left out, and tells of it; nil for none.
	Left func(i int) bool
	// Stands reports whether what was done so far stands, whatever fails behind it;
	// nil for never.
	Stands func() bool
}

// Run does the steps. The error is that of the first one that failed; what was done
// before it has been undone then, unless the plan says that it stands. undone says
// whether that was tried.
func (p Plan) Run(ctx context.Context, journal Journal, l Listener) (undone bool, err error) {
	var done []int
	for i, s := range p.Steps {
		if p.Left != nil && p.Left(i) {
			continue
		}
		if s.Act == nil {
			l.Found(i)
			continue
		}
		facts, changed, err := s.do(ctx, journal)
		if err == nil {
			done = append(done, i)
			l.Done(i, facts)
			continue
		}
		l.Failed(i, err)
		if p.Stands != nil && p.Stands() {
			return false, err
		}
		if changed {
			done = append(done, i)
		}
		p.undo(ctx, done, journal, l)
		return len(done) > 0, err
	}
	return false, nil
}

// do makes one change. changed tells, beside an error, that something may have been
// changed all the same, so that it must be undone.
func (s *Step) do(ctx context.Context, journal Journal) (facts string, changed bool, err error) {
	if ctx.Err() != nil {
		return "", false, fault.Stopped(ctx.Err())
	}
	entry := state.Entry{Event: state.Intended, Step: s.Name, Object: s.Object, Before: s.Before, After: s.After}
	if err := journal.Record(entry); err != nil {
		return "", false, err
	}
	facts, err = s.Act(ctx)
	if err != nil {
		entry.Event, entry.Detail = state.Failed, fault.As(err).What
		_ = journal.Record(entry) // the error at hand matters more
		return "", s.Touched, err
	}
	entry.Event = state.Done
	return facts, true, journal.Record(entry)
}

// patience is how long undoing a step may take before that is told.
var patience = 10 * time.Second

// undo takes back what was done, newest first. It goes on when the run was
// interrupted, and behind a step that cannot be undone.
func (p Plan) undo(ctx context.Context, done []int, journal Journal, l Listener) {
	ctx = context.WithoutCancel(ctx)
	slices.Reverse(done)
	rank := func(i int) int {
		if p.Steps[i].First {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(done, func(a, b int) int { return cmp.Compare(rank(a), rank(b)) })
	for _, i := range done {
		s := p.Steps[i]
		if s.Undo == nil {
			continue
		}
		entry := state.Entry{Event: state.Undone, Step: s.Name, Object: s.Object}
		told := make(chan struct{})
		late := time.AfterFunc(patience, func() { defer close(told); l.Waits(i, patience) })
		err := s.Undo(ctx)
		if !late.Stop() { // nothing is told behind the end
			<-told
		}
		if err != nil {
			entry.Event, entry.Detail = state.Failed, "undo: "+fault.As(err).What
		}
		_ = journal.Record(entry)
		if err != nil {
			l.Stays(i, err)
		} else {
			l.Undone(i)
		}
	}
}
