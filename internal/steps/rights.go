package steps

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
	"yellowfield/internal/work"
)

// PlanRights compares, for every account, the rights held on the database as sets.
func PlanRights(r *work.Run, _ context.Context) error {
	hasStates := PlanState(r)
	r.Result.Open = hasStates && r.Plan.Open
	for _, account := range r.App.Accounts {
		words := account.Rights.Running
		if r.Plan.Open {
			words = account.Rights.Installing
		}
		accounts := r.AccountsOf(account)
		if !r.View.AsAdmin() { // only the account that is logged in sees its rights
			accounts = nil
			if account == r.App.Accounts[0] {
				accounts = []dbms.Account{dbms.ParseAccount(r.View.Server.CurrentUser())}
			}
		}
		for _, a := range accounts {
			for _, d := range r.App.DatabasesOf(account) {
				if err := planRightsOf(r, account, a, d.Name, words); err != nil {
					return err
				}
			}
		}
	}
	namePresets(r)
	return nil
}

// PlanState reads from the rights, and where these are the same in both states from the
// modes of the settings files, whether the app is open or closed, or takes the state that
// it is to be brought into. hasStates is false for an app that is the same in both.
func PlanState(r *work.Run) (hasStates bool) {
	r.Plan.Open = true
	for _, account := range r.App.Accounts {
		hasStates = hasStates || account.Rights.Split()
		on := r.App.DatabasesOf(account)[0].Name
		running := r.View.Server.Resolve(account.Rights.Running, r.Plan.Contents[on])
		for _, a := range r.AccountsOf(account) {
			held, _ := r.View.Server.HeldOn(on, r.View.Catalogue.Grants(a))
			if account.Rights.Split() && len(held) > 0 && withoutExtra(r, held).Equal(running) {
				r.Plan.Open = false
			}
		}
	}
	if !hasStates && r.App.Ownership != nil && r.App.Ownership.Modes.Split() {
		hasStates = true
		for _, s := range r.App.Settings {
			a, err := r.Attributes(r.App.InFolder(s.File))
			r.Plan.Open = r.Plan.Open && (err != nil || a.Mode != fs.FileMode(r.App.Ownership.Modes.Running))
		}
	}
	if r.Options.Turn != nil {
		r.Plan.WasOpen, r.Plan.Open = r.Plan.Open, !r.Options.Turn.Close
	}
	return hasStates
}

// namePresets names what the application, or somebody, has set for all sessions of
// its databases and accounts: nothing to fix, but it surprises whoever does not
// know of it.
func namePresets(r *work.Run) {
	for _, p := range r.View.Catalogue.Presets {
		ours := slices.Contains(r.DatabaseNames(), p.Database)
		for _, account := range r.App.Accounts {
			ours = ours || p.User == account.Name && p.Database == ""
		}
		if ours {
			r.Plan.Note(work.StepRights, "", p.String()+" for later sessions")
		}
	}
}

// withoutExtra drops DELETE HISTORY, which MariaDB adds to a grant of ALL and
// which the structure level does not name.
func withoutExtra(r *work.Run, held dbms.Privileges) dbms.Privileges {
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

func planRightsOf(r *work.Run, account *estate.Account, a dbms.Account, name string, words []string) error {
	h := heldRights{account: account, a: a, on: name, words: words, grants: r.View.Catalogue.Grants(a), want: r.View.Server.Resolve(words, r.Plan.Contents[name])}
	h.held, h.leaking = r.View.Server.HeldOn(name, h.grants)
	nameGlobalRights(r, h)
	if h.held.Equal(h.want) && len(h.leaking) == 0 {
		r.Plan.Keep(work.StepRights, describeRights(r, h))
		return nil
	}
	if !r.View.AsAdmin() {
		differsForProvider(r, h)
		return nil
	}
	if _, exists := r.View.Catalogue.Accounts[a]; r.Plan.LoginBlocked != "" && !exists {
		return nil // the account itself is not made
	}
	c := r.Plan.Credentials[account]
	atWork := c == nil || !c.Pending // a pending password is in no settings file, so that a run was cut off before that
	isNew := (len(h.held) == 0 || !atWork && len(h.held.Minus(h.want)) == 0) && len(h.leaking) == 0 && !account.Existing
	if !isNew && !r.Options.Fixes(work.FixRights) && r.Options.Turn == nil {
		r.Plan.Differs(work.StepRights, estate.MustFix, "yellowfield provision "+r.App.Name+" --fix rights", h.difference())
		return nil
	}
	return planChangeOfRights(r, h, isNew)
}

// nameGlobalRights names rights on the whole server, once for an account.
func nameGlobalRights(r *work.Run, h heldRights) {
	if !r.View.AsAdmin() || h.on != r.App.Database.Name {
		return
	}
	for _, g := range h.grants.Global {
		r.Plan.Differs(work.StepRights, estate.MustFix, r.View.Server.RevokeGlobal(g, h.a).String()+", if it is not meant",
			fmt.Sprintf("%s has %s on the whole server", h.a, g))
	}
}

// describeRights says what an account has, once it is as it should be.
func describeRights(r *work.Run, h heldRights) string {
	who, alone := h.a.User, " alone"
	if len(h.account.ClientHosts) > 1 {
		who = h.a.String()
	}
	if len(r.App.All()) > 1 {
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
func differsForProvider(r *work.Run, h heldRights) {
	severity := estate.ShouldLook
	if held, _ := effective(r, h.on, h.grants); h.want.Minus(held) == nil {
		severity = estate.GoodToKnow // it works
	}
	r.Plan.Differs(work.StepRights, severity, "ask whoever made the account", h.difference()).MayAccept(estate.FindingProviderRights, h.a.String())
}

// planChangeOfRights gives what is missing and takes what is too much.
func planChangeOfRights(r *work.Run, h heldRights, isNew bool) error {
	statements, lowers := r.View.Server.ChangeRights(h.a, h.on, h.grants, h.want)
	if lowers {
		if lacks := r.View.Server.LacksForEndingSessions(r.View.Catalogue.GrantsOf(r.View.Server.CurrentUser())); len(lacks) > 0 {
			return fault.New(fault.Invalid, "grant it, or log in as an administrator who has it",
				"server %s: the administrator %s lacks %s, without which open sessions of %s would keep the rights that are taken away",
				r.App.Server, r.View.Server.CurrentUser(), strings.Join(lacks, " and "), h.a)
		}
	}
	outcome, facts := work.Fixed, describeRights(r, h)
	switch {
	case isNew:
		outcome = work.Made
	case r.Options.Turn != nil:
		outcome, facts = work.Changed, facts+"; before: "+wordsFor(r, h)
	}
	before := RightsState{Account: h.a, Database: h.on, Held: h.held}
	for _, pattern := range h.leaking {
		if before.Leaking == nil {
			before.Leaking = map[string]dbms.Privileges{}
		}
		before.Leaking[pattern] = h.grants.Databases[pattern]
	}
	PlanRightsChange(r, work.Row{Step: work.StepRights, Outcome: outcome, Facts: facts}, before, h.want, statements, lowers)
	return nil
}

// PlanRightsChange has an account's rights on a database changed by statements.
func PlanRightsChange(r *work.Run, row work.Row, before RightsState, want dbms.Privileges, statements []dbms.Statement, lowers bool) {
	row.SQL = work.Texts(statements)
	after := RightsState{Account: before.Account, Database: before.Database, Held: want}
	r.Plan.Change(row, RightsSet.Of(before.Account.String()+" on "+before.Database, before, after), &rightsChange{statements, lowers})
}

// RightsState are an account's rights on a database as an effect has them.
type RightsState struct {
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

// RightsSet is one kind of change, see init.
var RightsSet = effect.Define[*work.Run, RightsState](&work.Kinds, "rights")

func init() {
	RightsSet.Means(effect.Spec[*work.Run, RightsState]{
		Object: func(c effect.Change[RightsState]) string { return "rights of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[RightsState]) (string, error) {
			change := d.Material.(*rightsChange)
			if err := r.Send(ctx, &d.Touched, change.statements...); err != nil || !change.lowers {
				return "", err
			}
			// Open sessions keep database rights until their next USE.
			return "", r.View.Server.EndSessions(ctx, d.After.Account)
		},
		Undo: restoreRights,
		Look: lookAtRights,
	})
}

// lookAtRights tells how an account's rights stand. Those of an account that the estate file
// does not have any more are not looked at.
func lookAtRights(r *work.Run, _ context.Context, c effect.Change[RightsState]) (effect.Standing, error) {
	a, d := c.After.Account, c.After.Database
	if !slices.ContainsFunc(r.App.Accounts, func(account *estate.Account) bool {
		return slices.Contains(r.AccountsOf(account), a) && slices.ContainsFunc(r.App.DatabasesOf(account), func(one *estate.Database) bool { return one.Name == d })
	}) {
		return effect.ChangedElse, fault.New(fault.Protected, "change them by hand", "the estate file has no account and database any more for: rights of %s", c.Subject)
	}
	held, leaking := r.View.Server.HeldOn(d, r.View.Catalogue.Grants(a))
	switch _, exists := r.View.Catalogue.Accounts[a]; {
	case !exists || held.Equal(c.Before.Held) && len(leaking) == len(c.Before.Leaking):
		return effect.NotDone, nil
	case held.Equal(c.After.Held):
		return effect.Done, nil
	}
	return effect.ChangedElse, work.ErrChangedSince("rights of "+c.Subject, held.String(), c.After.Held.String())
}

// wordsFor says what an account holds in the words of the estate file, if it has some for
// that.
func wordsFor(r *work.Run, h heldRights) string {
	for _, words := range [][]string{h.account.Rights.Installing, h.account.Rights.Running} {
		if r.View.Server.Resolve(words, r.Plan.Contents[h.on]).Equal(withoutExtra(r, h.held)) {
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
func effective(r *work.Run, database string, grants dbms.Grants) (dbms.Privileges, []string) {
	held, leaking := r.View.Server.HeldOn(database, grants)
	for _, pattern := range leaking {
		held = held.Plus(grants.Databases[pattern])
	}
	return held, leaking
}

// restoreRights gives an account exactly what it had.
func restoreRights(r *work.Run, ctx context.Context, c effect.Change[RightsState]) error {
	a, d := c.After.Account, c.After.Database
	now, err := r.Now(ctx)
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
			if err := r.View.Server.Exec(ctx, r.View.Server.Grant(lost, pattern, a)...); err != nil {
				return err
			}
		}
		delete(grants.Databases, pattern) // it is as it should be
	}
	statements, lowers := r.View.Server.ChangeRights(a, d, grants, c.Before.Held)
	err = r.View.Server.Exec(ctx, statements...)
	if dbms.CauseOf(err) == dbms.NoSuchGrant { // a grant that was given up here may be through by now
		err = nil
	}
	if err != nil || !lowers {
		return err
	}
	return r.View.Server.EndSessions(ctx, a)
}
