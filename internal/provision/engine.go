package provision

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"yellowfield/internal/applogin"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/secret"
	"yellowfield/internal/state"
)

const (
	stepPHP       = "php"
	stepDatabase  = "database"
	stepAccount   = "account"
	stepRights    = "rights"
	stepSQL       = "sql"
	stepSettings  = "settings"
	stepOwnership = "ownership"
	stepLogin     = "login"
	// What only closing and opening have.
	stepInstaller = "installer"
	stepNotes     = "notes"
	stepCode      = "code"
	stepState     = "state"
	stepExport    = "export"
)

const (
	fixPassword  = "server-password"
	fixRights    = "rights"
	fixSettings  = "settings"
	fixOwnership = "ownership"
	fixCharset   = "charset"
)

// Base is what work on the apps of one estate has at hand.
type Base struct {
	Estate *estate.Estate
	State  *state.Folder
	Host   host.Host // that the applications run on
	// Wait is how long another run on the same app is waited for.
	Wait time.Duration
	// Jobs is how many apps are worked on at once where nobody is asked anything; below 2
	// for one after the other.
	Jobs int
	// Ask asks a person for a password; nil where nobody can be asked.
	Ask secret.Asker
	// LoginTimeout is how long a login may take that is made with what an application's
	// files say; 0 for applogin.DefaultDeadline.
	LoginTimeout time.Duration
	Listener

	room    *applogin.Room // for those logins, once there was one
	servers map[string]*connection
	*common
	workers []*Base // those besides this one that have worked on apps, with their connections
}

// Disconnect ends all connections.
func (e *Base) Disconnect() {
	for _, c := range e.servers {
		if c.admin != nil {
			c.admin.Close()
		}
	}
	e.servers = nil
	e.room.Close()
	e.room = nil
	for _, worker := range e.workers {
		worker.Disconnect()
	}
	e.workers = nil
}

// ExitCode is the exit code for several apps: the gravest of theirs.
func ExitCode(results []Result) int {
	gravest := 0
	for _, r := range results {
		gravest = fault.Graver(gravest, r.Exit)
	}
	return gravest
}

// run is the work on one app.
type run struct {
	*Base
	app     *estate.App
	options Options
	began   time.Time
	result  Result
	begun   bool // Begin was told

	view    *view
	plan    *plan
	folder  *host.Folder  // of the app, once it was opened
	cut     *state.CutOff // what was killed on this app before; nil for nothing
	journal *state.Run
	// others are the work on other apps that share an account with this one; what they
	// tell is told for them.
	others  map[*estate.App]*run
	telling sync.Mutex
	// from is where the app is moved from; nil where it is not being moved.
	from *origin
	// copies is what the app is a copy of; nil for none.
	copies *copyOf
	// credentials, where it is set, finds an account's password first; nil from it leaves that
	// to us.
	credentials func(ctx context.Context, account *estate.Account) (*credential, error)
	// transfers, where it is set, brings the rows in the place of scripts.
	transfers func(ctx context.Context) error
	// movedFrom is the server that a move which was cut off came from; empty for none.
	movedFrom string
	// stillCut says that the runs which were cut off are not gone on with to their end.
	stillCut bool
	// readers are logins that were made for this run.
	readers []*reader
	// freeServer gives back the lock on the server's settings, while this run
	// has changed them.
	freeServer func()
}

// begin tells the header once.
func (r *run) begin() {
	if !r.begun && r.Listener.Begin != nil {
		r.Listener.Begin(r.result.Header)
	}
	r.begun = true
}

// tell adds a row.
func (r *run) tell(row Row) {
	r.telling.Lock()
	defer r.telling.Unlock()
	r.begin()
	row.Remedy = ways.Replace(row.Remedy) // Facts may hold what people have called something
	if why := r.app.Accepts(row.Finding, row.On); why != "" && row.Outcome == Differs && row.Severity != estate.MustFix {
		row.Outcome, row.Severity, row.Remedy = Note, "", ""
		row.Facts += "; accepted: " + why
	}
	r.result.Rows = append(r.result.Rows, row)
	switch row.Outcome {
	case Differs:
		r.result.Exit = fault.Graver(r.result.Exit, fault.Differs.ExitCode())
	case Waiting:
		r.result.Waits = true
	case Made, Fixed, Imported, Written, Changed, Removed, Undone,
		planned[Made], planned[Fixed], planned[Imported], planned[Written], planned[Changed], planned[Removed], planned[Undone]:
		r.result.Changed = true
	}
	if r.Listener.Row != nil {
		r.Listener.Row(r.result.Header, row)
	}
}

// tellFault adds a row for each fault in err.
func (r *run) tellFault(step string, err error) {
	for _, f := range fault.All(err) {
		row := Row{Step: step, Outcome: Failed, Facts: f.What, Excerpt: f.Excerpt, Remedy: f.Next}
		switch f.Class {
		case fault.Protected, fault.Busy:
			row.Outcome = Refused
		case fault.Differs:
			row.Outcome, row.Severity = Differs, estate.MustFix
		}
		if f.Place.File != "" {
			row.Place = &f.Place
		}
		r.tell(row)
		r.result.Exit = fault.Graver(r.result.Exit, f.Class.ExitCode())
	}
}

func (r *run) finish(err error) {
	var told *toldError
	if err != nil && !errors.As(err, &told) {
		r.tellFault(stepOf(err), err)
	}
	r.begin()
	if r.plan != nil && !r.options.DryRun {
		for i, account := range r.app.Accounts {
			if c := r.plan.credentials[account]; i > 0 && c != nil && (c.pending || c.kept) {
				r.result.Pending = append(r.result.Pending, account.Name)
			}
		}
	}
	r.result.Seconds = time.Since(r.began).Seconds()
	if r.Listener.End != nil {
		r.Listener.End(r.result)
	}
}

// toldError marks an error whose rows have been told already.
type toldError struct{ error }

func (e *toldError) Unwrap() error { return e.error }

// stepError says in which step an error arose.
type stepError struct {
	step string
	error
}

func (e *stepError) Unwrap() error { return e.error }

func stepOf(err error) string {
	var s *stepError
	if errors.As(err, &s) {
		return s.step
	}
	return "server"
}

func (r *run) path(key string) string { return "apps." + r.app.Name + "." + key }

// allExports is the folder of all apps' exports.
func (e *Base) allExports() string {
	if e.Estate.Exports != "" {
		return e.Estate.Exports
	}
	return filepath.Join(e.State.Path(), "exports")
}
