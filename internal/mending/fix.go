// Package mending fixes what inspect has found on a server as a whole, and undoes such fixes.
//
// It must never know of apps.
package mending

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/inspect"
	"yellowfield/internal/overview"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// Mending says which findings of inspect to fix on a server.
type Mending struct {
	DryRun bool
	Only   []string // kinds of findings; empty for all that can be mended
	On     []string // what they are on; empty for all
	// Confirm is asked for each finding before it is fixed.
	Confirm func(inspect.Finding) bool
}

// wholeServer begins the names under which the journal has what was done to a server.
const wholeServer = "server:"

// IsOfServer gives the server that a run of the journal was about, if it was not an app.
func IsOfServer(app string) (server string, is bool) { return strings.CutPrefix(app, wholeServer) }

// mending is the work on one server.
type mending struct {
	*work.Engine
	command    string
	name       string
	connection *work.Connection
	journal    *state.Run
	result     work.Result
	row        work.Row // of the finding at work
	mended     int      // findings so far
}

// onServer does work on a server as a whole, under a lock of its own.
func onServer(e *work.Engine, ctx context.Context, command, server string, dryRun bool, do func(*mending) error) work.Result {
	m := &mending{Engine: e, command: command, name: wholeServer + server}
	m.result.Header = work.Header{App: m.name, Server: server}
	began := time.Now()
	err := func() error {
		release, held, err := e.State.Lock(m.name + "@" + e.Estate.Path)
		if err != nil {
			return err
		}
		if !held {
			return fault.New(fault.Busy, work.TryLater, "someone else is mending server %s on this host", server)
		}
		defer release()
		if m.connection, err = e.Administered(ctx, server); err != nil {
			return err
		}
		m.result.Header.About = m.connection.About()
		if e.Listener.Begin != nil {
			e.Listener.Begin(m.result.Header)
		}
		if err := m.tellCutOff(dryRun); err != nil {
			return err
		}
		return do(m)
	}()
	if err != nil {
		m.failed("server", err)
	}
	ended := fmt.Sprintf("exit %d", m.result.Exit)
	if m.result.UndoIncomplete {
		m.journal.Leave(ended)
	} else {
		m.journal.End(ended)
	}
	m.result.Seconds = time.Since(began).Seconds()
	if e.Listener.End != nil {
		e.Listener.End(m.result)
	}
	return m.result
}

// tellCutOff reports a run that was killed: what it changed is looked for again.
func (m *mending) tellCutOff(dryRun bool) error {
	cut, err := m.State.CutOff(m.name, m.Estate.Path)
	if err != nil || cut == nil {
		return err
	}
	m.Tell(work.Row{Step: "server", Outcome: work.Note, Facts: "a run of " + cut.Command + " was cut off at: " + cut.Last.Object + "; what it has left undone is found anew",
		Remedy: "yellowfield history --steps names the run, and history --undo takes back what it has done"})
	if dryRun {
		return nil
	}
	return cut.End()
}

func (m *mending) Tell(row work.Row) {
	m.result.Rows = append(m.result.Rows, row)
	if row.Outcome == work.Fixed || row.Outcome == work.Undone || row.Outcome == work.Planned[work.Fixed] || row.Outcome == work.Planned[work.Undone] {
		m.result.Changed = true
	}
	if m.Listener.Row != nil {
		m.Listener.Row(m.result.Header, row)
	}
}

func (m *mending) failed(name string, err error) {
	for _, f := range fault.All(err) {
		facts := f.What
		if m.row.Finding != "" {
			facts = m.row.Finding + ", " + m.row.On + ": " + facts
		}
		row := work.Row{Step: name, Outcome: work.Failed, Facts: facts, Excerpt: f.Excerpt, Remedy: f.Next}
		if f.Class == fault.Protected || f.Class == fault.Busy {
			row.Outcome = work.Refused
		}
		m.Tell(row)
		m.result.Exit = fault.Graver(m.result.Exit, f.Class.ExitCode())
	}
}

// isOwn reports whether a finding is on the account that this program is logged in with.
func (m *mending) isOwn(f inspect.Finding) bool {
	return f.IsOn(m.connection.Admin.CurrentUser()) || f.Lowered != nil && f.Lowered.String() == m.connection.Admin.CurrentUser()
}

func (m *mending) mend(ctx context.Context, f inspect.Finding, o Mending) error {
	row := work.Row{Step: "server", Outcome: work.Fixed, Facts: string(f.Kind) + ", " + f.On + ": " + f.Evidence, Finding: string(f.Kind), On: f.On, SQL: f.Shown}
	switch {
	case len(f.SQL) == 0:
		row.Outcome, row.Remedy = work.Note, "by hand: "+f.Remedy
	case m.isOwn(f):
		row.Outcome, row.Remedy = work.Refused, "log in as another administrator, and mend it from there"
		row.Facts += "; it is the account that this command is logged in with"
		m.result.Exit = fault.Graver(m.result.Exit, fault.Protected.ExitCode())
	case o.DryRun:
		row.Outcome = work.Planned[work.Fixed]
	case o.Confirm == nil || !o.Confirm(f):
		row.Outcome, row.SQL, row.Facts = work.Kept, nil, string(f.Kind)+", "+f.On+": left as it is"
	default:
		row.SQL = nil
		if f.Lock != "" {
			release, held, err := m.connection.Admin.Lock(ctx, f.Lock)
			if err != nil {
				return err
			}
			if !held {
				row.Outcome, row.Remedy = work.Refused, work.TryLater
				row.Facts += "; but a run on app " + f.App + " is at work on this server"
				m.result.Exit = fault.Graver(m.result.Exit, fault.Busy.ExitCode())
				m.Tell(row)
				return nil
			}
			defer release()
		}
		return m.CarryOut(ctx, row, f.SQL, f.Back, f.Lowered)
	}
	m.Tell(row)
	return nil
}

// CarryOut sends the statements that fix one finding. The journal has those that undo it.
func (m *mending) CarryOut(ctx context.Context, row work.Row, statements, back []dbms.Statement, lowered *dbms.Account) (err error) {
	if m.journal == nil {
		entry := m.connection.Entry
		m.journal, err = m.State.Begin(state.Entry{Command: m.command, App: m.name, Server: entry.Name, Address: entry.Address().String(), Detail: m.Estate.Path})
		if err != nil {
			return err
		}
		m.result.Run = m.journal.ID()
	}
	m.row = row
	m.result.Undoable = m.result.Undoable || len(back) > 0
	s := &effect.Step{Name: row.Step, Effect: findingMended.Of(objectOf(row.Finding, row.On), work.WriteStatements(back), work.WriteStatements(statements)), Material: lowered}
	m.mended++
	_, _ = effect.Plan[*mending]{Kinds: &MendingKinds, Steps: []*effect.Step{s}, Before: m.mended - 1}.Run(ctx, m, m.journal, m) // told by the listener
	m.row = work.Row{}
	return nil
}

// MendingKinds are the kinds of change to a server as a whole.
var (
	MendingKinds  effect.Kinds[*mending]
	findingMended = effect.Define[*mending, []work.SentStatement](&MendingKinds, "finding")
)

func init() {
	findingMended.Means(effect.Spec[*mending, []work.SentStatement]{
		Do: func(m *mending, ctx context.Context, d *effect.Doing[[]work.SentStatement]) (string, error) {
			admin := m.connection.Admin
			for _, statement := range work.ReadStatements(d.After) {
				err := admin.Exec(ctx, statement)
				if err != nil && dbms.CauseOf(err) != dbms.NoSuchGrant { // what was mended before has taken it, too
					d.Touched = d.Touched || ctx.Err() != nil // it may have come to it
					return "", err
				}
				d.Touched = true // not before: what was refused must not be given by taking it back
			}
			if err := m.comesIn(ctx); err != nil {
				return "", err
			}
			if lowered, is := d.Material.(*dbms.Account); is && lowered != nil {
				return "", admin.EndSessions(ctx, *lowered)
			}
			return "", nil
		},
		Undo: func(m *mending, ctx context.Context, c effect.Change[[]work.SentStatement]) error {
			return execEach(ctx, m.connection.Admin, work.ReadStatements(c.Before))
		},
	})
}

// objectOf is what the journal calls a finding.
func objectOf(kind, on string) string { return kind + ", " + on }

// comesIn proves that the administrator can still log in while this session is open.
func (m *mending) comesIn(ctx context.Context) error {
	m.Forget(m.connection.Entry.Admin.Password)
	second, err := m.LoginAsAdmin(ctx, m.connection.Entry)
	if err != nil {
		return fault.New(fault.Protected, "it was taken back; look at how the administrator logs in", "after it the administrator could not log in a second time: %s", fault.As(err).What).With(err)
	}
	defer second.Close()
	if first := m.connection.Admin.CurrentUser(); second.CurrentUser() != first {
		return fault.New(fault.Protected, "it was taken back; look at the accounts of that name", "after it the administrator logs in as %s, and no longer as %s", second.CurrentUser(), first)
	}
	return nil
}

// execEach sends the statements that undo a change; after one fails, the rest are still sent.
func execEach(ctx context.Context, server dbms.Server, statements []dbms.Statement) error {
	var errs []error
	for _, statement := range statements {
		errs = append(errs, server.Exec(ctx, statement))
	}
	return errors.Join(errs...)
}

// The listener for the machine that carries out steps.

// Found is not called: there are no steps without something to do.
func (m *mending) Found(int) {}

// Done reports a finding that was fixed.
func (m *mending) Done(int, string) { m.Tell(m.row) }

// Failed reports a finding that could not be fixed.
func (m *mending) Failed(_ int, err error) {
	m.failed(m.row.Step, err)
}

// Undone reports that the server is as before.
func (m *mending) Undone(int) {
	m.Tell(work.Row{Step: m.row.Step, Outcome: work.Undone, Facts: m.row.Finding + ", " + m.row.On})
}

// UndoSlow reports a server that is slow to undo.
func (m *mending) UndoSlow(_ int, since time.Duration) {
	m.Tell(work.Row{Step: m.row.Step, Outcome: work.Note, Facts: "taking it back has lasted for " + since.String() + " so far"})
}

// UndoFailed reports what could not be undone.
func (m *mending) UndoFailed(_ int, err error) {
	m.failed(m.row.Step, err)
	m.result.UndoIncomplete = true
}

// MendServer fixes what inspect has found on a server, one finding at a time: a fix that fails
// is rolled back; the rest continue.
func MendServer(e *work.Engine, ctx context.Context, server string, o Mending) work.Result {
	return onServer(e, ctx, "inspect --fix", server, o.DryRun, func(m *mending) error {
		var found overview.Inspected
		if err := overview.InspectServer(e, ctx, server, false, &found); err != nil {
			return err
		}
		for _, f := range found.Findings {
			if len(o.Only) > 0 && !slices.Contains(o.Only, string(f.Kind)) || len(o.On) > 0 && !slices.ContainsFunc(o.On, f.IsOn) {
				continue
			}
			if ctx.Err() != nil {
				return fault.Stopped(ctx.Err())
			}
			if err := m.mend(ctx, f, o); err != nil {
				return err
			}
		}
		if len(m.result.Rows) == 0 {
			m.Tell(work.Row{Step: "server", Outcome: work.Kept, Facts: "there is nothing of that to be mended"})
		}
		return nil
	})
}

// UndoMending takes back what a run of inspect --fix has changed on a server.
func UndoMending(e *work.Engine, ctx context.Context, server string, entries []state.Entry, dryRun bool) work.Result {
	return onServer(e, ctx, "history --undo", server, dryRun, func(m *mending) error {
		var found *overview.Inspected
		for _, left := range effect.LeftOf(effect.Converted(entries)) {
			if !left.Done { // the run was killed: was this done?
				if found == nil {
					found = &overview.Inspected{}
					if err := overview.InspectServer(e, ctx, server, false, found); err != nil {
						return err
					}
				}
				if slices.ContainsFunc(found.Findings, func(f inspect.Finding) bool { return objectOf(string(f.Kind), f.On) == left.Subject }) {
					m.Tell(work.Row{Step: "server", Outcome: work.Kept, Facts: left.Subject + ": the run had not come to it"})
					continue
				}
			}
			row := work.Row{Step: "server", Outcome: work.Undone, Facts: left.Subject}
			change, err := findingMended.Change(left.Effect)
			if err != nil || len(change.Before) == 0 {
				m.Tell(work.Row{Step: "server", Outcome: work.Refused, Facts: left.Subject + ": the journal does not say how it is taken back", Remedy: "yellowfield inspect " + server})
				m.result.Exit = fault.Graver(m.result.Exit, fault.Protected.ExitCode())
				continue
			}
			statements := work.ReadStatements(change.Before)
			if dryRun {
				row.Outcome, row.SQL = work.Planned[work.Undone], work.Texts(statements)
				m.Tell(row)
				continue
			}
			row.Finding, row.On, _ = strings.Cut(left.Subject, ", ")
			if err := m.CarryOut(ctx, row, statements, nil, nil); err != nil {
				return err
			}
		}
		if len(m.result.Rows) == 0 {
			m.Tell(work.Row{Step: "server", Outcome: work.Kept, Facts: "there is nothing to take back"})
		}
		return nil
	})
}
