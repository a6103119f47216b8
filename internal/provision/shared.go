package provision

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
	chosen  []*estate.App // that the command is about
	reached map[string]*reached
	pruned  bool
}

// share makes what is shared, once.
func (e *Base) share() {
	if e.common == nil {
		e.common = &common{}
	}
}

// reached is a server that a command has to do with.
type reached struct {
	tried chan struct{} // closed when the first app has tried to log in
	err   error         // of that
	// look is what the server held when the command began, read once for all its apps.
	look      sync.Once
	catalogue *dbms.Catalogue
	lookErr   error
}

// begin prepares for a command's work on apps.
func (e *Base) begin(apps []*estate.App) {
	e.share()
	e.chosen, e.reached = apps, map[string]*reached{}
	for _, app := range apps {
		e.reached[app.Server] = &reached{tried: make(chan struct{})}
	}
}

// obtain gets a password from its source, once for a command.
func (e *Base) obtain(ctx context.Context, source *secret.Source, label string) (secret.Password, error) {
	e.share()
	e.mutex.Lock() // while somebody is asked, too: nobody answers two questions at once
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

// forget has a password obtained anew the next time; a person is not asked twice.
func (e *Base) forget(source *estate.PasswordSource) {
	if source == nil || source.Ask {
		return
	}
	e.share()
	e.mutex.Lock()
	defer e.mutex.Unlock()
	delete(e.asked, &source.Source)
}

// speaksFor reports whether what concerns the whole server is told at this app: the first of
// the command's on it.
func (r *run) speaksFor() (first *estate.App, itself bool) {
	for _, app := range r.chosen {
		if app.Server == r.app.Server {
			return app, app == r.app
		}
	}
	return r.app, true
}

// arrive logs in and names the server at the head.
func (r *run) arrive(ctx context.Context) (*connection, error) {
	c, err := r.connect(ctx, r.app.Server)
	if err == nil && c.admin != nil {
		err = r.introduce(c.entry, c.admin)
	}
	return c, err
}
