package step

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
	full  int // records that are still taken; none behind them
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

func (b *book) Found(i int)              { b.say("found %d", i) }
func (b *book) Done(i int, facts string) { b.say("told %d %s", i, facts) }
func (b *book) Failed(i int, err error)  { b.say("failed %d %v", i, err) }
func (b *book) Undone(i int)             { b.say("undone %d", i) }
func (b *book) Stays(i int, err error)   { b.say("stays %d %v", i, err) }

func (b *book) Waits(i int, _ time.Duration) { b.late <- i }

func (b *book) step(name string, fails error, undo error) *Step {
	return &Step{Name: "s", Object: name,
		Act:  func(context.Context) (string, error) { b.say("act %s", name); return name + "!", fails },
		Undo: func(context.Context) error { b.say("undo %s", name); return undo }}
}

func TestStepsAreDoneAndUndone(t *testing.T) {
	b := &book{full: 100}
	bad := b.step("c", errors.New("broke"), nil)
	p := Plan{Steps: []*Step{b.step("a", nil, nil), {Object: "there"}, b.step("left", nil, nil), b.step("b", nil, errors.New("stuck")), bad, b.step("never", nil, nil)},
		Left: func(i int) bool { return i == 2 }}
	undone, err := p.Run(t.Context(), b, b)
	assert.EqualError(t, err, "broke")
	assert.True(t, undone)
	assert.Equal(t, []string{
		"intended a", "act a", "done a", "told 0 a!", "found 1", "intended b", "act b", "done b", "told 3 b!",
		"intended c", "act c", "failed c", "failed 4 broke",
		"undo b", "failed b", "stays 3 stuck", "undo a", "undone a", "undone 0",
	}, b.lines, "a step that has touched nothing is not undone, and one that stays stops nothing")

	b.lines, bad.Touched = nil, true
	p.Steps, p.Left = []*Step{bad}, nil
	_, err = p.Run(t.Context(), b, b)
	assert.Error(t, err)
	assert.Contains(t, b.lines, "undo c")

	b.lines = nil
	p.Steps, p.Stands = []*Step{b.step("a", nil, nil), bad}, func() bool { return true }
	undone, err = p.Run(t.Context(), b, b)
	assert.Error(t, err)
	assert.False(t, undone)
	assert.NotContains(t, b.lines, "undo a")
}

func TestNothingIsDoneWithoutARecordOfIt(t *testing.T) {
	b := &book{full: 2}
	p := Plan{Steps: []*Step{b.step("a", nil, nil), b.step("b", nil, nil)}}
	_, err := p.Run(t.Context(), b, b)
	assert.EqualError(t, err, "no room")
	assert.NotContains(t, b.lines, "act b")
	assert.Contains(t, b.lines, "undo a", "what was done is undone all the same")

	b = &book{full: 1} // done, and not recorded: then it has to go
	_, err = Plan{Steps: []*Step{b.step("a", nil, nil)}}.Run(t.Context(), b, b)
	assert.EqualError(t, err, "no room")
	assert.Contains(t, b.lines, "undo a")

	ctx, stop := context.WithCancel(t.Context())
	b = &book{full: 100}
	first := b.step("a", nil, nil)
	act := first.Act
	first.Act = func(ctx context.Context) (string, error) { stop(); return act(ctx) }
	_, err = Plan{Steps: []*Step{first, b.step("b", nil, nil)}}.Run(ctx, b, b)
	assert.Error(t, err)
	assert.NotContains(t, b.lines, "act b")
	assert.Contains(t, b.lines, "undo a", "an interrupted run is undone to its end")
}

func TestWhatSomebodyWaitsForIsUndoneFirst(t *testing.T) {
	defer func(was time.Duration) { patience = was }(patience)
	patience = time.Millisecond
	b := &book{full: 100, late: make(chan int, 10)}
	first, slow := b.step("first", nil, nil), b.step("slow", nil, nil)
	first.First = true
	undo := slow.Undo
	slow.Undo = func(ctx context.Context) error {
		for i := range b.late { // told while it is at work
			if i == 2 {
				break
			}
		}
		return undo(ctx)
	}
	p := Plan{Steps: []*Step{b.step("a", nil, nil), first, slow, b.step("bad", errors.New("broke"), nil)}}
	_, err := p.Run(t.Context(), b, b)
	require.EqualError(t, err, "broke")
	assert.Equal(t, []string{"undo first", "undone first", "undone 1", "undo slow", "undone slow", "undone 2", "undo a", "undone a", "undone 0"}, b.lines[len(b.lines)-9:])
}
