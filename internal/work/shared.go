package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// common is what the workers of a command share.
type common struct {
	mutex   sync.Mutex
	asked   map[asked]secret.Password
	Chosen  []*estate.App // that the command is about
	Reached map[string]*serverProbe
	pruned  bool

	reading sync.Mutex
	latest  *estate.Estate // the estate as it was read last; nil while that is the engine's own
}

// share makes what is shared, once.
func (e *Engine) share() {
	if e.common == nil {
		e.common = &common{}
	}
}

// serverProbe is a server that a command has to do with.
type serverProbe struct {
	Tried chan struct{} // closed when the first app has tried to log in
	Err   error         // of that
	// look is what the server held when the command began, read once for all its apps.
	look      sync.Once
	catalogue *dbms.Catalogue
	lookErr   error
}

// BeginWork prepares for a command's work on apps.
func (e *Engine) BeginWork(apps []*estate.App) {
	e.share()
	e.Chosen, e.Reached = apps, map[string]*serverProbe{}
	for _, app := range apps {
		e.Reached[app.Server] = &serverProbe{Tried: make(chan struct{})}
	}
}

// asked is a source of a password, and for what it was asked: the same one in an estate file
// that was read again is another value.
type asked struct{ source, label string }

// Obtain gets a password from its source, once for a command.
func (e *Engine) Obtain(ctx context.Context, source *secret.Source, label string) (secret.Password, error) {
	e.share()
	e.mutex.Lock() // also while a person is asked: nobody answers two questions at once
	defer e.mutex.Unlock()
	key := asked{source: fmt.Sprintf("%+v", *source), label: label}
	if p, known := e.asked[key]; known {
		return p, nil
	}
	p, err := source.Obtain(ctx, label, e.Ask)
	if err == nil {
		if e.asked == nil {
			e.asked = map[asked]secret.Password{}
		}
		e.asked[key] = p
	}
	return p, err
}

// Forget has a password obtained anew the next time; a person is not asked twice.
func (e *Engine) Forget(source *estate.PasswordSource) {
	if source == nil || source.Ask {
		return
	}
	e.share()
	e.mutex.Lock()
	defer e.mutex.Unlock()
	maps.DeleteFunc(e.asked, func(key asked, _ secret.Password) bool { return key.source == fmt.Sprintf("%+v", source.Source) })
}

// SpeaksFor reports whether this app shows what concerns the whole server: the command's first
// app on it does.
func (r *Run) SpeaksFor() (first *estate.App, itself bool) {
	for _, app := range r.Chosen {
		if app.Server == r.App.Server {
			return app, app.Name == r.App.Name
		}
	}
	return r.App, true
}

// Arrive logs in and shows the server in the app's heading.
func (r *Run) Arrive(ctx context.Context) (*Connection, error) {
	c, err := r.connect(ctx, r.App.Server)
	if err == nil && c.Admin != nil {
		err = r.introduce(c.Entry, c.Admin)
	}
	return c, err
}

// ErrChanged says that the entry of an app, or that of its server, was changed since the
// command has read it: the work is to be begun anew, see Anew.
var ErrChanged = errors.New("the app's entry was changed in the meantime")

// ReadAgain has the run work with the estate as its files say it now that the app's locks are
// held: another run, for which this one may have waited, may have changed them, or a person.
func (r *Run) ReadAgain() error {
	now, err := r.latestEstate()
	switch {
	case err != nil:
		return err
	case now == r.Estate:
		return nil
	case !r.Estate.SaysSame(now, r.App.Name):
		return ErrChanged
	}
	engine := *r.Engine
	engine.Estate = now
	if r.App == r.Estate.Apps[r.App.Name] {
		r.App = now.Apps[r.App.Name]
	}
	r.Engine = &engine
	return nil
}

// latestEstate is the estate as its files say it now. What only concerns the app is looked at
// for it alone; what asks whether other apps have a part in something looks at all of them.
func (r *Run) latestEstate() (*estate.Estate, error) {
	r.reading.Lock()
	defer r.reading.Unlock()
	known := r.Estate
	if r.latest != nil && r.latest.Path == known.Path && !known.IsPlanned() {
		known = r.latest
	}
	var apps []string
	if r.Options.Move == nil && r.Options.Retire == nil && r.Options.Rotation == nil {
		apps = []string{r.App.Name}
	}
	now, err := known.Now(apps...)
	if err == nil && now != r.Estate && !now.IsPlanned() {
		r.latest = now
	}
	return now, err
}

// Anew is the work on the app begun anew, with its entry as it is now. It is an error where the
// app is no longer there, or where what was to be done makes no sense with another entry.
func (r *Run) Anew() (*Run, error) {
	now, err := r.latestEstate()
	if err != nil {
		return r, err
	}
	if err := now.FaultsOf(r.App.Name); err != nil {
		return r, err
	}
	app := now.Apps[r.App.Name]
	switch {
	case app == nil:
		return r, fault.At(fault.Invalid, fault.Place{File: now.Path}, "see yellowfield history "+r.App.Name, "app %s is no longer in the estate file: it was taken out since this command has read it", r.App.Name)
	case r.App != r.Estate.Apps[r.App.Name]:
		return r, now.Fault(fault.Busy, "apps."+app.Name, "see what it says now, and run the command again", "the entry of app %s was changed since this command has read it", app.Name)
	}
	engine := *r.Engine
	engine.Estate = now
	n := NewRun(&engine, app, r.Options)
	n.IsAnew, n.Began, n.Result.Rows, n.Result.Exit = true, r.Began, r.Result.Rows, r.Result.Exit
	n.Begun = r.Begun && app.Server == r.App.Server
	n.Tell(Row{Step: "server", Outcome: Note, Facts: "the entry of app " + app.Name + " was changed since this command has read it: the work is planned anew"})
	return n, nil
}
