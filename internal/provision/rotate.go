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
)

// replacement is one account's new password on its way.
type replacement struct {
	account *estate.Account
	fresh   secret.Password
	source  string
	files   []*accountFile
	hosts   []*replaced
	standIn *standIn  // that applications work as meanwhile; nil for none
	begun   time.Time // when the old password ended before the settings had the new one
}

// accountFile is a settings file that holds an account's password, of the app or of
// another one that has the same account.
type accountFile struct {
	of       *run
	settings *estate.Settings
	path     string
	user     string // as the file has it; empty where that has none
	password secret.Password
	lost     bool // it is none that the account can log in with: nobody works with the file
}

// notedPasswords are accounts whose new passwords are in the state folder until the settings
// have them.
type notedPasswords struct {
	Users []string `json:"users,omitempty"`
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
	_, err = r.askAndExecute(ctx, r.options.Rotation.Confirm, "answer yes, or add --yes")
	return err
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
			if r.options.DryRun {
				break
			}
			if err := f.of.sweep(); err != nil {
				return nil, err
			}
		}
	} else if err := r.makeFresh(ctx, p); err != nil {
		return nil, err
	}
	if err := r.findStandIn(p); err != nil {
		return nil, err
	}
	for _, a := range r.accountsOf(account) {
		found, exists := r.view.catalogue.Accounts[a]
		switch {
		case !exists && cutOff: // it was dropped meanwhile, and provision makes it anew
			continue
		case !exists:
			return nil, r.Estate.Fault(fault.Invalid, r.path("accounts"), "yellowfield provision "+r.app.Name+" first", "server %s has no account %s", r.app.Server, a)
		}
		h := &replaced{AccountState: found}
		h.hasFresh, _ = p.fresh.Matches(a.User, found.Verifier)
		p.hosts = append(p.hosts, h)
		for _, f := range p.files {
			if p.standsIn(f) {
				continue
			}
			matches, known := r.matches(ctx, found, f.password)
			ended := cutOff && h.hasFresh // where an account keeps one password
			if known && !matches && !ended && !isOlder(found, f.password) && f.password.Reveal() != p.fresh.Reveal() {
				if r.options.Rotation.Leaked { // the server's is ended, and the file gets the new one
					f.lost = true
					r.plan.note(stepAccount, "", fmt.Sprintf("the password in %s is none that %s can log in with: all its values are written anew", f.settings.File, a))
					continue
				}
				return nil, fault.At(fault.Protected, *f.place(), "yellowfield provision "+f.of.app.Name+" --fix server-password, if the file is right; else yellowfield rotate "+r.app.Name+" --leaked ends what the server has, and writes a new one into the file",
					"the password in %s is none that %s can log in with", f.settings.File, a)
			}
		}
		if h.hasFresh && !cutOff {
			return nil, fault.New(fault.Invalid, "change it at its source first", "the %s is the one that %s has already", p.source, a)
		}
	}
	if len(p.hosts) == 0 {
		r.plan.note(stepAccount, "yellowfield provision "+r.app.Name+" makes it anew", "the change of "+account.Name+"'s password cannot be continued: the account was dropped")
		if r.options.DryRun {
			return nil, nil
		}
		return nil, r.State.DropPending(r.rotating(account.Name))
	}
	return p, nil
}

func (f *accountFile) place() *fault.Place {
	if place := f.of.placeOfFact(f.path, f.settings.Values, "password"); place != nil {
		return place
	}
	return &fault.Place{File: f.path}
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
	p.fresh, err = r.obtain(ctx, source, "account "+p.account.Name)
	p.source = "password as given"
	return err
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
			all = append(all, &accountFile{of: of, settings: s, path: path, user: facts["user"], password: facts.Password()})
		}
	}
	return all, nil
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
			other := r.other(r.Estate.Apps[name])
			for _, s := range other.app.Settings {
				path := other.app.InFolder(s.File)
				if facts, _ := other.readFacts(path, s.Values); !ours[path] && facts["password"] == f.password.Reveal() {
					ours[path] = true
					r.tell(Row{Step: stepSettings, Outcome: Differs, Severity: estate.MustFix, Place: other.placeOfFact(path, s.Values, "password"),
						Facts: "app " + name + " has the same password for " + other.app.AccountOf(s).Name, Remedy: "yellowfield rotate " + name + " --leaked"})
				}
			}
		}
		for a, found := range r.view.catalogue.Accounts {
			if matches, _ := f.password.Matches(a.User, found.Verifier); matches && a.User == p.account.Name && !slices.Contains(r.accountsOf(p.account), a) {
				r.tell(Row{Step: stepAccount, Outcome: Differs, Severity: estate.MustFix, Facts: a.String() + " has the same password, and the estate file does not have it",
					Remedy: r.view.server.LockAccount(a).String()})
			}
		}
	}
}
