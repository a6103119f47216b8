// Package lifecycle takes an app elsewhere, copies it, or takes it out of use.
//
// It must never know of the commands besides its own.
package lifecycle

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yellowfield/internal/content"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/planning"
	"yellowfield/internal/proof"
	"yellowfield/internal/secret"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// MoveTo moves the app to another server.
func MoveTo(r *work.Run, ctx context.Context) error {
	to := r.Options.Move.To
	if err := mayMove(r, to); err != nil {
		return work.AtStep(work.StepState, err)
	}
	change, later, err := estateOn(r, to)
	if err != nil {
		return work.AtStep(work.StepState, err)
	}
	// What is made is told for this app, as its work.
	engine := *r.Engine
	engine.Estate = later
	engine.Listener = work.Listener{Trace: r.Listener.Trace, Progress: r.Listener.Progress, Row: func(_ work.Header, row work.Row) { r.Tell(row) }}
	made := later.Apps[r.App.Name]
	made.Installer, made.Import = estate.Installer{}, nil // all that these make is there
	n := work.NewRun(&engine, made, r.Options)
	n.Interrupted, n.Begun, n.From = r.Interrupted, true, &work.Origin{Old: r, Change: change}
	n.Credentials = func(ctx context.Context, account *estate.Account) (*work.Credential, error) {
		return movedCredential(n, ctx, account)
	}
	n.Transfers = func(ctx context.Context) error { return planTransfer(n, ctx) }
	defer func() {
		n.EndReaders(ctx)
		n.Folder.Close()
		r.Result.UndoIncomplete = r.Result.UndoIncomplete || n.Result.UndoIncomplete
		r.Result.ForAWhile = r.Result.ForAWhile || n.Result.ForAWhile
		r.Result.Exit = fault.Graver(r.Result.Exit, n.Result.Exit)
	}()
	release, err := arriveAlone(n, ctx)
	if err != nil {
		return err
	}
	defer release()
	n.WarnOfStrangers(n.View.Connection)
	return moveHere(n, ctx)
}

// arriveAlone logs in on the server that an app comes to, takes the app's lock there, and looks.
// The server may still be at work on a statement of a run that was killed: it holds the lock
// until that has ended.
func arriveAlone(n *work.Run, ctx context.Context) (release func(), err error) {
	c, err := n.Arrive(ctx)
	if err != nil {
		return nil, err
	}
	if c.Admin == nil {
		return nil, work.AtStep(work.StepAccount, n.Estate.Fault(fault.Invalid, "servers."+n.App.Server, "give the server an admin", "making databases and accounts takes an administrator"))
	}
	release, holder, err := n.Lock(ctx, c.Admin, n.LockThere(), true)
	switch {
	case err != nil:
		return nil, err
	case holder != nil:
		return nil, fault.New(fault.Busy, work.TryLater, "someone else is working on app %s on server %s (%s)", n.App.Name, n.App.Server, holder.Who)
	}
	if err := n.Look(ctx); err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// estateOn is the estate in which the app is on another server.
func estateOn(r *work.Run, server string) (change *estate.Change, later *estate.Estate, err error) {
	if change, err = r.Estate.MoveTo(r.App.Name, server); err == nil {
		later, err = r.Estate.With(change)
	}
	return change, later, err
}

// mayMove refuses what cannot be moved.
func mayMove(r *work.Run, to string) error {
	server := r.Estate.Servers[to]
	var before work.MoveRecord
	found, err := r.State.Note(work.Movements, r.NoteName(), &before)
	switch {
	case err != nil:
		return err
	case server == nil:
		return fault.New(fault.Invalid, fault.DidYouMean(to, estate.Names(r.Estate.Servers), "see servers in the estate file"), "there is no server %q", to)
	case to == r.App.Server:
		return fault.New(fault.Invalid, "name another with --to", "app %s is on server %s", r.App.Name, to)
	case server.DBMS.Traits().Family != r.View.Entry.DBMS.Traits().Family:
		return fault.New(fault.Invalid, "name a server of its kind", "app %s is on %s, and server %s is %s", r.App.Name, r.View.Entry.DBMS.Title(), to, server.DBMS.Title())
	case !r.View.AsAdmin():
		return r.Estate.Fault(fault.Invalid, "servers."+r.App.Server, "give the server an admin", "lowering rights takes an administrator")
	case found && !before.Done:
		return fault.New(fault.Protected, "settle what is named above, and run the command again", "what had arrived of app %s on server %s is not taken back yet", r.App.Name, before.To)
	case found:
		return fault.New(fault.Protected, "yellowfield retire "+r.App.Name+" --old first", "what app %s left on server %s when it was moved is there still", r.App.Name, before.From)
	case r.App.Shared:
		return r.Estate.Fault(fault.Invalid, r.Path("shared"), "move its tables by hand", "app %s shares its database or account with another", r.App.Name)
	}
	for _, d := range r.App.All() {
		if !r.Exists(d.Name) {
			return r.Estate.Fault(fault.Invalid, r.Path(d.Path()), "yellowfield provision "+r.App.Name+" makes it", "the database %s does not exist", d.Name)
		}
	}
	for _, account := range r.App.Accounts {
		if other := usedBy(r, account.Name); other != "" {
			return r.Estate.Fault(fault.Invalid, r.Path("accounts"), "give one of them an account of its own", "app %s uses the account %s, too", other, account.Name)
		}
	}
	return nil
}

// moveHere is the work on the server that the app comes to.
func moveHere(r *work.Run, ctx context.Context) error {
	old := r.From.Old
	old.Plan = old.EmptyPlan()
	steps.PlanState(old)
	r.Plan = r.EmptyPlan()
	err := isNew(r, "see what it is: drop it there, or move the app to another server")
	if err == nil {
		r.From.Note, err = movementTo(old, ctx, r.App.Server)
	}
	if err == nil {
		err = planning.MakePlan(r, ctx)
	}
	if err != nil {
		_ = r.TellPlanFaults(err)
		return work.Told(err)
	}
	note := r.From.Note
	r.Plan.Change(work.Row{Step: work.StepState}, MoveNoted.Of(r.App.Name, work.MoveRecord{}, note), nil).Silent = true
	r.Plan.LastFirst() // the next run that finds it undoes what follows
	mark := r.MarkOfMove()
	r.Plan.Change(work.Row{Step: work.StepAccount}, MoveMarked.Of(mark.String(), struct{}{}, struct{}{}), nil).Silent = true
	r.Plan.LastTo(1)
	proveEntryFirst(r)
	if done, err := r.AskAndExecute(ctx, r.Options.Move.Confirm, "answer yes, or add --yes"); !done {
		return err
	}
	if err := MoveIsThrough(r, ctx); err != nil {
		return err
	}
	proof.CheckLogins(r, ctx)
	return nil
}

// Kinds of change, see init.
var (
	MoveNoted = effect.Define[*work.Run, work.MoveRecord](&work.Kinds, "move-note")
	AppFrozen = effect.Define[*work.Run, struct{}](&work.Kinds, "freeze")
	// MoveMarked is an account on the new server whose name says that a move to it is at work:
	// what it brought is known by it where all records of the move are lost.
	MoveMarked = effect.Define[*work.Run, struct{}](&work.Kinds, "move-mark")
)

func init() {
	MoveNoted.Means(effect.Spec[*work.Run, work.MoveRecord]{
		Object: func(effect.Change[work.MoveRecord]) string { return "note of the move" },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[work.MoveRecord]) (string, error) {
			return "", r.State.SetNote(work.Movements, r.NoteName(), d.After)
		},
		Undo: func(r *work.Run, _ context.Context, _ effect.Change[work.MoveRecord]) error {
			if r.Result.UndoIncomplete {
				return fault.New(fault.Failed, "yellowfield provision "+r.App.Name+", as soon as both servers can be reached", "it is kept, so that the next command on the app can take back the rest")
			}
			return r.State.DropNote(work.Movements, r.NoteName())
		},
	})
	MoveMarked.Means(effect.Spec[*work.Run, struct{}]{
		Object: func(c effect.Change[struct{}]) string { return "mark of the move, " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			d.Touched = true
			return "", r.MakeMarkOfMove(ctx)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[struct{}]) error {
			return r.View.Server.Exec(ctx, r.View.Server.DropAccount(dbms.ParseAccount(c.Subject)))
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[struct{}]) (effect.Standing, error) {
			if _, exists := r.View.Catalogue.Accounts[dbms.ParseAccount(c.Subject)]; exists {
				return effect.Done, nil
			}
			return effect.NotDone, nil
		},
	})
	AppFrozen.Means(effect.Spec[*work.Run, struct{}]{
		UndoFirst: true,
		Object:    func(c effect.Change[struct{}]) string { return "freeze of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			d.Touched = true
			return "", freeze(r.From.Old, ctx, r.From.Note)
		},
		Undo: func(r *work.Run, ctx context.Context, _ effect.Change[struct{}]) error {
			return thaw(r.From.Old, ctx)
		},
	})
}

// MoveIsThrough keeps what is to be known of the old place.
func MoveIsThrough(r *work.Run, ctx context.Context) error {
	var note work.MoveRecord
	found, err := r.State.Note(work.Movements, r.NoteName(), &note)
	if err != nil || !found || note.Done || r.App.Server != note.To {
		return err
	}
	if err := runEvents(r, ctx, note); err != nil {
		return err
	}
	if err := r.View.Server.Exec(ctx, r.View.Server.DropAccount(r.MarkOfMove())); err != nil {
		return err
	}
	note.Done = true
	if err := r.State.SetNote(work.Movements, r.NoteName(), note); err != nil {
		return err
	}
	if err := steps.NoteDatabases(r); err != nil {
		return err
	}
	r.Tell(work.Row{Step: work.StepState, Outcome: work.Note, Facts: "what it left on " + note.From + " may be read, and not changed", Remedy: "yellowfield retire " + r.App.Name + " --old drops it"})
	return nil
}

// planTransfer freezes the old databases, brings their rows here with nothing on the disk
// between, compares, and has the estate file name this server.
func planTransfer(r *work.Run, ctx context.Context) error {
	old := r.From.Old
	if err := checkTransfer(r, ctx); err != nil {
		return err
	}
	for a, grants := range old.View.Catalogue.Granted {
		for _, d := range r.App.All() {
			held, _ := r.View.Server.HeldOn(d.Name, dbms.Grants{Databases: grants.Databases})
			if len(held) > 0 && !slices.ContainsFunc(rightsToLower(old), func(l work.LoweredTo) bool { return l.Account == a }) {
				r.Plan.Note(work.StepRights, "see that it does not, while the app is moved; and give it its rights on "+r.App.Server+" by hand", fmt.Sprintf("%s is not the app's, and has rights on %s: %s", a, d.Name, held))
			}
		}
	}
	note := r.From.Note
	still := fmt.Sprintf("%s on %s may only read from here on, until the move is through or taken back", accountsIn(note.Lowered), old.App.Server)
	if len(note.Events) > 0 {
		still += "; nor do its events run: " + work.JoinSome(note.EventNames())
	}
	r.Plan.Change(work.Row{Step: work.StepRights, Outcome: work.Changed, Facts: still}, AppFrozen.Of(r.App.Name+" on "+old.App.Server, struct{}{}, struct{}{}), nil)
	for _, d := range r.App.All() {
		one := &content.Importing{Run: transfer, Source: &work.WantedScript{Into: d}}
		one.Step = r.Plan.Change(work.Row{Step: work.StepSQL, Outcome: work.Imported, Facts: "what " + d.Name + " holds on " + old.App.Server + ": " + work.Inventory(old.Plan.Contents[d.Name])},
			content.SqlImported.Of(d.Name, content.ImportState{Database: d.Name}, content.ImportState{Database: d.Name, Moved: true}), one)
	}
	if !old.Plan.Open { // it was closed, and is to be so here
		planClosedRights(r, old)
		r.Plan.Open = false
	}
	PlanEntry(r, old.Estate, r.From.Change, work.Row{Step: work.StepState, Outcome: work.Changed, Facts: "server: " + r.App.Server}, r.App.Server)
	return nil
}

func accountsIn(lowered []work.LoweredTo) string {
	var names []string
	for _, l := range lowered {
		if !slices.Contains(names, l.Account.String()) {
			names = append(names, l.Account.String())
		}
	}
	return work.JoinSome(names)
}

// planClosedRights gives the accounts the rights for running, once the tables are there.
func planClosedRights(r *work.Run, old *work.Run) {
	for _, account := range r.App.Accounts {
		for _, d := range r.App.DatabasesOf(account) {
			contents := old.Plan.Contents[d.Name]
			has, wants := r.View.Server.Resolve(account.Rights.Installing, contents), r.View.Server.Resolve(account.Rights.Running, contents)
			for _, a := range r.AccountsOf(account) {
				grants := dbms.Grants{Databases: map[string]dbms.Privileges{r.View.Server.Pattern(d.Name): has}}
				statements, _ := r.View.Server.ChangeRights(a, d.Name, grants, wants)
				if len(statements) == 0 {
					continue
				}
				steps.PlanRightsChange(r, work.Row{Step: work.StepRights, Outcome: work.Changed, Facts: fmt.Sprintf("%s: for running, as on %s", a, old.App.Server)}, steps.RightsState{Account: a, Database: d.Name, Held: has}, wants, statements, false)
			}
		}
	}
}

// rightsToLower are those of accounts that could change what is moved.
func rightsToLower(r *work.Run) (all []work.LoweredTo) {
	for _, account := range r.App.Accounts {
		for _, d := range r.App.DatabasesOf(account) {
			for _, a := range r.AccountsOf(account) {
				if held, _ := r.View.Server.HeldOn(d.Name, r.View.Catalogue.Grants(a)); len(held) > 0 {
					all = append(all, work.LoweredTo{Account: a, Database: d.Name, Had: held})
				}
			}
		}
	}
	return all
}

// freeze has the old databases stand still: their accounts may only read, and sessions, which
// would keep more, are ended.
func freeze(r *work.Run, ctx context.Context, note work.MoveRecord) error {
	for _, l := range note.Lowered {
		statements, _ := r.View.Server.ChangeRights(l.Account, l.Database, r.View.Catalogue.Grants(l.Account), r.View.Server.Resolve([]string{dbms.LevelRead}, dbms.Contents{}))
		if err := r.View.Server.Exec(ctx, statements...); err != nil {
			return err
		}
		if err := r.View.Server.EndSessions(ctx, l.Account); err != nil {
			return err
		}
	}
	return stopEvents(r, ctx, note)
}

// stopEvents has the events of the old databases stand still, and where a server has that the
// databases as a whole. What runs now counts: the application may have put an event of its own
// in another's place until its rights were lowered.
func stopEvents(r *work.Run, ctx context.Context, note work.MoveRecord) error {
	freezer, is := r.View.Server.(dbms.Freezes)
	if !is {
		return nil
	}
	for _, d := range note.Frozen {
		if err := r.View.Server.Exec(ctx, freezer.ReadOnly(d, true)...); err != nil {
			return err
		}
	}
	var err error
	if note.Events, err = runningEvents(r, ctx); err != nil {
		return err
	}
	if err := r.State.SetNote(work.Movements, r.NoteName(), note); err != nil {
		return err
	}
	return switchEvents(r, ctx, note.ThatAreSwitched(), false, true)
}

// runningEvents are the enabled ones of the app's databases.
func runningEvents(r *work.Run, ctx context.Context) (all []dbms.Event, err error) {
	freezer, is := r.View.Server.(dbms.Freezes)
	if !is {
		return nil, nil
	}
	for _, d := range r.App.All() {
		events, err := freezer.Events(ctx, d.Name)
		if err != nil {
			return nil, err
		}
		all = append(all, slices.DeleteFunc(events, func(e dbms.Event) bool { return !e.Enabled })...)
	}
	return all, nil
}

// switchEvents has events run or not. The statement names the definer, and an application that
// may change events could put one of its own in the place of another's, which would run with
// the other's rights then: unless none of its accounts may do that now, those of others are
// told. So is one that the server does not want to run, since its time is over.
func switchEvents(r *work.Run, ctx context.Context, events []dbms.Event, on, safe bool) error {
	freezer, is := r.View.Server.(dbms.Freezes)
	if !is || len(events) == 0 {
		return nil
	}
	own := map[dbms.Account]bool{}
	for _, account := range r.App.Accounts {
		for _, a := range r.AccountsOf(account) {
			own[a] = true
		}
	}
	for _, d := range r.App.All() {
		here, err := freezer.Events(ctx, d.Name)
		if err != nil {
			return err
		}
		for _, e := range here {
			if e.Enabled == on || !slices.ContainsFunc(events, func(was dbms.Event) bool { return was.Database == e.Database && was.Name == e.Name }) {
				continue
			}
			statement := freezer.SwitchEvent(e, on)
			why := fmt.Sprintf("it is %s's, and the app may change events", e.Definer)
			if safe || own[e.Definer] {
				err := r.View.Server.Exec(ctx, statement)
				if err == nil {
					continue
				}
				if !on || !dbms.IsRefusal(err) {
					return err
				}
				why = err.Error()
			}
			r.Tell(work.Row{Step: work.StepSQL, Outcome: work.Differs, Severity: estate.ShouldLook, Facts: fmt.Sprintf("event %s of %s does not run on %s: %s", e.Name, e.Database, r.App.Server, why), Remedy: "look at it, then " + statement.String()})
		}
	}
	return nil
}

// runEvents has those run here that ran where the app was.
func runEvents(r *work.Run, ctx context.Context, note work.MoveRecord) error {
	if len(note.Events) == 0 {
		return nil
	}
	if err := switchEvents(r, ctx, note.Events, true, false); err != nil {
		return err
	}
	running, err := runningEvents(r, ctx)
	if err == nil && len(running) > 0 {
		r.Tell(work.Row{Step: work.StepSQL, Outcome: work.Changed, Facts: "its events run here now: " + work.JoinSome(work.MoveRecord{Events: running}.EventNames())})
	}
	return err
}

// movementTo is the note of a move, before it begins.
func movementTo(r *work.Run, ctx context.Context, to string) (note work.MoveRecord, err error) {
	note = work.MoveRecord{App: r.App.Name, From: r.App.Server, To: to, Lowered: rightsToLower(r), At: time.Now().UTC()}
	if freezer, freezes := r.View.Server.(dbms.Freezes); freezes {
		for _, d := range r.App.All() {
			if freezer.ReadOnly(d.Name, true) != nil {
				note.Frozen = append(note.Frozen, d.Name)
			}
		}
	}
	note.Events, err = runningEvents(r, ctx)
	return note, err
}

// thaw gives the old accounts their rights back, by what the note says that they had; events
// before, while those accounts cannot change them.
func thaw(r *work.Run, ctx context.Context) error {
	var note work.MoveRecord
	if found, err := r.State.Note(work.Movements, r.NoteName(), &note); err != nil || !found {
		return err
	}
	now, err := r.View.Server.ReadCatalogue(ctx, true, r.DatabaseNames())
	if err != nil {
		return err
	}
	if freezer, is := r.View.Server.(dbms.Freezes); is {
		for _, d := range note.Frozen {
			if err := r.View.Server.Exec(ctx, freezer.ReadOnly(d, false)...); err != nil {
				return err
			}
		}
	}
	lowered := !slices.ContainsFunc(note.Lowered, func(l work.LoweredTo) bool {
		held, _ := r.View.Server.HeldOn(l.Database, now.Grants(l.Account))
		return slices.Contains(held, "EVENT")
	})
	eventsErr := switchEvents(r, ctx, note.ThatAreSwitched(), true, lowered) // which is no reason to keep the rights
	for _, l := range note.Lowered {
		if _, exists := now.Accounts[l.Account]; !exists {
			continue
		}
		statements, _ := r.View.Server.ChangeRights(l.Account, l.Database, now.Grants(l.Account), l.Had)
		if err := r.View.Server.Exec(ctx, statements...); err != nil {
			return errors.Join(eventsErr, err)
		}
	}
	return eventsErr
}

// FinishMove takes back a move that was cut off before the estate file named the new server;
// after that provision finishes it. A command that changes nothing says so.
func FinishMove(r *work.Run, ctx context.Context) error {
	var note work.MoveRecord
	found, err := r.State.Note(work.Movements, r.NoteName(), &note)
	if err != nil || !found || note.Done {
		return err
	}
	facts := fmt.Sprintf("a move from %s to %s was cut off", note.From, note.To)
	switch {
	case r.Options.DryRun:
		r.Tell(work.Row{Step: work.StepState, Outcome: work.Differs, Severity: estate.MustFix, Facts: facts, Remedy: "yellowfield provision " + r.App.Name})
		return nil
	case r.App.Server == note.To:
		r.MovedFrom = note.From
		return nil
	case r.App.Server != note.From || !r.View.AsAdmin():
		return nil
	}
	if err := thaw(r, ctx); err != nil {
		return err
	}
	r.Tell(work.Row{Step: work.StepRights, Outcome: work.Fixed, Facts: facts + ": its accounts have their rights on " + note.From + " again"})
	if err := takeBackArrived(r, ctx, note); err != nil { // which is no reason to leave the app alone
		f := fault.As(err)
		r.StillCut = true
		r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Differs, Severity: estate.ShouldLook, Facts: "what had arrived on " + note.To + " could not be taken back: " + f.What, Remedy: f.Next})
		return r.Look(ctx)
	}
	if err := r.State.DropNote(work.Movements, r.NoteName()); err != nil {
		return err
	}
	r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Fixed, Facts: "what had arrived on " + note.To + " is gone"})
	return r.Look(ctx)
}

// takeBackArrived removes what a move has made on the new server.
func takeBackArrived(r *work.Run, ctx context.Context, note work.MoveRecord) error {
	_, later, err := estateOn(r, note.To)
	if err != nil {
		return err
	}
	engine := *r.Engine
	engine.Estate, engine.Listener = later, work.Listener{}
	app, cut := later.Apps[r.App.Name], r.Interrupted.On(note.To)
	if app == nil {
		return nil
	}
	n := work.NewRun(&engine, app, work.Options{Command: r.Options.Command, Move: &work.Moving{To: note.To}})
	n.Interrupted, n.Begun, n.From = cut, true, &work.Origin{Old: r, Note: note}
	defer n.Folder.Close()
	n.App.Installer, n.App.Import = estate.Installer{}, nil
	release, err := arriveAlone(n, ctx)
	if err != nil {
		return err
	}
	defer release()
	if cut != nil {
		if err := planning.UndoUnfinished(n, ctx); err != nil {
			return err
		}
		if n.Result.Exit != 0 {
			return fault.New(fault.Failed, "look at "+note.To, "what had arrived on %s could not all be taken back", note.To)
		}
		if err := n.Look(ctx); err != nil {
			return err
		}
	}
	// The journal of that run may be gone, or have lost its end.
	return isNew(n, "the journal of the move that brought it is not whole: see that nobody needs it, and drop it there")
}

func RetireOld(r *work.Run, ctx context.Context) error {
	r.Plan = r.EmptyPlan()
	if freezer, is := r.View.Server.(dbms.Freezes); is {
		for _, d := range r.App.All() {
			if statements := freezer.ReadOnly(d.Name, false); r.Exists(d.Name) && statements != nil {
				r.Plan.Prove(work.StepDatabase, "end of the freeze of "+d.Name, func(ctx context.Context) error { return r.View.Server.Exec(ctx, statements...) })
			}
		}
	}
	for _, d := range r.App.All() {
		if r.Exists(d.Name) {
			planDropping(r, d)
		}
	}
	planAccountsEnd(r)
	r.Plan.Prove(work.StepState, "end of the note of the move", func(context.Context) error {
		return errors.Join(r.State.DropNote(work.Databases, r.DatabaseNote(r.App.Database.Name)), r.State.DropNote(work.Movements, r.NoteName()))
	})
	_, err := r.AskAndExecute(ctx, r.Options.Retire.Confirm, "type the app's name, or add --confirm "+r.App.Name)
	return err
}

// movedCredential is how an account that is moved gets its password: a new one if that is
// asked for, the one that is known, else what the old server keeps of it. It is nil where
// this server could make nothing of that.
func movedCredential(r *work.Run, ctx context.Context, account *estate.Account) (*work.Credential, error) {
	if r.Options.Move.NewPasswords {
		return &work.Credential{Password: secret.Generate(), Source: fmt.Sprintf("new password of %d characters", secret.GeneratedLength), Made: true}, nil
	}
	old := r.From.Old
	c, err := old.CredentialOf(ctx, old.AccountNamed(account.Name))
	switch {
	case err != nil:
		return nil, err
	case c.Knows():
		return &work.Credential{Password: c.Password, Source: c.Source, Made: c.Made}, nil
	case account == r.App.Accounts[0]: // which the rows come with
		return nil, r.Estate.Fault(fault.Invalid, r.Path("accounts"), r.SayPassword(account.Name)+"; or move it with --new-passwords", "the password of %s is not known here", account.Name)
	case old.View.Entry.DBMS != r.View.Entry.DBMS: // what they keep of passwords differs
		return nil, nil
	}
	c = &work.Credential{Source: "password as on " + old.App.Server, Stored: map[dbms.Account]secret.Verifier{}}
	for _, a := range r.AccountsOf(account) {
		v := old.View.Catalogue.Accounts[a].Verifier
		if !v.IsKnown() {
			return nil, nil
		}
		c.Stored[a] = v
	}
	return c, nil
}
