package mysql

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// leastRange is how many bytes of rows are worth a lane of their own beside others of
// their table. Tests lower it.
var leastRange int64 = 8 << 20

// divide gives the parts of a run that several lanes can take at once; the run itself
// where there is but one. Rows have their places by the primary key, and their numbers
// from the script, so it makes no difference in which order they come. A table that is
// filled in bulk has to be filled by one statement. Tables that are no large part of the
// script keep the lanes busy by themselves.
func (e *engine) divide(p laneRun) []*load.Run {
	t, data := p.table, e.survey.Data[p.table.name]
	var all int64
	for _, d := range e.survey.Data {
		all += d.Bytes
	}
	switch {
	case e.Server.Cluster || !t.transactional || p.form != nil && p.form.bulk,
		strings.Contains(t.created, "SYSTEM VERSIONING"), // what is emptied there stays
		data == nil || data.Numbered,
		2*int64(e.most)*p.run.Bytes <= all,
		!slices.ContainsFunc(t.definition.Keys, func(k sqltext.Key) bool { return k.Kind == "PRIMARY" }),
		slices.ContainsFunc(t.definition.Foreign, func(f sqltext.ForeignKey) bool {
			return e.settings.checks || f.References.Name == t.name
		}):
		return []*load.Run{p.run}
	}
	return p.run.Divide(min(e.most, int(p.run.Bytes/leastRange)))
}

// divided is what the parts of a run have in common.
type divided struct {
	refused atomic.Bool // the server has refused something of one of them

	mutex      sync.Mutex
	statements int // that are stored
	bytes      int64
	rows       int64
}

// stored adds to the account of the parts.
func (d *divided) stored(statements int, bytes, rows int64) {
	if d == nil {
		return
	}
	d.mutex.Lock()
	defer d.mutex.Unlock()
	d.statements, d.bytes, d.rows = d.statements+statements, d.bytes+bytes, d.rows+rows
}

// stops reports whether the parts come to nothing.
func (d *divided) stops() bool { return d != nil && d.refused.Load() }

// giveParts hands the parts of a run out: the first one to its table's lane, which comes to
// an end only when the others have. No lane waits for ever, because all parts of a run are
// handed out before anything else is. Where the server refuses a row, the table is emptied
// and the run sent once more in its order: of two rows that do not go together the script's
// second one is to blame, whichever came first.
func (e *engine) giveParts(ctx context.Context, l *lane, p laneRun, parts []*load.Run) error {
	helpers, err := e.beside(ctx, l, len(parts)-1)
	if err != nil {
		return err
	}
	if len(parts) > len(helpers)+1 { // no more sessions could be had
		parts = p.run.Divide(len(helpers) + 1)
	}
	together := &divided{}
	ready, first := make(chan struct{}), make(chan struct{})
	var others []chan struct{}
	for i, helper := range helpers[:len(parts)-1] {
		own := p
		own.run, own.judge, own.late, own.divided = parts[i+1], p.judge.Clone(), nil, together
		done := make(chan struct{})
		others = append(others, done)
		helper.give(task{at: own.run.From.Offset, bytes: own.run.Bytes, done: done, do: func(ctx context.Context, l *lane) error {
			select {
			case <-ready:
				return l.readRun(ctx, own)
			case <-first: // it came to nothing
				return nil
			}
		}})
	}
	l.give(task{at: p.run.From.Offset, bytes: parts[0].Bytes, done: first, do: func(ctx context.Context, l *lane) error {
		if err := l.takeOff(ctx, p); err != nil {
			return err
		}
		empty, err := l.isEmpty(ctx, p.table.name)
		if err != nil {
			return err
		}
		if !empty {
			return l.readRun(ctx, p)
		}
		close(ready)
		own := p
		own.run, own.judge, own.divided = parts[0], p.judge.Clone(), together
		if err := l.readRun(ctx, own); err != nil {
			return err
		}
		if err := l.commit(ctx); err != nil {
			return err
		}
		for _, other := range others {
			<-other
		}
		if !together.stops() || ctx.Err() != nil || e.stopsBefore(p.run.From.Offset) {
			return ctx.Err()
		}
		l.begun = true
		_, err = l.session.Exec(ctx, "DELETE FROM "+mysql.QuoteName(p.table.name))
		if err == nil {
			err = l.commit(ctx)
		}
		if err != nil {
			return fault.At(fault.Failed, fault.Place{File: e.source.Name, Line: p.run.From.Line, Column: p.run.From.Column}, "run the import with {one-by-one}",
				"the server refused a row of the table %s, which cannot be emptied to find it: %v", p.table.name, err).With(err)
		}
		e.Stored(p.table.name, -together.rows)
		e.Sent(-together.statements, -together.bytes)
		p.form = nil
		return l.readRun(ctx, p)
	}})
	return nil
}

// beside gives lanes beside one, those with the least to do first: so many, or what can be
// had.
func (e *engine) beside(ctx context.Context, l *lane, n int) ([]*lane, error) {
	for len(e.lanes) < min(e.most, n+1) {
		if _, err := e.addLane(ctx); err != nil {
			return nil, err
		}
	}
	others := slices.DeleteFunc(slices.Clone(e.lanes), func(other *lane) bool { return other == l })
	slices.SortStableFunc(others, func(a, b *lane) int { return cmp.Compare(a.load(), b.load()) })
	return others[:min(n, len(others))], nil
}
