package provision

import (
	"context"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
)

// Several apps at once: each worker is an Engine with connections of its own, so that two
// apps are to each other as if two programs worked on them. What is told is told in the
// order of the apps, and apps that have something in common follow one another.

// following gives for each app those before it that it has something in common with, and
// that are waited for: a database, an account, a settings file, a folder in the other's, or
// a server whose settings both change.
func (e *Base) following(apps []*estate.App) [][]int {
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
	to    Listener
	mutex sync.Mutex
	turn  int
	kept  [][]func()
	ended []bool
}

// tell tells something of an app, or keeps it until its turn.
func (o *inOrder) tell(i int, what func()) {
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

// of is the listener for an app. What nobody listens to stays unheard.
func (o *inOrder) of(i int) Listener {
	var l Listener
	if o.to.Begin != nil {
		l.Begin = func(h Header) { o.tell(i, func() { o.to.Begin(h) }) }
	}
	if o.to.Row != nil {
		l.Row = func(h Header, row Row) { o.tell(i, func() { o.to.Row(h, row) }) }
	}
	if o.to.End != nil {
		l.End = func(r Result) { o.tell(i, func() { o.to.End(r) }) }
	}
	if o.to.Trace != nil {
		l.Trace = func(server string, s dbms.Statement) { o.tell(i, func() { o.to.Trace(server, s) }) }
	}
	if o.to.Progress != nil {
		l.Progress = func(h Header, p load.Progress) {
			o.mutex.Lock()
			defer o.mutex.Unlock()
			if i == o.turn { // how far another was is of no use later
				o.to.Progress(h, p)
			}
		}
	}
	return l
}

// each has the work done on one app after the other. The results are in their order; the
// error is for what concerns none in particular.
func (e *Engine) each(ctx context.Context, apps []*estate.App, options Options, work func(*run, context.Context) error) ([]Result, error) {
	e.begin(apps)
	var results []Result
	for _, app := range apps {
		if ctx.Err() != nil {
			return results, fault.Stopped(ctx.Err())
		}
		results = append(results, (&e.Base).one(ctx, app, options, work))
	}
	return results, nil
}

// together is each for work that asks nobody anything: up to Jobs apps at once.
func (e *Engine) together(ctx context.Context, apps []*estate.App, options Options, work func(*run, context.Context) error) ([]Result, error) {
	jobs := min(e.Jobs, len(apps))
	if jobs < 2 {
		return e.each(ctx, apps, options, work)
	}
	e.begin(apps)
	for len(e.workers) < jobs-1 {
		worker := e.Base
		worker.servers, worker.workers, worker.room = nil, nil, nil
		e.workers = append(e.workers, &worker)
	}
	listener := e.Listener
	defer func() { e.Listener = listener }()
	telling := &inOrder{to: listener, kept: make([][]func(), len(apps)), ended: make([]bool, len(apps))}
	behind, done := (&e.Base).following(apps), make([]chan struct{}, len(apps))
	for i := range done {
		done[i] = make(chan struct{})
	}
	results, turns := make([]*Result, len(apps)), make(chan int)
	var crew sync.WaitGroup
	for _, worker := range append([]*Base{&e.Base}, e.workers[:jobs-1]...) {
		crew.Go(func() {
			for i := range turns {
				for _, before := range behind[i] {
					<-done[before] // which was reached earlier
				}
				if ctx.Err() == nil {
					worker.Listener = telling.of(i)
					result := worker.one(ctx, apps[i], options, work)
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
	var all []Result
	for _, result := range results {
		if result == nil {
			return all, fault.Stopped(ctx.Err())
		}
		all = append(all, *result)
	}
	return all, nil
}

// one has the work done on one app.
func (e *Base) one(ctx context.Context, app *estate.App, options Options, work func(*run, context.Context) error) Result {
	r := &run{Base: e, app: app, options: options, began: time.Now()}
	r.result.Header = Header{App: app.Name, Server: app.Server}
	r.result.Notes = app.Notes
	err := r.within(ctx, func(ctx context.Context) error {
		defer r.endReaders(ctx)
		switch {
		case app.Retired == "" || options.Retire != nil || options.Export != nil || options.UndoUnfinished || options.Command == "list":
			return work(r, ctx)
		case options.Command == "provision" || options.Command == "verify" || len(e.chosen) > 1:
			return r.lookAtRetired(ctx)
		}
		return r.refuseRetired(ctx)
	})
	r.finish(err)
	r.folder.Close()
	for _, other := range r.others {
		other.folder.Close()
	}
	return r.result
}
