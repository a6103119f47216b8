package provision

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
)

// planRights compares, for every account, the rights held on the database as sets.
func (r *run) planRights(context.Context) error {
	hasStates := r.planState()
	r.result.Open = hasStates && r.plan.open
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

// planState reads from the rights, and where these are the same in both states from the
// modes of the settings files, whether the app is open or closed, or takes the state that
// it is to be brought into. hasStates is false for an app that is the same in both.
func (r *run) planState() (hasStates bool) {
	r.plan.open = true
	for _, account := range r.app.Accounts {
		hasStates = hasStates || account.Rights.Split()
		on := r.app.DatabasesOf(account)[0].Name
		running := r.view.server.Resolve(account.Rights.Running, r.plan.contents[on])
		for _, a := range r.accountsOf(account) {
			held, _ := r.view.server.HeldOn(on, r.view.catalogue.Grants(a))
			if account.Rights.Split() && len(held) > 0 && r.withoutExtra(held).Equal(running) {
				r.plan.open = false
			}
		}
	}
	if !hasStates && r.app.Ownership != nil && r.app.Ownership.Modes.Split() {
		hasStates = true
		for _, s := range r.app.Settings {
			a, err := r.attributes(r.app.InFolder(s.File))
			r.plan.open = r.plan.open && (err != nil || a.Mode != fs.FileMode(r.app.Ownership.Modes.Running))
		}
	}
	if r.options.Turn != nil {
		r.plan.wasOpen, r.plan.open = r.plan.open, !r.options.Turn.Close
	}
	return hasStates
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

// heldRights is what an account holds on a database beside what it should.
type heldRights struct {
	account *estate.Account
	a       dbms.Account
	on      string // the database
	words   []string
	grants  dbms.Grants
	held    dbms.Privileges
	leaking []string // other grants that hold for the database, too
	want    dbms.Privileges
}

func (r *run) planRightsOf(account *estate.Account, a dbms.Account, name string, words []string) error {
	h := heldRights{account: account, a: a, on: name, words: words, grants: r.view.catalogue.Grants(a), want: r.view.server.Resolve(words, r.plan.contents[name])}
	h.held, h.leaking = r.view.server.HeldOn(name, h.grants)
	r.nameGlobalRights(h)
	if h.held.Equal(h.want) && len(h.leaking) == 0 {
		r.plan.keep(stepRights, r.describeRights(h))
		return nil
	}
	if !r.view.asAdmin() {
		r.differsForProvider(h)
		return nil
	}
	if _, exists := r.view.catalogue.Accounts[a]; r.plan.stuck != "" && !exists {
		return nil // the account itself is not made
	}
	c := r.plan.credentials[account]
	atWork := c == nil || !c.pending // a pending password is in no settings file, so that a run was cut off before that
	isNew := (len(h.held) == 0 || !atWork && len(h.held.Minus(h.want)) == 0) && len(h.leaking) == 0 && !account.Existing
	if !isNew && !r.options.fixes(fixRights) && r.options.Turn == nil {
		r.plan.differs(stepRights, estate.MustFix, "yellowfield provision "+r.app.Name+" --fix rights", h.difference())
		return nil
	}
	return r.planChangeOfRights(h, isNew)
}

// nameGlobalRights names rights on the whole server, once for an account.
func (r *run) nameGlobalRights(h heldRights) {
	if !r.view.asAdmin() || h.on != r.app.Database.Name {
		return
	}
	for _, g := range h.grants.Global {
		r.plan.differs(stepRights, estate.MustFix, r.view.server.RevokeGlobal(g, h.a).String()+", if it is not meant",
			fmt.Sprintf("%s has %s on the whole server", h.a, g))
	}
}

// describeRights says what an account has, once it is as it should be.
func (r *run) describeRights(h heldRights) string {
	who, alone := h.a.User, " alone"
	if len(h.account.ClientHosts) > 1 {
		who = h.a.String()
	}
	if len(r.app.All()) > 1 {
		alone = ""
	}
	return fmt.Sprintf("%s: %s (%s) on %s%s", who, strings.Join(h.words, ", "), figures.Counted(len(h.want), "right", "rights"), h.on, alone)
}

// difference says what is wrong with the rights.
func (h heldRights) difference() string {
	switch tooMuch, tooLittle := h.held.Minus(h.want), h.want.Minus(h.held); {
	case len(h.leaking) > 0:
		return fmt.Sprintf("%s has a grant on `%s`, which holds for other databases too: _ and %% are wildcards there", h.a, h.leaking[0])
	case len(tooMuch) > 0 && len(tooLittle) > 0:
		return fmt.Sprintf("%s lacks %s on %s and has %s", h.a, tooLittle, h.on, tooMuch)
	case len(tooMuch) > 0:
		return fmt.Sprintf("%s has more on %s than it should: %s", h.a, h.on, tooMuch)
	default:
		return fmt.Sprintf("%s lacks %s on %s", h.a, tooLittle, h.on)
	}
}

// differsForProvider tells what only the account's provider can change.
func (r *run) differsForProvider(h heldRights) {
	severity := estate.ShouldLook
	if held, _ := r.effective(h.on, h.grants); h.want.Minus(held) == nil {
		severity = estate.GoodToKnow // it works
	}
	r.plan.differs(stepRights, severity, "ask whoever made the account", h.difference()).mayAccept(estate.FindingProviderRights, h.a.String())
}

// planChangeOfRights gives what is missing and takes what is too much.
func (r *run) planChangeOfRights(h heldRights, isNew bool) error {
	statements, lowers := r.view.server.ChangeRights(h.a, h.on, h.grants, h.want)
	if lowers {
		if lacks := r.view.server.LacksForEndingSessions(r.view.catalogue.GrantsOf(r.view.server.CurrentUser())); len(lacks) > 0 {
			return fault.New(fault.Invalid, "grant it, or log in as an administrator who has it",
				"server %s: the administrator %s lacks %s, without which open sessions of %s would keep the rights that are taken away",
				r.app.Server, r.view.server.CurrentUser(), strings.Join(lacks, " and "), h.a)
		}
	}
	outcome, facts := Fixed, r.describeRights(h)
	switch {
	case isNew:
		outcome = Made
	case r.options.Turn != nil:
		outcome, facts = Changed, facts+"; before: "+r.wordsFor(h)
	}
	before := rightsState{Account: h.a, Database: h.on, Held: h.held}
	for _, pattern := range h.leaking {
		if before.Leaking == nil {
			before.Leaking = map[string]dbms.Privileges{}
		}
		before.Leaking[pattern] = h.grants.Databases[pattern]
	}
	r.planRightsChange(Row{Step: stepRights, Outcome: outcome, Facts: facts}, before, h.want, statements, lowers)
	return nil
}

// planRightsChange has an account's rights on a database changed by statements.
func (r *run) planRightsChange(row Row, before rightsState, want dbms.Privileges, statements []dbms.Statement, lowers bool) {
	row.SQL = texts(statements)
	after := rightsState{Account: before.Account, Database: before.Database, Held: want}
	r.plan.change(row, rightsSet.Of(before.Account.String()+" on "+before.Database, before, after), &rightsChange{statements, lowers})
}

// rightsState are an account's rights on a database as an effect has them.
type rightsState struct {
	Account  dbms.Account    `json:"account"`
	Database string          `json:"database"`
	Held     dbms.Privileges `json:"held"`
	// Leaking are grants by patterns that hold for other databases, too.
	Leaking map[string]dbms.Privileges `json:"leaking,omitempty"`
}

// rightsChange is what changing rights takes beside the effect's data.
type rightsChange struct {
	statements []dbms.Statement
	lowers     bool // open sessions would keep some
}

// rightsSet is one kind of change, see init.
var rightsSet = effect.Define[*run, rightsState](&kinds, "rights")

func init() {
	rightsSet.Means(effect.Spec[*run, rightsState]{
		Object: func(c effect.Change[rightsState]) string { return "rights of " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[rightsState]) (string, error) {
			change := d.Material.(*rightsChange)
			if err := r.send(ctx, &d.Touched, change.statements...); err != nil || !change.lowers {
				return "", err
			}
			// Open sessions keep database rights until their next USE.
			return "", r.view.server.EndSessions(ctx, d.After.Account)
		},
		Undo: (*run).restoreRights,
		Look: (*run).lookAtRights,
	})
}

// lookAtRights tells how an account's rights stand. Those of an account that the estate file
// does not have any more are not looked at.
func (r *run) lookAtRights(_ context.Context, c effect.Change[rightsState]) (effect.Standing, error) {
	a, d := c.After.Account, c.After.Database
	if !slices.ContainsFunc(r.app.Accounts, func(account *estate.Account) bool {
		return slices.Contains(r.accountsOf(account), a) && slices.ContainsFunc(r.app.DatabasesOf(account), func(one *estate.Database) bool { return one.Name == d })
	}) {
		return effect.ChangedElse, fault.New(fault.Protected, "change them by hand", "the estate file has no account and database any more for: rights of %s", c.Subject)
	}
	held, leaking := r.view.server.HeldOn(d, r.view.catalogue.Grants(a))
	switch _, exists := r.view.catalogue.Accounts[a]; {
	case !exists || held.Equal(c.Before.Held) && len(leaking) == len(c.Before.Leaking):
		return effect.NotDone, nil
	case held.Equal(c.After.Held):
		return effect.Done, nil
	}
	return effect.ChangedElse, wasChanged("rights of "+c.Subject, held.String(), c.After.Held.String())
}

// wordsFor says what an account holds in the words of the estate file, if it has some for
// that.
func (r *run) wordsFor(h heldRights) string {
	for _, words := range [][]string{h.account.Rights.Installing, h.account.Rights.Running} {
		if r.view.server.Resolve(words, r.plan.contents[h.on]).Equal(r.withoutExtra(h.held)) {
			return fmt.Sprintf("%s (%s)", strings.Join(words, ", "), figures.Counted(len(h.held), "right", "rights"))
		}
	}
	if len(h.held) == 0 {
		return "nothing"
	}
	return h.held.String()
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
func (r *run) restoreRights(ctx context.Context, c effect.Change[rightsState]) error {
	a, d := c.After.Account, c.After.Database
	now, err := r.now(ctx)
	if err != nil {
		return err
	}
	_, there := now.Accounts[a]
	_, exists := now.Databases[d]
	if !there || !exists {
		return nil
	}
	grants := now.Grants(a)
	grants.Databases = maps.Clone(grants.Databases)
	for pattern, had := range c.Before.Leaking {
		if lost := had.Minus(grants.Databases[pattern]); len(lost) > 0 {
			if err := r.view.server.Exec(ctx, r.view.server.Grant(lost, pattern, a)...); err != nil {
				return err
			}
		}
		delete(grants.Databases, pattern) // it is as it should be
	}
	statements, lowers := r.view.server.ChangeRights(a, d, grants, c.Before.Held)
	err = r.view.server.Exec(ctx, statements...)
	if dbms.CauseOf(err) == dbms.NoSuchGrant { // a grant that was given up here may be through by now
		err = nil
	}
	if err != nil || !lowers {
		return err
	}
	return r.view.server.EndSessions(ctx, a)
}
