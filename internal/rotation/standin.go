package rotation

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
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// TemporaryRole is a role with the rights of another, as which applications work while that one
// gets its new password: a role keeps one, so that else logins would fail for a moment.
type TemporaryRole struct {
	dbms.Account
	Password secret.Password
	exists   bool
	Held     map[string]dbms.Privileges // by database
}

// standsIn reports whether a settings file has the stand-in's login.
func (p *Replacement) standsIn(f *accountFile) bool {
	return p.StandIn != nil && f.user == p.StandIn.User && f.password.Reveal() == p.StandIn.Password.Reveal()
}

// findStandIn reports whether a rotation has a stand-in, or needs one.
func findStandIn(r *work.Run, p *Replacement) error {
	traits := r.Estate.Servers[r.App.Server].DBMS.Traits()
	user := work.StandInOf(p.Account.Name, traits)
	s := &TemporaryRole{Account: dbms.Account{User: user}, Held: map[string]dbms.Privileges{}}
	password, begun, err := r.State.Pending(r.Rotating(user))
	if err != nil || !begun && !r.Options.Rotation.SecondRole {
		return err
	}
	if s.Password = password; !begun {
		s.Password = secret.Generate()
	}
	_, s.exists = r.View.Catalogue.Accounts[s.Account]
	foreign := slices.ContainsFunc(p.files, func(f *accountFile) bool { return f.of != r })
	preset := slices.ContainsFunc(r.View.Catalogue.Presets, func(preset dbms.Preset) bool { return preset.User == p.Account.Name })
	switch {
	case traits.TwoPasswords:
		return fault.New(fault.Invalid, "leave out --second-role", "on %s both passwords are valid for a while, so that no second role is needed", r.Estate.Servers[r.App.Server].DBMS.Title())
	case len(p.files) == 0:
		return fault.New(fault.Invalid, "leave out --second-role", "%s is in no settings file, so that no second role can stand in for it", p.Account.Name)
	case s.exists && !begun:
		return fault.New(fault.Protected, "drop it, if nobody needs it, or leave out --second-role", "server %s has a role %s already", r.App.Server, user)
	case foreign && !begun:
		return fault.New(fault.Invalid, "leave out --second-role", "%s is another app's account, too, so that no second role can stand in for it", p.Account.Name)
	case preset && !begun:
		return fault.New(fault.Invalid, "leave out --second-role, or reset it: ALTER ROLE "+p.Account.Name+" RESET ALL", "something is set for %s on the server, which would not hold for a second role", p.Account.Name)
	}
	for _, f := range p.files {
		if f.user == "" {
			return fault.At(fault.Invalid, fault.Place{File: f.path}, "leave out --second-role, or add the address of the user to the estate file", "the estate file does not say where the user stands, so that no second role can be written there")
		}
	}
	for _, d := range r.App.DatabasesOf(p.Account) {
		s.Held[d.Name], _ = r.View.Server.HeldOn(d.Name, r.View.Catalogue.Grants(dbms.Account{User: p.Account.Name}))
	}
	p.StandIn = s
	return nil
}

// planStandIns makes the second roles and has the settings name them.
func planStandIns(r *work.Run, replacements []*Replacement, files *work.Publication) error {
	waited := true
	for _, p := range replacements {
		if p.StandIn == nil || p.hosts[0].hasFresh { // then its own is on the way back
			continue
		}
		waited = false
		r.Plan.Change(work.Row{Step: work.StepAccount}, PasswordNoted.Of(p.Account.Name, NotedPasswords{}, NotedPasswords{[]string{p.Account.Name, p.StandIn.User}}),
			[]secret.Password{p.fresh, p.StandIn.Password}).Silent = true
		planStandIn(r, p)
		planFirstLogin(r, p, p.StandIn.User, p.StandIn.Password)
		for _, f := range p.files {
			if !p.standsIn(f) {
				if err := planPassword(r, f, files, p.StandIn.User, p.StandIn.Password); err != nil {
					return err
				}
			}
		}
	}
	if waited {
		return nil
	}
	planProof(r, replacements, files)
	r.Plan.Prove(work.StepAccount, "some time for the old settings", func(ctx context.Context) error { return waitOnce(r, ctx, &waited) })
	return nil
}

func planStandIn(r *work.Run, p *Replacement) {
	own := p.hosts[0]
	after := SecondRoleState{Exists: true, Held: p.StandIn.Held, Options: dbms.AccountOptions{RequireTLS: own.RequiresTLS, MaxConnections: own.MaxConnections}}
	statements := []dbms.Statement{r.View.Server.CreateAccount(p.StandIn.Account, secret.NoVerifier(p.Account.Auth), after.Options)}
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Made, Facts: fmt.Sprintf("%s with the rights of %s, to stand in for it", p.StandIn.User, p.Account.Name), SQL: work.Texts(append(statements, grantsOf(r, p.StandIn)...))},
		SecondRole.Of(p.StandIn.User, SecondRoleState{}, after), &StandingIn{Of: p})
}

// grantsOf give a stand-in the rights of the account that it stands in for.
func grantsOf(r *work.Run, s *TemporaryRole) (grants []dbms.Statement) {
	for _, database := range estate.Names(s.Held) {
		grants = append(grants, r.View.Server.Grant(s.Held[database], r.View.Server.Pattern(database), s.Account)...)
	}
	return grants
}

// SecondRoleState is a stand-in as an effect has it.
type SecondRoleState struct {
	Exists  bool                       `json:"exists"`
	Held    map[string]dbms.Privileges `json:"held,omitempty"` // by database
	Options dbms.AccountOptions        `json:"options"`
}

// StandingIn is what making or ending a stand-in takes beside the effect's data.
type StandingIn struct {
	Of     *Replacement
	waited *bool // before its end
}

// Kinds of change, see init.
var (
	SecondRole    = effect.Define[*work.Run, SecondRoleState](&work.Kinds, "second-role")
	PasswordNoted = effect.Define[*work.Run, NotedPasswords](&work.Kinds, "password-noted")
)

func init() {
	SecondRole.Means(effect.Spec[*work.Run, SecondRoleState]{
		Object: func(c effect.Change[SecondRoleState]) string { return "stand-in " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[SecondRoleState]) (string, error) {
			of := d.Material.(*StandingIn)
			if d.After.Exists {
				return "", makeStandIn(r, ctx, d, of.Of)
			}
			if err := waitOnce(r, ctx, of.waited); err != nil {
				return "", err
			}
			return "", dropStandIn(r, ctx, d.Subject, d.Before.Held)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[SecondRoleState]) error {
			if !c.After.Exists { // the settings do not name it any more
				return nil
			}
			now, err := r.View.Server.Reread(ctx, r.View.Catalogue, r.DatabaseNames(), []string{c.Subject})
			if err != nil {
				return err
			}
			if _, exists := now.Accounts[dbms.Account{User: c.Subject}]; !exists {
				return nil
			}
			return dropStandIn(r, ctx, c.Subject, c.After.Held)
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[SecondRoleState]) (effect.Standing, error) {
			if _, exists := r.View.Catalogue.Accounts[dbms.Account{User: c.Subject}]; exists == c.Before.Exists {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
	})
	PasswordNoted.Means(effect.Spec[*work.Run, NotedPasswords]{
		Object: func(effect.Change[NotedPasswords]) string { return "new passwords in the state folder" },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[NotedPasswords]) (string, error) {
			d.Touched = true
			for i, password := range d.Material.([]secret.Password) {
				if err := r.State.SetPending(r.Rotating(d.After.Users[i]), password); err != nil {
					return "", err
				}
			}
			return "", nil
		},
		Undo: func(r *work.Run, _ context.Context, c effect.Change[NotedPasswords]) error {
			var errs []error
			for _, user := range slices.Backward(c.After.Users) {
				errs = append(errs, r.State.DropPending(r.Rotating(user)))
			}
			return errors.Join(errs...)
		},
	})
}

func makeStandIn(r *work.Run, ctx context.Context, d *effect.Doing[SecondRoleState], p *Replacement) error {
	a, options := p.StandIn.Account, d.After.Options
	verifier := r.View.Server.Verifier(a, p.StandIn.Password, p.Account.Auth)
	set, inPlain := []dbms.Statement{r.View.Server.CreateAccount(a, verifier, options)}, r.View.Server.CreateAccountInPlain(a, p.StandIn.Password, options)
	if p.StandIn.exists {
		set, inPlain = r.View.Server.SetVerifier(a, verifier), r.View.Server.SetPasswordInPlain(a, p.StandIn.Password)
	}
	err := r.Send(ctx, &d.Touched, set...)
	if _, err := steps.AfterPassword(r, ctx, &d.Touched, a, &work.Credential{Password: p.StandIn.Password}, verifier, err, inPlain); err != nil {
		return err
	}
	return r.Send(ctx, &d.Touched, grantsOf(r, p.StandIn)...)
}

// dropStandIn ends the second role, its sessions first.
func dropStandIn(r *work.Run, ctx context.Context, user string, held map[string]dbms.Privileges) error {
	a := dbms.Account{User: user}
	if err := r.View.Server.EndSessions(ctx, a); err != nil {
		return err
	}
	for database, rights := range held {
		if err := r.View.Server.Exec(ctx, r.View.Server.Revoke(rights, r.View.Server.Pattern(database), a)...); err != nil {
			return err
		}
	}
	return r.View.Server.Exec(ctx, r.View.Server.DropAccount(a))
}

func planStandInsEnd(r *work.Run, p *Replacement, waited *bool) {
	if !p.StandIn.exists && p.hosts[0].hasFresh {
		return // it has gone already
	}
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Removed, Facts: fmt.Sprintf("%s, %s after the settings have %s again", p.StandIn.User, r.Options.Rotation.Overlap, p.Account.Name),
		SQL: work.Texts([]dbms.Statement{r.View.Server.DropAccount(p.StandIn.Account)})}, SecondRole.Of(p.StandIn.User, SecondRoleState{Exists: true, Held: p.StandIn.Held}, SecondRoleState{}), &StandingIn{p, waited})
}
