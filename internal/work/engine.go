// Package work is the state of a command's work on one app: its entry, its server as the
// administrator and the application see it, its folder, its accounts' passwords, and the plan.
// It carries out the plan's effects and reports the outcome.
//
// It must never know what a step means, of terminals, or of how its rows are drawn.
package work

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
	StepPHP       = "php"
	StepDatabase  = "database"
	StepAccount   = "account"
	StepRights    = "rights"
	StepSQL       = "sql"
	StepSettings  = "settings"
	StepOwnership = "ownership"
	StepLogin     = "login"
	// What only closing and opening have.
	StepInstaller = "installer"
	StepNotes     = "notes"
	StepCode      = "code"
	StepState     = "state"
	StepExport    = "export"
)

const (
	FixPassword  = "server-password"
	FixRights    = "rights"
	FixSettings  = "settings"
	FixOwnership = "ownership"
	FixCharset   = "charset"
)

// Engine is what work on the apps of one estate has at hand.
type Engine struct {
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
	// AskAgain asks a person whether to do what is another thing than was confirmed before; nil
	// where nobody can be asked.
	AskAgain func(question string) bool
	// LoginTimeout is how long a login may take that is made with what an application's
	// files say; 0 for applogin.DefaultDeadline.
	LoginTimeout time.Duration
	Listener

	Room    *applogin.Room // for those logins, once there was one
	Servers map[string]*Connection
	*common
	Workers []*Engine // those besides this one that have worked on apps, with their connections
}

// Disconnect ends all connections.
func (e *Engine) Disconnect() {
	for _, c := range e.Servers {
		if c.Admin != nil {
			c.Admin.Close()
		}
	}
	e.Servers = nil
	e.Room.Close()
	e.Room = nil
	for _, worker := range e.Workers {
		worker.Disconnect()
	}
	e.Workers = nil
}

// ExitCode is the exit code for several apps: the gravest of theirs.
func ExitCode(results []Result) int {
	gravest := 0
	for _, r := range results {
		gravest = fault.Graver(gravest, r.Exit)
	}
	return gravest
}

// Run is the work on one app.
type Run struct {
	*Engine
	App     *estate.App
	Options Options
	Began   time.Time
	Result  Result
	Begun   bool // Begin was told
	IsAnew  bool // the app's entry is another than the one for which the command was given

	View        *serverView
	Plan        *plan
	Folder      *host.Folder  // of the app, once it was opened
	Interrupted *state.CutOff // what was killed on this app before; nil for nothing
	Journal     *state.Run
	// Others are the work on other apps that share an account with this one; what they
	// tell is told for them.
	Others  map[*estate.App]*Run
	telling sync.Mutex
	// From is where the app is moved from; nil where it is not being moved.
	From *Origin
	// Copies is what the app is a copy of; nil for none.
	Copies *CopyOf
	// Credentials, where it is set, finds an account's password first; nil from it leaves that
	// to us.
	Credentials func(ctx context.Context, account *estate.Account) (*Credential, error)
	// Transfers, where it is set, brings the rows in the place of scripts.
	Transfers func(ctx context.Context) error
	// MovedFrom is the server that a move which was cut off came from; empty for none.
	MovedFrom string
	// StillCut says that the runs which were cut off are not gone on with to their end.
	StillCut bool
	// readers are logins that were made for this run.
	readers []*reader
	// FreeServer gives back the lock on the server's settings, while this run
	// has changed them.
	FreeServer func()
}

// NewRun begins the work on an app; what it finds on servers and in files is looked at when it
// is needed.
func NewRun(e *Engine, app *estate.App, o Options) *Run {
	r := &Run{Engine: e, App: app, Options: o, Began: time.Now()}
	r.Result.Header = Header{App: app.Name, Server: app.Server}
	r.Result.Notes = app.Notes
	return r
}

// Begin tells the header once.
func (r *Run) Begin() {
	if !r.Begun && r.Listener.Begin != nil {
		r.Listener.Begin(r.Result.Header)
	}
	r.Begun = true
}

// Tell adds a row.
func (r *Run) Tell(row Row) {
	r.telling.Lock()
	defer r.telling.Unlock()
	r.Begin()
	row.Remedy = ways.Replace(row.Remedy) // Facts may contain names that people have chosen
	if why := r.App.Accepts(row.Finding, row.On); why != "" && row.Outcome == Differs && row.Severity != estate.MustFix {
		row.Outcome, row.Severity, row.Remedy = Note, "", ""
		row.Facts += "; accepted: " + why
	}
	r.Result.Rows = append(r.Result.Rows, row)
	switch row.Outcome {
	case Differs:
		r.Result.Exit = fault.Graver(r.Result.Exit, fault.Differs.ExitCode())
	case Waiting:
		r.Result.Waits = true
	case Made, Fixed, Imported, Written, Changed, Removed, Undone,
		Planned[Made], Planned[Fixed], Planned[Imported], Planned[Written], Planned[Changed], Planned[Removed], Planned[Undone]:
		r.Result.Changed = true
	}
	if r.Listener.Row != nil {
		r.Listener.Row(r.Result.Header, row)
	}
}

// TellFault adds a row for each fault in err.
func (r *Run) TellFault(step string, err error) {
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
		r.Tell(row)
		r.Result.Exit = fault.Graver(r.Result.Exit, f.Class.ExitCode())
	}
}

func (r *Run) Finish(err error) {
	var told *told
	if err != nil && !errors.As(err, &told) {
		r.TellFault(StepOf(err), err)
	}
	r.Begin()
	if r.Plan != nil && !r.Options.DryRun {
		for i, account := range r.App.Accounts {
			if c := r.Plan.Credentials[account]; i > 0 && c != nil && (c.Pending || c.Kept) {
				r.Result.Pending = append(r.Result.Pending, account.Name)
			}
		}
	}
	r.Result.Seconds = time.Since(r.Began).Seconds()
	if r.Listener.End != nil {
		r.Listener.End(r.Result)
	}
}

// told marks an error whose rows have been shown already.
type told struct{ error }

func (e *told) Unwrap() error { return e.error }

// Told marks an error whose rows have been shown already.
func Told(err error) error { return &told{err} }

// stepError says in which step an error arose.
type stepError struct {
	step string
	error
}

func (e *stepError) Unwrap() error { return e.error }

// AtStep says in which step an error arose.
func AtStep(step string, err error) error { return &stepError{step, err} }

// StepOf is the step in which an error arose; "server" where nothing is known of that.
func StepOf(err error) string {
	var s *stepError
	if errors.As(err, &s) {
		return s.step
	}
	return "server"
}

func (r *Run) Path(key string) string { return "apps." + r.App.Name + "." + key }

// AllExports is the folder of all apps' exports.
func (e *Engine) AllExports() string {
	if e.Estate.Exports != "" {
		return e.Estate.Exports
	}
	return filepath.Join(e.State.Path(), "exports")
}
