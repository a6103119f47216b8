package provision

import (
	"bytes"
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
	"yellowfield/internal/state"
)

// planHostRules works out which of a PostgreSQL server's host-based rules will
// meet the logins of the app, before one of them fails, and writes a rule where
// that is wanted.
func (r *run) planHostRules(ctx context.Context) error {
	for _, account := range r.app.Accounts {
		for _, d := range r.app.DatabasesOf(account) {
			met, err := r.hostRuleFor(ctx, account, d.Name)
			if err != nil {
				return err
			}
			if met == nil || met.LetsIn() {
				continue
			}
			if !r.app.HostRule && !r.options.WriteHostRule {
				row := r.plan.differs(stepRights, estate.MustFix, r.byHandOrUs(met), met.String())
				row.Place = met.Place()
				r.plan.unmet = true
				continue
			}
			if err := r.planHostRule(ctx, account, met); err != nil {
				return err
			}
		}
	}
	return nil
}

// hostRuleFor finds the rule for an account; nil where that cannot be told: on another
// product, without a superuser's login, or when the application's host is not
// known here.
func (r *run) hostRuleFor(ctx context.Context, account *estate.Account, database string) (*postgres.RuleMatch, error) {
	server, is := r.view.server.(*postgres.Server)
	if !is || !r.view.asAdmin() || !r.view.catalogue.GrantsOf(server.CurrentUser()).Global.Has("SUPERUSER") {
		return nil, nil
	}
	guest := postgres.ClientLogin{Database: database, User: account.Name}
	address := r.addressFrom(r.facts(account, secret.Password{}))
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

// byHandOrUs is what to do about a login that is not let in.
func (r *run) byHandOrUs(m *postgres.RuleMatch) string {
	return m.ByHand() + ", or: yellowfield provision " + r.app.Name + " --write-host-rule"
}

// planHostRule writes the rule for an account before the one that decides now.
func (r *run) planHostRule(ctx context.Context, account *estate.Account, m *postgres.RuleMatch) error {
	file := m.Place().File
	if _, err := r.ownRules(ctx, file); err != nil {
		return r.Estate.Fault(fault.Invalid, r.path("server"), "run it on the server's host, as a user who may, or put in by hand: "+m.Proposal(),
			"the host-based rules cannot be written from here: %v", err).With(err)
	}
	r.plan.change(Row{Step: stepRights, Outcome: Written,
		Facts: "host-based rule for " + account.Name + " in " + file + ": " + strings.Join(strings.Fields(m.Proposal()), " ")},
		hostRule.Of(file, fileState{}, fileState{For: account.Name}), &wantedRule{account, m.Login.Database})
	return nil
}

// wantedRule is for whom a rule is to be put in.
type wantedRule struct {
	account  *estate.Account
	database string
}

// hostRule is one kind of change, see init.
var hostRule = effect.Define[*run, fileState](&kinds, "host-rule")

func init() {
	hostRule.Means(effect.Spec[*run, fileState]{
		Object: func(c effect.Change[fileState]) string { return "host-based rule " + c.After.For },
		Do: func(r *run, ctx context.Context, d *effect.Doing[fileState]) (string, error) {
			return "", r.writeRule(ctx, d, d.Material.(*wantedRule))
		},
		Undo: (*run).putBackRules,
		Look: func(r *run, _ context.Context, c effect.Change[fileState]) (effect.Standing, error) {
			if c.After.Digest == "" { // it had not come so far
				return effect.NotDone, nil
			}
			content, err := r.readRules(c.Subject)
			return standingOf(c.Before, c.After, content, err)
		},
	})
}

// readRules reads a file of rules.
func (r *run) readRules(file string) ([]byte, error) {
	folder, err := r.Host.OpenAround(file)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return folder.Read(file)
}

// ownRules reads the file of rules, if it is the one that the server reads.
func (r *run) ownRules(ctx context.Context, file string) ([]byte, error) {
	content, err := r.readRules(file)
	if err != nil {
		return nil, err
	}
	theirs, err := r.view.server.(*postgres.Server).ReadFile(ctx, file)
	if err == nil && !bytes.Equal(content, theirs) {
		err = errors.New(file + " is another file here than on the server's host")
	}
	return content, err
}

// writeRule replaces the file as a whole, has the server read it, and proves it
// by a login. What the server cannot read is never loaded, and what does not
// help is taken back.
func (r *run) writeRule(ctx context.Context, d *effect.Doing[fileState], wanted *wantedRule) error {
	server := r.view.server.(*postgres.Server)
	// The rule of another account may have been written since the plan.
	m, err := r.hostRuleFor(ctx, wanted.account, wanted.database)
	if err != nil || m == nil || m.LetsIn() {
		return err
	}
	d.Subject = m.Place().File // rules may be spread over several files
	before, err := r.ownRules(ctx, d.Subject)
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
	d.Before, d.After.Digest = fileWith(before), digest(after)
	d.Before.Attributes = &attributes
	if d.Before.Copy, err = r.journal.KeepCopy(d.Subject, before); err == nil {
		err = r.journal.Record(state.Entry{Event: state.Intended, Step: stepRights, Object: d.Subject, Copy: d.Before.Copy})
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
	return r.proveRule(ctx, wanted.account, wanted.database)
}

// proveRule logs in as the account: the server reads its rules some time after
// it was told to.
func (r *run) proveRule(ctx context.Context, account *estate.Account, database string) error {
	c := r.plan.credentials[account]
	if c == nil || !c.knows() {
		return nil
	}
	const tries, pause = 10, 200 * time.Millisecond
	var err error
	for range tries {
		err = r.proveLogin(ctx, dbms.Login{Server: r.app.Server, Address: r.addressFrom(r.facts(account, secret.Password{})), User: account.Name, Password: c.password, Database: database})
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
func (r *run) putBackRules(ctx context.Context, c effect.Change[fileState]) error {
	if c.After.Digest == "" { // it had not come so far
		return nil
	}
	folder, err := r.Host.OpenAround(c.Subject)
	if err != nil {
		return err
	}
	defer folder.Close()
	return errors.Join(r.restoreFile(folder, c), r.view.server.Exec(ctx, dbms.Statement{Text: "SELECT pg_reload_conf()"}))
}
