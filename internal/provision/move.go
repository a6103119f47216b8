package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// moveTo moves the app to another server.
func (r *run) moveTo(ctx context.Context) error {
	to := r.options.Move.To
	if err := r.mayMove(to); err != nil {
		return &stepError{stepState, err}
	}
	change, later, err := r.estateOn(to)
	if err != nil {
		return &stepError{stepState, err}
	}
	// What is made is told for this app, as its work.
	engine := *r.Base
	engine.Estate = later
	engine.Listener = Listener{Trace: r.Listener.Trace, Progress: r.Listener.Progress, Row: func(_ Header, row Row) { r.tell(row) }}
	made := later.Apps[r.app.Name]
	made.Installer, made.Import = estate.Installer{}, nil // all that these make is there
	n := &run{Base: &engine, app: made, options: r.options, cut: r.cut, begun: true, from: &origin{old: r, change: change}}
	n.credentials = func(ctx context.Context, account *estate.Account) (*credential, error) {
		return n.movedCredential(ctx, account)
	}
	n.transfers = func(ctx context.Context) error { return n.planTransfer(ctx) }
	defer func() {
		n.endReaders(ctx)
		n.folder.Close()
		r.result.Stuck = r.result.Stuck || n.result.Stuck
		r.result.Exit = fault.Graver(r.result.Exit, n.result.Exit)
	}()
	if err := n.look(ctx); err != nil {
		return err
	}
	if !n.view.asAdmin() {
		return &stepError{stepAccount, r.Estate.Fault(fault.Invalid, "servers."+to, "give the server an admin", "making databases and accounts takes an administrator")}
	}
	release, holder, err := n.lock(ctx, n.view.admin, "yellowfield:"+made.Database.Name, true)
	if err != nil {
		return err
	}
	if holder != nil {
		return fault.New(fault.Busy, tryLater, "someone else is working on app %s on server %s (%s)", r.app.Name, to, holder.Who)
	}
	defer release()
	n.warnOfStrangers(n.view.connection)
	return n.moveHere(ctx)
}

// estateOn is the estate in which the app is on another server.
func (r *run) estateOn(server string) (change *estate.Change, later *estate.Estate, err error) {
	if change, err = r.Estate.MoveTo(r.app.Name, server); err == nil {
		later, err = r.Estate.With(change)
	}
	return change, later, err
}

// mayMove refuses what cannot be moved.
func (r *run) mayMove(to string) error {
	server := r.Estate.Servers[to]
	var before MoveRecord
	found, err := r.State.Note(movements, r.noteName(), &before)
	switch {
	case err != nil:
		return err
	case server == nil:
		return fault.New(fault.Invalid, fault.DidYouMean(to, estate.Names(r.Estate.Servers), "see servers in the estate file"), "there is no server %q", to)
	case to == r.app.Server:
		return fault.New(fault.Invalid, "name another with --to", "app %s is on server %s", r.app.Name, to)
	case server.DBMS.Traits().Family != r.view.entry.DBMS.Traits().Family:
		return fault.New(fault.Invalid, "name a server of its kind", "app %s is on %s, and server %s is %s", r.app.Name, r.view.entry.DBMS.Title(), to, server.DBMS.Title())
	case !r.view.asAdmin():
		return r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin", "lowering rights takes an administrator")
	case found && !before.Done:
		return fault.New(fault.Protected, "run it again when server "+before.To+" can be reached", "what had arrived of app %s on server %s is not taken back yet", r.app.Name, before.To)
	case found:
		return fault.New(fault.Protected, "yellowfield retire "+r.app.Name+" --old first", "what app %s left on server %s when it was moved is there still", r.app.Name, before.From)
	case r.app.Shared:
		return r.Estate.Fault(fault.Invalid, r.path("shared"), "move its tables by hand", "app %s shares its database or account with another", r.app.Name)
	}
	for _, d := range r.app.All() {
		if !r.exists(d.Name) {
			return r.Estate.Fault(fault.Invalid, r.path(d.Path()), "yellowfield provision "+r.app.Name+" makes it", "the database %s does not exist", d.Name)
		}
	}
	for _, account := range r.app.Accounts {
		if other := r.usedBy(account.Name); other != "" {
			return r.Estate.Fault(fault.Invalid, r.path("accounts"), "give one of them an account of its own", "app %s uses the account %s, too", other, account.Name)
		}
	}
	return nil
}

// moveHere is the work on the server that the app comes to.
func (r *run) moveHere(ctx context.Context) error {
	old := r.from.old
	old.plan = old.emptyPlan()
	old.planState()
	r.plan = r.emptyPlan()
	err := r.isNew()
	if err == nil {
		r.from.note, err = old.movementTo(ctx, r.app.Server)
	}
	if err == nil {
		err = r.makePlan(ctx)
	}
	if err != nil {
		_ = r.tellPlanFaults(err)
		return &toldError{err}
	}
	note := r.from.note
	r.plan.change(Row{Step: stepState}, moveNoted.Of(r.app.Name, MoveRecord{}, note), nil).silent = true
	r.plan.lastFirst() // whoever finds it takes back what follows
	if done, err := r.askAndExecute(ctx, r.options.Move.Confirm, "answer yes, or add --yes"); !done {
		return err
	}
	if err := r.moveIsThrough(ctx); err != nil {
		return err
	}
	r.checkLogins(ctx)
	return nil
}

// Kinds of change, see init.
var (
	moveNoted = effect.Define[*run, MoveRecord](&kinds, "move-note")
	appFrozen = effect.Define[*run, struct{}](&kinds, "freeze")
)

func init() {
	moveNoted.Means(effect.Spec[*run, MoveRecord]{
		Object: func(effect.Change[MoveRecord]) string { return "note of the move" },
		Do: func(r *run, _ context.Context, d *effect.Doing[MoveRecord]) (string, error) {
			return "", r.State.SetNote(movements, r.noteName(), d.After)
		},
		Undo: func(r *run, _ context.Context, _ effect.Change[MoveRecord]) error {
			if r.result.Stuck {
				return fault.New(fault.Failed, "yellowfield provision "+r.app.Name+", as soon as both servers can be reached", "it is kept, so that the next command on the app can take back the rest")
			}
			return r.State.DropNote(movements, r.noteName())
		},
	})
	appFrozen.Means(effect.Spec[*run, struct{}]{
		UndoFirst: true,
		Object:    func(c effect.Change[struct{}]) string { return "freeze of " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			d.Touched = true
			return "", r.from.old.freeze(ctx, r.from.note)
		},
		Undo: func(r *run, ctx context.Context, _ effect.Change[struct{}]) error {
			return r.from.old.thaw(ctx)
		},
	})
}

// moveIsThrough keeps what is to be known of the old place.
func (r *run) moveIsThrough(ctx context.Context) error {
	var note MoveRecord
	found, err := r.State.Note(movements, r.noteName(), &note)
	if err != nil || !found || note.Done || r.app.Server != note.To {
		return err
	}
	if err := r.runEvents(ctx, note); err != nil {
		return err
	}
	note.Done = true
	if err := r.State.SetNote(movements, r.noteName(), note); err != nil {
		return err
	}
	if err := r.noteDatabases(); err != nil {
		return err
	}
	r.tell(Row{Step: stepState, Outcome: Note, Facts: "what it left on " + note.From + " may be read, and not changed", Remedy: "yellowfield retire " + r.app.Name + " --old drops it"})
	return nil
}

// planTransfer freezes the old databases, brings their rows here with nothing on the disk
// between, compares, and has the estate file name this server.
func (r *run) planTransfer(ctx context.Context) error {
	old := r.from.old
	if err := r.checkTransfer(ctx); err != nil {
		return err
	}
	for a, grants := range old.view.catalogue.Granted {
		for _, d := range r.app.All() {
			held, _ := r.view.server.HeldOn(d.Name, dbms.Grants{Databases: grants.Databases})
			if len(held) > 0 && !slices.ContainsFunc(old.rightsToLower(), func(l loweredTo) bool { return l.Account == a }) {
				r.plan.note(stepRights, "see that it does not, while the app is moved; and give it its rights on "+r.app.Server+" by hand", fmt.Sprintf("%s is not the app's, and has rights on %s: %s", a, d.Name, held))
			}
		}
	}
	note := r.from.note
	still := fmt.Sprintf("%s on %s may only read from here on, until the move is through or taken back", accountsIn(note.Lowered), old.app.Server)
	if len(note.Events) > 0 {
		still += "; nor do its events run: " + some(note.events())
	}
	r.plan.change(Row{Step: stepRights, Outcome: Changed, Facts: still}, appFrozen.Of(r.app.Name+" on "+old.app.Server, struct{}{}, struct{}{}), nil)
	for _, d := range r.app.All() {
		one := &importing{run: (*run).transfer, source: &wantedScript{into: d}}
		one.step = r.plan.change(Row{Step: stepSQL, Outcome: Imported, Facts: "what " + d.Name + " holds on " + old.app.Server + ": " + inventory(old.plan.contents[d.Name])},
			sqlImported.Of(d.Name, importState{Database: d.Name}, importState{Database: d.Name, Moved: true}), one)
	}
	if !old.plan.open { // it was closed, and is to be so here
		r.planClosedRights(old)
		r.plan.open = false
	}
	r.planEstate(old.Estate, r.from.change, Row{Step: stepState, Outcome: Changed, Facts: "server: " + r.app.Server})
	return nil
}

func accountsIn(lowered []loweredTo) string {
	var names []string
	for _, l := range lowered {
		if !slices.Contains(names, l.Account.String()) {
			names = append(names, l.Account.String())
		}
	}
	return some(names)
}

// planClosedRights gives the accounts the rights for running, once the tables are there.
func (r *run) planClosedRights(old *run) {
	for _, account := range r.app.Accounts {
		for _, d := range r.app.DatabasesOf(account) {
			contents := old.plan.contents[d.Name]
			has, wants := r.view.server.Resolve(account.Rights.Installing, contents), r.view.server.Resolve(account.Rights.Running, contents)
			for _, a := range r.accountsOf(account) {
				grants := dbms.Grants{Databases: map[string]dbms.Privileges{r.view.server.Pattern(d.Name): has}}
				statements, _ := r.view.server.ChangeRights(a, d.Name, grants, wants)
				if len(statements) == 0 {
					continue
				}
				r.planRightsChange(Row{Step: stepRights, Outcome: Changed, Facts: fmt.Sprintf("%s: for running, as on %s", a, old.app.Server)}, rightsState{Account: a, Database: d.Name, Held: has}, wants, statements, false)
			}
		}
	}
}

// rightsToLower are those of accounts that could change what is moved.
func (r *run) rightsToLower() (all []loweredTo) {
	for _, account := range r.app.Accounts {
		for _, d := range r.app.DatabasesOf(account) {
			for _, a := range r.accountsOf(account) {
				if held, _ := r.view.server.HeldOn(d.Name, r.view.catalogue.Grants(a)); len(held) > 0 {
					all = append(all, loweredTo{a, d.Name, held})
				}
			}
		}
	}
	return all
}

// freeze has the old databases stand still: their accounts may only read, and sessions, which
// would keep more, are ended.
func (r *run) freeze(ctx context.Context, note MoveRecord) error {
	for _, l := range note.Lowered {
		statements, _ := r.view.server.ChangeRights(l.Account, l.Database, r.view.catalogue.Grants(l.Account), r.view.server.Resolve([]string{dbms.LevelRead}, dbms.Contents{}))
		if err := r.view.server.Exec(ctx, statements...); err != nil {
			return err
		}
		if err := r.view.server.EndSessions(ctx, l.Account); err != nil {
			return err
		}
	}
	return r.stopEvents(ctx, note)
}

// stopEvents has the events of the old databases stand still, and where a server has that the
// databases as a whole. What runs now counts: the application may have put an event of its own
// in another's place until its rights were lowered.
func (r *run) stopEvents(ctx context.Context, note MoveRecord) error {
	freezer, is := r.view.server.(dbms.Freezes)
	if !is {
		return nil
	}
	for _, d := range note.Frozen {
		if err := r.view.server.Exec(ctx, freezer.ReadOnly(d, true)...); err != nil {
			return err
		}
	}
	var err error
	if note.Events, err = r.runningEvents(ctx); err != nil {
		return err
	}
	if err := r.State.SetNote(movements, r.noteName(), note); err != nil {
		return err
	}
	return r.switchEvents(ctx, note.thatAreSwitched(), false, true)
}

// runningEvents are the enabled ones of the app's databases.
func (r *run) runningEvents(ctx context.Context) (all []dbms.Event, err error) {
	freezer, is := r.view.server.(dbms.Freezes)
	if !is {
		return nil, nil
	}
	for _, d := range r.app.All() {
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
func (r *run) switchEvents(ctx context.Context, events []dbms.Event, on, safe bool) error {
	freezer, is := r.view.server.(dbms.Freezes)
	if !is || len(events) == 0 {
		return nil
	}
	own := map[dbms.Account]bool{}
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			own[a] = true
		}
	}
	for _, d := range r.app.All() {
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
				err := r.view.server.Exec(ctx, statement)
				if err == nil {
					continue
				}
				if !on || !dbms.IsRefusal(err) {
					return err
				}
				why = err.Error()
			}
			r.tell(Row{Step: stepSQL, Outcome: Differs, Severity: estate.ShouldLook, Facts: fmt.Sprintf("event %s of %s does not run on %s: %s", e.Name, e.Database, r.app.Server, why), Remedy: "look at it, then " + statement.String()})
		}
	}
	return nil
}

// runEvents has those run here that ran where the app was.
func (r *run) runEvents(ctx context.Context, note MoveRecord) error {
	if len(note.Events) == 0 {
		return nil
	}
	if err := r.switchEvents(ctx, note.Events, true, false); err != nil {
		return err
	}
	running, err := r.runningEvents(ctx)
	if err == nil && len(running) > 0 {
		r.tell(Row{Step: stepSQL, Outcome: Changed, Facts: "its events run here now: " + some(MoveRecord{Events: running}.events())})
	}
	return err
}

// movementTo is the note of a move, before it begins.
func (r *run) movementTo(ctx context.Context, to string) (note MoveRecord, err error) {
	note = MoveRecord{App: r.app.Name, From: r.app.Server, To: to, Lowered: r.rightsToLower(), At: time.Now().UTC()}
	if freezer, freezes := r.view.server.(dbms.Freezes); freezes {
		for _, d := range r.app.All() {
			if freezer.ReadOnly(d.Name, true) != nil {
				note.Frozen = append(note.Frozen, d.Name)
			}
		}
	}
	note.Events, err = r.runningEvents(ctx)
	return note, err
}

// thaw gives the old accounts their rights back, by what the note says that they had; events
// before, while those accounts cannot change them.
func (r *run) thaw(ctx context.Context) error {
	var note MoveRecord
	if found, err := r.State.Note(movements, r.noteName(), &note); err != nil || !found {
		return err
	}
	now, err := r.view.server.ReadCatalogue(ctx, true, r.databaseNames())
	if err != nil {
		return err
	}
	if freezer, is := r.view.server.(dbms.Freezes); is {
		for _, d := range note.Frozen {
			if err := r.view.server.Exec(ctx, freezer.ReadOnly(d, false)...); err != nil {
				return err
			}
		}
	}
	lowered := !slices.ContainsFunc(note.Lowered, func(l loweredTo) bool {
		held, _ := r.view.server.HeldOn(l.Database, now.Grants(l.Account))
		return slices.Contains(held, "EVENT")
	})
	eventsErr := r.switchEvents(ctx, note.thatAreSwitched(), true, lowered) // which is no reason to keep the rights
	for _, l := range note.Lowered {
		if _, exists := now.Accounts[l.Account]; !exists {
			continue
		}
		statements, _ := r.view.server.ChangeRights(l.Account, l.Database, now.Grants(l.Account), l.Had)
		if err := r.view.server.Exec(ctx, statements...); err != nil {
			return errors.Join(eventsErr, err)
		}
	}
	return eventsErr
}

// finishMove takes back a move that was cut off before the estate file named the new server;
// behind that provision finishes it. A command that changes nothing says so.
func (r *run) finishMove(ctx context.Context) error {
	var note MoveRecord
	found, err := r.State.Note(movements, r.noteName(), &note)
	if err != nil || !found || note.Done {
		return err
	}
	facts := fmt.Sprintf("a move from %s to %s was cut off", note.From, note.To)
	switch {
	case r.options.DryRun:
		r.tell(Row{Step: stepState, Outcome: Differs, Severity: estate.MustFix, Facts: facts, Remedy: "yellowfield provision " + r.app.Name})
		return nil
	case r.app.Server == note.To:
		r.movedFrom = note.From
		return nil
	case r.app.Server != note.From || !r.view.asAdmin():
		return nil
	}
	if err := r.thaw(ctx); err != nil {
		return err
	}
	r.tell(Row{Step: stepRights, Outcome: Fixed, Facts: facts + ": its accounts have their rights on " + note.From + " again"})
	if err := r.takeBackArrived(ctx, note); err != nil { // which is no reason to leave the app alone
		f := fault.As(err)
		r.stillCut = true
		r.tell(Row{Step: stepDatabase, Outcome: Differs, Severity: estate.ShouldLook, Facts: "what had arrived on " + note.To + " could not be taken back: " + f.What, Remedy: f.Next})
		return r.look(ctx)
	}
	if err := r.State.DropNote(movements, r.noteName()); err != nil {
		return err
	}
	r.tell(Row{Step: stepDatabase, Outcome: Fixed, Facts: "what had arrived on " + note.To + " is gone"})
	return r.look(ctx)
}

// takeBackArrived removes what a move has made on the new server.
func (r *run) takeBackArrived(ctx context.Context, note MoveRecord) error {
	_, later, err := r.estateOn(note.To)
	if err != nil {
		return err
	}
	engine := *r.Base
	engine.Estate, engine.Listener = later, Listener{}
	n := &run{Base: &engine, app: later.Apps[r.app.Name], options: Options{Command: r.options.Command, Move: &Moving{To: note.To}}, cut: r.cut.On(note.To), begun: true, from: &origin{old: r, note: note}}
	defer n.folder.Close()
	if n.app == nil || n.cut == nil {
		return nil
	}
	n.app.Installer, n.app.Import = estate.Installer{}, nil
	if err := n.look(ctx); err != nil {
		return err
	}
	if err := n.undoUnfinished(ctx); err != nil {
		return err
	}
	if n.result.Exit != 0 {
		return fault.New(fault.Failed, "look at "+note.To, "what had arrived on %s could not all be taken back", note.To)
	}
	return nil
}

func (r *run) retireOld(ctx context.Context) error {
	r.plan = r.emptyPlan()
	if freezer, is := r.view.server.(dbms.Freezes); is {
		for _, d := range r.app.All() {
			if statements := freezer.ReadOnly(d.Name, false); r.exists(d.Name) && statements != nil {
				r.plan.prove(stepDatabase, "end of the freeze of "+d.Name, func(ctx context.Context) error { return r.view.server.Exec(ctx, statements...) })
			}
		}
	}
	for _, d := range r.app.All() {
		if r.exists(d.Name) {
			r.planDropping(d)
		}
	}
	r.planAccountsEnd()
	r.plan.prove(stepState, "end of the note of the move", func(context.Context) error {
		return errors.Join(r.State.DropNote(databases, r.databaseNote(r.app.Database.Name)), r.State.DropNote(movements, r.noteName()))
	})
	_, err := r.askAndExecute(ctx, r.options.Retire.Confirm, "type the app's name, or add --confirm "+r.app.Name)
	return err
}

// movedCredential is how an account that is moved gets its password: a new one if that is
// asked for, the one that is known, else what the old server keeps of it. It is nil where
// this server could make nothing of that.
func (r *run) movedCredential(ctx context.Context, account *estate.Account) (*credential, error) {
	if r.options.Move.NewPasswords {
		return &credential{password: secret.Generate(), source: fmt.Sprintf("new password of %d characters", secret.GeneratedLength), made: true}, nil
	}
	old := r.from.old
	c, err := old.credentialOf(ctx, old.accountNamed(account.Name))
	switch {
	case err != nil:
		return nil, err
	case c.knows():
		return &credential{password: c.password, source: c.source, made: c.made}, nil
	case account == r.app.Accounts[0]: // which the rows come with
		return nil, r.Estate.Fault(fault.Invalid, r.path("accounts"), r.sayPassword(account.Name)+"; or move it with --new-passwords", "the password of %s is not known here", account.Name)
	case old.view.entry.DBMS != r.view.entry.DBMS: // what they keep of passwords differs
		return nil, nil
	}
	c = &credential{source: "password as on " + old.app.Server, stored: map[dbms.Account]secret.Verifier{}}
	for _, a := range r.accountsOf(account) {
		v := old.view.catalogue.Accounts[a].Verifier
		if !v.IsKnown() {
			return nil, nil
		}
		c.stored[a] = v
	}
	return c, nil
}
