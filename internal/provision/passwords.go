package provision

import (
	"context"
	"encoding/json"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// passwordState is an account's password as an effect has it: where it is kept, and never
// what it is.
type passwordState struct {
	Method string `json:"method,omitempty"`
	// Kept is where the state folder has what the server kept of it, for as long as the run
	// is not through; empty where it is not to be valid again.
	Kept   string `json:"kept,omitempty"`
	Source string `json:"source,omitempty"`
	// Noted says that the new one is in the state folder until the change is through.
	Noted bool `json:"noted,omitempty"`
	// Begun says that the change came further than the journal.
	Begun bool `json:"begun,omitempty"`
}

// passwordChange is what changing a password takes beside the effect's data.
type passwordChange struct {
	old oldPassword
	// note puts the new one into the state folder first; nil for none.
	note func() error
	set  func(ctx context.Context, touched *bool) (facts string, err error)
}

// oldPassword is what is known of a password: by the server's verifier, else itself.
type oldPassword struct {
	verifier secret.Verifier
	password secret.Password
}

// keptPassword is oldPassword as the state folder keeps it.
type keptPassword struct {
	Method   string `json:"method"`
	Verifier []byte `json:"verifier,omitempty"`
	Password string `json:"password,omitempty"`
}

func (p oldPassword) isKnown() bool {
	return p.verifier.IsKnown() && slices.Contains(restorable, p.verifier.Method()) || !p.password.IsZero()
}

// Kinds of change, see init.
var (
	passwordSet    = effect.Define[*run, passwordState](&kinds, "password")
	passwordLeaked = effect.Define[*run, passwordState](&kinds, "password-leaked")
)

func init() {
	object := func(c effect.Change[passwordState]) string { return "password of " + c.Subject }
	kept := func(r *run, _ effect.Change[passwordState]) (why, next string) {
		return "the run has set a password, and the one before it is kept nowhere", "yellowfield rotate " + r.app.Name + " makes a new one"
	}
	passwordSet.Means(effect.Spec[*run, passwordState]{Object: object, Do: (*run).setPassword, Undo: (*run).passwordBack, Kept: kept,
		Look: func(_ *run, _ context.Context, c effect.Change[passwordState]) (effect.Standing, error) {
			if !c.After.Begun {
				return effect.NotDone, nil
			}
			return effect.Unseen, nil
		}})
	// One that has leaked must not be valid again.
	passwordLeaked.Means(effect.Spec[*run, passwordState]{Object: object, Do: (*run).setPassword, Kept: kept})
}

func (r *run) setPassword(ctx context.Context, d *effect.Doing[passwordState]) (string, error) {
	change := d.Material.(*passwordChange)
	d.After.Begun = true
	var err error
	if old := change.old; old.isKnown() {
		kept := keptPassword{Method: old.verifier.Method(), Password: old.password.Reveal()}
		if old.password.IsZero() {
			kept.Verifier = old.verifier.Bytes()
		}
		var content []byte
		if content, err = json.Marshal(kept); err == nil {
			d.Before.Kept, err = r.journal.KeepSecret("password of "+d.Subject, content)
		}
	}
	if err == nil {
		err = d.Record()
	}
	if err != nil {
		return "", err
	}
	if change.note != nil {
		if err := change.note(); err != nil {
			return "", err
		}
		d.Touched = true
	}
	return change.set(ctx, &d.Touched)
}

// passwordBack gives an account its old password alone.
func (r *run) passwordBack(ctx context.Context, c effect.Change[passwordState]) error {
	a := dbms.ParseAccount(c.Subject)
	if c.Before.Kept == "" {
		return fault.New(fault.Failed, "set it by hand, or yellowfield rotate "+r.app.Name+" makes a new one", "what server %s had of the password of %s cannot be put back (login method %s)", r.app.Server, a, c.Before.Method)
	}
	content, err := r.State.Copy(c.Before.Kept)
	var kept keptPassword
	if err == nil {
		err = json.Unmarshal(content, &kept)
	}
	if err != nil {
		return err
	}
	old := secret.StoredVerifier(kept.Method, kept.Verifier)
	if kept.Password != "" {
		old = r.view.server.Verifier(a, secret.NewPassword(kept.Password), r.accountNamed(a.User).Auth)
	}
	now, err := r.now(ctx)
	if err != nil {
		return err
	}
	if _, exists := now.Accounts[a]; exists {
		if err := r.view.server.Exec(ctx, r.view.server.SetVerifier(a, old)...); err != nil {
			return err
		}
	}
	if !c.After.Noted {
		return nil
	}
	return r.State.DropPending(r.rotating(a.User))
}
