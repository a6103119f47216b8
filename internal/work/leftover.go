package work

import (
	"context"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
)

// Leftover is what a run has left on a server of which nothing here knows any more: its records
// are lost, or were kept on another host.
type Leftover struct {
	On       string
	App      string // empty where the estate file has none that it could be of
	Evidence string
	Remedy   string
	Lock     string // that the run has held; whoever drops it has to hold that
	SQL      []dbms.Statement
}

// Leftovers looks for what runs have left on a server. Whether one of them is still at work is
// for the caller to find out, by the lock.
func (e *Engine) Leftovers(ctx context.Context, c *Connection) ([]Leftover, error) {
	catalogue, err := c.Admin.ReadCatalogue(ctx, true, nil)
	if err != nil {
		return nil, err
	}
	known, err := e.State.Notes(shortLivedAccounts)
	if err != nil {
		return nil, err
	}
	known = slices.Clone(known)
	for _, name := range known {
		var note shortLivedAccount
		if found, err := e.State.Note(shortLivedAccounts, name, &note); err == nil && found {
			known = append(known, note.Scratch)
		}
	}
	var all []Leftover
	for _, name := range estate.Names(catalogue.Databases) {
		if dbms.IsForAWhile(name) && !catalogue.Databases[name].HalfDropped && !slices.Contains(known, name) {
			one := e.leftover(name, name)
			one.SQL = c.Admin.DropDatabase(name)
			all = append(all, one)
		}
	}
	byName := func(a, b dbms.Account) int { return strings.Compare(a.String(), b.String()) }
	for _, a := range slices.SortedFunc(maps.Keys(catalogue.Accounts), byName) {
		if !dbms.IsForAWhile(a.User) || slices.Contains(known, a.User) {
			continue
		}
		one := e.leftover(a.User, a.String())
		app := e.Estate.Apps[one.App]
		if app != nil && a.User == dbms.MarkOfMove(one.Lock) {
			if explained, err := e.explains(app, c.Entry.Name); err != nil {
				return nil, err
			} else if explained {
				continue // provision goes on with it, or takes it back
			}
			e.leftOfMove(c, app, catalogue, &one)
		} else if app != nil {
			for _, d := range app.All() {
				with, err := c.Admin.ReadCatalogue(ctx, true, []string{d.Name})
				if err != nil {
					return nil, err
				}
				if held, _ := c.Admin.HeldOn(d.Name, with.Grants(a)); len(held) > 0 {
					one.SQL = append(one.SQL, c.Admin.Revoke(held, c.Admin.Pattern(d.Name), a)...)
				}
			}
		}
		if one.SQL = append(one.SQL, c.Admin.DropAccount(a)); app == nil {
			one.SQL = nil
		}
		all = append(all, one)
	}
	return all, nil
}

// explains reports whether the records of a move of an app to a server are there: its note, and
// what its journal says of that server.
func (e *Engine) explains(app *estate.App, server string) (bool, error) {
	var move MoveRecord
	found, err := e.State.Note(Movements, app.Name+"@"+e.Estate.Path, &move)
	if err != nil || !found || move.Done || move.To != server {
		return false, err
	}
	cut, err := e.State.CutOff(app.Name, e.Estate.Path)
	return cut.On(server) != nil || app.Server == server, err
}

// leftover is one as far as its name tells.
func (e *Engine) leftover(name, on string) Leftover {
	for _, app := range estate.Names(e.Estate.Apps) {
		if lock := LockOf(e.Estate.Apps[app]); dbms.MadeUnder(name, lock) {
			return Leftover{On: on, App: app, Lock: lock, Evidence: "a run on app " + app + " made it for a while, and nothing here knows of that run any more", Remedy: "drop it"}
		}
	}
	return Leftover{On: on, Evidence: "a run on an app that is not in this estate file made it for a while, and may be at work", Remedy: "drop it when no run is at work on this server, from other hosts either"}
}

// leftOfMove adds what a move has brought to a server, unless the app is there by now.
func (e *Engine) leftOfMove(c *Connection, app *estate.App, catalogue *dbms.Catalogue, one *Leftover) {
	if app.Server == c.Entry.Name {
		one.Evidence, one.Remedy = "app "+app.Name+" was moved here by a run that was cut off at its end, and nothing here knows of that run any more", "yellowfield provision "+app.Name+", then drop it"
		return
	}
	one.Evidence, one.Remedy = "a move of app "+app.Name+" to this server was cut off, and nothing here knows of it any more: what it brought is here, and the app is on "+app.Server, "drop what it brought"
	for _, d := range app.All() {
		if _, exists := catalogue.Databases[d.Name]; exists && !e.has(c.Entry.Name, d.Name, "") {
			one.SQL = append(one.SQL, c.Admin.DropDatabase(d.Name)...)
		}
	}
	for _, account := range app.Accounts {
		for _, a := range c.Entry.DBMS.Accounts(account.Name, account.ClientHosts) {
			if _, exists := catalogue.Accounts[a]; exists && !e.has(c.Entry.Name, "", a.User) {
				one.SQL = append(one.SQL, c.Admin.DropAccount(a))
			}
		}
	}
}

// has reports whether an app of the estate file on a server has a database or an account.
func (e *Engine) has(server, database, user string) bool {
	for _, app := range e.Estate.Apps {
		if app.Server == server && (slices.ContainsFunc(app.All(), func(d *estate.Database) bool { return d.Name == database }) ||
			slices.ContainsFunc(app.Accounts, func(a *estate.Account) bool { return a.Name == user })) {
			return true
		}
	}
	return false
}

// TellLeftovers tells what runs on the app have left on its server. The app's lock is held, so
// that none of them is at work.
func (r *Run) TellLeftovers(ctx context.Context) error {
	if !r.View.AsAdmin() || !slices.ContainsFunc(namesOf(r.View.Catalogue), func(name string) bool { return dbms.MadeUnder(name, r.LockThere()) }) {
		return nil
	}
	all, err := r.Leftovers(ctx, r.View.Connection) // of now: a look for all apps may be older
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.App == r.App.Name {
			r.Tell(Row{Step: "server", Outcome: Differs, Severity: estate.ShouldLook, Facts: one.On + ": " + one.Evidence, Remedy: "yellowfield inspect " + r.App.Server + " --fix drops it"})
		}
	}
	return nil
}

func namesOf(c *dbms.Catalogue) (names []string) {
	for a := range c.Accounts {
		names = append(names, a.User)
	}
	return append(names, estate.Names(c.Databases)...)
}
