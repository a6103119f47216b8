// Package rotation changes the passwords of accounts, on the server and in the settings, so that
// no login fails meanwhile.
//
// It must never know of the commands besides its own.
package rotation

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
	"yellowfield/internal/work"
)

// Replacement is one account's new password on its way.
type Replacement struct {
	Account *estate.Account
	fresh   secret.Password
	source  string
	files   []*accountFile
	hosts   []*replaced
	StandIn *TemporaryRole // that applications work as meanwhile; nil for none
	begun   time.Time      // when the old password ended before the settings had the new one
}

// accountFile is a settings file that holds an account's password, of the app or of
// another one that has the same account.
type accountFile struct {
	of       *work.Run
	settings *estate.Settings
	path     string
	user     string // as the file has it; empty where that has none
	password secret.Password
	lost     bool // it is none that the account can log in with: nobody works with the file
}

// NotedPasswords are accounts whose new passwords are in the state folder until the settings
// have them.
type NotedPasswords struct {
	Users []string `json:"users,omitempty"`
}

// replaced is an account of the server, as it is found.
type replaced struct {
	dbms.AccountState
	hasFresh bool // its own password is the new one already
}

func Rotate(r *work.Run, ctx context.Context) error {
	if !r.View.AsAdmin() {
		return work.AtStep(work.StepAccount, r.Estate.Fault(fault.Invalid, "servers."+r.App.Server, "give the server an admin, or ask whoever made the account", "changing a password takes an administrator"))
	}
	r.Plan = r.EmptyPlan()
	replacements, err := replacements(r, ctx)
	if err == nil {
		err = planRotation(r, replacements)
	}
	if err != nil {
		return r.TellPlanFaults(err)
	}
	if !r.HasWork() {
		for _, s := range r.Plan.Steps {
			r.Tell(s.Row)
		}
		return nil
	}
	release, err := lockOthers(r, ctx, replacements)
	if err != nil {
		return err
	}
	defer release()
	if err := tellSessions(r, ctx, replacements); err != nil {
		return err
	}
	_, err = r.AskAndExecute(ctx, r.Options.Rotation.Confirm, "answer yes, or add --yes")
	return err
}

// replacements looks at the accounts whose passwords are to be changed.
func replacements(r *work.Run, ctx context.Context) (all []*Replacement, err error) {
	var errs []error
	chosen := r.Options.Rotation.Account
	if chosen != "" && !slices.ContainsFunc(r.App.Accounts, func(a *estate.Account) bool { return a.Name == chosen }) {
		return nil, work.AtStep(work.StepAccount, r.Estate.Fault(fault.Invalid, r.Path("accounts"), "see its accounts in the estate file", "app %s has no account %q", r.App.Name, chosen))
	}
	for _, account := range r.App.Accounts {
		switch {
		case chosen != "" && account.Name != chosen:
			continue
		case chosen == "" && !work.InSettings(r.App, account.Name):
			r.Plan.Note(work.StepAccount, "yellowfield rotate "+r.App.Name+" --account "+account.Name, account.Name+" is in no settings file, and keeps its password")
			continue
		}
		p, err := replacement(r, ctx, account)
		if err != nil {
			errs = append(errs, work.AtStep(work.StepAccount, err))
		} else if p != nil {
			all = append(all, p)
		}
	}
	return all, errors.Join(errs...)
}

// replacement looks at one account: nil where its password is young enough.
func replacement(r *work.Run, ctx context.Context, account *estate.Account) (*Replacement, error) {
	p := &Replacement{Account: account}
	fresh, cutOff, err := r.State.Pending(r.Rotating(account.Name))
	if err != nil {
		return nil, err
	}
	age, known, err := r.AgeOf(account)
	if err != nil {
		return nil, err
	}
	if limit := r.Options.Rotation.OlderThan; limit > 0 && !cutOff && known && age < limit {
		r.Plan.Keep(work.StepAccount, fmt.Sprintf("%s, its password is %s old, which is young enough", account.Name, figures.Counted(int(age.Hours()/24), "day", "days")))
		return nil, nil
	}
	if p.files, err = filesOf(r, account); err != nil {
		return nil, err
	}
	if cutOff {
		p.fresh, p.source = fresh, "the new password of a rotation that was cut off"
		for _, f := range p.files { // another app's, too
			if r.Options.DryRun {
				break
			}
			if err := f.of.Sweep(); err != nil {
				return nil, err
			}
		}
	} else if err := makeFresh(r, ctx, p); err != nil {
		return nil, err
	}
	if err := findStandIn(r, p); err != nil {
		return nil, err
	}
	for _, a := range r.AccountsOf(account) {
		found, exists := r.View.Catalogue.Accounts[a]
		switch {
		case !exists && cutOff: // it was dropped meanwhile, and provision makes it anew
			continue
		case !exists:
			return nil, r.Estate.Fault(fault.Invalid, r.Path("accounts"), "yellowfield provision "+r.App.Name+" first", "server %s has no account %s", r.App.Server, a)
		}
		h := &replaced{AccountState: found}
		h.hasFresh, _ = p.fresh.Matches(a.User, found.Verifier)
		p.hosts = append(p.hosts, h)
		for _, f := range p.files {
			if p.standsIn(f) {
				continue
			}
			matches, known := r.Matches(ctx, found, f.password)
			ended := cutOff && h.hasFresh // where an account keeps one password
			if known && !matches && !ended && !work.IsOlder(found, f.password) && f.password.Reveal() != p.fresh.Reveal() {
				if r.Options.Rotation.Leaked { // the server's is ended, and the file gets the new one
					f.lost = true
					r.Plan.Note(work.StepAccount, "", fmt.Sprintf("the password in %s is none that %s can log in with: all its values are written anew", f.settings.File, a))
					continue
				}
				return nil, fault.At(fault.Protected, *f.place(), "yellowfield provision "+f.of.App.Name+" --fix server-password, if the file is right; else yellowfield rotate "+r.App.Name+" --leaked ends what the server has, and writes a new one into the file",
					"the password in %s is none that %s can log in with", f.settings.File, a)
			}
		}
		if h.hasFresh && !cutOff {
			return nil, fault.New(fault.Invalid, "change it at its source first", "the %s is the one that %s has already", p.source, a)
		}
	}
	if len(p.hosts) == 0 {
		r.Plan.Note(work.StepAccount, "yellowfield provision "+r.App.Name+" makes it anew", "the change of "+account.Name+"'s password cannot be continued: the account was dropped")
		if r.Options.DryRun {
			return nil, nil
		}
		return nil, r.State.DropPending(r.Rotating(account.Name))
	}
	return p, nil
}

func (f *accountFile) place() *fault.Place {
	if place := f.of.PlaceOfFact(f.path, f.settings.Values, "password"); place != nil {
		return place
	}
	return &fault.Place{File: f.path}
}

func makeFresh(r *work.Run, ctx context.Context, p *Replacement) error {
	source := r.Options.Rotation.Password
	if source == nil && p.Account.Password != nil {
		source = &p.Account.Password.Source
	}
	p.fresh, p.source = secret.Generate(), fmt.Sprintf("new password of %d characters", secret.GeneratedLength)
	if source == nil {
		return nil
	}
	var err error
	p.fresh, err = r.Obtain(ctx, source, "account "+p.Account.Name)
	p.source = "password as given"
	return err
}

// filesOf lists the settings files with an account's password: the app's, and those of
// other apps that have the same account on the same server.
func filesOf(r *work.Run, account *estate.Account) (all []*accountFile, err error) {
	for _, name := range estate.Names(r.Estate.Apps) {
		app := r.Estate.Apps[name]
		if app.Server != r.App.Server {
			continue
		}
		of := r.RunFor(app)
		for _, s := range app.Settings {
			if app.AccountOf(s).Name != account.Name || !slices.ContainsFunc(s.Values, func(v estate.Value) bool { return v.Text.Uses("password") }) {
				continue
			}
			path := app.InFolder(s.File)
			facts, err := of.ReadFacts(path, s.Values)
			switch {
			case errors.Is(err, fs.ErrNotExist) && (app != r.App || r.Options.Rotation.Account != ""):
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

// forEachRun does work on this app and on those whose settings hold the passwords, and reports
// the rows of the latter as this app's.
func forEachRun(r *work.Run, replacements []*Replacement, do func(*work.Run)) {
	do(r)
	done := map[*work.Run]bool{r: true}
	for _, p := range replacements {
		for _, f := range p.files {
			if done[f.of] {
				continue
			}
			done[f.of] = true
			of := r.RunFor(f.of.App)
			do(of)
			for _, row := range of.Result.Rows {
				row.Facts = "app " + of.App.Name + ": " + row.Facts
				r.Tell(row)
			}
			r.Result.Exit = fault.Graver(r.Result.Exit, of.Result.Exit)
			of.Result = work.Result{}
		}
	}
}

// lockOthers takes the locks of other apps whose settings are written, too.
func lockOthers(r *work.Run, ctx context.Context, replacements []*Replacement) (release func(), err error) {
	var releases []func()
	release = func() {
		for _, one := range releases {
			one()
		}
	}
	locked := map[*estate.App]bool{r.App: true}
	for _, p := range replacements {
		for _, f := range p.files {
			if locked[f.of.App] {
				continue
			}
			locked[f.of.App] = true
			one, err := f.of.LockHere(ctx)
			if err != nil {
				release()
				return nil, err
			}
			releases = append(releases, one)
			now, err := r.Estate.Now(f.of.App.Name)
			if err == nil && now != r.Estate && !r.Estate.SaysSame(now, f.of.App.Name) {
				err = now.Fault(fault.Busy, "apps."+f.of.App.Name, "run the command again", "the entry of app %s, which has the same account, was changed since this command has read it", f.of.App.Name)
			}
			if err != nil {
				release()
				return nil, err
			}
		}
	}
	return release, nil
}

// tellSessions lists who uses an account whose password has leaked, and where else that is
// in use.
func tellSessions(r *work.Run, ctx context.Context, replacements []*Replacement) error {
	if !r.Options.Rotation.Leaked {
		return nil
	}
	for _, p := range replacements {
		counts := map[string]int{}
		sessions, err := r.View.Server.Sessions(ctx, p.hosts[0].Account)
		if err != nil {
			return err
		}
		for _, s := range sessions {
			from, _, _ := strings.Cut(s.From, ":") // the port tells nobody anything
			counts[from+" in "+s.Database]++
		}
		if len(counts) == 0 {
			r.Tell(work.Row{Step: work.StepAccount, Outcome: work.Note, Facts: "nobody is connected as " + p.Account.Name})
		}
		for _, where := range estate.Names(counts) {
			r.Tell(work.Row{Step: work.StepAccount, Outcome: work.Note, Facts: fmt.Sprintf("%s as %s from %s", figures.Counted(counts[where], "session", "sessions"), p.Account.Name, where)})
		}
		tellTwins(r, p)
	}
	return nil
}

// tellTwins names other accounts' settings, and accounts of the same name from other
// hosts, that have the old password.
func tellTwins(r *work.Run, p *Replacement) {
	ours := map[string]bool{}
	for _, f := range p.files {
		ours[f.path] = true
	}
	for _, f := range p.files {
		for _, name := range estate.Names(r.Estate.Apps) {
			other := r.RunFor(r.Estate.Apps[name])
			for _, s := range other.App.Settings {
				path := other.App.InFolder(s.File)
				if facts, _ := other.ReadFacts(path, s.Values); !ours[path] && facts["password"] == f.password.Reveal() {
					ours[path] = true
					r.Tell(work.Row{Step: work.StepSettings, Outcome: work.Differs, Severity: estate.MustFix, Place: other.PlaceOfFact(path, s.Values, "password"),
						Facts: "app " + name + " has the same password for " + other.App.AccountOf(s).Name, Remedy: "yellowfield rotate " + name + " --leaked"})
				}
			}
		}
		for a, found := range r.View.Catalogue.Accounts {
			if matches, _ := f.password.Matches(a.User, found.Verifier); matches && a.User == p.Account.Name && !slices.Contains(r.AccountsOf(p.Account), a) {
				r.Tell(work.Row{Step: work.StepAccount, Outcome: work.Differs, Severity: estate.MustFix, Facts: a.String() + " has the same password, and the estate file does not have it",
					Remedy: r.View.Server.LockAccount(a).String()})
			}
		}
	}
}
