package work

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// Execute does the steps in their order, the intent of each in the journal
// before it, and undoes what it did when one fails.
func (r *Run) Execute(ctx context.Context) error {
	if err := r.openJournal(); err != nil {
		r.TellFault("server", err)
		return err
	}
	defer func() {
		end := r.Journal.End
		if r.Plan.stays {
			end = r.Journal.Leave
		}
		end(fmt.Sprintf("exit %d", r.Result.Exit))
	}()
	plan := effect.Plan[*Run]{Kinds: &Kinds, Skip: r.skips, Final: r.isFinal, Waits: roomToUndo,
		Passes: func(err error) bool { return dbms.CauseOf(err) == dbms.NoRoom }}
	for _, s := range r.Plan.Steps {
		plan.Steps = append(plan.Steps, &s.Action)
	}
	undone, err := plan.Run(ctx, r, r.Journal, r)
	if err != nil {
		if undone {
			r.tellWhatStayed(ctx)
		}
		if !r.isFinal() {
			r.tellNotReached(r.Plan.Steps[r.Plan.failed+1:])
		}
		return err
	}
	if r.Plan.Settings.IsPublished() && r.Options.Rotation == nil { // which has a step for it
		r.AfterSettingsChange(ctx)
	}
	return nil
}

// isFinal reports whether what was done so far stands, whatever fails after it.
func (r *Run) isFinal() bool { return r.Plan.Dropped || r.Plan.Settings.IsPublished() }

// skips reports whether a step is not asked for, or cannot be reached.
func (r *Run) skips(i int) bool {
	s := r.Plan.Steps[i]
	if !r.Options.Does(s.Step) {
		return true
	}
	if s.Effect != nil && s.Step == StepSQL && r.Plan.LoginBlocked != "" {
		r.Tell(Row{Step: s.Step, Outcome: NotReached, Facts: s.Facts + ": " + r.Plan.LoginBlocked})
		return true
	}
	return false
}

// Found, Done, Failed, Undone, UndoSlow and UndoFailed report the outcome of a step.
func (r *Run) Found(i int) { r.Tell(r.Plan.Steps[i].Row) }

// Done tells a step with what really came of it.
func (r *Run) Done(i int, facts string) {
	s := r.Plan.Steps[i]
	row := s.Row
	row.SQL, row.Diff = nil, ""
	if facts != "" {
		row.Facts = facts
	}
	if !s.Silent {
		r.Tell(row)
	}
	for _, also := range s.Also {
		r.Tell(also)
	}
}

// Failed tells why a step failed.
func (r *Run) Failed(i int, err error) {
	s := r.Plan.Steps[i]
	r.Plan.failed = i
	r.TellFault(s.Step, err)
	if r.isFinal() {
		what := "the settings are written"
		if r.Plan.Dropped {
			what = "a database is dropped"
		}
		r.Tell(Row{Step: s.Step, Outcome: NotReached, Facts: "nothing is undone once " + what,
			Remedy: "correct what is named above, then yellowfield " + r.Options.Command + " " + r.App.Name})
	}
}

// Undone tells that a step was taken back.
func (r *Run) Undone(i int) {
	s := r.Plan.Steps[i]
	r.Tell(Row{Step: s.Step, Outcome: Undone, Facts: strings.TrimPrefix(strings.TrimPrefix(s.Object(), s.Step+" of "), s.Step+" ")})
}

// roomToUndo is how long taking back waits for room on a server's disk: what MariaDB and
// MySQL themselves wait for when they write ("How MySQL Handles a Full Disk"), and what
// their looks at the catalogue do not.
const roomToUndo = time.Minute

// UndoSlow tells that a step is not taken back yet.
func (r *Run) UndoSlow(i int, since time.Duration) {
	s := r.Plan.Steps[i]
	r.Tell(Row{Step: s.Step, Outcome: Note, Facts: fmt.Sprintf("taking back %s has lasted for %.0f s", s.Object(), since.Seconds()),
		Remedy: "see whether the disk of its server is full; Ctrl-C ends this program, and the next command on the app goes on"})
}

// UndoFailed tells why a step could not be taken back.
func (r *Run) UndoFailed(i int, err error) {
	s, f := r.Plan.Steps[i], fault.As(err)
	r.Result.UndoIncomplete, r.Plan.stays = true, true
	r.Tell(Row{Step: s.Step, Outcome: Refused, Facts: s.Object() + " could not be undone: " + f.What, Remedy: f.Next})
	r.Result.Exit = fault.Graver(r.Result.Exit, f.Class.ExitCode())
}

// commandEnvironment is all that a command of the estate file is told.
var commandEnvironment = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8"}

// AfterSettingsChange runs what the estate file asks for once settings files
// were written. A command that fails is told with its output and undoes
// nothing: the settings are right.
func (r *Run) AfterSettingsChange(ctx context.Context) {
	for _, words := range r.App.AfterSettingsChange {
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
		entry := state.Entry{Event: state.Done, Step: StepSettings, Object: "command " + shown, Detail: "exit 0"}
		row := Row{Step: StepSettings, Outcome: Made, Facts: "ran " + shown}
		if err != nil {
			entry.Event, entry.Detail = state.Failed, err.Error()
			row = Row{Step: StepSettings, Outcome: Failed, Facts: fmt.Sprintf("%s: %v", shown, err), Excerpt: said, Remedy: "run it by hand; the settings are written"}
			r.Result.Exit = fault.Graver(r.Result.Exit, fault.Failed.ExitCode())
		}
		_ = r.Journal.Record(entry) // it has run either way
		r.Tell(row)
	}
}

// openJournal begins a journal if there is anything to do.
func (r *Run) openJournal() error {
	for _, s := range r.Plan.Steps {
		if s.Effect != nil && r.Options.Does(s.Step) {
			var err error
			r.Journal, err = r.State.Begin(state.Entry{Command: r.Options.Command, App: r.App.Name, Server: r.App.Server,
				Address: r.View.Entry.Address().String(), Detail: r.Estate.Path})
			if err == nil {
				r.prune()
			}
			return err
		}
	}
	return nil
}

// prune forgets what is older than it is to be kept, once for a command.
func (r *Run) prune() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.pruned {
		return
	}
	r.pruned = true
	err := r.State.DropOldRemoved(r.Engine.AllExports())
	if days := int(r.Estate.KeepHistory); days > 0 {
		err = errors.Join(err, r.State.Prune(r.Estate.Path, time.Now().AddDate(0, 0, -days)))
	}
	for _, f := range fault.All(err) {
		r.Tell(Row{Step: "server", Outcome: Note, Facts: f.What, Remedy: f.Next})
	}
}

// tellWhatStayed checks that the app's databases hold again what they held before, and names
// what does not match: "undone" claims more than that no step has failed.
func (r *Run) tellWhatStayed(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	now, err := r.View.Server.Contents(ctx, r.DatabaseNames()...)
	if err != nil {
		r.TellFault(StepDatabase, err)
		return
	}
	for _, d := range r.App.All() {
		var stays, gone []string
		had, has := r.Plan.Contents[d.Name].Everything(), now[d.Name].Everything()
		for object := range has {
			if !had[object] {
				stays = append(stays, object.String())
			}
		}
		for object := range r.Plan.Contents[d.Name].Objects() { // triggers go with their tables
			if !has[object] {
				gone = append(gone, object.String())
			}
		}
		slices.Sort(stays)
		slices.Sort(gone)
		tell := func(what string, objects []string, remedy string) {
			if len(objects) > 0 {
				r.Result.UndoIncomplete = true
				r.Tell(Row{Step: StepDatabase, Outcome: Refused, Facts: d.Name + ": " + what + JoinSome(objects), Remedy: remedy})
			}
		}
		tell("what was not there before stays: ", stays, "if the application has not made it meanwhile, it is the script's: look at it, and drop it")
		tell("what was there before is gone: ", gone, "restore it from a backup: a script of this run, or somebody else, has dropped it")
	}
}

// tellNotReached names the steps after a failed one, each once.
func (r *Run) tellNotReached(rest []*Step) {
	seen := map[string]bool{}
	for _, s := range rest {
		if s.Effect != nil && !s.Silent && !seen[s.Step] && r.Options.Does(s.Step) {
			seen[s.Step] = true
			r.Tell(Row{Step: s.Step, Outcome: NotReached})
		}
	}
}

// TellPlanFaults tells what was found beforehand, with what differs, and that
// nothing was touched.
func (r *Run) TellPlanFaults(err error) error {
	for _, s := range r.Plan.Steps {
		if s.Outcome == Differs {
			r.Tell(s.Row)
		}
	}
	var unmet *UnmetError
	for _, part := range Parts(err) {
		if errors.As(part, &unmet) {
			r.Result.Exit = fault.Graver(r.Result.Exit, fault.Failed.ExitCode())
			continue
		}
		r.TellFault(StepOf(part), part)
	}
	return Told(err)
}

// Parts takes joined errors apart.
func Parts(err error) []error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		return joined.Unwrap()
	}
	return []error{err}
}

// tellPlanned tells a step in the form "would make".
func (r *Run) tellPlanned(s *Step) {
	row := s.Row
	if s.Effect != nil {
		row.Outcome = Planned[s.Outcome]
	}
	if !s.Silent {
		r.Tell(row)
	}
	for _, also := range s.Also {
		r.Tell(also)
	}
}

// CarryOut does what is planned, or in a dry run tells it.
func (r *Run) CarryOut(ctx context.Context) error {
	if r.Options.DryRun {
		r.Preview()
		return nil
	}
	if err := r.Execute(ctx); err != nil {
		return Told(err)
	}
	return nil
}

// HasWork reports whether there is anything to do.
func (r *Run) HasWork() bool {
	return slices.ContainsFunc(r.Plan.Steps, func(s *Step) bool { return s.Effect != nil && r.Options.Does(s.Step) })
}

// Preview tells what will be done; what was really done comes into the result later.
func (r *Run) Preview() {
	if r.Options.DryRun {
		for _, s := range r.Plan.Steps {
			if r.Options.Does(s.Step) {
				r.tellPlanned(s)
			}
		}
		return
	}
	r.Begin()
	for _, s := range r.Plan.Steps {
		told := s.Effect != nil || r.Options.Move != nil && s.Outcome == Note // what a move meets is to be known before
		if r.Options.Does(s.Step) && told && !s.Silent && r.Listener.Row != nil {
			row := s.Row
			row.SQL = nil
			if s.Effect != nil {
				row.Outcome = Planned[s.Outcome]
			}
			r.Listener.Row(r.Result.Header, row)
		}
	}
}

// AskAndExecute shows what will be done, where somebody is asked or nothing is to be touched,
// and does it. done is false for a dry run; otherwise is the flag that answers the question.
func (r *Run) AskAndExecute(ctx context.Context, confirm func(app string) bool, otherwise string) (done bool, err error) {
	if done, err = r.Confirmed(confirm, otherwise); !done || err != nil {
		return false, err
	}
	if err := r.Execute(ctx); err != nil {
		return false, Told(err)
	}
	return true, nil
}

// Confirmed shows what will be done, where somebody is asked or nothing is to be touched. It is
// false for a dry run, and an error where the answer is no; otherwise is the flag that gives it.
// An answer that was given for another entry of the app counts for nothing.
func (r *Run) Confirmed(confirm func(app string) bool, otherwise string) (bool, error) {
	ask := (confirm != nil || r.IsAnew) && r.HasWork()
	if r.Options.DryRun || ask {
		r.Preview()
	}
	switch {
	case r.Options.DryRun:
		return false, nil
	case !ask:
		return true, nil
	case !r.IsAnew:
		if !confirm(r.App.Name) {
			return false, AtStep(StepState, fault.New(fault.Protected, otherwise, "nothing was done"))
		}
	case r.AskAgain == nil:
		return false, AtStep(StepState, r.Estate.Fault(fault.Busy, "apps."+r.App.Name, "see what it would do now with --dry-run, and run it again", "the entry of app %s was changed since this command has read it, and what was confirmed was for the old one: nothing was done", r.App.Name))
	case !r.AskAgain("The entry of app " + r.App.Name + " was changed since this command has read it. Do what is shown above?"):
		return false, AtStep(StepState, fault.New(fault.Protected, "run the command again when it is to be done", "nothing was done"))
	}
	return true, nil
}
