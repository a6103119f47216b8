package steps

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
	"yellowfield/internal/work"
)

// PlanAccounts decides for every account and host it may come from.
func PlanAccounts(r *work.Run, ctx context.Context) error {
	for i, account := range r.App.Accounts {
		c, err := r.CredentialOf(ctx, account)
		if err != nil {
			return err
		}
		r.Plan.Credentials[account] = c
		for _, a := range r.AccountsOf(account) {
			if err := planAccount(r, ctx, account, a, c, i == 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// phpCannotUse are login methods that PHP's client does not know, or that do
// not look at a password at all.
var phpCannotUse = []string{"ed25519", "client_ed25519", "unix_socket", "auth_socket", "gssapi", "pam"}

func planAccount(r *work.Run, ctx context.Context, account *estate.Account, a dbms.Account, c *work.Credential, first bool) error {
	options := dbms.AccountOptions{RequireTLS: account.RequireTLS, MaxConnections: account.Limits.Connections}
	if !r.View.AsAdmin() {
		switch {
		case first && a == r.AccountsOf(account)[0]:
			r.Plan.Keep(work.StepAccount, a.User+", made by someone else, logs in")
		case !first:
			r.Plan.Keep(work.StepAccount, a.String()+", made by someone else, not looked at without an administrator")
		}
		return nil
	}
	state, exists := r.View.Catalogue.Accounts[a]
	if !exists {
		if account.Existing {
			return r.Estate.Fault(fault.Invalid, r.Path("accounts"), "ask whoever was to make it, or check its name and host",
				"the estate file says existing: true for the account %s, and server %s has no such account", a, r.App.Server)
		}
		planNewAccount(r, account, a, c, options, first)
		return nil
	}
	if err := mayTake(r, a); err != nil {
		return err
	}
	planExistingAccount(r, ctx, a, state, c, options, first)
	return nil
}

// mayTake refuses an account that is somebody else's: one with rights elsewhere and none on
// this database yet.
func mayTake(r *work.Run, a dbms.Account) error {
	grants := r.View.Catalogue.Grants(a)
	held, elsewhere := Ours(r, grants)
	if len(elsewhere) == 0 || len(held) > 0 || r.Options.TakeAccount {
		return nil
	}
	return r.Estate.Fault(fault.Differs, r.Path("accounts"), "choose another name, or take it with --take-account",
		"the account %s exists and has rights elsewhere: %s", a, strings.Join(elsewhere, ", "))
}

// Ours gives the rights that an account has on one of the app's databases, and
// what else it may touch.
func Ours(r *work.Run, grants dbms.Grants) (held dbms.Privileges, elsewhere []string) {
	for i, d := range r.App.All() {
		here, _ := r.View.Server.HeldOn(d.Name, grants)
		held = held.Plus(here)
		others := r.View.Server.Elsewhere(d.Name, grants)
		if i == 0 {
			elsewhere = others
		}
		elsewhere = slices.DeleteFunc(elsewhere, func(place string) bool { return !slices.Contains(others, place) })
	}
	return held, elsewhere
}

func planNewAccount(r *work.Run, account *estate.Account, a dbms.Account, c *work.Credential, options dbms.AccountOptions, first bool) {
	after := AccountState{Exists: true, Options: options, Password: c.Source}
	if v, has := c.Stored[a]; has {
		r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Made, Facts: a.String() + ", " + c.Source, SQL: []string{r.View.Server.CreateAccount(a, v, options).String()}},
			AccountMade.Of(a.String(), AccountState{}, after), c)
		return
	}
	if !c.Knows() { // the account exists for another host only, with a password we do not have
		noLogin(r, first, "the password of "+a.User+" is not known here")
		r.Plan.Differs(work.StepAccount, estate.MustFix, r.SayPassword(a.User),
			a.String()+" cannot be made: the password that "+a.User+" has for other hosts is not known here")
		return
	}
	r.Plan.Fresh = r.Plan.Fresh || first
	after.Pending = account.Password == nil && !c.Pending
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Made, Facts: a.String() + ", " + c.Source,
		SQL: []string{r.View.Server.CreateAccount(a, secret.NoVerifier(account.Auth), options).String()}}, AccountMade.Of(a.String(), AccountState{}, after), c)
}

// AccountState is an account as an effect has it.
type AccountState struct {
	Exists   bool                `json:"exists"`
	Options  dbms.AccountOptions `json:"options"`
	Password string              `json:"password,omitempty"` // where it comes from
	// Pending says that the state folder got the password before the server.
	Pending bool `json:"pending,omitempty"`
}

// LimitsState are an account's options as an effect has them.
type LimitsState struct {
	Options dbms.AccountOptions `json:"options"`
}

// LockState tells whether an account is locked.
type LockState struct {
	Locked bool `json:"locked"`
}

// Kinds of change, see init.
var (
	AccountMade   = effect.Define[*work.Run, AccountState](&work.Kinds, "account")
	AccountLock   = effect.Define[*work.Run, LockState](&work.Kinds, "account-lock")
	AccountLimits = effect.Define[*work.Run, LimitsState](&work.Kinds, "account-limits")
)

func init() {
	AccountMade.Means(effect.Spec[*work.Run, AccountState]{
		Object: func(c effect.Change[AccountState]) string { return "account " + c.Subject },
		Do:     makeAccount, Undo: unmakeAccount,
		Look: func(r *work.Run, _ context.Context, c effect.Change[AccountState]) (effect.Standing, error) {
			if _, exists := r.View.Catalogue.Accounts[dbms.ParseAccount(c.Subject)]; !exists && !c.After.Pending {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(*work.Run, effect.Change[AccountState]) (why, next string) {
			return "the run has made an account, which the application may be at work with", "drop it by hand if nobody needs it"
		},
	})
	AccountLimits.Means(effect.Spec[*work.Run, LimitsState]{
		Object: func(c effect.Change[LimitsState]) string { return "limits of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[LimitsState]) (string, error) {
			return "", r.Send(ctx, &d.Touched, r.View.Server.SetOptions(dbms.ParseAccount(d.Subject), d.After.Options))
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[LimitsState]) error {
			return r.View.Server.Exec(ctx, r.View.Server.SetOptions(dbms.ParseAccount(c.Subject), c.Before.Options))
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[LimitsState]) (effect.Standing, error) {
			has, exists := r.View.Catalogue.Accounts[dbms.ParseAccount(c.Subject)]
			switch now := (dbms.AccountOptions{RequireTLS: has.RequiresTLS, MaxConnections: has.MaxConnections}); {
			case !exists, now == c.Before.Options:
				return effect.NotDone, nil
			case now == c.After.Options:
				return effect.Done, nil
			}
			return effect.ChangedElse, nil
		},
	})
	AccountLock.Means(effect.Spec[*work.Run, LockState]{
		Object: func(c effect.Change[LockState]) string { return "lock of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[LockState]) (string, error) {
			a := dbms.ParseAccount(d.Subject)
			if err := r.Send(ctx, &d.Touched, LockStatement(r, a, d.After.Locked)); err != nil || !d.After.Locked {
				return "", err
			}
			return "", r.View.Server.EndSessions(ctx, a)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[LockState]) error {
			return r.View.Server.Exec(ctx, LockStatement(r, dbms.ParseAccount(c.Subject), c.Before.Locked))
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[LockState]) (effect.Standing, error) {
			if has, exists := r.View.Catalogue.Accounts[dbms.ParseAccount(c.Subject)]; !exists || has.Locked == c.Before.Locked {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(r *work.Run, _ effect.Change[LockState]) (why, next string) { return r.OutOfUse() },
	})
}

func LockStatement(r *work.Run, a dbms.Account, locked bool) dbms.Statement {
	if locked {
		return r.View.Server.LockAccount(a)
	}
	return r.View.Server.UnlockAccount(a)
}

// makeAccount makes an account with the password of a credential, or as another server keeps
// it.
func makeAccount(r *work.Run, ctx context.Context, d *effect.Doing[AccountState]) (string, error) {
	a, c, options := dbms.ParseAccount(d.Subject), d.Material.(*work.Credential), d.After.Options
	if v, has := c.Stored[a]; has {
		return "", r.Send(ctx, &d.Touched, r.View.Server.CreateAccount(a, v, options))
	}
	account := r.AccountNamed(a.User)
	if err := keepPending(r, account, c); err != nil {
		return "", err
	}
	verifier := r.View.Server.Verifier(a, c.Password, account.Auth)
	err := r.Send(ctx, &d.Touched, r.View.Server.CreateAccount(a, verifier, options))
	facts, err := AfterPassword(r, ctx, &d.Touched, a, c, verifier, err, r.View.Server.CreateAccountInPlain(a, c.Password, options))
	if err != nil && !d.Touched && d.After.Pending {
		// It was refused, so somebody else may own that name: only our note in the state
		// folder is to be undone.
		return "", errors.Join(err, r.State.DropPending(r.StateAccount(a.User)))
	}
	return facts, err
}

// unmakeAccount drops an account, unless it has got rights elsewhere since.
func unmakeAccount(r *work.Run, ctx context.Context, c effect.Change[AccountState]) error {
	a := dbms.ParseAccount(c.Subject)
	now, err := r.Now(ctx)
	if err != nil {
		return err
	}
	if _, exists := now.Accounts[a]; exists {
		if _, elsewhere := Ours(r, now.Grants(a)); len(elsewhere) > 0 {
			return fault.New(fault.Protected, "drop it by hand if nobody needs it", "%s has rights elsewhere: %s", a, strings.Join(elsewhere, ", "))
		}
		_ = r.View.Server.EndSessions(ctx, a) // there may be none
		for _, d := range r.App.All() {
			if _, exists := now.Databases[d.Name]; !exists {
				continue
			}
			statements, _ := r.View.Server.ChangeRights(a, d.Name, now.Grants(a), nil)
			if err := r.View.Server.Exec(ctx, statements...); err != nil {
				return err
			}
		}
		if err := r.View.Server.Exec(ctx, r.View.Server.DropAccount(a)); err != nil {
			return err
		}
	}
	if !c.After.Pending {
		return nil
	}
	return r.State.DropPending(r.StateAccount(a.User))
}

// keepPending puts a password that stands nowhere else into the state folder,
// before an account has it.
func keepPending(r *work.Run, account *estate.Account, c *work.Credential) error {
	if account.Password != nil || c.Pending || c.Kept {
		return nil
	}
	c.Kept = true
	return r.State.SetPending(r.StateAccount(account.Name), c.Password)
}

// AfterPassword finishes setting a password: in plain where the server's
// policy refuses verifiers and nobody can listen, else by reading back what
// the server now holds.
func AfterPassword(r *work.Run, ctx context.Context, touched *bool, a dbms.Account, c *work.Credential, verifier secret.Verifier, err error, inPlain dbms.Statement) (string, error) {
	if dbms.CauseOf(err) == dbms.PolicyRefuses && r.View.Server.Encrypted() {
		if err := r.Send(ctx, touched, inPlain); err != nil {
			return "", err
		}
		return a.String() + ", " + c.Source + ", sent as it is: the server's policy wants to see it", nil
	}
	if err != nil {
		return "", err
	}
	stored, err := r.View.Server.StoredVerifiers(ctx, a)
	if err != nil {
		return "", err
	}
	// Where it cannot be read, the login at the end proves it.
	if len(stored) > 0 && stored[0].IsKnown() && !verifier.Equal(stored[0]) {
		return "", fault.New(fault.Failed, "report this with the server's version", "server %s stored another password for %s than it was given", r.App.Server, a)
	}
	return "", nil
}

// noLogin notes that the app's own login cannot be used.
func noLogin(r *work.Run, first bool, why string) {
	if first && r.Plan.LoginBlocked == "" {
		r.Plan.LoginBlocked = why
	}
}

func planExistingAccount(r *work.Run, ctx context.Context, a dbms.Account, state dbms.AccountState, c *work.Credential, options dbms.AccountOptions, first bool) {
	provision := "yellowfield provision " + r.App.Name
	trouble := ""
	matches, known := r.Matches(ctx, state, c.Password)
	matches = matches || c.Knows() && work.IsOlder(state, c.Password)
	method := state.Verifier.Method()
	switch {
	case slices.Contains(phpCannotUse, method):
		trouble = "logs in by " + method + ", which PHP cannot use"
	case r.AccountNamed(a.User).Auth != "" && r.AccountNamed(a.User).Auth != method:
		trouble = "logs in by " + cmp.Or(method, "no password") + ", not by " + r.AccountNamed(a.User).Auth
	case state.Locked:
		noLogin(r, first, a.String()+" is locked")
		r.Plan.Unmet = r.Plan.Unmet || first
		r.Plan.Differs(work.StepAccount, estate.MustFix, r.View.Server.UnlockAccount(a).String()+", if it was not locked on purpose", a.String()+" is locked")
		return
	case state.Expired:
		trouble = "has an expired password"
	case state.SecondMethod && c.Knows() && matches:
		trouble = "has a second password beside its own"
	case !c.Knows() && first:
		trouble = "exists, and its password is not known here"
	case c.Knows() && known && !matches:
		trouble = "has another password on the server: not the " + c.Source
	}
	if trouble != "" {
		if !r.Options.Fixes(work.FixPassword) || !c.Knows() {
			remedy := provision + " --fix server-password"
			if c.Knows() && known && !matches {
				remedy += " puts the " + c.Source + " on the server, and undoes a change that somebody may have made there on purpose"
			}
			if state.SecondMethod && matches {
				r.Plan.Differs(work.StepAccount, estate.ShouldLook, remedy, a.String()+" "+trouble).MayAccept(estate.FindingSecondPassword, a.String())
				return
			}
			noLogin(r, first, a.String()+" "+trouble)
			if !c.Knows() {
				remedy = r.SayPassword(a.User)
			}
			d := r.Plan.Differs(work.StepAccount, estate.MustFix, remedy, a.String()+" "+trouble)
			d.Place = placeOfPassword(r, c)
			return
		}
		planServerPassword(r, a, state, c)
		return
	}
	facts := a.String() + ", " + c.Source
	if !c.Knows() {
		facts = a.String() + ", its password is in no file here"
	}
	if state.RequiresTLS != options.RequireTLS || state.MaxConnections != options.MaxConnections {
		planOptions(r, a, state, options)
		return
	}
	r.Plan.Keep(work.StepAccount, facts)
}

// placeOfPassword is where the settings file has the password.
func placeOfPassword(r *work.Run, c *work.Credential) *fault.Place {
	for _, s := range r.App.Settings {
		if c.Source == "password from "+s.File {
			return r.PlaceOfFact(r.App.InFolder(s.File), s.Values, "password")
		}
	}
	return nil
}

// planServerPassword puts the password that is known here on the server.
func planServerPassword(r *work.Run, a dbms.Account, state dbms.AccountState, c *work.Credential) {
	account := r.AccountNamed(a.User)
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Fixed, Facts: a.String() + ", " + c.Source, SQL: work.Texts(r.View.Server.SetVerifier(a, secret.NoVerifier(account.Auth)))},
		PasswordSet.Of(a.String(), PasswordState{Method: state.Verifier.Method()}, PasswordState{Source: c.Source}),
		&PasswordChange{Old: OldPassword{Verifier: state.Verifier}, Set: func(ctx context.Context, touched *bool) (string, error) {
			verifier := r.View.Server.Verifier(a, c.Password, account.Auth)
			err := r.Send(ctx, touched, r.View.Server.SetVerifier(a, verifier)...)
			return AfterPassword(r, ctx, touched, a, c, verifier, err, r.View.Server.SetPasswordInPlain(a, c.Password))
		}})
}

func planOptions(r *work.Run, a dbms.Account, state dbms.AccountState, options dbms.AccountOptions) {
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
	if !r.Options.Fixes(work.FixRights) {
		r.Plan.Differs(work.StepAccount, estate.ShouldLook, "yellowfield provision "+r.App.Name+" --fix rights", facts).MayAccept(estate.FindingAccountLimits, a.String())
		return
	}
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Fixed, Facts: fmt.Sprintf("%s, %s", a, describe(options)), SQL: []string{r.View.Server.SetOptions(a, options).String()}},
		AccountLimits.Of(a.String(), LimitsState{has}, LimitsState{options}), nil)
}
