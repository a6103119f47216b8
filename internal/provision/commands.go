package provision

import (
	"context"
	"path/filepath"
	"time"

	"yellowfield/internal/access"
	"yellowfield/internal/content"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/lifecycle"
	"yellowfield/internal/mending"
	"yellowfield/internal/overview"
	"yellowfield/internal/planning"
	"yellowfield/internal/rotation"
	"yellowfield/internal/state"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// Engine works on the apps of one estate.
type Engine struct{ work.Engine }

// Provision makes the apps so, several at once. The results say what
// became of each; the error is for what concerns none in particular.
func (e *Engine) Provision(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	return e.together(ctx, apps, options, provision)
}

// Import imports SQL into an app's database, which provision has made.
func (e *Engine) Import(ctx context.Context, app *estate.App, options work.Options) ([]work.Result, error) {
	options.Only = []string{work.StepSQL}
	return e.each(ctx, []*estate.App{app}, options, importOnly)
}

// Close closes apps for running: rights, modes and installer files.
func (e *Engine) Close(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	return e.turn(ctx, apps, options)
}

// Reopen opens apps for an upgrade.
func (e *Engine) Reopen(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	return e.turn(ctx, apps, options)
}

func (e *Engine) turn(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	options.Only = turnSteps
	return e.each(ctx, apps, options, turn)
}

// Rotate changes the passwords of apps' accounts, on the server and in the settings.
func (e *Engine) Rotate(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	return e.each(ctx, apps, options, rotation.Rotate)
}

// Move moves apps to another server, each by itself: one that fails stays where it was.
func (e *Engine) Move(ctx context.Context, apps []*estate.App, options work.Options) (results []work.Result, err error) {
	for _, app := range apps {
		moving := *options.Move
		of := options
		of.Move = &moving
		do := lifecycle.MoveTo
		if moving.Back {
			note, err := (&e.Engine).NoteOfMove(app)
			if err == nil {
				left, err := e.retireOld(ctx, app, work.Options{Command: options.Command, DryRun: options.DryRun, Retire: &work.Retirement{Confirm: moving.Confirm}})
				results = append(results, left...)
				switch {
				case err != nil:
					return results, err
				case work.ExitCode(left) != 0 || options.DryRun:
					continue
				}
			} else {
				do = func(*work.Run, context.Context) error { return err }
			}
			moving.To = note.From
		}
		one, err := e.each(ctx, []*estate.App{app}, of, do)
		results = append(results, one...)
		if err != nil {
			return results, err
		}
	}
	return results, nil
}

// RetireOld drops what apps left on the servers that they were moved from.
func (e *Engine) RetireOld(ctx context.Context, apps []*estate.App, options work.Options) (results []work.Result, err error) {
	for _, app := range apps {
		one, err := e.retireOld(ctx, app, options)
		if results = append(results, one...); err != nil {
			return results, err
		}
	}
	return results, nil
}

func (e *Engine) retireOld(ctx context.Context, app *estate.App, options work.Options) ([]work.Result, error) {
	note, err := (&e.Engine).NoteOfMove(app)
	if err != nil {
		return nil, err
	}
	left := *app
	left.Server, left.Retired = note.From, ""
	return e.each(ctx, []*estate.App{&left}, options, func(r *work.Run, ctx context.Context) error {
		// What was left may have become where the app is, while this run waited.
		switch again, err := r.NoteOfMove(r.Estate.Apps[app.Name]); {
		case err != nil:
			return err
		case again.From != note.From || again.To != note.To:
			return r.Estate.Fault(fault.Busy, "apps."+app.Name+".server", "see yellowfield history "+app.Name+", and run the command again", "app %s was moved again while this run waited", app.Name)
		}
		return lifecycle.RetireOld(r, ctx)
	})
}

// Retire takes apps out of use.
func (e *Engine) Retire(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	return e.each(ctx, apps, options, lifecycle.Retire)
}

// Copy makes a copy of an app, to try things on: its databases with events that do not run,
// accounts of its own with fresh passwords, the settings in the folder given, and an entry
// in the estate file.
func (e *Engine) Copy(ctx context.Context, app *estate.App, options work.Options) ([]work.Result, error) {
	copied := &work.CopyOf{Copying: *options.Copy, Original: app, Estate: e.Estate, Exports: map[string]string{}}
	if made := e.Estate.Apps[copied.Name]; made != nil {
		if cut, err := e.State.CutOff(made.Name, e.Estate.Path); err != nil || cut != nil && cut.Command == "copy" { // after its entry
			return e.each(ctx, []*estate.App{made}, work.Options{Command: "provision", DryRun: options.DryRun}, provision)
		}
		return nil, e.Estate.Fault(fault.Invalid, "apps."+copied.Name, "choose another name", "app %s is in the estate file already", copied.Name)
	}
	folder, err := filepath.Abs(copied.Folder)
	if err != nil {
		return nil, err
	}
	names := estate.Copied{Name: copied.Name, Folder: e.Estate.Relative(folder), Databases: map[string]string{}, Accounts: map[string]string{}}
	if err := lifecycle.NameCopy((&e.Engine), app, folder, &names); err != nil {
		return nil, err
	}
	if copied.Change, err = e.Estate.CopyEntry(app.Name, names); err != nil {
		return nil, err
	}
	later, err := e.Estate.With(copied.Change)
	if err != nil {
		return nil, err
	}
	if err := later.FaultsOf(copied.Name); err != nil {
		return nil, err
	}
	made := later.Apps[copied.Name]
	for _, s := range made.Settings {
		if _, inside := host.Below(made.Folder, made.InFolder(s.File)); !inside {
			return nil, e.Estate.Fault(fault.Invalid, "apps."+app.Name+".settings", "write the copy's entry by hand", "%s lies outside of the folder of app %s, and would be the copy's, too", s.File, app.Name)
		}
	}
	exporting := options
	exporting.Copy, exporting.Export = nil, &work.ExportOptions{}
	results, err := e.each(ctx, []*estate.App{app}, exporting, func(r *work.Run, ctx context.Context) error { return lifecycle.ExportToCopy(r, ctx, copied, names) })
	if err != nil || len(copied.Exports) < len(app.All()) {
		return results, err
	}
	defer func() {
		for _, path := range copied.Exports {
			_ = state.RemoveExport(path) // else it is forgotten with its like
		}
	}()
	made.Installer, made.Import = estate.Installer{}, nil // all that these make is in the copy
	other := *e
	other.Estate, other.Servers = later, nil
	defer other.Disconnect()
	more, err := other.each(ctx, []*estate.App{made}, options, func(r *work.Run, ctx context.Context) error {
		r.Copies = copied
		return lifecycle.Copy(r, ctx)
	})
	return append(results, more...), err
}

// Export writes an app's databases as scripts.
func (e *Engine) Export(ctx context.Context, app *estate.App, options work.Options) ([]work.Result, error) {
	return e.each(ctx, []*estate.App{app}, options, content.Export)
}

// Verify compares estate file, server and files, and logs in as each
// application would. It changes nothing on servers and in files; a password
// that is pending no longer is forgotten.
func (e *Engine) Verify(ctx context.Context, apps []*estate.App) ([]work.Result, error) {
	results, err := e.together(ctx, apps, work.Options{Command: "verify", DryRun: true}, verify)
	e.noteVerifications(results)
	return results, err
}

// List tells how apps are. Each server's catalogue is read once, and nothing is changed.
func (e *Engine) List(ctx context.Context, apps []*estate.App) ([]overview.Listed, error) {
	known := map[string]overview.Listed{}
	quiet := *e
	quiet.Listener = work.Listener{Trace: e.Listener.Trace}
	results, err := quiet.each(ctx, apps, work.Options{Command: "list", DryRun: true}, func(r *work.Run, _ context.Context) error {
		l, err := overview.ListApp(r)
		known[r.App.Name] = l
		return err
	})
	e.Servers = quiet.Servers // for whoever disconnects
	if err != nil {
		return nil, err
	}
	verified := map[string]verification{}
	_, _ = e.State.Note(verifications, e.Estate.Path, &verified) // without it nothing was verified
	all := make([]overview.Listed, 0, len(apps))
	for i, app := range apps {
		l, seen := known[app.Name]
		if !seen || l.State == "" {
			l.State = overview.IsUnknown
			if app.Retired != "" {
				l.State = overview.IsRetired
			}
		}
		for _, row := range results[i].Rows {
			if row.Outcome == work.Failed || row.Outcome == work.Refused {
				l.Problem, l.Remedy = row.Facts, row.Remedy
				break
			}
		}
		l.App, l.Server, l.Labels = app.Name, app.Server, append([]string{}, app.Labels...)
		if last, found := verified[app.Name]; found {
			l.Verified, l.VerifiedExit = &last.At, last.Exit
		}
		all = append(all, l)
	}
	return all, nil
}

// Accept takes over a settings file that an application's installer made, or
// writes the text that it printed: its facts are compared with the estate
// file, a login is made with them, and the pending password is forgotten.
func (e *Engine) Accept(ctx context.Context, app *estate.App, acceptance Acceptance) (work.Result, error) {
	results, err := e.each(ctx, []*estate.App{app}, work.Options{Command: "settings accept", DryRun: true}, func(r *work.Run, ctx context.Context) error {
		return accept(r, ctx, acceptance)
	})
	if err != nil {
		return work.Result{}, err
	}
	return results[0], nil
}

// Overdue chooses the apps that were to be closed by now.
func (e *Engine) Overdue(apps []*estate.App) ([]*estate.App, error) {
	var overdue []*estate.App
	for _, app := range apps {
		if app.Retired != "" {
			continue
		}
		r := work.NewRun(&e.Engine, app, work.Options{})
		until, err := steps.OpenUntil(r)
		if err != nil {
			return nil, err
		}
		if !until.IsZero() && time.Now().After(until) {
			overdue = append(overdue, app)
		}
	}
	return overdue, nil
}

// FailedLast are the apps that the last verify on this host found to differ or to fail.
func (e *Engine) FailedLast() (map[string]bool, error) {
	known, failed := map[string]verification{}, map[string]bool{}
	if _, err := e.State.Note(verifications, e.Estate.Path, &known); err != nil {
		return nil, err
	}
	for app, last := range known {
		failed[app] = last.Exit != 0
	}
	return failed, nil
}

// noteVerifications keeps how verify found apps, as far as it may write that down: one note
// for all of them, since each that is written waits for the disk.
func (e *Engine) noteVerifications(results []work.Result) {
	release, held, err := e.State.Lock(verifications + "@" + e.Estate.Path)
	if err != nil || !held {
		return // another verify is about to write its own
	}
	defer release()
	known := map[string]verification{}
	_, _ = e.State.Note(verifications, e.Estate.Path, &known) // what cannot be read is written anew
	for _, r := range results {
		known[r.App] = verification{time.Now().UTC(), r.Exit}
	}
	_ = e.State.SetNote(verifications, e.Estate.Path, known)
}

// verifications are the notes of when the apps of an estate file were looked at last.
const verifications = "verifications"

type verification struct {
	At   time.Time `json:"at"`
	Exit int       `json:"exit"`
}

// UndoUnfinished takes back what runs made that were cut off, app by app.
func (e *Engine) UndoUnfinished(ctx context.Context, apps []*estate.App, options work.Options) ([]work.Result, error) {
	return e.each(ctx, apps, options, planning.UndoUnfinished)
}

// UndoRun takes back a run that has ended, where that is still possible.
func (e *Engine) UndoRun(ctx context.Context, app *estate.App, entries []state.Entry, options work.Options) ([]work.Result, error) {
	return e.each(ctx, []*estate.App{app}, options, func(r *work.Run, ctx context.Context) error { return planning.UndoRun(r, ctx, entries) })
}

// Mend fixes what inspect has found on a server, one finding at a time: a fix that fails is
// rolled back; the rest continue.
func (e *Engine) Mend(ctx context.Context, server string, o mending.Mending) work.Result {
	return mending.MendServer((&e.Engine), ctx, server, o)
}

// UndoMending takes back what a run of inspect --fix has changed on a server.
func (e *Engine) UndoMending(ctx context.Context, server string, entries []state.Entry, dryRun bool) work.Result {
	return mending.UndoMending((&e.Engine), ctx, server, entries, dryRun)
}

// InspectServers looks at servers as hosts for applications, and changes nothing on them.
func (e *Engine) InspectServers(ctx context.Context, names []string, o overview.Inspecting) ([]overview.Inspected, error) {
	return overview.InspectServers((&e.Engine), ctx, names, o)
}

// Access looks at who can do what on servers, and changes nothing on them.
func (e *Engine) Access(ctx context.Context, names []string, filter access.Filter) (overview.Accessed, error) {
	return overview.AccessOn((&e.Engine), ctx, names, filter)
}

// Connection gives the facts of one of an app's accounts, the first one for an
// empty name. It asks no server.
func (e *Engine) Connection(ctx context.Context, app *estate.App, account string) (*overview.Connection, error) {
	return overview.ConnectionOf((&e.Engine), ctx, app, account)
}

// Acknowledge forgets the pending password of an account that no settings file
// gets: a person has taken it over.
func (e *Engine) Acknowledge(app *estate.App, account string) error {
	return overview.Acknowledge((&e.Engine), app, account)
}
