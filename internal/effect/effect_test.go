package effect

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/state"
)

// book keeps what was recorded and told, in its order.
type book struct {
	lines []string
	late  chan int
	full  int // records that are still taken; none after them
}

func (b *book) Record(e state.Entry) error {
	if b.full--; b.full < 0 {
		return errors.New("no room")
	}
	b.lines = append(b.lines, fmt.Sprintf("%s %s", e.Event, e.Object))
	return nil
}

func (b *book) say(format string, args ...any) {
	b.lines = append(b.lines, fmt.Sprintf(format, args...))
}

func (b *book) Found(i int)                 { b.say("found %d", i) }
func (b *book) Done(i int, facts string)    { b.say("told %d %s", i, facts) }
func (b *book) Failed(i int, err error)     { b.say("failed %d %v", i, err) }
func (b *book) Undone(i int)                { b.say("undone %d", i) }
func (b *book) UndoFailed(i int, err error) { b.say("stays %d %v", i, err) }

func (b *book) UndoSlow(i int, _ time.Duration) { b.late <- i }

// act is what an effect of the tests does.
type act struct {
	do      func(context.Context) error
	fails   error
	undo    func() error
	touched bool
}

var (
	testKinds Kinds[*book]
	plain     = Define[*book, []string](&testKinds, "plain")
	first     = Define[*book, []string](&testKinds, "first")
)

func init() {
	spec := Spec[*book, []string]{
		Do: func(b *book, ctx context.Context, d *Doing[[]string]) (string, error) {
			b.say("act %s", d.Subject)
			a := d.Material.(*act)
			d.Touched = a.touched
			if a.do != nil {
				return d.Subject + "!", a.do(ctx)
			}
			return d.Subject + "!", a.fails
		},
		Undo: func(b *book, _ context.Context, c Change[[]string]) error {
			b.say("undo %s", c.Subject)
			return c.Material.(*act).undo()
		},
	}
	plain.Means(spec)
	spec.UndoFirst = true
	first.Means(spec)
}

func (b *book) step(name string, fails error, undo error) *Step {
	return &Step{Name: "s", Effect: plain.Of(name, nil, nil), Material: &act{fails: fails, undo: func() error { return undo }}}
}

// plan is one of the tests' effects.
func plan(steps ...*Step) Plan[*book] { return Plan[*book]{Kinds: &testKinds, Steps: steps} }

func TestStepsAreDoneAndUndone(t *testing.T) {
	b := &book{full: 100}
	bad := b.step("c", errors.New("broke"), nil)
	p := plan(b.step("a", nil, nil), &Step{}, b.step("left", nil, nil), b.step("b", nil, errors.New("stuck")), bad, b.step("never", nil, nil))
	p.Skip = func(i int) bool { return i == 2 }
	undone, err := p.Run(t.Context(), b, b, b)
	assert.EqualError(t, err, "broke")
	assert.True(t, undone)
	assert.Equal(t, []string{
		"intended a", "act a", "done a", "told 0 a!", "found 1", "intended b", "act b", "done b", "told 3 b!",
		"intended c", "act c", "failed c", "failed 4 broke",
		"undo b", "failed b", "stays 3 stuck", "undo a", "undone a", "undone 0",
	}, b.lines, "a step that has touched nothing is not undone, and one that stays stops nothing")

	b.lines, bad.Material.(*act).touched = nil, true
	p.Steps, p.Skip = []*Step{bad}, nil
	_, err = p.Run(t.Context(), b, b, b)
	assert.Error(t, err)
	assert.Contains(t, b.lines, "undo c")

	b.lines = nil
	p.Steps, p.Final = []*Step{b.step("a", nil, nil), bad}, func() bool { return true }
	undone, err = p.Run(t.Context(), b, b, b)
	assert.Error(t, err)
	assert.False(t, undone)
	assert.NotContains(t, b.lines, "undo a")
}

func TestNothingIsDoneWithoutARecordOfIt(t *testing.T) {
	b := &book{full: 2}
	p := plan(b.step("a", nil, nil), b.step("b", nil, nil))
	_, err := p.Run(t.Context(), b, b, b)
	assert.EqualError(t, err, "no room")
	assert.NotContains(t, b.lines, "act b")
	assert.Contains(t, b.lines, "undo a", "what was done is undone all the same")

	b = &book{full: 1} // done, and not recorded: then it has to go
	_, err = plan(b.step("a", nil, nil)).Run(t.Context(), b, b, b)
	assert.EqualError(t, err, "no room")
	assert.Contains(t, b.lines, "undo a")

	ctx, stop := context.WithCancel(t.Context())
	b = &book{full: 100}
	stops := b.step("a", nil, nil)
	stops.Material.(*act).do = func(context.Context) error { stop(); return nil }
	_, err = plan(stops, b.step("b", nil, nil)).Run(ctx, b, b, b)
	assert.Error(t, err)
	assert.NotContains(t, b.lines, "act b")
	assert.Contains(t, b.lines, "undo a", "an interrupted run is undone to its end")
}

func TestWhatSomebodyWaitsForIsUndoneFirst(t *testing.T) {
	defer func(was time.Duration) { patience = was }(patience)
	patience = time.Millisecond
	b := &book{full: 100, late: make(chan int, 10)}
	urgent, slow := b.step("first", nil, nil), b.step("slow", nil, nil)
	urgent.Effect = first.Of("first", nil, nil)
	slow.Material.(*act).undo = func() error {
		for i := range b.late { // told while it is at work
			if i == 2 {
				break
			}
		}
		return nil
	}
	p := plan(b.step("a", nil, nil), urgent, slow, b.step("bad", errors.New("broke"), nil))
	_, err := p.Run(t.Context(), b, b, b)
	require.EqualError(t, err, "broke")
	assert.Equal(t, []string{"undo first", "undone first", "undone 1", "undo slow", "undone slow", "undone 2", "undo a", "undone a", "undone 0"}, b.lines[len(b.lines)-9:])
}

// What stands in the way for a while only does not keep an undo from being made; what stays
// is waited for once, and not by each.
func TestAnUndoIsTriedAgain(t *testing.T) {
	defer func(was time.Duration) { second = was }(second)
	second = time.Microsecond
	b, full := &book{full: 100}, 3
	passing := errors.New("disk full")
	p := plan(b.step("b", nil, nil), b.step("a", nil, nil), b.step("bad", errors.New("broke"), nil))
	p.Passes, p.Waits = func(err error) bool { return err == passing }, 5*second
	p.Steps[1].Material.(*act).undo = func() error {
		if full--; full > 0 {
			return passing
		}
		return nil
	}
	tries := 0
	p.Steps[0].Material.(*act).undo = func() error { tries++; return passing }
	_, err := p.Run(t.Context(), b, b, b)
	require.EqualError(t, err, "broke")
	assert.Contains(t, b.lines, "undone 1")
	assert.Contains(t, b.lines, "stays 0 disk full")
	assert.Equal(t, 4, tries, "what the first has waited is gone")
}
