package provision

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
	"yellowfield/internal/state"
)

// Mending says which findings of inspect to mend on a server.
type Mending struct {
	DryRun bool
	Only   []string // kinds of findings; empty for all that can be mended
	On     []string // what they are on; empty for all
	// Confirm is asked for each finding before it is mended.
	Confirm func(inspect.Finding) bool
}

// wholeServer begins the names under which the journal has what was done to a server.
const wholeServer = "server:"

// IsOfServer gives the server that a run of the journal was about, if it was not an app.
func IsOfServer(app string) (server string, is bool) { return strings.CutPrefix(app, wholeServer) }

// mending is the work on one server.
type mending struct {
	*Base
	command    string
	name       string
	connection *connection
	journal    *state.Run
	result     Result
	row        Row // of the finding at work
	mended     int // findings so far
}

// onServer does work on a server as a whole, under a lock of its own.
func (e *Base) onServer(ctx context.Context, command, server string, dryRun bool, work func(*mending) error) Result {
	m := &mending{Base: e, command: command, name: wholeServer + server}
	m.result.Header = Header{App: m.name, Server: server}
	began := time.Now()
	err := func() error {
		release, held, err := e.State.Lock(m.name + "@" + e.Estate.Path)
		if err != nil {
			return err
		}
		if !held {
			return fault.New(fault.Busy, tryLater, "someone else is mending server %s on this host", server)
		}
		defer release()
		if m.connection, err = e.administered(ctx, server); err != nil {
			return err
		}
		m.result.Header.About = m.connection.about()
		if e.Listener.Begin != nil {
			e.Listener.Begin(m.result.Header)
		}
		if err := m.tellCutOff(dryRun); err != nil {
			return err
		}
		return work(m)
	}()
	if err != nil {
		m.failed("server", err)
	}
	ended := fmt.Sprintf("exit %d", m.result.Exit)
	if m.result.Stuck {
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

// tellCutOff tells of a run that was killed: what it has changed is found anew.
func (m *mending) tellCutOff(dryRun bool) error {
	cut, err := m.State.CutOff(m.name, m.Estate.Path)
	if err != nil || cut == nil {
		return err
	}
	m.tell(Row{Step: "server", Outcome: Note, Facts: "a run of " + cut.Command + " was cut off at: " + cut.Last.Object + "; what it has left undone is found anew",
		Remedy: "yellowfield history --steps names the run, and history --undo takes back what it has done"})
	if dryRun {
		return nil
	}
	return cut.End()
}

func (m *mending) tell(row Row) {
	m.result.Rows = append(m.result.Rows, row)
	if row.Outcome == Fixed || row.Outcome == Undone || row.Outcome == planned[Fixed] || row.Outcome == planned[Undone] {
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
		row := Row{Step: name, Outcome: Failed, Facts: facts, Excerpt: f.Excerpt, Remedy: f.Next}
		if f.Class == fault.Protected || f.Class == fault.Busy {
			row.Outcome = Refused
		}
		m.tell(row)
		m.result.Exit = fault.Graver(m.result.Exit, f.Class.ExitCode())
	}
}

// isOwn reports whether a finding is on the account that this program is logged in with.
func (m *mending) isOwn(f inspect.Finding) bool {
	return f.IsOn(m.connection.admin.CurrentUser()) || f.Lowered != nil && f.Lowered.String() == m.connection.admin.CurrentUser()
}

func (m *mending) mend(ctx context.Context, f inspect.Finding, o Mending) error {
	row := Row{Step: "server", Outcome: Fixed, Facts: string(f.Kind) + ", " + f.On + ": " + f.Evidence, Finding: string(f.Kind), On: f.On, SQL: f.Shown}
	switch {
	case len(f.SQL) == 0:
		row.Outcome, row.Remedy = Note, "by hand: "+f.Remedy
	case m.isOwn(f):
		row.Outcome, row.Remedy = Refused, "log in as another administrator, and mend it from there"
		row.Facts += "; it is the account that this command is logged in with"
		m.result.Exit = fault.Graver(m.result.Exit, fault.Protected.ExitCode())
	case o.DryRun:
		row.Outcome = planned[Fixed]
	case o.Confirm == nil || !o.Confirm(f):
		row.Outcome, row.SQL, row.Facts = Kept, nil, string(f.Kind)+", "+f.On+": left as it is"
	default:
		row.SQL = nil
		return m.carryOut(ctx, row, f.SQL, f.Back, f.Lowered)
	}
	m.tell(row)
	return nil
}

// carryOut sends the statements that mend one finding. The journal has those that take it
// back.
func (m *mending) carryOut(ctx context.Context, row Row, statements, back []dbms.Statement, lowered *dbms.Account) (err error) {
	if m.journal == nil {
		entry := m.connection.entry
		m.journal, err = m.State.Begin(state.Entry{Command: m.command, App: m.name, Server: entry.Name, Address: entry.Address().String(), Detail: m.Estate.Path})
		if err != nil {
			return err
		}
		m.result.Run = m.journal.ID()
	}
	m.row = row
	s := &effect.Step{Name: row.Step, Effect: findingMended.Of(objectOf(row.Finding, row.On), writeStatements(back), writeStatements(statements)), Material: lowered}
	m.mended++
	_, _ = effect.Plan[*mending]{Kinds: &mendingKinds, Steps: []*effect.Step{s}, Before: m.mended - 1}.Run(ctx, m, m.journal, m) // told by the listener
	m.row = Row{}
	return nil
}

// mendingKinds are the kinds of change to a server as a whole.
var (
	mendingKinds  effect.Kinds[*mending]
	findingMended = effect.Define[*mending, []sentStatement](&mendingKinds, "finding")
)

func init() {
	findingMended.Means(effect.Spec[*mending, []sentStatement]{
		Do: func(m *mending, ctx context.Context, d *effect.Doing[[]sentStatement]) (string, error) {
			admin := m.connection.admin
			for _, statement := range readStatements(d.After) {
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
		Undo: func(m *mending, ctx context.Context, c effect.Change[[]sentStatement]) error {
			return execEach(ctx, m.connection.admin, readStatements(c.Before))
		},
	})
}

// objectOf is what the journal calls a finding.
func objectOf(kind, on string) string { return kind + ", " + on }

// comesIn proves that the administrator can still log in, while this session stands.
func (m *mending) comesIn(ctx context.Context) error {
	m.forget(m.connection.entry.Admin.Password)
	second, err := m.loginAsAdmin(ctx, m.connection.entry)
	if err != nil {
		return fault.New(fault.Protected, "it was taken back; look at how the administrator logs in", "after it the administrator could not log in a second time: %s", fault.As(err).What).With(err)
	}
	defer second.Close()
	if first := m.connection.admin.CurrentUser(); second.CurrentUser() != first {
		return fault.New(fault.Protected, "it was taken back; look at the accounts of that name", "after it the administrator logs in as %s, and no longer as %s", second.CurrentUser(), first)
	}
	return nil
}

// execEach sends statements that take a change back; one that fails stops no other.
func execEach(ctx context.Context, server dbms.Server, statements []dbms.Statement) error {
	var errs []error
	for _, statement := range statements {
		errs = append(errs, server.Exec(ctx, statement))
	}
	return errors.Join(errs...)
}

// What became of a finding, for the machine that steps run on.

// Found is not called: there are no steps without something to do.
func (m *mending) Found(int) {}

// Done tells of one that was mended.
func (m *mending) Done(int, string) { m.tell(m.row) }

// Failed tells of one that could not be mended.
func (m *mending) Failed(_ int, err error) {
	m.failed(m.row.Step, err)
}

// Undone tells that the server is as before.
func (m *mending) Undone(int) {
	m.tell(Row{Step: m.row.Step, Outcome: Undone, Facts: m.row.Finding + ", " + m.row.On})
}

// UndoSlow tells of a server that takes its time.
func (m *mending) UndoSlow(_ int, since time.Duration) {
	m.tell(Row{Step: m.row.Step, Outcome: Note, Facts: "taking it back has lasted for " + since.String() + " so far"})
}

// UndoFailed tells of what could not be taken back.
func (m *mending) UndoFailed(_ int, err error) { m.failed(m.row.Step, err); m.result.Stuck = true }

// mendServer mends what inspect has found on a server, each finding by itself: one that cannot be
// mended is as before, and stops no other.
func (e *Base) mendServer(ctx context.Context, server string, o Mending) Result {
	return e.onServer(ctx, "inspect --fix", server, o.DryRun, func(m *mending) error {
		var found Inspected
		if err := e.inspectServer(ctx, server, false, &found); err != nil {
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
			m.tell(Row{Step: "server", Outcome: Kept, Facts: "there is nothing of that to be mended"})
		}
		return nil
	})
}

// undoMending takes back what a run of inspect --fix has changed on a server.
func (e *Base) undoMending(ctx context.Context, server string, entries []state.Entry, dryRun bool) Result {
	return e.onServer(ctx, "history --undo", server, dryRun, func(m *mending) error {
		var found *Inspected
		for _, left := range effect.LeftOf(effect.Converted(entries)) {
			if !left.Done { // the run was killed: has it come to this?
				if found == nil {
					found = &Inspected{}
					if err := e.inspectServer(ctx, server, false, found); err != nil {
						return err
					}
				}
				if slices.ContainsFunc(found.Findings, func(f inspect.Finding) bool { return objectOf(string(f.Kind), f.On) == left.Subject }) {
					m.tell(Row{Step: "server", Outcome: Kept, Facts: left.Subject + ": the run had not come to it"})
					continue
				}
			}
			row := Row{Step: "server", Outcome: Undone, Facts: left.Subject}
			change, err := findingMended.Change(left.Effect)
			if err != nil || len(change.Before) == 0 {
				m.tell(Row{Step: "server", Outcome: Refused, Facts: left.Subject + ": the journal does not say how it is taken back", Remedy: "yellowfield inspect " + server})
				m.result.Exit = fault.Graver(m.result.Exit, fault.Protected.ExitCode())
				continue
			}
			statements := readStatements(change.Before)
			if dryRun {
				row.Outcome, row.SQL = planned[Undone], texts(statements)
				m.tell(row)
				continue
			}
			row.Finding, row.On, _ = strings.Cut(left.Subject, ", ")
			if err := m.carryOut(ctx, row, statements, nil, nil); err != nil {
				return err
			}
		}
		if len(m.result.Rows) == 0 {
			m.tell(Row{Step: "server", Outcome: Kept, Facts: "there is nothing to take back"})
		}
		return nil
	})
}
