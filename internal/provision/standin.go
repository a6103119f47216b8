package provision

import (
	"context"
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
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

const standInSuffix = "_meanwhile"

// standInOf is the name of an account's stand-in.
func standInOf(account string, traits dbms.Traits) string {
	return account[:min(len(account), traits.LongestUser-len(standInSuffix))] + standInSuffix
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
		r.silently(stepAccount, "new passwords in the state folder", func(context.Context) error {
			if err := r.State.SetPending(r.rotating(p.account.Name), p.fresh); err != nil {
				return err
			}
			return r.State.SetPending(r.rotating(p.standIn.User), p.standIn.password)
		}).Undo = func(context.Context) error { return r.forgetStandIn(p) }
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
	r.silently(stepAccount, "some time for the old settings", func(ctx context.Context) error { return r.waitOnce(ctx, &waited) })
	return nil
}

func (r *run) planStandIn(p *replacement) {
	own := p.hosts[0]
	options := dbms.AccountOptions{RequireTLS: own.RequiresTLS, MaxConnections: own.MaxConnections}
	method := p.account.Auth
	statements := []dbms.Statement{r.view.server.CreateAccount(p.standIn.Account, secret.NoVerifier(method), options)}
	var grants []dbms.Statement
	for _, database := range estate.Names(p.standIn.held) {
		grants = append(grants, r.view.server.Grant(p.standIn.held[database], r.view.server.Pattern(database), p.standIn.Account)...)
	}
	s := r.plan.change(Row{Step: stepAccount, Outcome: Made, Facts: fmt.Sprintf("%s with the rights of %s, to stand in for it", p.standIn.User, p.account.Name), SQL: texts(append(statements, grants...))}, "stand-in "+p.standIn.User)
	s.Undo = func(ctx context.Context) error { return r.dropStandIn(ctx, p) }
	s.Act = func(ctx context.Context) (string, error) {
		verifier := r.view.server.Verifier(p.standIn.Account, p.standIn.password, method)
		set, inPlain := []dbms.Statement{r.view.server.CreateAccount(p.standIn.Account, verifier, options)}, r.view.server.CreateAccountInPlain(p.standIn.Account, p.standIn.password, options)
		if p.standIn.exists {
			set, inPlain = r.view.server.SetVerifier(p.standIn.Account, verifier), r.view.server.SetPasswordInPlain(p.standIn.Account, p.standIn.password)
		}
		err := r.send(ctx, s, set...)
		if _, err := r.afterPassword(ctx, s, p.standIn.Account, &credential{password: p.standIn.password}, verifier, err, inPlain); err != nil {
			return "", err
		}
		return "", r.send(ctx, s, grants...)
	}
}

// dropStandIn ends the second role, its sessions first.
func (r *run) dropStandIn(ctx context.Context, p *replacement) error {
	if err := r.view.server.EndSessions(ctx, p.standIn.Account); err != nil {
		return err
	}
	for database, held := range p.standIn.held {
		if err := r.view.server.Exec(ctx, r.view.server.Revoke(held, r.view.server.Pattern(database), p.standIn.Account)...); err != nil {
			return err
		}
	}
	return r.view.server.Exec(ctx, r.view.server.DropAccount(p.standIn.Account))
}

func (r *run) forgetStandIn(p *replacement) error {
	if err := r.State.DropPending(r.rotating(p.standIn.User)); err != nil {
		return err
	}
	return r.State.DropPending(r.rotating(p.account.Name))
}

func (r *run) planStandInsEnd(p *replacement, waited *bool) {
	if !p.standIn.exists && p.hosts[0].hasFresh {
		return // it has gone already
	}
	s := r.plan.change(Row{Step: stepAccount, Outcome: Removed, Facts: fmt.Sprintf("%s, %s after the settings have %s again", p.standIn.User, r.options.Rotation.Overlap, p.account.Name),
		SQL: texts([]dbms.Statement{r.view.server.DropAccount(p.standIn.Account)})}, "stand-in "+p.standIn.User)
	s.Act = func(ctx context.Context) (string, error) {
		if err := r.waitOnce(ctx, waited); err != nil {
			return "", err
		}
		return "", r.dropStandIn(ctx, p)
	}
}

// planStandInBack takes a rotation back that has come no further than its stand-in.
func (r *run) planStandInBack(p *replacement) error {
	if p.hosts[0].hasFresh || slices.ContainsFunc(p.files, p.standsIn) {
		return &stepError{stepAccount, fault.New(fault.Protected, "yellowfield rotate "+r.app.Name+" finishes it", "settings name the role %s already, or the new password is set: what was made stands", p.standIn.User)}
	}
	r.takeBackBy(stepAccount, "stand-in "+p.standIn.User, func(ctx context.Context) error {
		if p.standIn.exists {
			if err := r.dropStandIn(ctx, p); err != nil {
				return err
			}
		}
		return r.forgetStandIn(p)
	})
	return nil
}
