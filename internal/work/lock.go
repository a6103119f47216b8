package work

import (
	"context"
	"fmt"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// Lock takes a lock on the server, or gives the session that has it. A lock counts
// only when somebody who administers holds it: any account may take one, and an
// application's could keep everybody out for ever. Its session is ended; a command
// that changes nothing says so and goes on without the lock. Another administrator's is
// waited for, where that is asked.
func (r *Run) Lock(ctx context.Context, admin dbms.Server, name string, wait bool) (release func(), holder *dbms.Connection, err error) {
	const tries = 10
	waiting := r.patience()
	for try := 0; try < tries; try++ {
		release, held, err := admin.Lock(ctx, name)
		if err != nil || held {
			return release, nil, err
		}
		if holder, err = admin.LockHolder(ctx, name); err != nil {
			return nil, nil, err
		}
		if holder == nil {
			continue // it was given back in the meantime
		}
		if holder.Administers && wait && waiting.goesOn(holder.Who) {
			try-- // also a run that was killed holds it until the server has noticed
			if err := dbms.Pause(ctx); err != nil {
				return nil, nil, err
			}
			continue
		}
		if holder.Administers {
			return nil, holder, nil
		}
		row := Row{Step: "server", Outcome: Differs, Severity: estate.ShouldLook, Facts: fmt.Sprintf("the lock %s is held by %s, which administers nothing", name, holder.Who)}
		if r.Options.DryRun {
			row.Remedy = "end the session as the administrator, and ask what it is: " + holder.End.String()
			r.Tell(row)
			return func() {}, nil, nil
		}
		if err := admin.Exec(ctx, holder.End); err != nil {
			return nil, nil, err
		}
		row.Outcome, row.Severity, row.Facts = Fixed, "", row.Facts+": its session was ended"
		r.Tell(row)
		if err := dbms.Pause(ctx); err != nil { // the server ends it in its own time
			return nil, nil, err
		}
	}
	if holder == nil {
		holder = &dbms.Connection{Who: "a session that comes and goes"}
	}
	return nil, holder, nil
}

// LockThere is the name of the app's lock on its server.
func (r *Run) LockThere() string { return LockOf(r.App) }

// LockOf is the name of an app's lock on the servers where it is or is being moved to.
func LockOf(app *estate.App) string { return "yellowfield:" + app.Database.Name }

// TryLater is what to do where somebody else is at work.
const TryLater = "wait until it is done, and run the command again; --wait 60s waits so long"

// waiting is for somebody else's lock.
type waiting struct {
	run   *Run
	began time.Time
	told  bool
}

func (r *Run) patience() *waiting { return &waiting{run: r, began: time.Now()} }

// goesOn reports whether there is time left, and tells once for whom it is waited.
func (w *waiting) goesOn(who string) bool {
	const soon = time.Second // a short wait is not reported
	waited := time.Since(w.began)
	if waited > soon && !w.told && w.run.Wait > soon {
		w.told = true
		w.run.Tell(Row{Step: "server", Outcome: Note, Facts: fmt.Sprintf("%s is working on app %s: waiting up to %s", who, w.run.App.Name, w.run.Wait)})
	}
	return waited < w.run.Wait
}

// LockHere takes the app's lock on this host.
func (r *Run) LockHere(ctx context.Context) (release func(), err error) {
	for waiting := r.patience(); ; {
		release, held, err := r.State.Lock(r.App.Name + "@" + r.Estate.Path)
		if err != nil || held {
			return release, err
		}
		if !waiting.goesOn("someone else on this host") {
			return nil, fault.New(fault.Busy, TryLater, "someone else is working on app %s on this host", r.App.Name)
		}
		if err := dbms.Pause(ctx); err != nil {
			return nil, err
		}
	}
}
