package load

import (
	"context"
	"errors"
	"io"
	"maps"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
)

// giveRun hands a long series of INSERTs to a lane that reads it from the file
// by itself, and goes on behind it.
func (e *engine) giveRun(ctx context.Context, r *run, first sqltext.Statement) (taken bool, err error) {
	if err := e.endFold(ctx); err != nil {
		return false, err
	}
	v := e.judge.look(first)
	t, err := e.table(ctx, v.insert.Table.Name, v.Dialect)
	if err != nil || !t.plain() || v.objection != nil {
		return false, err
	}
	if err := e.beforeRows(ctx); err != nil {
		return false, err
	}
	if err := e.batch.flush(); err != nil {
		return false, err
	}
	l, err := e.laneFor(ctx, t, e.settings)
	if err != nil {
		return false, err
	}
	now, own := e.settings, *e.judge
	own.own, own.last.head = maps.Clone(own.own), nil
	l.give(task{at: r.from.Offset, bytes: r.bytes, do: func(ctx context.Context, l *lane) error {
		return l.readRun(ctx, r, t, now, &own)
	}})
	if err := e.afterRows(ctx, t, e.lastOf(r)); err != nil {
		return true, err
	}
	if r.to.Offset == 0 { // nothing behind it
		e.script.Resume(strings.NewReader(""), r.from)
		return true, nil
	}
	if _, err := e.script.Plain.Seek(r.to.Offset, io.SeekStart); err != nil {
		return true, fault.New(fault.Failed, "check the disk", "%s cannot be read on: %v", e.source.Name, err).With(err)
	}
	e.script.Resume(e.script.Plain, r.to)
	return true, nil
}

// lastOf is the offset of the table's last row when the run holds it.
func (e *engine) lastOf(r *run) int64 {
	if d := e.survey.data[r.table]; d != nil && d.last < r.end {
		return d.last
	}
	return r.from.Offset
}

// readRun reads a run from the file and sends it.
func (l *lane) readRun(ctx context.Context, r *run, t *table, s *settings, j *judge) error {
	e := l.e
	script, err := read(ctx, e.source, e.target.Server)
	if err != nil {
		return err
	}
	defer script.Close()
	if _, err := script.Plain.Seek(r.from.Offset, io.SeekStart); err != nil {
		return fault.New(fault.Failed, "check the disk", "%s cannot be read again: %v", e.source.Name, err).With(err)
	}
	script.Resume(script.Plain, r.from)
	batch := newBatcher(e.target.Server.MaxPacket, func(job *job) error {
		if e.stopsBefore(job.offset()) || ctx.Err() != nil {
			return errStopped
		}
		if err := l.run(ctx, job); err != nil {
			e.fail(job.offset(), err)
			return errStopped
		}
		return nil
	})
	for {
		statement, err := script.Next()
		if errors.Is(err, io.EOF) || err == nil && statement.Offset >= r.end {
			break
		}
		if err != nil {
			return err
		}
		v := j.look(statement)
		rows := readRows(v, t)
		if !rows.literal {
			return fault.At(fault.Failed, fault.Place{File: e.source.Name, Line: statement.Line, Column: statement.Column}, "run the import again",
				"the script has changed while it was read")
		}
		if err := batch.add(v, rows, t, s); err != nil {
			return stopped(ctx, err)
		}
	}
	return stopped(ctx, batch.flush())
}

// errStopped ends a run whose failure is recorded already.
var errStopped = errors.New("stopped")

func stopped(ctx context.Context, err error) error {
	if errors.Is(err, errStopped) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return nil
	}
	return err
}
