package rotation

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/proof"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// planRotation makes the plan: all files are prepared before anything changes, both
// passwords are valid while they are put in place, or applications work as another role,
// and the old one is ended last.
func planRotation(r *work.Run, replacements []*Replacement) error {
	if len(replacements) == 0 {
		return nil
	}
	first, last := r.Plan.Settings, r.Plan.Settings
	if slices.ContainsFunc(replacements, func(p *Replacement) bool { return p.StandIn != nil }) {
		last = &work.Publication{} // the files are written twice
	}
	r.Plan.Change(work.Row{Step: work.StepSettings}, steps.FilesPrepared.Of(r.App.Name, struct{}{}, struct{}{}), first).Silent = true
	if err := planStandIns(r, replacements, first); err != nil {
		return err
	}
	for _, p := range replacements {
		for _, h := range p.hosts {
			if !h.hasFresh && keepsBoth(r, p, h) {
				planBeside(r, p, h)
			}
		}
		if keepsBoth(r, p, p.hosts[0]) {
			planFirstLogin(r, p, p.Account.Name, p.fresh)
		}
		for _, h := range p.hosts {
			if !h.hasFresh && !keepsBoth(r, p, h) {
				planReplacing(r, p, h)
			}
		}
	}
	var errs []error
	for _, p := range replacements {
		for _, f := range p.files {
			if f.password.Reveal() != p.fresh.Reveal() {
				errs = append(errs, planPassword(r, f, last, p.Account.Name, p.fresh))
			}
		}
	}
	planProof(r, replacements, last)
	waited := false
	for _, p := range replacements {
		for _, h := range p.hosts {
			if keepsBoth(r, p, h) && (!h.hasFresh || h.SecondMethod) {
				planEnding(r, p, h, &waited)
			}
		}
		if p.StandIn != nil {
			planStandInsEnd(r, p, &waited)
		}
	}
	for _, p := range replacements {
		r.Plan.Prove(work.StepAccount, "new password of "+p.Account.Name+" in the state folder", func(ctx context.Context) error { return settleRotation(r, ctx, p) })
	}
	return errors.Join(errs...)
}

// planProof has commands run for new settings, and logins made with them.
func planProof(r *work.Run, replacements []*Replacement, files *work.Publication) {
	if len(files.Files) > 0 {
		r.Plan.Prove(work.StepSettings, "commands after the change of settings", func(ctx context.Context) error {
			forEachRun(r, replacements, func(of *work.Run) { of.AfterSettingsChange(ctx) })
			return nil
		})
	}
	if slices.ContainsFunc(replacements, func(p *Replacement) bool { return len(p.files) > 0 }) {
		r.Plan.Prove(work.StepLogin, "login with the settings", func(ctx context.Context) error { return proveSettings(r, ctx, replacements) })
	}
}

// waitOnce lets PHP forget the old settings.
func waitOnce(r *work.Run, ctx context.Context, waited *bool) error {
	if *waited {
		return nil
	}
	*waited = true
	select {
	case <-time.After(r.Options.Rotation.Overlap):
		return nil
	case <-ctx.Done():
		return fault.Stopped(ctx.Err())
	}
}

// keepsBoth reports whether an account has the new password beside the old one for a
// while.
func keepsBoth(r *work.Run, p *Replacement, h *replaced) bool {
	method := p.Account.Auth
	fits := len(p.files) > 0 && h.Verifier.IsKnown() && slices.Contains(work.Restorable, h.Verifier.Method()) && (method == "" || method == h.Verifier.Method())
	return r.Estate.Servers[r.App.Server].DBMS.Traits().TwoPasswords && !r.Options.Rotation.Leaked && fits
}

// planBeside gives an account the new password beside its own.
func planBeside(r *work.Run, p *Replacement, h *replaced) {
	own := h.Verifier
	shown := r.View.Server.AddVerifier(h.Account, secret.NoVerifier(own.Method()), secret.NoVerifier(own.Method()))
	planPasswordChange(r, work.Row{Step: work.StepAccount, Outcome: work.Changed, Facts: fmt.Sprintf("%s, %s beside the old one", h.Account, p.source), SQL: work.Texts(shown)}, p, h,
		func(ctx context.Context, touched *bool) (string, error) {
			fresh := r.View.Server.Verifier(h.Account, p.fresh, own.Method())
			if err := r.Send(ctx, touched, r.View.Server.AddVerifier(h.Account, fresh, own)...); err != nil {
				return "", err
			}
			return "", holds(r, ctx, h, fresh, own)
		})
}

// planPasswordChange has an account's password changed; the new one is in the state folder
// before.
func planPasswordChange(r *work.Run, row work.Row, p *Replacement, h *replaced, set func(ctx context.Context, touched *bool) (string, error)) {
	change := &steps.PasswordChange{Old: steps.OldPassword{Verifier: h.Verifier}, Set: set, Note: func() error { return r.State.SetPending(r.Rotating(h.User), p.fresh) }}
	kind := steps.PasswordSet
	if r.Options.Rotation.Leaked {
		kind, change.Old = steps.PasswordLeaked, steps.OldPassword{}
	} else if !change.Old.IsKnown() {
		if i := slices.IndexFunc(p.files, func(f *accountFile) bool { return f.password.Reveal() != p.fresh.Reveal() }); i >= 0 {
			change.Old = steps.OldPassword{Password: p.files[i].password}
		}
	}
	r.Plan.Change(row, kind.Of(h.String(), steps.PasswordState{Method: h.Verifier.Method()}, steps.PasswordState{Source: p.source, Noted: true}), change)
}

// holds compares what the server keeps now with what it was given.
func holds(r *work.Run, ctx context.Context, h *replaced, wanted ...secret.Verifier) error {
	stored, err := r.View.Server.StoredVerifiers(ctx, h.Account)
	if err != nil || len(stored) == 0 { // else it may not be read, and the login proves it
		return err
	}
	if !slices.EqualFunc(stored, wanted, secret.Verifier.Equal) {
		return fault.New(fault.Failed, "somebody else is changing it; look at the account, and run the command again",
			"server %s keeps %s for %s, and not those that it was given", r.App.Server, figures.Counted(len(stored), "password", "passwords"), h.Account)
	}
	return nil
}

// planReplacing puts the new password in the place of the old one, where an account can
// have but one, or is to.
func planReplacing(r *work.Run, p *Replacement, h *replaced) {
	method := p.Account.Auth
	why := "in the place of the old one"
	if r.Options.Rotation.Leaked {
		why = "and the old one and its sessions are ended"
	}
	row := work.Row{Step: work.StepAccount, Outcome: work.Changed, Facts: fmt.Sprintf("%s, %s %s", h.Account, p.source, why), SQL: work.Texts(r.View.Server.SetVerifier(h.Account, secret.NoVerifier(method)))}
	planPasswordChange(r, row, p, h, func(ctx context.Context, touched *bool) (string, error) {
		if p.begun.IsZero() && p.StandIn == nil {
			p.begun = time.Now()
		}
		fresh := r.View.Server.Verifier(h.Account, p.fresh, method)
		err := r.Send(ctx, touched, r.View.Server.SetVerifier(h.Account, fresh)...)
		facts, err := steps.AfterPassword(r, ctx, touched, h.Account, &work.Credential{Password: p.fresh, Source: p.source}, fresh, err, r.View.Server.SetPasswordInPlain(h.Account, p.fresh))
		if err == nil && r.Options.Rotation.Leaked {
			err = r.View.Server.EndSessions(ctx, h.Account)
		}
		return facts, err
	})
}

// planFirstLogin proves a new login before any file has it.
func planFirstLogin(r *work.Run, p *Replacement, user string, password secret.Password) {
	r.Plan.Prove(work.StepLogin, "login as "+user+" with the new password", func(ctx context.Context) error {
		f := p.files[0]
		has, err := f.of.ReadFacts(f.path, f.settings.Values)
		if err != nil {
			return err
		}
		if has["host"] == "" && has["socket"] == "" {
			has["host"], has["port"] = f.of.Facts(p.Account, secret.Password{})["host"], f.of.Facts(p.Account, secret.Password{})["port"]
		}
		login := dbms.Login{Server: r.App.Server, Address: f.of.AddressFrom(has), User: user, Password: password, Database: f.of.App.DatabasesOf(f.of.App.AccountOf(f.settings))[0].Name}
		err = r.ProveLogin(ctx, login)
		if err != nil && proof.TellOtherHost(f.of, ctx, f.settings, login, err) {
			return nil
		}
		if err != nil {
			return err
		}
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Verified, Facts: fmt.Sprintf("as %s with the new password through %s", user, proof.ThroughWhat(login.Address))})
		return nil
	})
}

// planPassword writes a login into a settings file, and nothing else, unless the file is lost
// anyway.
func planPassword(r *work.Run, f *accountFile, in *work.Publication, user string, password secret.Password) error {
	file, err := f.of.OpenSettings(f.path)
	if err != nil {
		return err
	}
	if before := r.Plan.Settings.Content(f.path); before != nil { // it is written twice
		if file, err = settings.Parse(f.path, before); err != nil {
			return err
		}
	}
	facts := f.of.Facts(f.of.App.AccountOf(f.settings), password)
	has, _ := f.of.ReadFacts(f.path, f.settings.Values)
	for name, value := range has {
		if name != "password" && value != "" && !f.lost {
			facts[name] = value
		}
	}
	other := has["user"] != "" && has["user"] != user
	facts["user"] = user
	var changes []settings.Change
	for _, value := range f.settings.Values {
		if holds := value.Text.Uses("password"); holds || value.Text.Uses("user") || f.lost {
			changes = append(changes, settings.Change{Address: value.Address, Value: value.Text.Fill(facts), ReplaceExpression: f.settings.ReplaceExpression, Secret: holds, Role: steps.RoleOf(value)})
		}
	}
	after, err := file.With(changes)
	if err != nil {
		return err
	}
	attributes, err := f.of.Attributes(f.path)
	if err != nil {
		return err
	}
	if err := f.of.WritableFolder(f.path); err != nil {
		return err
	}
	published := in.Add(&work.PublishedFile{Of: f.of, Path: f.path, Content: after.Bytes(), Read: file.Bytes(), Attributes: attributes})
	shown := f.settings.File
	if f.of != r {
		shown = "app " + f.of.App.Name + ", " + shown
	}
	what := "password of " + user
	switch {
	case f.lost:
		what = figures.Counted(len(changes), "value", "values")
	case other || user != f.of.App.AccountOf(f.settings).Name:
		what = "user and password of " + user
	}
	steps.PlanPublishing(r, work.Row{Step: work.StepSettings, Outcome: work.Written, Facts: shown + ": " + what}, published)
	return nil
}

// proveSettings logs in with what the settings say now. The old password stays where that
// fails.
func proveSettings(r *work.Run, ctx context.Context, replacements []*Replacement) error {
	for _, p := range replacements {
		if !p.begun.IsZero() && len(p.files) > 0 {
			r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Note, Facts: fmt.Sprintf("for %.2f s no settings had a password that %s could log in with; PHP's opcode cache may serve an old file for longer", time.Since(p.begun).Seconds(), p.Account.Name)})
		}
	}
	before := r.Result.Exit
	forEachRun(r, replacements, func(of *work.Run) { proof.CheckLogins(of, ctx) })
	if r.Result.Exit != before && r.Result.Exit == fault.Failed.ExitCode() {
		return fault.New(fault.Failed, "correct what is named above, then yellowfield rotate "+r.App.Name+", which goes on from here", "a login with the new settings fails, so that the old password is not ended")
	}
	return nil
}

// planEnding ends the old password, some time after the settings have the new one.
func planEnding(r *work.Run, p *Replacement, h *replaced, waited *bool) {
	shown := r.View.Server.DropOlder(h.Account, secret.NoVerifier(h.Verifier.Method()))
	facts := fmt.Sprintf("the old password of %s, %s after the settings have the new one; until then both were valid", h.Account, r.Options.Rotation.Overlap)
	r.Plan.Change(work.Row{Step: work.StepAccount, Outcome: work.Removed, Facts: facts, SQL: work.Texts(shown)}, passwordEnded.Of(h.String(), struct{}{}, struct{}{}), &endedPassword{p, h, waited})
}

// endedPassword is the older one of two.
type endedPassword struct {
	of     *Replacement
	on     *replaced
	waited *bool
}

// passwordEnded is one kind of change, see init.
var passwordEnded = effect.Define[*work.Run, struct{}](&work.Kinds, "password-ended")

func init() {
	passwordEnded.Means(effect.Spec[*work.Run, struct{}]{
		Object: func(c effect.Change[struct{}]) string { return "old password of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			return "", endPassword(r, ctx, &d.Touched, d.Material.(*endedPassword))
		},
		Kept: func(r *work.Run, _ effect.Change[struct{}]) (why, next string) {
			return "the run has ended a password, and it is kept nowhere", "yellowfield rotate " + r.App.Name + " makes a new one"
		},
	})
}

func endPassword(r *work.Run, ctx context.Context, touched *bool, of *endedPassword) error {
	p, h := of.of, of.on
	if err := waitOnce(r, ctx, of.waited); err != nil {
		return err
	}
	stored, err := r.View.Server.StoredVerifiers(ctx, h.Account)
	if err != nil {
		return err
	}
	fresh := r.View.Server.Verifier(h.Account, p.fresh, h.Verifier.Method())
	if len(stored) > 0 { // it may have a salt
		if matches, known := p.fresh.Matches(h.User, stored[0]); known && !matches {
			return fault.New(fault.Protected, "find out who changes it, and run the command again", "server %s: %s has another password now than the new one", r.App.Server, h.Account)
		}
		fresh = stored[0]
	}
	if err := r.Send(ctx, touched, r.View.Server.DropOlder(h.Account, fresh)...); err != nil {
		return err
	}
	return holds(r, ctx, h, fresh)
}

// oldIsGone tries the old password where the server does not let its verifiers be read: a
// login that fails may count against the account elsewhere.
func oldIsGone(r *work.Run, ctx context.Context, p *Replacement, h *replaced) error {
	i := slices.IndexFunc(p.files, func(f *accountFile) bool { return f.password.Reveal() != p.fresh.Reveal() && !p.standsIn(f) })
	if h.Verifier.IsKnown() || i < 0 {
		return nil
	}
	if !r.Lets(ctx, dbms.Login{Server: r.App.Server, Address: r.View.Entry.Address(), User: h.User, Password: p.files[i].password, Database: r.App.Database.Name}) {
		return nil
	}
	return fault.New(fault.Failed, "look at the account, and at the rules by which the server lets it in", "server %s: %s can still log in with the old password", r.App.Server, h.Account)
}

// settleRotation forgets the new password, which the settings have, or keeps it for whoever
// is to have it.
func settleRotation(r *work.Run, ctx context.Context, p *Replacement) error {
	for _, h := range p.hosts {
		if err := oldIsGone(r, ctx, p, h); err != nil {
			return err
		}
	}
	if len(p.files) == 0 && p.Account.Password == nil {
		if err := r.State.SetPending(r.StateAccount(p.Account.Name), p.fresh); err != nil {
			return err
		}
	} else if err := r.State.DropPending(r.StateAccount(p.Account.Name)); err != nil {
		return err
	}
	if len(p.files) == 0 {
		r.Tell(work.Row{Step: work.StepAccount, Outcome: work.Note, Facts: p.Account.Name + " is in no settings file: give the new password to whoever uses it", Remedy: "yellowfield connection " + r.App.Name + " --account " + p.Account.Name + " --reveal"})
	}
	if p.StandIn != nil {
		if err := r.State.DropPending(r.Rotating(p.StandIn.User)); err != nil {
			return err
		}
	}
	return r.State.DropPending(r.Rotating(p.Account.Name))
}

// unfinishedRotation names the accounts of the app whose password was being changed when a
// run was cut off.
func unfinishedRotation(r *work.Run) (names []string, err error) {
	for _, account := range r.App.Accounts {
		_, found, err := r.State.Pending(r.Rotating(account.Name))
		if err != nil {
			return nil, err
		}
		if found {
			names = append(names, account.Name)
		}
	}
	return names, nil
}

// FinishRotation goes on with a rotation that was cut off, and looks anew.
func FinishRotation(r *work.Run, ctx context.Context) error {
	names, err := unfinishedRotation(r)
	if err != nil || len(names) == 0 || r.Options.DryRun || !r.View.AsAdmin() {
		return err
	}
	asked := r.Options
	defer func() { r.Options = asked }()
	for _, name := range names {
		r.Options = work.Options{Command: asked.Command, Rotation: &work.Rotation{Account: name, Overlap: work.Overlap}}
		if err := Rotate(r, ctx); err != nil {
			return err
		}
		if err := r.Look(ctx); err != nil {
			return err
		}
	}
	return nil
}

// PlanUnfinishedRotation tells of a rotation that was cut off.
func PlanUnfinishedRotation(r *work.Run, _ context.Context) error {
	names, err := unfinishedRotation(r)
	for _, name := range names {
		r.Plan.Differs(work.StepAccount, estate.MustFix, "yellowfield rotate "+r.App.Name, "the change of "+name+"'s password was cut off")
	}
	return err
}
