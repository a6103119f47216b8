package mysql

import (
	"context"
	"errors"

	"yellowfield/internal/dbms"
	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
)

// giveRun hands a long series of INSERTs to a lane that reads it from the file by itself, and
// goes on after it.
func (e *engine) giveRun(ctx context.Context, r *load.Run, first sqltext.Statement) (taken bool, err error) {
	if err := e.endFold(ctx); err != nil {
		return false, err
	}
	if err := e.beforeRows(ctx); err != nil {
		return false, err
	}
	v := e.judge.Classify(first)
	t, err := e.table(ctx, v.Insert.Table.Name, v.Dialect)
	if err != nil || !t.plain() || v.Objection != nil {
		return false, err
	}
	if err := e.batch.flush(); err != nil {
		return false, err
	}
	l, err := e.laneFor(ctx, t, e.settings)
	if err != nil {
		return false, err
	}
	p := laneRun{run: r, table: t, late: t.late, settings: e.settings, judge: e.judge.Clone(), form: e.loadFormFor(t, r, v.Insert.Columns)}
	if parts := e.divide(p); len(parts) > 1 {
		if err := e.giveParts(ctx, l, p, parts); err != nil {
			return false, err
		}
	} else {
		l.give(task{at: r.From.Offset, bytes: r.Bytes, do: func(ctx context.Context, l *lane) error {
			return l.readRun(ctx, p)
		}})
	}
	if err := e.afterRows(ctx, t, e.lastOf(r)); err != nil {
		return true, err
	}
	return true, r.Skip(e.source.Name, e.script, e.script.Content)
}

// laneRun is a run on its way to the server.
type laneRun struct {
	run      *load.Run
	table    *table
	late     *lateKeys
	settings *settings
	judge    *judge.Judge
	form     *loadForm // how LOAD DATA gets its rows; nil for INSERTs
	divided  *divided  // of a part of a run; nil for a whole one
}

// lastOf is the offset of the table's last row when the run holds it.
func (e *engine) lastOf(r *load.Run) int64 {
	if d := e.survey.Data[r.Table.Name]; d != nil && d.Last < r.End {
		return d.Last
	}
	return r.From.Offset
}

// readRun reads a run from the file and sends it.
func (l *lane) readRun(ctx context.Context, p laneRun) error {
	e := l.e
	script, err := e.subject().Read(ctx, e.source)
	if err != nil {
		return err
	}
	defer script.Close()
	if p.form != nil {
		if p.run, err = l.loadRun(ctx, p, script); err != nil || p.run == nil {
			return stopped(ctx, err)
		}
	}
	if err := l.takeOff(ctx, p); err != nil {
		return err
	}
	batch := newBatcher(e.Server.MaxPacket, func(job *job) error {
		if e.stopsBefore(job.offset()) || ctx.Err() != nil || p.divided.stops() {
			return errStopped
		}
		err := l.run(ctx, job)
		switch {
		case err == nil:
			p.divided.stored(len(job.parts), job.bytes, job.rows)
			return nil
		case p.divided != nil && dbms.IsRefusal(err):
			l.drop(ctx)
			p.divided.refused.Store(true)
		default:
			e.fail(job.offset(), err)
		}
		return errStopped
	})
	err = p.run.Read(e.source.Name, script, script.Content, func(statement sqltext.Statement) error {
		v := p.judge.Classify(statement)
		rows := batch.readRows(v, p.table)
		if !rows.literal {
			return load.Changed(e.source.Name, statement)
		}
		return batch.add(v, rows, p.table, p.settings)
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
