package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/state"
)

// Rotation says how passwords are changed.
type Rotation struct {
	Account string // only this one's; empty for all that settings files get
	// Overlap is how long the old password stays valid beside the new one when the settings
	// have that: PHP's opcode cache may serve the old file.
	Overlap time.Duration
	// Leaked ends the old password and its sessions first.
	Leaked bool
	// OlderThan leaves younger passwords alone.
	OlderThan time.Duration
	// Password is where the new one comes from; nil for one that is made.
	Password *secret.Source
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
}

// Overlap is how long both passwords are valid where nothing else is said.
const Overlap = 10 * time.Second

// Rotate changes the passwords of apps' accounts, on the server and in the settings.
func (e *Engine) Rotate(ctx context.Context, apps []*estate.App, options Options) ([]Result, error) {
	return e.each(ctx, apps, options, (*run).rotate)
}

// replacement is one account's new password on its way.
type replacement struct {
	account *estate.Account
	fresh   secret.Password
	source  string
	files   []*accountFile
	hosts   []*replaced
	begun   time.Time // when the old password ended before the settings had the new one
}

// accountFile is a settings file that holds an account's password, of the app or of
// another one that has the same account.
type accountFile struct {
	of       *run
	settings *estate.Settings
	path     string
	password secret.Password
}

// replaced is an account of the server, as it is found.
type replaced struct {
	dbms.AccountState
	hasFresh bool // its own password is the new one already
}

func (r *run) rotate(ctx context.Context) error {
	if !r.view.asAdmin() {
		return &stepError{stepAccount, r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin, or ask whoever made the account", "changing a password takes an administrator")}
	}
	r.plan = r.emptyPlan()
	replacements, err := r.replacements(ctx)
	if err == nil {
		err = r.planRotation(replacements)
	}
	if err != nil {
		return r.tellPlanFaults(err)
	}
	if !r.hasWork() {
		for _, s := range r.plan.steps {
			r.tell(s.Row)
		}
		return nil
	}
	release, err := r.lockOthers(ctx, replacements)
	if err != nil {
		return err
	}
	defer release()
	if err := r.tellSessions(ctx, replacements); err != nil {
		return err
	}
	ask := r.options.Rotation.Confirm
	if r.options.DryRun || ask != nil {
		r.preview()
	}
	if r.options.DryRun {
		return nil
	}
	if ask != nil && !ask(r.app.Name) {
		return &stepError{stepAccount, fault.New(fault.Protected, "answer yes, or add --yes", "nothing was done")}
	}
	if err := r.execute(ctx); err != nil {
		return &toldError{err}
	}
	return nil
}

// replacements looks at the accounts whose passwords are to be changed.
func (r *run) replacements(ctx context.Context) (all []*replacement, err error) {
	var errs []error
	chosen := r.options.Rotation.Account
	if chosen != "" && !slices.ContainsFunc(r.app.Accounts, func(a *estate.Account) bool { return a.Name == chosen }) {
		return nil, &stepError{stepAccount, r.Estate.Fault(fault.Invalid, r.path("accounts"), "see its accounts in the estate file", "app %s has no account %q", r.app.Name, chosen)}
	}
	for _, account := range r.app.Accounts {
		switch {
		case chosen != "" && account.Name != chosen:
			continue
		case chosen == "" && !InSettings(r.app, account.Name):
			r.plan.note(stepAccount, "yellowfield rotate "+r.app.Name+" --account "+account.Name, account.Name+" is in no settings file, and keeps its password")
			continue
		}
		p, err := r.replacement(ctx, account)
		if err != nil {
			errs = append(errs, &stepError{stepAccount, err})
		} else if p != nil {
			all = append(all, p)
		}
	}
	return all, errors.Join(errs...)
}

// replacement looks at one account: nil where its password is young enough.
func (r *run) replacement(ctx context.Context, account *estate.Account) (*replacement, error) {
	p := &replacement{account: account}
	fresh, cutOff, err := r.State.Pending(r.rotating(account.Name))
	if err != nil {
		return nil, err
	}
	age, known, err := r.ageOf(account)
	if err != nil {
		return nil, err
	}
	if limit := r.options.Rotation.OlderThan; limit > 0 && !cutOff && known && age < limit {
		r.plan.keep(stepAccount, fmt.Sprintf("%s, its password is %s old, which is young enough", account.Name, figures.Counted(int(age.Hours()/24), "day", "days")))
		return nil, nil
	}
	if p.files, err = r.filesOf(account); err != nil {
		return nil, err
	}
	if cutOff {
		p.fresh, p.source = fresh, "the new password of a rotation that was cut off"
		for _, f := range p.files { // another app's, too
			if err := f.of.sweep(); err != nil {
				return nil, err
			}
		}
	} else if err := r.makeFresh(ctx, p); err != nil {
		return nil, err
	}
	for _, a := range r.accountsOf(account) {
		found, exists := r.view.catalogue.Accounts[a]
		if !exists {
			return nil, r.Estate.Fault(fault.Invalid, r.path("accounts"), "yellowfield provision "+r.app.Name+" first", "server %s has no account %s", r.app.Server, a)
		}
		h := &replaced{AccountState: found}
		h.hasFresh, _ = p.fresh.Matches(a.User, found.Verifier)
		p.hosts = append(p.hosts, h)
		for _, f := range p.files {
			matches, known := r.matches(ctx, found, f.password)
			ended := cutOff && h.hasFresh // where an account keeps one password
			if known && !matches && !ended && !isOlder(found, f.password) && f.password.Reveal() != p.fresh.Reveal() {
				return nil, fault.At(fault.Protected, *f.place(), "yellowfield provision "+f.of.app.Name+" --fix server-password, or --fix settings, first: one of them is not as it should be",
					"the password in %s is none that %s can log in with", f.settings.File, a)
			}
		}
		if h.hasFresh && !cutOff {
			return nil, fault.New(fault.Invalid, "change it at its source first", "the %s is the one that %s has already", p.source, a)
		}
	}
	return p, nil
}

func (f *accountFile) place() *fault.Place {
	if place := f.of.placeOfFact(f.path, f.settings.Values, "password"); place != nil {
		return place
	}
	return &fault.Place{File: f.path}
}

// rotating is where the new password is kept until the settings have it and the old one is
// ended: not where the one lies that is valid now.
func (r *run) rotating(user string) state.Account {
	account := r.stateAccount(user)
	account.Address += " rotating"
	return account
}

func (r *run) makeFresh(ctx context.Context, p *replacement) error {
	source := r.options.Rotation.Password
	if source == nil && p.account.Password != nil {
		source = &p.account.Password.Source
	}
	p.fresh, p.source = secret.Generate(), fmt.Sprintf("new password of %d characters", secret.GeneratedLength)
	if source == nil {
		return nil
	}
	var err error
	p.fresh, err = source.Obtain(ctx, "account "+p.account.Name, r.Ask)
	p.source = "password as given"
	return err
}

// ageOf is how old an account's password is, by the server, else by the journal.
func (r *run) ageOf(account *estate.Account) (age time.Duration, known bool, err error) {
	var newest time.Time
	for _, a := range r.accountsOf(account) {
		changed := r.view.catalogue.Accounts[a].Changed
		if changed.IsZero() {
			if changed, err = r.State.LastDone(r.Estate.Path, r.app.Name, "account "+a.String(), "password of "+a.String()); err != nil {
				return 0, false, err
			}
		}
		if changed.After(newest) {
			newest = changed
		}
	}
	return time.Since(newest), !newest.IsZero(), nil
}

// filesOf lists the settings files with an account's password: the app's, and those of
// other apps that have the same account on the same server.
func (r *run) filesOf(account *estate.Account) (all []*accountFile, err error) {
	for _, name := range estate.Names(r.Estate.Apps) {
		app := r.Estate.Apps[name]
		if app.Server != r.app.Server {
			continue
		}
		of := r.other(app)
		for _, s := range app.Settings {
			if app.AccountOf(s).Name != account.Name || !slices.ContainsFunc(s.Values, func(v estate.Value) bool { return v.Text.Uses("password") }) {
				continue
			}
			path := app.InFolder(s.File)
			facts, err := of.readFacts(path, s.Values)
			switch {
			case errors.Is(err, fs.ErrNotExist) && (app != r.app || r.options.Rotation.Account != ""):
				continue // it is still to be made, and will be with the new password
			case errors.Is(err, fs.ErrNotExist):
				return nil, fault.At(fault.Protected, fault.Place{File: path}, "finish its installer, or yellowfield provision "+app.Name+", first", "the settings file is still to be written")
			case err != nil && facts["password"] == "":
				return nil, err
			case facts["password"] == "":
				continue // it holds no login of its own
			}
			all = append(all, &accountFile{of, s, path, facts.Password()})
		}
	}
	return all, nil
}

// other is the work on another app, in the middle of the one on this.
func (r *run) other(app *estate.App) *run {
	if app == r.app {
		return r
	}
	if r.others[app] == nil {
		quiet := *r.Engine
		quiet.Listener = Listener{}
		if r.others == nil {
			r.others = map[*estate.App]*run{}
		}
		r.others[app] = &run{Engine: &quiet, app: app, options: r.options, view: r.view}
	}
	r.others[app].plan, r.others[app].journal = r.plan, r.journal
	return r.others[app]
}

// on does work on this app and on those whose settings hold the passwords, and tells for
// these what they tell.
func (r *run) on(replacements []*replacement, work func(*run)) {
	work(r)
	done := map[*run]bool{r: true}
	for _, p := range replacements {
		for _, f := range p.files {
			if done[f.of] {
				continue
			}
			done[f.of] = true
			of := r.other(f.of.app)
			work(of)
			for _, row := range of.result.Rows {
				row.Facts = "app " + of.app.Name + ": " + row.Facts
				r.tell(row)
			}
			r.result.Exit = fault.Graver(r.result.Exit, of.result.Exit)
			of.result = Result{}
		}
	}
}

// lockOthers takes the locks of other apps whose settings are written, too.
func (r *run) lockOthers(ctx context.Context, replacements []*replacement) (release func(), err error) {
	var releases []func()
	release = func() {
		for _, one := range releases {
			one()
		}
	}
	locked := map[*estate.App]bool{r.app: true}
	for _, p := range replacements {
		for _, f := range p.files {
			if locked[f.of.app] {
				continue
			}
			locked[f.of.app] = true
			one, err := f.of.lockHere(ctx)
			if err != nil {
				release()
				return nil, err
			}
			releases = append(releases, one)
		}
	}
	return release, nil
}

// tellSessions lists who uses an account whose password has leaked, and where else that is
// in use.
func (r *run) tellSessions(ctx context.Context, replacements []*replacement) error {
	if !r.options.Rotation.Leaked {
		return nil
	}
	for _, p := range replacements {
		counts := map[string]int{}
		sessions, err := r.view.server.Sessions(ctx, p.hosts[0].Account)
		if err != nil {
			return err
		}
		for _, s := range sessions {
			from, _, _ := strings.Cut(s.From, ":") // the port tells nobody anything
			counts[from+" in "+s.Database]++
		}
		if len(counts) == 0 {
			r.tell(Row{Step: stepAccount, Outcome: Note, Facts: "nobody is connected as " + p.account.Name})
		}
		for _, where := range estate.Names(counts) {
			r.tell(Row{Step: stepAccount, Outcome: Note, Facts: fmt.Sprintf("%s as %s from %s", figures.Counted(counts[where], "session", "sessions"), p.account.Name, where)})
		}
		r.tellTwins(p)
	}
	return nil
}

// tellTwins names other accounts' settings, and accounts of the same name from other
// hosts, that have the old password.
func (r *run) tellTwins(p *replacement) {
	ours := map[string]bool{}
	for _, f := range p.files {
		ours[f.path] = true
	}
	for _, f := range p.files {
		for _, name := range estate.Names(r.Estate.Apps) {
			other := &run{Engine: r.Engine, app: r.Estate.Apps[name], options: r.options}
			for _, s := range other.app.Settings {
				path := other.app.InFolder(s.File)
				if facts, _ := other.readFacts(path, s.Values); !ours[path] && facts["password"] == f.password.Reveal() {
					ours[path] = true
					r.tell(Row{Step: stepSettings, Outcome: Differs, Severity: estate.MustFix, Place: other.placeOfFact(path, s.Values, "password"),
						Facts: "app " + name + " has the same password for " + other.app.AccountOf(s).Name, Remedy: "yellowfield rotate " + name + " --leaked"})
				}
			}
			other.folder.Close()
		}
		for a, found := range r.view.catalogue.Accounts {
			if matches, _ := f.password.Matches(a.User, found.Verifier); matches && a.User == p.account.Name && !slices.Contains(r.accountsOf(p.account), a) {
				r.tell(Row{Step: stepAccount, Outcome: Differs, Severity: estate.MustFix, Facts: a.String() + " has the same password, and the estate file does not have it",
					Remedy: r.view.server.LockAccount(a).String()})
			}
		}
	}
}

// planRotation makes the plan: all files are prepared before anything changes, both
// passwords are valid while they are put in place, and the old one is ended last.
func (r *run) planRotation(replacements []*replacement) error {
	if len(replacements) == 0 {
		return nil
	}
	var errs []error
	rehearsal := r.silently(stepSettings, "the settings with the new password, beside the old ones", func(context.Context) error { return r.prepareFiles() })
	rehearsal.Undo = func(context.Context) error { r.plan.settings.discard(); return nil }
	for _, p := range replacements {
		for _, h := range p.hosts {
			if !h.hasFresh && r.keepsBoth(p, h) {
				r.planBeside(p, h)
			}
		}
		if r.keepsBoth(p, p.hosts[0]) {
			r.planFirstLogin(p)
		}
		for _, h := range p.hosts {
			if !h.hasFresh && !r.keepsBoth(p, h) {
				r.planReplacing(p, h)
			}
		}
	}
	for _, p := range replacements {
		for _, f := range p.files {
			if f.password.Reveal() != p.fresh.Reveal() {
				errs = append(errs, r.planPassword(p, f))
			}
		}
	}
	if len(r.plan.settings.files) > 0 {
		r.silently(stepSettings, "commands after the change of settings", func(ctx context.Context) error {
			r.on(replacements, func(of *run) { of.afterSettingsChange(ctx) })
			return nil
		})
	}
	if slices.ContainsFunc(replacements, func(p *replacement) bool { return len(p.files) > 0 }) {
		r.silently(stepLogin, "login with the settings", func(ctx context.Context) error { return r.proveSettings(ctx, replacements) })
	}
	waited := false
	for _, p := range replacements {
		for _, h := range p.hosts {
			if r.keepsBoth(p, h) && (!h.hasFresh || h.SecondMethod) {
				r.planEnding(p, h, &waited)
			}
		}
	}
	for _, p := range replacements {
		r.silently(stepAccount, "new password of "+p.account.Name+" in the state folder", func(context.Context) error { return r.settleRotation(p) })
	}
	return errors.Join(errs...)
}

func (r *run) silently(step, object string, act func(context.Context) error) *step {
	s := r.plan.change(Row{Step: step}, object)
	s.silent = true
	s.Act = func(ctx context.Context) (string, error) { return "", act(ctx) }
	return s
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
	s := r.plan.change(Row{Step: stepAccount, Outcome: Changed, Facts: fmt.Sprintf("%s, %s beside the old one", h.Account, p.source), SQL: texts(shown)}, "password of "+h.String())
	s.Undo = func(ctx context.Context) error { return r.passwordBack(ctx, p, h) }
	s.Act = func(ctx context.Context) (string, error) {
		if err := r.State.SetPending(r.rotating(h.User), p.fresh); err != nil {
			return "", err
		}
		s.Touched = true
		fresh := r.view.server.Verifier(h.Account, p.fresh, own.Method())
		if err := r.send(ctx, s, r.view.server.AddVerifier(h.Account, fresh, own)...); err != nil {
			return "", err
		}
		return "", r.holds(ctx, h, fresh, own)
	}
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

// passwordBack gives an account its old password alone.
func (r *run) passwordBack(ctx context.Context, p *replacement, h *replaced) error {
	old := h.Verifier
	if !old.IsKnown() || !slices.Contains(restorable, old.Method()) {
		i := slices.IndexFunc(p.files, func(f *accountFile) bool { return f.password.Reveal() != p.fresh.Reveal() })
		if i < 0 {
			return fault.New(fault.Failed, "yellowfield rotate "+r.app.Name+" makes a new one", "the old password of %s is not known", h.Account)
		}
		old = r.view.server.Verifier(h.Account, p.files[i].password, p.account.Auth)
	}
	if err := r.view.server.Exec(ctx, r.view.server.SetVerifier(h.Account, old)...); err != nil {
		return err
	}
	return r.State.DropPending(r.rotating(h.User))
}

// planReplacing puts the new password in the place of the old one, where an account can
// have but one, or is to.
func (r *run) planReplacing(p *replacement, h *replaced) {
	method := p.account.Auth
	why := "in the place of the old one"
	if r.options.Rotation.Leaked {
		why = "and the old one and its sessions are ended"
	}
	s := r.plan.change(Row{Step: stepAccount, Outcome: Changed, Facts: fmt.Sprintf("%s, %s %s", h.Account, p.source, why), SQL: texts(r.view.server.SetVerifier(h.Account, secret.NoVerifier(method)))}, "password of "+h.String())
	s.Undo = func(ctx context.Context) error { return r.passwordBack(ctx, p, h) }
	if r.options.Rotation.Leaked {
		s.Undo = nil // it would be valid again
	}
	s.Act = func(ctx context.Context) (string, error) {
		if err := r.State.SetPending(r.rotating(h.User), p.fresh); err != nil {
			return "", err
		}
		s.Touched = true
		if p.begun.IsZero() {
			p.begun = time.Now()
		}
		fresh := r.view.server.Verifier(h.Account, p.fresh, method)
		err := r.send(ctx, s, r.view.server.SetVerifier(h.Account, fresh)...)
		facts, err := r.afterPassword(ctx, s, h.Account, &credential{password: p.fresh, source: p.source}, fresh, err, r.view.server.SetPasswordInPlain(h.Account, p.fresh))
		if err == nil && r.options.Rotation.Leaked {
			err = r.view.server.EndSessions(ctx, h.Account)
		}
		return facts, err
	}
}

// planFirstLogin proves the new password before any file has it.
func (r *run) planFirstLogin(p *replacement) {
	r.silently(stepLogin, "login as "+p.account.Name+" with the new password", func(ctx context.Context) error {
		f := p.files[0]
		has, err := f.of.readFacts(f.path, f.settings.Values)
		if err != nil {
			return err
		}
		if has["host"] == "" && has["socket"] == "" {
			has["host"], has["port"] = f.of.facts(p.account, secret.Password{})["host"], f.of.facts(p.account, secret.Password{})["port"]
		}
		login := dbms.Login{Server: r.app.Server, Address: f.of.addressFrom(has), User: p.account.Name, Password: p.fresh, Database: f.of.app.DatabasesOf(f.of.app.AccountOf(f.settings))[0].Name}
		server, err := r.open(ctx, login)
		if err != nil && f.of.tellOtherHost(ctx, f.settings, login, err) {
			return nil
		}
		if err != nil {
			return err
		}
		server.Close()
		r.tell(Row{Step: stepLogin, Outcome: Verified, Facts: fmt.Sprintf("as %s with the new password through %s", p.account.Name, throughWhat(login.Address))})
		return nil
	})
}

// planPassword writes the new password into a settings file, and nothing else.
func (r *run) planPassword(p *replacement, f *accountFile) error {
	file, err := f.of.openSettings(f.path)
	if err != nil {
		return err
	}
	facts := f.of.facts(p.account, p.fresh)
	has, _ := f.of.readFacts(f.path, f.settings.Values)
	for name, value := range has {
		if name != "password" && value != "" {
			facts[name] = value
		}
	}
	var changes []settings.Change
	for _, value := range f.settings.Values {
		if value.Text.Uses("password") {
			changes = append(changes, settings.Change{Address: value.Address, Value: value.Text.Fill(facts), ReplaceExpression: f.settings.ReplaceExpression, Secret: true, Role: roleOf(value)})
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
	published := &publishedFile{of: f.of, path: f.path, content: after.Bytes(), read: file.Bytes(), attributes: attributes}
	r.plan.settings.files = append(r.plan.settings.files, published)
	shown := f.settings.File
	if f.of != r {
		shown = "app " + f.of.app.Name + ", " + shown
	}
	s := r.plan.change(Row{Step: stepSettings, Outcome: Written, Facts: shown + ": password of " + p.account.Name}, "settings "+f.path)
	s.Undo = func(context.Context) error { return r.takeBack(published, false) }
	s.Act = func(context.Context) (string, error) { return "", r.publish(published) }
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
	facts := fmt.Sprintf("the old password of %s, %s after the settings have the new one", h.Account, r.options.Rotation.Overlap)
	s := r.plan.change(Row{Step: stepAccount, Outcome: Removed, Facts: facts, SQL: texts(shown)}, "old password of "+h.String())
	s.Act = func(ctx context.Context) (string, error) {
		if !*waited {
			*waited = true
			select {
			case <-time.After(r.options.Rotation.Overlap):
			case <-ctx.Done():
				return "", fault.Stopped(ctx.Err())
			}
		}
		stored, err := r.view.server.StoredVerifiers(ctx, h.Account)
		if err != nil {
			return "", err
		}
		fresh := r.view.server.Verifier(h.Account, p.fresh, h.Verifier.Method())
		if len(stored) > 0 { // it may have a salt
			if matches, known := p.fresh.Matches(h.User, stored[0]); known && !matches {
				return "", fault.New(fault.Protected, "look who changes it, and run the command again", "%s has another password now than the new one", h.Account)
			}
			fresh = stored[0]
		}
		if err := r.send(ctx, s, r.view.server.DropOlder(h.Account, fresh)...); err != nil {
			return "", err
		}
		return "", r.holds(ctx, h, fresh)
	}
}

// settleRotation forgets the new password, which the settings have, or keeps it for whoever
// is to have it.
func (r *run) settleRotation(p *replacement) error {
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

// planRotationsBack gives accounts their old passwords again.
func (r *run) planRotationsBack(ctx context.Context) error {
	names, err := r.unfinishedRotation()
	if err != nil {
		return err
	}
	r.options.Rotation = &Rotation{}
	for _, name := range names {
		p, err := r.replacement(ctx, r.accountNamed(name))
		if err != nil {
			return err
		}
		for _, h := range p.hosts {
			if h.hasFresh && h.SecondMethod {
				h.Verifier = h.Older
			} else if h.hasFresh {
				h.Verifier = secret.Verifier{} // it is known by the settings alone
			}
			r.takeBackBy(stepAccount, "password of "+h.String(), func(ctx context.Context) error { return r.passwordBack(ctx, p, h) })
		}
	}
	return nil
}
