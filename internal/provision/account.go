package provision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// planAccounts decides for every account and host it may come from.
func (r *run) planAccounts(ctx context.Context) error {
	for i, account := range r.app.Accounts {
		c, err := r.credentialOf(ctx, account)
		if err != nil {
			return err
		}
		r.plan.credentials[account] = c
		for _, a := range r.accountsOf(account) {
			if err := r.planAccount(ctx, account, a, c, i == 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// phpCannotUse are login methods that PHP's client does not know, or that do
// not look at a password at all.
var phpCannotUse = []string{"ed25519", "client_ed25519", "unix_socket", "auth_socket", "gssapi", "pam"}

func (r *run) planAccount(ctx context.Context, account *estate.Account, a dbms.Account, c *credential, first bool) error {
	options := dbms.AccountOptions{RequireTLS: account.RequireTLS, MaxConnections: account.Limits.Connections}
	if !r.view.asAdmin() {
		switch {
		case first && a == r.accountsOf(account)[0]:
			r.plan.keep(stepAccount, a.User+", made by someone else, logs in")
		case !first:
			r.plan.keep(stepAccount, a.String()+", made by someone else, not looked at without an administrator")
		}
		return nil
	}
	state, exists := r.view.catalogue.Accounts[a]
	if !exists {
		if account.Existing {
			return r.Estate.Fault(fault.Invalid, r.path("accounts"), "ask whoever was to make it, or check its name and host",
				"the estate file says existing: true for the account %s, and server %s has no such account", a, r.app.Server)
		}
		r.planNewAccount(account, a, c, options, first)
		return nil
	}
	if err := r.mayTake(a); err != nil {
		return err
	}
	r.planExistingAccount(ctx, a, state, c, options, first)
	return nil
}

// mayTake refuses an account that is someone else's: it has rights elsewhere
// and none on this database yet.
func (r *run) mayTake(a dbms.Account) error {
	grants := r.view.catalogue.Grants(a)
	held, elsewhere := r.ours(grants)
	if len(elsewhere) == 0 || len(held) > 0 || r.options.TakeAccount {
		return nil
	}
	return r.Estate.Fault(fault.Differs, r.path("accounts"), "choose another name, or take it with --take-account",
		"the account %s exists and has rights elsewhere: %s", a, strings.Join(elsewhere, ", "))
}

// ours gives the rights that an account has on one of the app's databases, and
// what else it may touch.
func (r *run) ours(grants dbms.Grants) (held dbms.Privileges, elsewhere []string) {
	for i, d := range r.app.All() {
		here, _ := r.view.server.HeldOn(d.Name, grants)
		held = held.Plus(here)
		others := r.view.server.Elsewhere(d.Name, grants)
		if i == 0 {
			elsewhere = others
		}
		elsewhere = slices.DeleteFunc(elsewhere, func(place string) bool { return !slices.Contains(others, place) })
	}
	return held, elsewhere
}

func (r *run) planNewAccount(account *estate.Account, a dbms.Account, c *credential, options dbms.AccountOptions, first bool) {
	after := accountState{Exists: true, Options: options, Password: c.source}
	if v, has := c.stored[a]; has {
		r.plan.change(Row{Step: stepAccount, Outcome: Made, Facts: a.String() + ", " + c.source, SQL: []string{r.view.server.CreateAccount(a, v, options).String()}},
			accountMade.Of(a.String(), accountState{}, after), c)
		return
	}
	if !c.knows() { // the account exists for another host only, with a password we do not have
		r.stuck(first, "the password of "+a.User+" is not known here")
		r.plan.differs(stepAccount, estate.MustFix, r.sayPassword(a.User),
			a.String()+" cannot be made: the password that "+a.User+" has for other hosts is not known here")
		return
	}
	r.plan.fresh = r.plan.fresh || first
	after.Pending = account.Password == nil && !c.pending
	r.plan.change(Row{Step: stepAccount, Outcome: Made, Facts: a.String() + ", " + c.source,
		SQL: []string{r.view.server.CreateAccount(a, secret.NoVerifier(account.Auth), options).String()}}, accountMade.Of(a.String(), accountState{}, after), c)
}

// accountState is an account as an effect has it.
type accountState struct {
	Exists   bool                `json:"exists"`
	Options  dbms.AccountOptions `json:"options"`
	Password string              `json:"password,omitempty"` // where it comes from
	// Pending says that the state folder got the password before the server.
	Pending bool `json:"pending,omitempty"`
}

// limitsState are an account's options as an effect has them.
type limitsState struct {
	Options dbms.AccountOptions `json:"options"`
}

// lockState tells whether an account is locked.
type lockState struct {
	Locked bool `json:"locked"`
}

// Kinds of change, see init.
var (
	accountMade   = effect.Define[*run, accountState](&kinds, "account")
	accountLock   = effect.Define[*run, lockState](&kinds, "account-lock")
	accountLimits = effect.Define[*run, limitsState](&kinds, "account-limits")
)

func init() {
	accountMade.Means(effect.Spec[*run, accountState]{
		Object: func(c effect.Change[accountState]) string { return "account " + c.Subject },
		Do:     (*run).makeAccount, Undo: (*run).unmakeAccount,
		Look: func(r *run, _ context.Context, c effect.Change[accountState]) (effect.Standing, error) {
			if _, exists := r.view.catalogue.Accounts[dbms.ParseAccount(c.Subject)]; !exists && !c.After.Pending {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(*run, effect.Change[accountState]) (why, next string) {
			return "the run has made an account, which the application may be at work with", "drop it by hand if nobody needs it"
		},
	})
	accountLimits.Means(effect.Spec[*run, limitsState]{
		Object: func(c effect.Change[limitsState]) string { return "limits of " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[limitsState]) (string, error) {
			return "", r.send(ctx, &d.Touched, r.view.server.SetOptions(dbms.ParseAccount(d.Subject), d.After.Options))
		},
		Undo: func(r *run, ctx context.Context, c effect.Change[limitsState]) error {
			return r.view.server.Exec(ctx, r.view.server.SetOptions(dbms.ParseAccount(c.Subject), c.Before.Options))
		},
		Look: func(r *run, _ context.Context, c effect.Change[limitsState]) (effect.Standing, error) {
			has, exists := r.view.catalogue.Accounts[dbms.ParseAccount(c.Subject)]
			switch now := (dbms.AccountOptions{RequireTLS: has.RequiresTLS, MaxConnections: has.MaxConnections}); {
			case !exists, now == c.Before.Options:
				return effect.NotDone, nil
			case now == c.After.Options:
				return effect.Done, nil
			}
			return effect.ChangedElse, nil
		},
	})
	accountLock.Means(effect.Spec[*run, lockState]{
		Object: func(c effect.Change[lockState]) string { return "lock of " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[lockState]) (string, error) {
			a := dbms.ParseAccount(d.Subject)
			if err := r.send(ctx, &d.Touched, r.lockStatement(a, d.After.Locked)); err != nil || !d.After.Locked {
				return "", err
			}
			return "", r.view.server.EndSessions(ctx, a)
		},
		Undo: func(r *run, ctx context.Context, c effect.Change[lockState]) error {
			return r.view.server.Exec(ctx, r.lockStatement(dbms.ParseAccount(c.Subject), c.Before.Locked))
		},
		Look: func(r *run, _ context.Context, c effect.Change[lockState]) (effect.Standing, error) {
			if has, exists := r.view.catalogue.Accounts[dbms.ParseAccount(c.Subject)]; !exists || has.Locked == c.Before.Locked {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(r *run, _ effect.Change[lockState]) (why, next string) { return r.outOfUse() },
	})
}

func (r *run) lockStatement(a dbms.Account, locked bool) dbms.Statement {
	if locked {
		return r.view.server.LockAccount(a)
	}
	return r.view.server.UnlockAccount(a)
}

// makeAccount makes an account with the password of a credential, or as another server keeps
// it.
func (r *run) makeAccount(ctx context.Context, d *effect.Doing[accountState]) (string, error) {
	a, c, options := dbms.ParseAccount(d.Subject), d.Material.(*credential), d.After.Options
	if v, has := c.stored[a]; has {
		return "", r.send(ctx, &d.Touched, r.view.server.CreateAccount(a, v, options))
	}
	account := r.accountNamed(a.User)
	if err := r.keepPending(account, c); err != nil {
		return "", err
	}
	verifier := r.view.server.Verifier(a, c.password, account.Auth)
	err := r.send(ctx, &d.Touched, r.view.server.CreateAccount(a, verifier, options))
	facts, err := r.afterPassword(ctx, &d.Touched, a, c, verifier, err, r.view.server.CreateAccountInPlain(a, c.password, options))
	if err != nil && !d.Touched && d.After.Pending {
		// It was refused, so somebody else may own that name: only what
		// lies in the state folder is ours to take back.
		return "", errors.Join(err, r.State.DropPending(r.stateAccount(a.User)))
	}
	return facts, err
}

// unmakeAccount drops an account, unless it has got rights elsewhere since.
func (r *run) unmakeAccount(ctx context.Context, c effect.Change[accountState]) error {
	a := dbms.ParseAccount(c.Subject)
	now, err := r.now(ctx)
	if err != nil {
		return err
	}
	if _, exists := now.Accounts[a]; exists {
		if _, elsewhere := r.ours(now.Grants(a)); len(elsewhere) > 0 {
			return fault.New(fault.Protected, "drop it by hand if nobody needs it", "%s has rights elsewhere: %s", a, strings.Join(elsewhere, ", "))
		}
		_ = r.view.server.EndSessions(ctx, a) // there may be none
		for _, d := range r.app.All() {
			if _, exists := now.Databases[d.Name]; !exists {
				continue
			}
			statements, _ := r.view.server.ChangeRights(a, d.Name, now.Grants(a), nil)
			if err := r.view.server.Exec(ctx, statements...); err != nil {
				return err
			}
		}
		if err := r.view.server.Exec(ctx, r.view.server.DropAccount(a)); err != nil {
			return err
		}
	}
	if !c.After.Pending {
		return nil
	}
	return r.State.DropPending(r.stateAccount(a.User))
}

// keepPending puts a password that stands nowhere else into the state folder,
// before an account has it.
func (r *run) keepPending(account *estate.Account, c *credential) error {
	if account.Password != nil || c.pending || c.kept {
		return nil
	}
	c.kept = true
	return r.State.SetPending(r.stateAccount(account.Name), c.password)
}

// afterPassword finishes setting a password: in plain where the server's
// policy refuses verifiers and nobody can listen, else by reading back what
// the server now holds.
func (r *run) afterPassword(ctx context.Context, touched *bool, a dbms.Account, c *credential, verifier secret.Verifier, err error, inPlain dbms.Statement) (string, error) {
	if dbms.CauseOf(err) == dbms.PolicyRefuses && r.view.server.Encrypted() {
		if err := r.send(ctx, touched, inPlain); err != nil {
			return "", err
		}
		return a.String() + ", " + c.source + ", sent as it is: the server's policy wants to see it", nil
	}
	if err != nil {
		return "", err
	}
	stored, err := r.view.server.StoredVerifiers(ctx, a)
	if err != nil {
		return "", err
	}
	// Where it cannot be read, the login at the end proves it.
	if len(stored) > 0 && stored[0].IsKnown() && !verifier.Equal(stored[0]) {
		return "", fault.New(fault.Failed, "report this with the server's version", "server %s stored another password for %s than it was given", r.app.Server, a)
	}
	return "", nil
}

// stuck notes that the app's own login cannot be used.
func (r *run) stuck(first bool, why string) {
	if first && r.plan.stuck == "" {
		r.plan.stuck = why
	}
}

func (r *run) planExistingAccount(ctx context.Context, a dbms.Account, state dbms.AccountState, c *credential, options dbms.AccountOptions, first bool) {
	provision := "yellowfield provision " + r.app.Name
	trouble := ""
	matches, known := r.matches(ctx, state, c.password)
	matches = matches || c.knows() && isOlder(state, c.password)
	method := state.Verifier.Method()
	switch {
	case slices.Contains(phpCannotUse, method):
		trouble = "logs in by " + method + ", which PHP cannot use"
	case r.accountNamed(a.User).Auth != "" && r.accountNamed(a.User).Auth != method:
		trouble = "logs in by " + cmp.Or(method, "no password") + ", not by " + r.accountNamed(a.User).Auth
	case state.Locked:
		r.stuck(first, a.String()+" is locked")
		r.plan.unmet = r.plan.unmet || first
		r.plan.differs(stepAccount, estate.MustFix, r.view.server.UnlockAccount(a).String()+", if it was not locked on purpose", a.String()+" is locked")
		return
	case state.Expired:
		trouble = "has an expired password"
	case state.SecondMethod && c.knows() && matches:
		trouble = "has a second password beside its own"
	case !c.knows() && first:
		trouble = "exists, and its password is not known here"
	case c.knows() && known && !matches:
		trouble = "has another password on the server: not the " + c.source
	}
	if trouble != "" {
		if !r.options.fixes(fixPassword) || !c.knows() {
			remedy := provision + " --fix server-password"
			if c.knows() && known && !matches {
				remedy += " puts the " + c.source + " on the server, and undoes a change that somebody may have made there on purpose"
			}
			if state.SecondMethod && matches {
				r.plan.differs(stepAccount, estate.ShouldLook, remedy, a.String()+" "+trouble).mayAccept(estate.FindingSecondPassword, a.String())
				return
			}
			r.stuck(first, a.String()+" "+trouble)
			if !c.knows() {
				remedy = r.sayPassword(a.User)
			}
			d := r.plan.differs(stepAccount, estate.MustFix, remedy, a.String()+" "+trouble)
			d.Place = r.placeOfPassword(c)
			return
		}
		r.planServerPassword(a, state, c)
		return
	}
	facts := a.String() + ", " + c.source
	if !c.knows() {
		facts = a.String() + ", its password is in no file here"
	}
	if state.RequiresTLS != options.RequireTLS || state.MaxConnections != options.MaxConnections {
		r.planOptions(a, state, options)
		return
	}
	r.plan.keep(stepAccount, facts)
}

// placeOfPassword is where the settings file has the password.
func (r *run) placeOfPassword(c *credential) *fault.Place {
	for _, s := range r.app.Settings {
		if c.source == "password from "+s.File {
			return r.placeOfFact(r.app.InFolder(s.File), s.Values, "password")
		}
	}
	return nil
}

// planServerPassword puts the password that is known here on the server.
func (r *run) planServerPassword(a dbms.Account, state dbms.AccountState, c *credential) {
	account := r.accountNamed(a.User)
	r.plan.change(Row{Step: stepAccount, Outcome: Fixed, Facts: a.String() + ", " + c.source, SQL: texts(r.view.server.SetVerifier(a, secret.NoVerifier(account.Auth)))},
		passwordSet.Of(a.String(), passwordState{Method: state.Verifier.Method()}, passwordState{Source: c.source}),
		&passwordChange{old: oldPassword{verifier: state.Verifier}, set: func(ctx context.Context, touched *bool) (string, error) {
			verifier := r.view.server.Verifier(a, c.password, account.Auth)
			err := r.send(ctx, touched, r.view.server.SetVerifier(a, verifier)...)
			return r.afterPassword(ctx, touched, a, c, verifier, err, r.view.server.SetPasswordInPlain(a, c.password))
		}})
}

func (r *run) planOptions(a dbms.Account, state dbms.AccountState, options dbms.AccountOptions) {
	describe := func(o dbms.AccountOptions) string {
		text := "any number of connections"
		if o.MaxConnections > 0 {
			text = fmt.Sprintf("%d connections", o.MaxConnections)
		}
		if o.RequireTLS {
			text += ", TLS only"
		}
		return text
	}
	has := dbms.AccountOptions{RequireTLS: state.RequiresTLS, MaxConnections: state.MaxConnections}
	facts := fmt.Sprintf("%s may have %s, not %s", a, describe(has), describe(options))
	if !r.options.fixes(fixRights) {
		r.plan.differs(stepAccount, estate.ShouldLook, "yellowfield provision "+r.app.Name+" --fix rights", facts).mayAccept(estate.FindingAccountLimits, a.String())
		return
	}
	r.plan.change(Row{Step: stepAccount, Outcome: Fixed, Facts: fmt.Sprintf("%s, %s", a, describe(options)), SQL: []string{r.view.server.SetOptions(a, options).String()}},
		accountLimits.Of(a.String(), limitsState{has}, limitsState{options}), nil)
}
