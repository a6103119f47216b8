package provision

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
)

// planRights compares, for every account, the rights held on the database as
// sets, and reads from them whether the app is open or closed.
func (r *run) planRights(context.Context) error {
	split := false
	r.plan.open = true
	for _, account := range r.app.Accounts {
		split = split || account.Rights.Split()
		on := r.app.DatabasesOf(account)[0].Name
		running := r.view.server.Resolve(account.Rights.Running, r.plan.contents[on])
		for _, a := range r.accountsOf(account) {
			held, _ := r.view.server.HeldOn(on, r.view.catalogue.Grants(a))
			if account.Rights.Split() && len(held) > 0 && r.withoutExtra(held).Equal(running) {
				r.plan.open = false
			}
		}
	}
	r.result.Open = split && r.plan.open
	for _, account := range r.app.Accounts {
		words := account.Rights.Running
		if r.plan.open {
			words = account.Rights.Installing
		}
		accounts := r.accountsOf(account)
		if !r.view.asAdmin() { // only the account that is logged in sees its rights
			accounts = nil
			if account == r.app.Accounts[0] {
				accounts = []dbms.Account{dbms.ParseAccount(r.view.server.CurrentUser())}
			}
		}
		for _, a := range accounts {
			for _, d := range r.app.DatabasesOf(account) {
				if err := r.planRightsOf(account, a, d.Name, words); err != nil {
					return err
				}
			}
		}
	}
	r.namePresets()
	return nil
}

// namePresets names what the application, or somebody, has set for all sessions of
// its databases and accounts: nothing to fix, but it surprises whoever does not
// know of it.
func (r *run) namePresets() {
	for _, p := range r.view.catalogue.Presets {
		ours := slices.Contains(r.databaseNames(), p.Database)
		for _, account := range r.app.Accounts {
			ours = ours || p.User == account.Name && p.Database == ""
		}
		if ours {
			r.plan.note(stepRights, "", p.String()+" for later sessions")
		}
	}
}

// withoutExtra drops DELETE HISTORY, which MariaDB adds to a grant of ALL and
// which the structure level does not name.
func (r *run) withoutExtra(held dbms.Privileges) dbms.Privileges {
	return held.Minus(dbms.Privileges{"DELETE HISTORY", "DELETE VERSIONING ROWS"})
}

func (r *run) planRightsOf(account *estate.Account, a dbms.Account, name string, words []string) error {
	grants := r.view.catalogue.Grants(a)
	held, leaking := r.view.server.HeldOn(name, grants)
	want := r.view.server.Resolve(words, r.plan.contents[name])
	_, exists := r.view.catalogue.Accounts[a]
	for _, g := range grants.Global {
		if r.view.asAdmin() && name == r.app.Database.Name {
			r.plan.differs(stepRights, estate.MustFix, r.view.server.RevokeGlobal(g, a).String()+", if it is not meant",
				fmt.Sprintf("%s has %s on the whole server", a, g))
		}
	}
	who := a.User
	if len(account.ClientHosts) > 1 {
		who = a.String()
	}
	alone := " alone"
	if len(r.app.All()) > 1 {
		alone = ""
	}
	describe := func() string {
		return fmt.Sprintf("%s: %s (%s) on %s%s", who, strings.Join(words, ", "), figures.Counted(len(want), "right", "rights"), name, alone)
	}
	if held.Equal(want) && len(leaking) == 0 {
		r.plan.keep(stepRights, describe())
		return nil
	}
	remedy := "yellowfield provision " + r.app.Name + " --fix rights"
	var facts string
	switch tooMuch, tooLittle := held.Minus(want), want.Minus(held); {
	case len(leaking) > 0:
		facts = fmt.Sprintf("%s has a grant on `%s`, which holds for other databases too: _ and %% are wildcards there", a, leaking[0])
	case len(tooMuch) > 0 && len(tooLittle) > 0:
		facts = fmt.Sprintf("%s lacks %s on %s and has %s", a, tooLittle, name, tooMuch)
	case len(tooMuch) > 0:
		facts = fmt.Sprintf("%s has more on %s than it should: %s", a, name, tooMuch)
	default:
		facts = fmt.Sprintf("%s lacks %s on %s", a, tooLittle, name)
	}
	if !r.view.asAdmin() {
		severity := estate.ShouldLook
		if held, _ := r.effective(name, grants); want.Minus(held) == nil {
			severity = estate.GoodToKnow // it works, and only the provider can change it
		}
		r.plan.differs(stepRights, severity, "ask whoever made the account", facts)
		return nil
	}
	if r.plan.stuck != "" && !exists {
		return nil // the account itself is not made
	}
	untouched := len(held) == 0 && len(leaking) == 0 && !account.Existing
	if !untouched && !r.options.fixes(fixRights) {
		r.plan.differs(stepRights, estate.MustFix, remedy, facts)
		return nil
	}
	outcome := Fixed
	if untouched {
		outcome = Made
	}
	statements, lowers := r.view.server.ChangeRights(a, name, grants, want)
	if lowers {
		if lacks := r.view.server.LacksForEndingSessions(r.view.catalogue.GrantsOf(r.view.server.CurrentUser())); len(lacks) > 0 {
			return fault.New(fault.Invalid, "grant it, or log in as an administrator who has it",
				"server %s: the administrator %s lacks %s, without which open sessions of %s would keep the rights that are taken away",
				r.app.Server, r.view.server.CurrentUser(), strings.Join(lacks, " and "), a)
		}
	}
	s := r.plan.change(Row{Step: stepRights, Outcome: outcome, Facts: describe(), SQL: texts(statements)}, "rights of "+a.String())
	s.Undo = func(ctx context.Context) error { return r.restoreRights(ctx, a, name, held, want, grants, leaking) }
	s.Act = func(ctx context.Context) (string, error) {
		if err := r.send(ctx, s, statements...); err != nil || !lowers {
			return "", err
		}
		// Open sessions keep database rights until their next USE.
		return "", r.view.server.EndSessions(ctx, a)
	}
	return nil
}

// effective gives the rights that an account has on a database by whatever
// pattern matches it.
func (r *run) effective(database string, grants dbms.Grants) (dbms.Privileges, []string) {
	held, leaking := r.view.server.HeldOn(database, grants)
	for _, pattern := range leaking {
		held = held.Plus(grants.Databases[pattern])
	}
	return held, leaking
}

// restoreRights gives an account exactly what it had.
func (r *run) restoreRights(ctx context.Context, a dbms.Account, database string, had, has dbms.Privileges, grants dbms.Grants, leaking []string) error {
	pattern := r.view.server.Pattern(database)
	for _, other := range leaking {
		if err := r.view.server.Exec(ctx, r.view.server.Grant(grants.Databases[other], other, a)...); err != nil {
			return err
		}
	}
	if lost := had.Minus(has); len(lost) > 0 {
		if err := r.view.server.Exec(ctx, r.view.server.Grant(lost, pattern, a)...); err != nil {
			return err
		}
	}
	if won := has.Minus(had); len(won) > 0 {
		err := r.view.server.Exec(ctx, r.view.server.Revoke(won, pattern, a)...)
		if dbms.CauseOf(err) != dbms.NoSuchGrant { // else the grant was interrupted before it reached the server
			return err
		}
	}
	return nil
}

func texts(statements []dbms.Statement) []string {
	shown := make([]string, len(statements))
	for i, s := range statements {
		shown[i] = s.String()
	}
	return shown
}
