package mysql

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/load"
)

// settings are the session variables, at one point of the script, that decide
// what becomes of a row.
type settings struct {
	values []string // in the order of engine.variables
	checks bool     // foreign keys are checked
	bulk   bool     // neither are unique keys, so that MariaDB loads empty tables in bulk
}

// lane is one session that takes rows, with the work that waits for it.
type lane struct {
	e       *engine
	session Session
	now     []string // values of the session variables

	work       chan task
	mutex      sync.Mutex
	changed    sync.Cond
	unfinished int   // tasks that are waiting, at work, or not committed
	bytes      int64 // of the script that these stand for

	begun       bool // a transaction is open, if only for the locks it holds
	uncommitted []*job
	size        int64 // of the uncommitted jobs' text
}

// task is a job, or a piece of work that a lane does by itself: reading a run
// of rows, building the keys of a table.
type task struct {
	job   *job
	do    func(ctx context.Context, l *lane) error
	at    int64 // offset in the script
	bytes int64 // of the script that it stands for
	// done is closed when the task has been done and committed, or given up; nil where
	// nobody waits for it.
	done chan struct{}
}

// commitSize bounds what a transaction holds: enough that commits cost
// nothing, little enough to be sent again when one fails.
const commitSize = 8 << 20

// backlog is how many tasks may wait for one lane; their text is bounded by
// memory.
const backlog = 1024

func (e *engine) openLane(ctx context.Context) (*lane, error) {
	session, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := session.Exec(ctx, "SET SESSION autocommit = 0, SESSION unique_checks = 1"); err != nil {
		session.Close()
		return nil, err
	}
	l := &lane{e: e, session: session, now: e.initial, work: make(chan task, backlog)}
	l.changed.L = &l.mutex
	e.waiting.Go(func() { l.serve(ctx) })
	return l, nil
}

// give hands a task over. The lane's counters are raised first, so that drain
// cannot miss it.
func (l *lane) give(t task) {
	l.mutex.Lock()
	l.unfinished++
	l.bytes += t.bytes
	l.mutex.Unlock()
	l.work <- t
}

func (l *lane) finished(n int, bytes int64) {
	l.mutex.Lock()
	l.unfinished -= n
	l.bytes -= bytes
	l.mutex.Unlock()
	l.changed.Broadcast()
}

// load is how many bytes of the script the lane has yet to do.
func (l *lane) load() int64 {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.bytes
}

// drain waits until all that was given is done and committed.
func (l *lane) drain() {
	l.mutex.Lock()
	for l.unfinished > 0 {
		l.changed.Wait()
	}
	l.mutex.Unlock()
}

// serve works off the tasks. Whenever none waits the lane commits, so that
// nobody ever waits for a transaction of an idle lane.
func (l *lane) serve(ctx context.Context) {
	for t := range l.work {
		err := ctx.Err()
		switch {
		case err != nil, l.e.stopsBefore(t.at):
		case t.job != nil:
			err = l.run(ctx, t.job)
		default:
			err = t.do(ctx, l)
		}
		if err == nil && (len(l.work) == 0 || t.job == nil) {
			err = l.commit(ctx)
		}
		if err != nil {
			l.drop(ctx)
			l.e.fail(t.at, err)
		}
		if t.job != nil {
			memory.Release(min(memoryLimit, int64(len(t.job.text))))
		}
		if t.done != nil {
			close(t.done)
		}
		l.finished(1, t.bytes)
	}
	l.session.Close()
}

// under makes the session's settings those that a job was written under.
func (l *lane) under(ctx context.Context, s *settings) error {
	var changes []string
	for i, value := range s.values {
		if value != l.now[i] {
			changes = append(changes, "SESSION "+l.e.variables[i]+" = "+literalOf(value))
		}
	}
	if len(changes) == 0 {
		return nil
	}
	if err := l.commit(ctx); err != nil { // what waits is repeated, if need be, under its own settings
		return err
	}
	if _, err := l.session.Exec(ctx, "SET "+strings.Join(changes, ", ")); err != nil {
		return err
	}
	l.now = s.values
	return nil
}

// literalOf writes a variable's value as SQL.
func literalOf(value string) string {
	if value != "" && strings.Trim(value, "0123456789") == "" {
		return value
	}
	return "'" + strings.ReplaceAll(value, "'", "''") + "'"
}

// run sends a job.
func (l *lane) run(ctx context.Context, j *job) error {
	if err := l.under(ctx, j.settings); err != nil {
		return err
	}
	if !j.isRows || !j.table.transactional {
		if err := l.commit(ctx); err != nil {
			return err
		}
	}
	if l.e.isWhole(j) {
		if ready, err := l.readyForBulk(ctx, j.table.name); err != nil {
			return err
		} else if ready {
			return l.runInBulk(ctx, j)
		}
	}
	l.begun = true
	if _, err := l.session.Exec(ctx, load.AsText(j.text)); err != nil {
		l.uncommitted = append(l.uncommitted, j)
		if err := l.repeat(ctx, err); err != nil {
			return err
		}
		l.e.count(j)
		return nil
	}
	if err := l.e.warned(ctx, l.session, j); err != nil {
		return err
	}
	l.e.count(j)
	if !j.isRows || !j.table.transactional { // not to be repeated
		return nil
	}
	l.uncommitted = append(l.uncommitted, j)
	l.size += int64(len(j.text))
	if l.size >= commitSize {
		return l.commit(ctx)
	}
	return nil
}

// smallBulk is below how many bytes of rows it is not worth the while to have a table
// filled in bulk. Tests lower it.
var smallBulk = 32 << 10

// isWhole reports whether a job is all rows of a table that the script has made, in one
// statement that MariaDB can fill it in bulk with.
func (e *engine) isWhole(j *job) bool {
	d := e.survey.Data[j.table.name]
	return j.isRows && !j.numbered && len(j.text) >= smallBulk && d != nil && d.First >= j.offset() && d.Last <= j.parts[len(j.parts)-1].Offset &&
		!j.settings.checks && e.fillsInBulk(j.table)
}

// runInBulk sends such a job as a transaction of its own: if anything is wrong with it, the
// table is as empty as it was, and it is sent again as others are.
func (l *lane) runInBulk(ctx context.Context, j *job) error {
	if _, err := l.session.Exec(ctx, inBulk); err != nil {
		return err
	}
	l.begun = true
	_, err := l.session.Exec(ctx, load.AsText(j.text))
	if err == nil {
		err = l.e.warned(ctx, l.session, j)
	}
	if err == nil {
		_, err = l.session.Exec(ctx, "COMMIT")
	}
	if _, back := l.session.Exec(ctx, noBulk); back != nil && err == nil {
		return back
	}
	if err != nil {
		l.uncommitted = append(l.uncommitted, j)
		err = l.repeat(ctx, err)
	}
	l.begun, l.uncommitted, l.size = false, nil, 0
	if err == nil {
		l.e.count(j)
	}
	return err
}

// commit ends the lane's transaction, if there is one.
func (l *lane) commit(ctx context.Context) error {
	if !l.begun {
		return nil
	}
	if _, err := l.session.Exec(ctx, "COMMIT"); err != nil {
		return l.repeat(ctx, err)
	}
	l.begun, l.uncommitted, l.size = false, nil, 0
	return nil
}

// drop discards what is not committed.
func (l *lane) drop(ctx context.Context) {
	_, _ = l.session.Exec(context.WithoutCancel(ctx), "ROLLBACK") // the session may be gone, and its transaction with it
	l.begun, l.uncommitted, l.size = false, nil, 0
}

// repeat finds out which statement of the script is to blame for a refusal, by
// sending the transaction once more: joined statements as long as they go
// well, the others one by one.
//
// A deadlock with someone else does not come back, and is none then. Anything
// else that does not come back was a refusal all the same: numbers that the
// server gives out are others the second time, and may hide it.
func (l *lane) repeat(ctx context.Context, cause error) error {
	if !dbms.IsRefusal(cause) || ctx.Err() != nil {
		return cause
	}
	jobs := l.uncommitted
	l.drop(ctx)
	if len(jobs) == 0 { // the end of a transaction that had only looked
		if isTransient(cause) {
			return nil
		}
		return cause
	}
	numbered := false
	for _, j := range jobs {
		numbered = numbered || j.numbered
		if j.isRows && !j.table.transactional && len(j.parts) == 1 {
			return l.e.explained(j, j.parts[0], j.text, cause) // it must not be sent twice
		}
		_, err := l.session.Exec(ctx, load.AsText(j.text))
		if err == nil {
			continue
		}
		if !dbms.IsRefusal(err) {
			return err
		}
		for _, p := range j.parts {
			text := j.alone(p)
			if _, err := l.session.Exec(ctx, load.AsText(text)); err != nil {
				return l.e.explained(j, p, text, err)
			}
		}
	}
	if numbered || !isTransient(cause) {
		last := jobs[len(jobs)-1]
		return l.e.explained(last, last.parts[0], last.alone(last.parts[0]), cause)
	}
	if _, err := l.session.Exec(ctx, "COMMIT"); err != nil {
		return fmt.Errorf("committing rows a second time: %w", err)
	}
	return nil
}
