package work

import (
	"context"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/secret"
)

// common is what the workers of a command share.
type common struct {
	mutex   sync.Mutex
	asked   map[*secret.Source]secret.Password
	Chosen  []*estate.App // that the command is about
	Reached map[string]*serverProbe
	pruned  bool
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

// Obtain gets a password from its source, once for a command.
func (e *Engine) Obtain(ctx context.Context, source *secret.Source, label string) (secret.Password, error) {
	e.share()
	e.mutex.Lock() // also while a person is asked: nobody answers two questions at once
	defer e.mutex.Unlock()
	if p, known := e.asked[source]; known {
		return p, nil
	}
	p, err := source.Obtain(ctx, label, e.Ask)
	if err == nil {
		if e.asked == nil {
			e.asked = map[*secret.Source]secret.Password{}
		}
		e.asked[source] = p
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
	delete(e.asked, &source.Source)
}

// SpeaksFor reports whether this app shows what concerns the whole server: the command's first
// app on it does.
func (r *Run) SpeaksFor() (first *estate.App, itself bool) {
	for _, app := range r.Chosen {
		if app.Server == r.App.Server {
			return app, app == r.App
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
