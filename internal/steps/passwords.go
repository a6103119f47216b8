package steps

import (
	"context"
	"encoding/json"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
	"yellowfield/internal/work"
)

// PasswordState is an account's password as an effect has it: where it is kept, and never
// what it is.
type PasswordState struct {
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

// PasswordChange is what changing a password takes beside the effect's data.
type PasswordChange struct {
	Old OldPassword
	// Note puts the new one into the state folder first; nil for none.
	Note func() error
	Set  func(ctx context.Context, touched *bool) (facts string, err error)
}

// OldPassword is what is known of a password: by the server's verifier, else itself.
type OldPassword struct {
	Verifier secret.Verifier
	Password secret.Password
}

// keptPassword is an OldPassword as the state folder keeps it.
type keptPassword struct {
	Method   string `json:"method"`
	Verifier []byte `json:"verifier,omitempty"`
	Password string `json:"password,omitempty"`
}

func (p OldPassword) IsKnown() bool {
	return p.Verifier.IsKnown() && slices.Contains(work.Restorable, p.Verifier.Method()) || !p.Password.IsZero()
}

// Kinds of change, see init.
var (
	PasswordSet    = effect.Define[*work.Run, PasswordState](&work.Kinds, "password")
	PasswordLeaked = effect.Define[*work.Run, PasswordState](&work.Kinds, "password-leaked")
)

func init() {
	object := func(c effect.Change[PasswordState]) string { return "password of " + c.Subject }
	kept := func(r *work.Run, _ effect.Change[PasswordState]) (why, next string) {
		return "the run has set a password, and the one before it is kept nowhere", "yellowfield rotate " + r.App.Name + " makes a new one"
	}
	PasswordSet.Means(effect.Spec[*work.Run, PasswordState]{Object: object, Do: setPassword, Undo: passwordBack, Kept: kept,
		Look: func(_ *work.Run, _ context.Context, c effect.Change[PasswordState]) (effect.Standing, error) {
			if !c.After.Begun {
				return effect.NotDone, nil
			}
			return effect.Unseen, nil
		}})
	// One that has leaked must not be valid again.
	PasswordLeaked.Means(effect.Spec[*work.Run, PasswordState]{Object: object, Do: setPassword, Kept: kept})
}

func setPassword(r *work.Run, ctx context.Context, d *effect.Doing[PasswordState]) (string, error) {
	change := d.Material.(*PasswordChange)
	d.After.Begun = true
	var err error
	if old := change.Old; old.IsKnown() {
		kept := keptPassword{Method: old.Verifier.Method(), Password: old.Password.Reveal()}
		if old.Password.IsZero() {
			kept.Verifier = old.Verifier.Bytes()
		}
		var content []byte
		if content, err = json.Marshal(kept); err == nil {
			d.Before.Kept, err = r.Journal.KeepSecret("password of "+d.Subject, content)
		}
	}
	if err == nil {
		err = d.Record()
	}
	if err != nil {
		return "", err
	}
	if change.Note != nil {
		if err := change.Note(); err != nil {
			return "", err
		}
		d.Touched = true
	}
	return change.Set(ctx, &d.Touched)
}

// passwordBack gives an account its old password alone.
func passwordBack(r *work.Run, ctx context.Context, c effect.Change[PasswordState]) error {
	a := dbms.ParseAccount(c.Subject)
	if c.Before.Kept == "" {
		return fault.New(fault.Failed, "set it by hand, or yellowfield rotate "+r.App.Name+" makes a new one", "what server %s had of the password of %s cannot be put back (login method %s)", r.App.Server, a, c.Before.Method)
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
		old = r.View.Server.Verifier(a, secret.NewPassword(kept.Password), r.AccountNamed(a.User).Auth)
	}
	now, err := r.Now(ctx)
	if err != nil {
		return err
	}
	if _, exists := now.Accounts[a]; exists {
		if err := r.View.Server.Exec(ctx, r.View.Server.SetVerifier(a, old)...); err != nil {
			return err
		}
	}
	if !c.After.Noted {
		return nil
	}
	return r.State.DropPending(r.Rotating(a.User))
}
