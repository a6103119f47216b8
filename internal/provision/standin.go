package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// standIn is a role with the rights of another, as which applications work while that one
// gets its new password: a role keeps one, so that else logins would fail for a moment.
type standIn struct {
	dbms.Account
	password secret.Password
	exists   bool
	held     map[string]dbms.Privileges // by database
}

// standsIn reports whether a settings file has the stand-in's login.
func (p *replacement) standsIn(f *accountFile) bool {
	return p.standIn != nil && f.user == p.standIn.User && f.password.Reveal() == p.standIn.password.Reveal()
}

// findStandIn looks whether a rotation has one, or is to have one.
func (r *run) findStandIn(p *replacement) error {
	traits := r.Estate.Servers[r.app.Server].DBMS.Traits()
	user := standInOf(p.account.Name, traits)
	s := &standIn{Account: dbms.Account{User: user}, held: map[string]dbms.Privileges{}}
	password, begun, err := r.State.Pending(r.rotating(user))
	if err != nil || !begun && !r.options.Rotation.SecondRole {
		return err
	}
	if s.password = password; !begun {
		s.password = secret.Generate()
	}
	_, s.exists = r.view.catalogue.Accounts[s.Account]
	foreign := slices.ContainsFunc(p.files, func(f *accountFile) bool { return f.of != r })
	preset := slices.ContainsFunc(r.view.catalogue.Presets, func(preset dbms.Preset) bool { return preset.User == p.account.Name })
	switch {
	case traits.TwoPasswords:
		return fault.New(fault.Invalid, "leave out --second-role", "on %s both passwords are valid for a while, so that no second role is needed", r.Estate.Servers[r.app.Server].DBMS.Title())
	case len(p.files) == 0:
		return fault.New(fault.Invalid, "leave out --second-role", "%s is in no settings file, so that no second role can stand in for it", p.account.Name)
	case s.exists && !begun:
		return fault.New(fault.Protected, "drop it, if nobody needs it, or leave out --second-role", "server %s has a role %s already", r.app.Server, user)
	case foreign && !begun:
		return fault.New(fault.Invalid, "leave out --second-role", "%s is another app's account, too, so that no second role can stand in for it", p.account.Name)
	case preset && !begun:
		return fault.New(fault.Invalid, "leave out --second-role, or reset it: ALTER ROLE "+p.account.Name+" RESET ALL", "something is set for %s on the server, which would not hold for a second role", p.account.Name)
	}
	for _, f := range p.files {
		if f.user == "" {
			return fault.At(fault.Invalid, fault.Place{File: f.path}, "leave out --second-role, or add the address of the user to the estate file", "the estate file does not say where the user stands, so that no second role can be written there")
		}
	}
	for _, d := range r.app.DatabasesOf(p.account) {
		s.held[d.Name], _ = r.view.server.HeldOn(d.Name, r.view.catalogue.Grants(dbms.Account{User: p.account.Name}))
	}
	p.standIn = s
	return nil
}

// planStandIns makes the second roles and has the settings name them.
func (r *run) planStandIns(replacements []*replacement, files *publication) error {
	waited := true
	for _, p := range replacements {
		if p.standIn == nil || p.hosts[0].hasFresh { // then its own is on the way back
			continue
		}
		waited = false
		r.plan.change(Row{Step: stepAccount}, passwordNoted.Of(p.account.Name, notedPasswords{}, notedPasswords{[]string{p.account.Name, p.standIn.User}}),
			[]secret.Password{p.fresh, p.standIn.password}).silent = true
		r.planStandIn(p)
		r.planFirstLogin(p, p.standIn.User, p.standIn.password)
		for _, f := range p.files {
			if !p.standsIn(f) {
				if err := r.planPassword(f, files, p.standIn.User, p.standIn.password); err != nil {
					return err
				}
			}
		}
	}
	if waited {
		return nil
	}
	r.planProof(replacements, files)
	r.plan.prove(stepAccount, "some time for the old settings", func(ctx context.Context) error { return r.waitOnce(ctx, &waited) })
	return nil
}

func (r *run) planStandIn(p *replacement) {
	own := p.hosts[0]
	after := secondRoleState{Exists: true, Held: p.standIn.held, Options: dbms.AccountOptions{RequireTLS: own.RequiresTLS, MaxConnections: own.MaxConnections}}
	statements := []dbms.Statement{r.view.server.CreateAccount(p.standIn.Account, secret.NoVerifier(p.account.Auth), after.Options)}
	r.plan.change(Row{Step: stepAccount, Outcome: Made, Facts: fmt.Sprintf("%s with the rights of %s, to stand in for it", p.standIn.User, p.account.Name), SQL: texts(append(statements, r.grantsOf(p.standIn)...))},
		secondRole.Of(p.standIn.User, secondRoleState{}, after), &standingIn{of: p})
}

// grantsOf give a stand-in the rights of the account that it stands in for.
func (r *run) grantsOf(s *standIn) (grants []dbms.Statement) {
	for _, database := range estate.Names(s.held) {
		grants = append(grants, r.view.server.Grant(s.held[database], r.view.server.Pattern(database), s.Account)...)
	}
	return grants
}

// secondRoleState is a stand-in as an effect has it.
type secondRoleState struct {
	Exists  bool                       `json:"exists"`
	Held    map[string]dbms.Privileges `json:"held,omitempty"` // by database
	Options dbms.AccountOptions        `json:"options"`
}

// standingIn is what making or ending a stand-in takes beside the effect's data.
type standingIn struct {
	of     *replacement
	waited *bool // before its end
}

// Kinds of change, see init.
var (
	secondRole    = effect.Define[*run, secondRoleState](&kinds, "second-role")
	passwordNoted = effect.Define[*run, notedPasswords](&kinds, "password-noted")
)

func init() {
	secondRole.Means(effect.Spec[*run, secondRoleState]{
		Object: func(c effect.Change[secondRoleState]) string { return "stand-in " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[secondRoleState]) (string, error) {
			of := d.Material.(*standingIn)
			if d.After.Exists {
				return "", r.makeStandIn(ctx, d, of.of)
			}
			if err := r.waitOnce(ctx, of.waited); err != nil {
				return "", err
			}
			return "", r.dropStandIn(ctx, d.Subject, d.Before.Held)
		},
		Undo: func(r *run, ctx context.Context, c effect.Change[secondRoleState]) error {
			if !c.After.Exists { // the settings do not name it any more
				return nil
			}
			now, err := r.view.server.Reread(ctx, r.view.catalogue, r.databaseNames(), []string{c.Subject})
			if err != nil {
				return err
			}
			if _, exists := now.Accounts[dbms.Account{User: c.Subject}]; !exists {
				return nil
			}
			return r.dropStandIn(ctx, c.Subject, c.After.Held)
		},
		Look: func(r *run, _ context.Context, c effect.Change[secondRoleState]) (effect.Standing, error) {
			if _, exists := r.view.catalogue.Accounts[dbms.Account{User: c.Subject}]; exists == c.Before.Exists {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
	})
	passwordNoted.Means(effect.Spec[*run, notedPasswords]{
		Object: func(effect.Change[notedPasswords]) string { return "new passwords in the state folder" },
		Do: func(r *run, _ context.Context, d *effect.Doing[notedPasswords]) (string, error) {
			d.Touched = true
			for i, password := range d.Material.([]secret.Password) {
				if err := r.State.SetPending(r.rotating(d.After.Users[i]), password); err != nil {
					return "", err
				}
			}
			return "", nil
		},
		Undo: func(r *run, _ context.Context, c effect.Change[notedPasswords]) error {
			var errs []error
			for _, user := range slices.Backward(c.After.Users) {
				errs = append(errs, r.State.DropPending(r.rotating(user)))
			}
			return errors.Join(errs...)
		},
	})
}

func (r *run) makeStandIn(ctx context.Context, d *effect.Doing[secondRoleState], p *replacement) error {
	a, options := p.standIn.Account, d.After.Options
	verifier := r.view.server.Verifier(a, p.standIn.password, p.account.Auth)
	set, inPlain := []dbms.Statement{r.view.server.CreateAccount(a, verifier, options)}, r.view.server.CreateAccountInPlain(a, p.standIn.password, options)
	if p.standIn.exists {
		set, inPlain = r.view.server.SetVerifier(a, verifier), r.view.server.SetPasswordInPlain(a, p.standIn.password)
	}
	err := r.send(ctx, &d.Touched, set...)
	if _, err := r.afterPassword(ctx, &d.Touched, a, &credential{password: p.standIn.password}, verifier, err, inPlain); err != nil {
		return err
	}
	return r.send(ctx, &d.Touched, r.grantsOf(p.standIn)...)
}

// dropStandIn ends the second role, its sessions first.
func (r *run) dropStandIn(ctx context.Context, user string, held map[string]dbms.Privileges) error {
	a := dbms.Account{User: user}
	if err := r.view.server.EndSessions(ctx, a); err != nil {
		return err
	}
	for database, rights := range held {
		if err := r.view.server.Exec(ctx, r.view.server.Revoke(rights, r.view.server.Pattern(database), a)...); err != nil {
			return err
		}
	}
	return r.view.server.Exec(ctx, r.view.server.DropAccount(a))
}

func (r *run) planStandInsEnd(p *replacement, waited *bool) {
	if !p.standIn.exists && p.hosts[0].hasFresh {
		return // it has gone already
	}
	r.plan.change(Row{Step: stepAccount, Outcome: Removed, Facts: fmt.Sprintf("%s, %s after the settings have %s again", p.standIn.User, r.options.Rotation.Overlap, p.account.Name),
		SQL: texts([]dbms.Statement{r.view.server.DropAccount(p.standIn.Account)})}, secondRole.Of(p.standIn.User, secondRoleState{Exists: true, Held: p.standIn.held}, secondRoleState{}), &standingIn{p, waited})
}
