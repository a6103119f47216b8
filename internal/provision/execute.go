package provision

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// execute does the steps in their order, the intent of each in the journal
// before it, and undoes what it did when one fails.
func (r *run) execute(ctx context.Context) error {
	if err := r.openJournal(); err != nil {
		r.tellFault("server", err)
		return err
	}
	defer func() {
		end := r.journal.End
		if r.plan.stays {
			end = r.journal.Leave
		}
		end(fmt.Sprintf("exit %d", r.result.Exit))
	}()
	plan := effect.Plan[*run]{Kinds: &kinds, Skip: r.skips, Final: r.isFinal}
	for _, s := range r.plan.steps {
		plan.Steps = append(plan.Steps, &s.action)
	}
	undone, err := plan.Run(ctx, r, r.journal, r)
	if err != nil {
		if undone {
			r.tellWhatStayed(ctx)
		}
		if !r.isFinal() {
			r.tellNotReached(r.plan.steps[r.plan.failed+1:])
		}
		return err
	}
	if r.plan.settings.isPublished() && r.options.Rotation == nil { // which has a step for it
		r.afterSettingsChange(ctx)
	}
	return nil
}

// isFinal reports whether what was done so far stands, whatever fails behind it.
func (r *run) isFinal() bool { return r.plan.dropped || r.plan.settings.isPublished() }

// skips reports whether a step is not asked for, or cannot be reached.
func (r *run) skips(i int) bool {
	s := r.plan.steps[i]
	if !r.options.does(s.Step) {
		return true
	}
	if s.Effect != nil && s.Step == stepSQL && r.plan.stuck != "" {
		r.tell(Row{Step: s.Step, Outcome: NotReached, Facts: s.Facts + ": " + r.plan.stuck})
		return true
	}
	return false
}

// Found, Done, Failed, Undone, UndoSlow and UndoFailed tell what became of a step.
func (r *run) Found(i int) { r.tell(r.plan.steps[i].Row) }

// Done tells a step with what really came of it.
func (r *run) Done(i int, facts string) {
	s := r.plan.steps[i]
	row := s.Row
	row.SQL, row.Diff = nil, ""
	if facts != "" {
		row.Facts = facts
	}
	if !s.silent {
		r.tell(row)
	}
	for _, also := range s.also {
		r.tell(also)
	}
}

// Failed tells why a step failed.
func (r *run) Failed(i int, err error) {
	s := r.plan.steps[i]
	r.plan.failed = i
	r.tellFault(s.Step, err)
	if r.isFinal() {
		what := "the settings are written"
		if r.plan.dropped {
			what = "a database is dropped"
		}
		r.tell(Row{Step: s.Step, Outcome: NotReached, Facts: "nothing is undone once " + what,
			Remedy: "correct what is named above, then yellowfield " + r.options.Command + " " + r.app.Name})
	}
}

// Undone tells that a step was taken back.
func (r *run) Undone(i int) {
	s := r.plan.steps[i]
	r.tell(Row{Step: s.Step, Outcome: Undone, Facts: strings.TrimPrefix(strings.TrimPrefix(s.object(), s.Step+" of "), s.Step+" ")})
}

// UndoSlow tells that a step is not taken back yet.
func (r *run) UndoSlow(i int, since time.Duration) {
	s := r.plan.steps[i]
	r.tell(Row{Step: s.Step, Outcome: Note, Facts: fmt.Sprintf("taking back %s has lasted for %.0f s", s.object(), since.Seconds()),
		Remedy: "see whether the disk of its server is full; Ctrl-C ends this program, and the next command on the app goes on"})
}

// UndoFailed tells why a step could not be taken back.
func (r *run) UndoFailed(i int, err error) {
	s, f := r.plan.steps[i], fault.As(err)
	r.result.Stuck, r.plan.stays = true, true
	r.tell(Row{Step: s.Step, Outcome: Refused, Facts: s.object() + " could not be undone: " + f.What, Remedy: f.Next})
	r.result.Exit = fault.Graver(r.result.Exit, f.Class.ExitCode())
}

// commandEnvironment is all that a command of the estate file is told.
var commandEnvironment = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8"}

// afterSettingsChange runs what the estate file asks for once settings files
// were written. A command that fails is told with its output and undoes
// nothing: the settings are right.
func (r *run) afterSettingsChange(ctx context.Context) {
	for _, words := range r.app.AfterSettingsChange {
		shown := strings.Join(words, " ")
		command := exec.CommandContext(ctx, words[0], words[1:]...)
		command.Dir = filepath.Dir(r.Estate.Path)
		command.Env = commandEnvironment // ours may hold passwords
		command.WaitDelay = time.Second  // what it has started may go on, and keep its output open
		output, err := command.CombinedOutput()
		if errors.Is(err, exec.ErrWaitDelay) {
			err = nil
		}
		said := strings.TrimSpace(string(output))
		entry := state.Entry{Event: state.Done, Step: stepSettings, Object: "command " + shown, Detail: "exit 0"}
		row := Row{Step: stepSettings, Outcome: Made, Facts: "ran " + shown}
		if err != nil {
			entry.Event, entry.Detail = state.Failed, err.Error()
			row = Row{Step: stepSettings, Outcome: Failed, Facts: fmt.Sprintf("%s: %v", shown, err), Excerpt: said, Remedy: "run it by hand; the settings are written"}
			r.result.Exit = fault.Graver(r.result.Exit, fault.Failed.ExitCode())
		}
		_ = r.journal.Record(entry) // it has run either way
		r.tell(row)
	}
}

// openJournal begins a journal if there is anything to do.
func (r *run) openJournal() error {
	for _, s := range r.plan.steps {
		if s.Effect != nil && r.options.does(s.Step) {
			var err error
			r.journal, err = r.State.Begin(state.Entry{Command: r.options.Command, App: r.app.Name, Server: r.app.Server,
				Address: r.view.entry.Address().String(), Detail: r.Estate.Path})
			if err == nil {
				r.prune()
			}
			return err
		}
	}
	return nil
}

// prune forgets what is older than it is to be kept, once for a command.
func (r *run) prune() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.pruned {
		return
	}
	r.pruned = true
	err := r.State.DropOldRemoved(r.Base.allExports())
	if days := int(r.Estate.KeepHistory); days > 0 {
		err = errors.Join(err, r.State.Prune(r.Estate.Path, time.Now().AddDate(0, 0, -days)))
	}
	for _, f := range fault.All(err) {
		r.tell(Row{Step: "server", Outcome: Note, Facts: f.What, Remedy: f.Next})
	}
}

// tellWhatStayed looks whether the app's databases hold again what they held before,
// and names what does not fit: "undone" is more than that no step has failed.
func (r *run) tellWhatStayed(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	now, err := r.view.server.Contents(ctx, r.databaseNames()...)
	if err != nil {
		r.tellFault(stepDatabase, err)
		return
	}
	for _, d := range r.app.All() {
		var stays, gone []string
		had, has := r.plan.contents[d.Name].Everything(), now[d.Name].Everything()
		for object := range has {
			if !had[object] {
				stays = append(stays, object.String())
			}
		}
		for object := range r.plan.contents[d.Name].Objects() { // triggers go with their tables
			if !has[object] {
				gone = append(gone, object.String())
			}
		}
		slices.Sort(stays)
		slices.Sort(gone)
		tell := func(what string, objects []string, remedy string) {
			if len(objects) > 0 {
				r.result.Stuck = true
				r.tell(Row{Step: stepDatabase, Outcome: Refused, Facts: d.Name + ": " + what + some(objects), Remedy: remedy})
			}
		}
		tell("what was not there before stays: ", stays, "if the application has not made it meanwhile, it is the script's: look at it, and drop it")
		tell("what was there before is gone: ", gone, "restore it from a backup: a script of this run, or somebody else, has dropped it")
	}
}

// tellNotReached names the steps behind a failed one, each once.
func (r *run) tellNotReached(rest []*step) {
	seen := map[string]bool{}
	for _, s := range rest {
		if s.Effect != nil && !s.silent && !seen[s.Step] && r.options.does(s.Step) {
			seen[s.Step] = true
			r.tell(Row{Step: s.Step, Outcome: NotReached})
		}
	}
}

// tellPlanFaults tells what was found beforehand, with what differs, and that
// nothing was touched.
func (r *run) tellPlanFaults(err error) error {
	for _, s := range r.plan.steps {
		if s.Outcome == Differs {
			r.tell(s.Row)
		}
	}
	var unmet *unmetError
	for _, part := range parts(err) {
		if errors.As(part, &unmet) {
			r.result.Exit = fault.Graver(r.result.Exit, fault.Failed.ExitCode())
			continue
		}
		r.tellFault(stepOf(part), part)
	}
	return &toldError{err}
}

// parts takes joined errors apart.
func parts(err error) []error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		return joined.Unwrap()
	}
	return []error{err}
}

// tellPlanned tells a step in the form "would make".
func (r *run) tellPlanned(s *step) {
	row := s.Row
	if s.Effect != nil {
		row.Outcome = planned[s.Outcome]
	}
	if !s.silent {
		r.tell(row)
	}
	for _, also := range s.also {
		r.tell(also)
	}
}

// carryOut does what is planned, or in a dry run tells it.
func (r *run) carryOut(ctx context.Context) error {
	if r.options.DryRun {
		r.preview()
		return nil
	}
	if err := r.execute(ctx); err != nil {
		return &toldError{err}
	}
	return nil
}

// hasWork reports whether there is anything to do.
func (r *run) hasWork() bool {
	return slices.ContainsFunc(r.plan.steps, func(s *step) bool { return s.Effect != nil && r.options.does(s.Step) })
}

// preview tells what will be done; what was really done comes into the result later.
func (r *run) preview() {
	if r.options.DryRun {
		for _, s := range r.plan.steps {
			if r.options.does(s.Step) {
				r.tellPlanned(s)
			}
		}
		return
	}
	r.begin()
	for _, s := range r.plan.steps {
		told := s.Effect != nil || r.options.Move != nil && s.Outcome == Note // what a move meets is to be known before
		if r.options.does(s.Step) && told && !s.silent && r.Listener.Row != nil {
			row := s.Row
			row.SQL = nil
			if s.Effect != nil {
				row.Outcome = planned[s.Outcome]
			}
			r.Listener.Row(r.result.Header, row)
		}
	}
}

// askAndExecute shows what will be done, where somebody is asked or nothing is to be
// touched, and does it. done is false for a dry run; otherwise says how to answer.
func (r *run) askAndExecute(ctx context.Context, confirm func(app string) bool, otherwise string) (done bool, err error) {
	ask := confirm != nil && r.hasWork()
	if r.options.DryRun || ask {
		r.preview()
	}
	if r.options.DryRun {
		return false, nil
	}
	if ask && !confirm(r.app.Name) {
		return false, &stepError{stepState, fault.New(fault.Protected, otherwise, "nothing was done")}
	}
	if err := r.execute(ctx); err != nil {
		return false, &toldError{err}
	}
	return true, nil
}
