package provision

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/lifecycle"
	"yellowfield/internal/load"
	"yellowfield/internal/work"
)

// Several apps at once: each worker is an Engine with connections of its own, as if a program
// of its own worked on each app. Rows are shown in the order of the apps, and apps that have
// something in common are worked on one after another.

// following gives for each app those before it that it has something in common with, and
// that are waited for: a database, an account, a settings file, a folder in the other's, or
// a server whose settings both change.
func following(e *work.Engine, apps []*estate.App) [][]int {
	behind, last := make([][]int, len(apps)), map[string]int{}
	folders := map[string]bool{}
	for _, app := range apps {
		folders[app.Folder] = app.Folder != ""
	}
	for i, app := range apps {
		where := e.Estate.Servers[app.Server].Address().String()
		var has []string
		for _, d := range app.All() {
			has = append(has, "database "+d.Name+" "+where)
		}
		for _, account := range app.Accounts {
			has = append(has, "account "+account.Name+" "+where)
		}
		places := []string{app.Folder}
		for _, s := range app.Settings {
			has = append(has, "file "+app.InFolder(s.File))
			places = append(places, app.InFolder(s.File))
		}
		if len(app.ServerDuringImport) > 0 {
			has = append(has, "server "+where)
		}
		for _, place := range places {
			for up := filepath.Dir(place); place != up; place, up = up, filepath.Dir(up) {
				if folders[place] {
					has = append(has, "file "+place)
				}
			}
		}
		for _, thing := range has {
			if before, shared := last[thing]; shared && before != i && !slices.Contains(behind[i], before) {
				behind[i] = append(behind[i], before)
			}
			last[thing] = i
		}
	}
	return behind
}

// inOrder tells what becomes of several apps at once in the order of the apps: of the first
// that is not through at once, of the others when it is their turn.
type inOrder struct {
	to    work.Listener
	mutex sync.Mutex
	turn  int
	kept  [][]func()
	ended []bool
}

// Tell tells something of an app, or keeps it until its turn.
func (o *inOrder) Tell(i int, what func()) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if i != o.turn {
		o.kept[i] = append(o.kept[i], what)
		return
	}
	what()
}

// end says that all was told of an app.
func (o *inOrder) end(i int) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.ended[i] = true
	for o.turn < len(o.ended) && o.ended[o.turn] {
		if o.turn++; o.turn < len(o.kept) {
			for _, what := range o.kept[o.turn] {
				what()
			}
			o.kept[o.turn] = nil
		}
	}
}

// of is the listener for an app; events without a receiver are dropped.
func (o *inOrder) of(i int) work.Listener {
	var l work.Listener
	if o.to.Begin != nil {
		l.Begin = func(h work.Header) { o.Tell(i, func() { o.to.Begin(h) }) }
	}
	if o.to.Row != nil {
		l.Row = func(h work.Header, row work.Row) { o.Tell(i, func() { o.to.Row(h, row) }) }
	}
	if o.to.End != nil {
		l.End = func(r work.Result) { o.Tell(i, func() { o.to.End(r) }) }
	}
	if o.to.Trace != nil {
		l.Trace = func(server string, s dbms.Statement) { o.Tell(i, func() { o.to.Trace(server, s) }) }
	}
	if o.to.Progress != nil {
		l.Progress = func(h work.Header, p load.Progress) {
			o.mutex.Lock()
			defer o.mutex.Unlock()
			if i == o.turn { // progress is of no use later
				o.to.Progress(h, p)
			}
		}
	}
	return l
}

// each has the work done on one app after the other. The results are in their order; the
// error is for what concerns none in particular.
func (e *Engine) each(ctx context.Context, apps []*estate.App, options work.Options, do func(*work.Run, context.Context) error) ([]work.Result, error) {
	e.BeginWork(apps)
	var results []work.Result
	for _, app := range apps {
		if ctx.Err() != nil {
			return results, fault.Stopped(ctx.Err())
		}
		results = append(results, one((&e.Engine), ctx, app, options, do))
	}
	return results, nil
}

// together is each for work that asks nobody anything: up to Jobs apps at once.
func (e *Engine) together(ctx context.Context, apps []*estate.App, options work.Options, do func(*work.Run, context.Context) error) ([]work.Result, error) {
	jobs := min(e.Jobs, len(apps))
	if jobs < 2 {
		return e.each(ctx, apps, options, do)
	}
	e.BeginWork(apps)
	for len(e.Workers) < jobs-1 {
		worker := e.Engine
		worker.Servers, worker.Workers, worker.Room = nil, nil, nil
		e.Workers = append(e.Workers, &worker)
	}
	listener := e.Listener
	defer func() { e.Listener = listener }()
	telling := &inOrder{to: listener, kept: make([][]func(), len(apps)), ended: make([]bool, len(apps))}
	behind, done := following((&e.Engine), apps), make([]chan struct{}, len(apps))
	for i := range done {
		done[i] = make(chan struct{})
	}
	results, turns := make([]*work.Result, len(apps)), make(chan int)
	var crew sync.WaitGroup
	for _, worker := range append([]*work.Engine{&e.Engine}, e.Workers[:jobs-1]...) {
		crew.Go(func() {
			for i := range turns {
				for _, before := range behind[i] {
					<-done[before] // which was done earlier
				}
				if ctx.Err() == nil {
					worker.Listener = telling.of(i)
					result := one(worker, ctx, apps[i], options, do)
					results[i] = &result
				}
				telling.end(i)
				close(done[i])
			}
		})
	}
	for i := range apps {
		turns <- i
	}
	close(turns)
	crew.Wait()
	var all []work.Result
	for _, result := range results {
		if result == nil {
			return all, fault.Stopped(ctx.Err())
		}
		all = append(all, *result)
	}
	return all, nil
}

// one has the work done on one app.
func one(e *work.Engine, ctx context.Context, app *estate.App, options work.Options, do func(*work.Run, context.Context) error) work.Result {
	r := work.NewRun(e, app, options)
	err := locked(r, ctx, do)
	for tries := 0; errors.Is(err, work.ErrChanged) && tries < 3; tries++ {
		r.Folder.Close()
		if r, err = r.Anew(); err == nil {
			err = locked(r, ctx, do)
		}
	}
	if errors.Is(err, work.ErrChanged) {
		err = r.Estate.Fault(fault.Busy, "apps."+app.Name, work.TryLater, "the entry of app %s is changed again and again", app.Name)
	}
	r.Finish(err)
	r.Folder.Close()
	for _, other := range r.Others {
		other.Folder.Close()
	}
	e.Servers, e.Room = r.Servers, r.Room // for whoever disconnects: r may have an engine of its own
	return r.Result
}

// locked has the work done while the app's locks are held.
func locked(r *work.Run, ctx context.Context, do func(*work.Run, context.Context) error) error {
	return within(r, ctx, func(ctx context.Context) error {
		defer r.EndReaders(ctx)
		app, options := r.App, r.Options
		switch {
		case app.Retired == "" || options.Retire != nil || options.Export != nil || options.UndoUnfinished || options.Command == "list":
			return do(r, ctx)
		case options.Command == "provision" || options.Command == "verify" || len(r.Chosen) > 1:
			return lifecycle.LookAtRetired(r, ctx)
		}
		return lifecycle.RefuseRetired(r, ctx)
	})
}
