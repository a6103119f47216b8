package mysql

import (
	"context"
	"errors"

	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// giveRun hands a long series of INSERTs to a lane that reads it from the file
// by itself, and goes on behind it.
func (e *engine) giveRun(ctx context.Context, r *load.Run, first sqltext.Statement) (taken bool, err error) {
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
	now, own := e.settings, e.judge.clone()
	l.give(task{at: r.From.Offset, bytes: r.Bytes, do: func(ctx context.Context, l *lane) error {
		return l.readRun(ctx, r, t, now, own)
	}})
	if err := e.afterRows(ctx, t, e.lastOf(r)); err != nil {
		return true, err
	}
	return true, r.Skip(e.source.Name, e.script, e.script.Content)
}

// lastOf is the offset of the table's last row when the run holds it.
func (e *engine) lastOf(r *load.Run) int64 {
	if d := e.survey.Data[r.Table.Name]; d != nil && d.Last < r.End {
		return d.Last
	}
	return r.From.Offset
}

// readRun reads a run from the file and sends it.
func (l *lane) readRun(ctx context.Context, r *load.Run, t *table, s *settings, j *judge) error {
	e := l.e
	script, err := e.read(ctx, e.source)
	if err != nil {
		return err
	}
	defer script.Close()
	batch := newBatcher(e.Server.MaxPacket, func(job *job) error {
		if e.stopsBefore(job.offset()) || ctx.Err() != nil {
			return errStopped
		}
		if err := l.run(ctx, job); err != nil {
			e.fail(job.offset(), err)
			return errStopped
		}
		return nil
	})
	err = r.Read(e.source.Name, script, script.Content, func(statement sqltext.Statement) error {
		v := j.look(statement)
		rows := readRows(v, t)
		if !rows.literal {
			return load.Changed(e.source.Name, statement)
		}
		return batch.add(v, rows, t, s)
	})
	if err == nil {
		err = batch.flush()
	}
	return stopped(ctx, err)
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
