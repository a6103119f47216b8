package steps

import (
	"bytes"
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// PlanHostRules works out which of a PostgreSQL server's host-based rules will
// meet the logins of the app, before one of them fails, and writes a rule where
// that is wanted.
func PlanHostRules(r *work.Run, ctx context.Context) error {
	for _, account := range r.App.Accounts {
		for _, d := range r.App.DatabasesOf(account) {
			met, err := HostRuleFor(r, ctx, account, d.Name)
			if err != nil {
				return err
			}
			if met == nil || met.LetsIn() {
				continue
			}
			if !r.App.HostRule && !r.Options.WriteHostRule {
				row := r.Plan.Differs(work.StepRights, estate.MustFix, ByHandOrUs(r, met), met.String())
				row.Place = met.Place()
				r.Plan.Unmet = true
				continue
			}
			if err := planHostRule(r, ctx, account, met); err != nil {
				return err
			}
		}
	}
	return nil
}

// HostRuleFor finds the rule for an account; nil where that cannot be told: on another
// product, without a superuser's login, or when the application's host is not
// known here.
func HostRuleFor(r *work.Run, ctx context.Context, account *estate.Account, database string) (*postgres.RuleMatch, error) {
	server, is := r.View.Server.(*postgres.Server)
	if !is || !r.View.AsAdmin() || !r.View.Catalogue.GrantsOf(server.CurrentUser()).Global.Has("SUPERUSER") {
		return nil, nil
	}
	guest := postgres.ClientLogin{Database: database, User: account.Name}
	address := r.AddressFrom(r.Facts(account, secret.Password{}))
	if address.Socket == "" {
		from, err := netip.ParseAddr(address.Host)
		if err != nil || !from.IsLoopback() { // the application's own host may be any
			return nil, nil
		}
		guest.From = from
		guest.TLS = address.Encrypted()
	}
	return server.MatchRule(ctx, guest)
}

// ByHandOrUs is what to do about a login that is not let in.
func ByHandOrUs(r *work.Run, m *postgres.RuleMatch) string {
	return m.ByHand() + ", or: yellowfield provision " + r.App.Name + " --write-host-rule"
}

// planHostRule writes the rule for an account before the one that decides now.
func planHostRule(r *work.Run, ctx context.Context, account *estate.Account, m *postgres.RuleMatch) error {
	file := m.Place().File
	if _, err := ownRules(r, ctx, file); err != nil {
		return r.Estate.Fault(fault.Invalid, r.Path("server"), "run it on the server's host, as a user who may, or put in by hand: "+m.Proposal(),
			"the host-based rules cannot be written from here: %v", err).With(err)
	}
	r.Plan.Change(work.Row{Step: work.StepRights, Outcome: work.Written,
		Facts: "host-based rule for " + account.Name + " in " + file + ": " + strings.Join(strings.Fields(m.Proposal()), " ")},
		HostRule.Of(file, work.FileState{}, work.FileState{For: account.Name}), &wantedRule{account, m.Login.Database})
	return nil
}

// wantedRule is for whom a rule is to be put in.
type wantedRule struct {
	account  *estate.Account
	database string
}

// HostRule is one kind of change, see init.
var HostRule = effect.Define[*work.Run, work.FileState](&work.Kinds, "host-rule")

func init() {
	HostRule.Means(effect.Spec[*work.Run, work.FileState]{
		Object: func(c effect.Change[work.FileState]) string { return "host-based rule " + c.After.For },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[work.FileState]) (string, error) {
			return "", writeRule(r, ctx, d, d.Material.(*wantedRule))
		},
		Undo: putBackRules,
		Look: func(r *work.Run, _ context.Context, c effect.Change[work.FileState]) (effect.Standing, error) {
			if c.After.Digest == "" { // it had not come so far
				return effect.NotDone, nil
			}
			content, err := readRules(r, c.Subject)
			return work.StandingOf(c.Before, c.After, content, err)
		},
	})
}

// readRules reads a file of rules.
func readRules(r *work.Run, file string) ([]byte, error) {
	folder, err := r.Host.OpenAround(file)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return folder.Read(file)
}

// ownRules reads the file of rules, if it is the one that the server reads.
func ownRules(r *work.Run, ctx context.Context, file string) ([]byte, error) {
	content, err := readRules(r, file)
	if err != nil {
		return nil, err
	}
	theirs, err := r.View.Server.(*postgres.Server).ReadFile(ctx, file)
	if err == nil && !bytes.Equal(content, theirs) {
		err = errors.New(file + " is another file here than on the server's host")
	}
	return content, err
}

// writeRule replaces the file as a whole, has the server read it, and proves it
// by a login. What the server cannot read is never loaded, and what does not
// help is taken back.
func writeRule(r *work.Run, ctx context.Context, d *effect.Doing[work.FileState], wanted *wantedRule) error {
	server := r.View.Server.(*postgres.Server)
	// The rule of another account may have been written since the plan.
	m, err := HostRuleFor(r, ctx, wanted.account, wanted.database)
	if err != nil || m == nil || m.LetsIn() {
		return err
	}
	d.Subject = m.Place().File // rules may be spread over several files
	before, err := ownRules(r, ctx, d.Subject)
	if err != nil {
		return err
	}
	after := m.Insert(before)
	folder, err := r.Host.OpenAround(d.Subject)
	if err != nil {
		return err
	}
	defer folder.Close()
	attributes, err := folder.Attributes(d.Subject)
	if err != nil {
		return err
	}
	d.Before, d.After.Digest = work.FileWith(before), atomicfile.Digest(after)
	d.Before.Attributes = &attributes
	if d.Before.Copy, err = r.Journal.KeepCopy(d.Subject, before); err == nil {
		err = r.Journal.Record(state.Entry{Event: state.Intended, Step: work.StepRights, Object: d.Subject, Copy: d.Before.Copy})
	}
	if err == nil {
		err = d.Record()
	}
	if err != nil {
		return err
	}
	prepared, err := folder.Prepare(d.Subject, after, attributes)
	if err == nil {
		err = prepared.Expect(before)
	}
	if err != nil {
		return err
	}
	if err := prepared.Commit(); err != nil {
		return err
	}
	d.Touched = true
	rules, err := server.HostRules(ctx)
	if err != nil {
		return err
	}
	for _, rule := range rules {
		if rule.Error != "" && rule.Type == "" {
			return fault.At(fault.Failed, rule.Place, "correct the file by hand first", "the server cannot read its host-based rules: %s", rule.Error)
		}
	}
	if err := server.Exec(ctx, dbms.Statement{Text: "SELECT pg_reload_conf()"}); err != nil {
		return err
	}
	return proveRule(r, ctx, wanted.account, wanted.database)
}

// proveRule logs in as the account: the server reads its rules some time after
// it was told to.
func proveRule(r *work.Run, ctx context.Context, account *estate.Account, database string) error {
	c := r.Plan.Credentials[account]
	if c == nil || !c.Knows() {
		return nil
	}
	const tries, pause = 10, 200 * time.Millisecond
	var err error
	for range tries {
		err = r.ProveLogin(ctx, dbms.Login{Server: r.App.Server, Address: r.AddressFrom(r.Facts(account, secret.Password{})), User: account.Name, Password: c.Password, Database: database})
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fault.Stopped(ctx.Err())
		case <-time.After(pause):
		}
	}
	return err
}

// putBackRules undoes writeRule, unless someone else changed the file since.
func putBackRules(r *work.Run, ctx context.Context, c effect.Change[work.FileState]) error {
	if c.After.Digest == "" { // it had not come so far
		return nil
	}
	folder, err := r.Host.OpenAround(c.Subject)
	if err != nil {
		return err
	}
	defer folder.Close()
	return errors.Join(r.RestoreFile(folder, c), r.View.Server.Exec(ctx, dbms.Statement{Text: "SELECT pg_reload_conf()"}))
}
