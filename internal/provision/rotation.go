package provision

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
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
)

// planRotation makes the plan: all files are prepared before anything changes, both
// passwords are valid while they are put in place, or applications work as another role,
// and the old one is ended last.
func (r *run) planRotation(replacements []*replacement) error {
	if len(replacements) == 0 {
		return nil
	}
	first, last := r.plan.settings, r.plan.settings
	if slices.ContainsFunc(replacements, func(p *replacement) bool { return p.standIn != nil }) {
		last = &publication{} // the files are written twice
	}
	r.plan.change(Row{Step: stepSettings}, filesPrepared.Of(r.app.Name, struct{}{}, struct{}{}), first).silent = true
	if err := r.planStandIns(replacements, first); err != nil {
		return err
	}
	for _, p := range replacements {
		for _, h := range p.hosts {
			if !h.hasFresh && r.keepsBoth(p, h) {
				r.planBeside(p, h)
			}
		}
		if r.keepsBoth(p, p.hosts[0]) {
			r.planFirstLogin(p, p.account.Name, p.fresh)
		}
		for _, h := range p.hosts {
			if !h.hasFresh && !r.keepsBoth(p, h) {
				r.planReplacing(p, h)
			}
		}
	}
	var errs []error
	for _, p := range replacements {
		for _, f := range p.files {
			if f.password.Reveal() != p.fresh.Reveal() {
				errs = append(errs, r.planPassword(f, last, p.account.Name, p.fresh))
			}
		}
	}
	r.planProof(replacements, last)
	waited := false
	for _, p := range replacements {
		for _, h := range p.hosts {
			if r.keepsBoth(p, h) && (!h.hasFresh || h.SecondMethod) {
				r.planEnding(p, h, &waited)
			}
		}
		if p.standIn != nil {
			r.planStandInsEnd(p, &waited)
		}
	}
	for _, p := range replacements {
		r.plan.prove(stepAccount, "new password of "+p.account.Name+" in the state folder", func(ctx context.Context) error { return r.settleRotation(ctx, p) })
	}
	return errors.Join(errs...)
}

// planProof has commands run for new settings, and logins made with them.
func (r *run) planProof(replacements []*replacement, files *publication) {
	if len(files.files) > 0 {
		r.plan.prove(stepSettings, "commands after the change of settings", func(ctx context.Context) error {
			r.on(replacements, func(of *run) { of.afterSettingsChange(ctx) })
			return nil
		})
	}
	if slices.ContainsFunc(replacements, func(p *replacement) bool { return len(p.files) > 0 }) {
		r.plan.prove(stepLogin, "login with the settings", func(ctx context.Context) error { return r.proveSettings(ctx, replacements) })
	}
}

// waitOnce lets PHP forget the old settings.
func (r *run) waitOnce(ctx context.Context, waited *bool) error {
	if *waited {
		return nil
	}
	*waited = true
	select {
	case <-time.After(r.options.Rotation.Overlap):
		return nil
	case <-ctx.Done():
		return fault.Stopped(ctx.Err())
	}
}

// keepsBoth reports whether an account has the new password beside the old one for a
// while.
func (r *run) keepsBoth(p *replacement, h *replaced) bool {
	method := p.account.Auth
	fits := len(p.files) > 0 && h.Verifier.IsKnown() && slices.Contains(restorable, h.Verifier.Method()) && (method == "" || method == h.Verifier.Method())
	return r.Estate.Servers[r.app.Server].DBMS.Traits().TwoPasswords && !r.options.Rotation.Leaked && fits
}

// planBeside gives an account the new password beside its own.
func (r *run) planBeside(p *replacement, h *replaced) {
	own := h.Verifier
	shown := r.view.server.AddVerifier(h.Account, secret.NoVerifier(own.Method()), secret.NoVerifier(own.Method()))
	r.planPasswordChange(Row{Step: stepAccount, Outcome: Changed, Facts: fmt.Sprintf("%s, %s beside the old one", h.Account, p.source), SQL: texts(shown)}, p, h,
		func(ctx context.Context, touched *bool) (string, error) {
			fresh := r.view.server.Verifier(h.Account, p.fresh, own.Method())
			if err := r.send(ctx, touched, r.view.server.AddVerifier(h.Account, fresh, own)...); err != nil {
				return "", err
			}
			return "", r.holds(ctx, h, fresh, own)
		})
}

// planPasswordChange has an account's password changed; the new one is in the state folder
// before.
func (r *run) planPasswordChange(row Row, p *replacement, h *replaced, set func(ctx context.Context, touched *bool) (string, error)) {
	change := &passwordChange{old: oldPassword{verifier: h.Verifier}, set: set, note: func() error { return r.State.SetPending(r.rotating(h.User), p.fresh) }}
	kind := passwordSet
	if r.options.Rotation.Leaked {
		kind, change.old = passwordLeaked, oldPassword{}
	} else if !change.old.isKnown() {
		if i := slices.IndexFunc(p.files, func(f *accountFile) bool { return f.password.Reveal() != p.fresh.Reveal() }); i >= 0 {
			change.old = oldPassword{password: p.files[i].password}
		}
	}
	r.plan.change(row, kind.Of(h.String(), passwordState{Method: h.Verifier.Method()}, passwordState{Source: p.source, Noted: true}), change)
}

// holds compares what the server keeps now with what it was given.
func (r *run) holds(ctx context.Context, h *replaced, wanted ...secret.Verifier) error {
	stored, err := r.view.server.StoredVerifiers(ctx, h.Account)
	if err != nil || len(stored) == 0 { // else it may not be read, and the login proves it
		return err
	}
	if !slices.EqualFunc(stored, wanted, secret.Verifier.Equal) {
		return fault.New(fault.Failed, "somebody else is changing it; look at the account, and run the command again",
			"server %s keeps %s for %s, and not those that it was given", r.app.Server, figures.Counted(len(stored), "password", "passwords"), h.Account)
	}
	return nil
}

// planReplacing puts the new password in the place of the old one, where an account can
// have but one, or is to.
func (r *run) planReplacing(p *replacement, h *replaced) {
	method := p.account.Auth
	why := "in the place of the old one"
	if r.options.Rotation.Leaked {
		why = "and the old one and its sessions are ended"
	}
	row := Row{Step: stepAccount, Outcome: Changed, Facts: fmt.Sprintf("%s, %s %s", h.Account, p.source, why), SQL: texts(r.view.server.SetVerifier(h.Account, secret.NoVerifier(method)))}
	r.planPasswordChange(row, p, h, func(ctx context.Context, touched *bool) (string, error) {
		if p.begun.IsZero() && p.standIn == nil {
			p.begun = time.Now()
		}
		fresh := r.view.server.Verifier(h.Account, p.fresh, method)
		err := r.send(ctx, touched, r.view.server.SetVerifier(h.Account, fresh)...)
		facts, err := r.afterPassword(ctx, touched, h.Account, &credential{password: p.fresh, source: p.source}, fresh, err, r.view.server.SetPasswordInPlain(h.Account, p.fresh))
		if err == nil && r.options.Rotation.Leaked {
			err = r.view.server.EndSessions(ctx, h.Account)
		}
		return facts, err
	})
}

// planFirstLogin proves a new login before any file has it.
func (r *run) planFirstLogin(p *replacement, user string, password secret.Password) {
	r.plan.prove(stepLogin, "login as "+user+" with the new password", func(ctx context.Context) error {
		f := p.files[0]
		has, err := f.of.readFacts(f.path, f.settings.Values)
		if err != nil {
			return err
		}
		if has["host"] == "" && has["socket"] == "" {
			has["host"], has["port"] = f.of.facts(p.account, secret.Password{})["host"], f.of.facts(p.account, secret.Password{})["port"]
		}
		login := dbms.Login{Server: r.app.Server, Address: f.of.addressFrom(has), User: user, Password: password, Database: f.of.app.DatabasesOf(f.of.app.AccountOf(f.settings))[0].Name}
		err = r.proveLogin(ctx, login)
		if err != nil && f.of.tellOtherHost(ctx, f.settings, login, err) {
			return nil
		}
		if err != nil {
			return err
		}
		r.tell(Row{Step: stepLogin, Outcome: Verified, Facts: fmt.Sprintf("as %s with the new password through %s", user, throughWhat(login.Address))})
		return nil
	})
}

// planPassword writes a login into a settings file, and nothing else, unless the file is lost
// anyway.
func (r *run) planPassword(f *accountFile, in *publication, user string, password secret.Password) error {
	file, err := f.of.openSettings(f.path)
	if err != nil {
		return err
	}
	if before := r.plan.settings.content(f.path); before != nil { // it is written twice
		if file, err = settings.Parse(f.path, before); err != nil {
			return err
		}
	}
	facts := f.of.facts(f.of.app.AccountOf(f.settings), password)
	has, _ := f.of.readFacts(f.path, f.settings.Values)
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
			changes = append(changes, settings.Change{Address: value.Address, Value: value.Text.Fill(facts), ReplaceExpression: f.settings.ReplaceExpression, Secret: holds, Role: roleOf(value)})
		}
	}
	after, err := file.With(changes)
	if err != nil {
		return err
	}
	attributes, err := f.of.attributes(f.path)
	if err != nil {
		return err
	}
	if err := f.of.writableFolder(f.path); err != nil {
		return err
	}
	published := in.add(&publishedFile{of: f.of, path: f.path, content: after.Bytes(), read: file.Bytes(), attributes: attributes})
	shown := f.settings.File
	if f.of != r {
		shown = "app " + f.of.app.Name + ", " + shown
	}
	what := "password of " + user
	switch {
	case f.lost:
		what = figures.Counted(len(changes), "value", "values")
	case other || user != f.of.app.AccountOf(f.settings).Name:
		what = "user and password of " + user
	}
	r.planPublishing(Row{Step: stepSettings, Outcome: Written, Facts: shown + ": " + what}, published)
	return nil
}

// proveSettings logs in with what the settings say now. The old password stays where that
// fails.
func (r *run) proveSettings(ctx context.Context, replacements []*replacement) error {
	for _, p := range replacements {
		if !p.begun.IsZero() && len(p.files) > 0 {
			r.tell(Row{Step: stepLogin, Outcome: Note, Facts: fmt.Sprintf("for %.2f s no settings had a password that %s could log in with; PHP's opcode cache may serve an old file for longer", time.Since(p.begun).Seconds(), p.account.Name)})
		}
	}
	before := r.result.Exit
	r.on(replacements, func(of *run) { of.checkLogins(ctx) })
	if r.result.Exit != before && r.result.Exit == fault.Failed.ExitCode() {
		return fault.New(fault.Failed, "correct what is named above, then yellowfield rotate "+r.app.Name+", which goes on from here", "a login with the new settings fails, so that the old password is not ended")
	}
	return nil
}

// planEnding ends the old password, some time after the settings have the new one.
func (r *run) planEnding(p *replacement, h *replaced, waited *bool) {
	shown := r.view.server.DropOlder(h.Account, secret.NoVerifier(h.Verifier.Method()))
	facts := fmt.Sprintf("the old password of %s, %s after the settings have the new one; until then both were valid", h.Account, r.options.Rotation.Overlap)
	r.plan.change(Row{Step: stepAccount, Outcome: Removed, Facts: facts, SQL: texts(shown)}, passwordEnded.Of(h.String(), struct{}{}, struct{}{}), &endedPassword{p, h, waited})
}

// endedPassword is the older one of two.
type endedPassword struct {
	of     *replacement
	on     *replaced
	waited *bool
}

// passwordEnded is one kind of change, see init.
var passwordEnded = effect.Define[*run, struct{}](&kinds, "password-ended")

func init() {
	passwordEnded.Means(effect.Spec[*run, struct{}]{
		Object: func(c effect.Change[struct{}]) string { return "old password of " + c.Subject },
		Do: func(r *run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			return "", r.endPassword(ctx, &d.Touched, d.Material.(*endedPassword))
		},
		Kept: func(r *run, _ effect.Change[struct{}]) (why, next string) {
			return "the run has ended a password, and it is kept nowhere", "yellowfield rotate " + r.app.Name + " makes a new one"
		},
	})
}

func (r *run) endPassword(ctx context.Context, touched *bool, of *endedPassword) error {
	p, h := of.of, of.on
	if err := r.waitOnce(ctx, of.waited); err != nil {
		return err
	}
	stored, err := r.view.server.StoredVerifiers(ctx, h.Account)
	if err != nil {
		return err
	}
	fresh := r.view.server.Verifier(h.Account, p.fresh, h.Verifier.Method())
	if len(stored) > 0 { // it may have a salt
		if matches, known := p.fresh.Matches(h.User, stored[0]); known && !matches {
			return fault.New(fault.Protected, "find out who changes it, and run the command again", "server %s: %s has another password now than the new one", r.app.Server, h.Account)
		}
		fresh = stored[0]
	}
	if err := r.send(ctx, touched, r.view.server.DropOlder(h.Account, fresh)...); err != nil {
		return err
	}
	return r.holds(ctx, h, fresh)
}

// oldIsGone tries the old password where the server does not let its verifiers be read: a
// login that fails may count against the account elsewhere.
func (r *run) oldIsGone(ctx context.Context, p *replacement, h *replaced) error {
	i := slices.IndexFunc(p.files, func(f *accountFile) bool { return f.password.Reveal() != p.fresh.Reveal() && !p.standsIn(f) })
	if h.Verifier.IsKnown() || i < 0 {
		return nil
	}
	if !r.lets(ctx, dbms.Login{Server: r.app.Server, Address: r.view.entry.Address(), User: h.User, Password: p.files[i].password, Database: r.app.Database.Name}) {
		return nil
	}
	return fault.New(fault.Failed, "look at the account, and at the rules by which the server lets it in", "server %s: %s can still log in with the old password", r.app.Server, h.Account)
}

// settleRotation forgets the new password, which the settings have, or keeps it for whoever
// is to have it.
func (r *run) settleRotation(ctx context.Context, p *replacement) error {
	for _, h := range p.hosts {
		if err := r.oldIsGone(ctx, p, h); err != nil {
			return err
		}
	}
	if len(p.files) == 0 && p.account.Password == nil {
		if err := r.State.SetPending(r.stateAccount(p.account.Name), p.fresh); err != nil {
			return err
		}
	} else if err := r.State.DropPending(r.stateAccount(p.account.Name)); err != nil {
		return err
	}
	if len(p.files) == 0 {
		r.tell(Row{Step: stepAccount, Outcome: Note, Facts: p.account.Name + " is in no settings file: give the new password to whoever uses it", Remedy: "yellowfield connection " + r.app.Name + " --account " + p.account.Name + " --reveal"})
	}
	if p.standIn != nil {
		if err := r.State.DropPending(r.rotating(p.standIn.User)); err != nil {
			return err
		}
	}
	return r.State.DropPending(r.rotating(p.account.Name))
}

// unfinishedRotation names the accounts of the app whose password was being changed when a
// run was cut off.
func (r *run) unfinishedRotation() (names []string, err error) {
	for _, account := range r.app.Accounts {
		_, found, err := r.State.Pending(r.rotating(account.Name))
		if err != nil {
			return nil, err
		}
		if found {
			names = append(names, account.Name)
		}
	}
	return names, nil
}

// finishRotation goes on with a rotation that was cut off, and looks anew.
func (r *run) finishRotation(ctx context.Context) error {
	names, err := r.unfinishedRotation()
	if err != nil || len(names) == 0 || r.options.DryRun || !r.view.asAdmin() {
		return err
	}
	asked := r.options
	defer func() { r.options = asked }()
	for _, name := range names {
		r.options = Options{Command: asked.Command, Rotation: &Rotation{Account: name, Overlap: Overlap}}
		if err := r.rotate(ctx); err != nil {
			return err
		}
		if err := r.look(ctx); err != nil {
			return err
		}
	}
	return nil
}

// planUnfinishedRotation tells of a rotation that was cut off.
func (r *run) planUnfinishedRotation(context.Context) error {
	names, err := r.unfinishedRotation()
	for _, name := range names {
		r.plan.differs(stepAccount, estate.MustFix, "yellowfield rotate "+r.app.Name, "the change of "+name+"'s password was cut off")
	}
	return err
}
