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
	w := &writtenRule{file: file}
	s := r.plan.change(Row{Step: stepRights, Outcome: Written,
		Facts: "host-based rule for " + account.Name + " in " + file + ": " + strings.Join(strings.Fields(m.Proposal()), " ")}, "host-based rule "+account.Name)
	s.Undo = func(ctx context.Context) error { return r.putBackRules(ctx, w) }
	s.Act = func(ctx context.Context) (string, error) {
		return "", r.writeRule(ctx, s, account, m.Login.Database, w)
	}
	return nil
}

// writtenRule is a file of rules before and after a rule was put in.
type writtenRule struct {
	file          string
	before, after []byte
}

// ownRules reads the file of rules, if it is the one that the server reads.
func (r *run) ownRules(ctx context.Context, file string) ([]byte, error) {
	folder, err := r.Host.OpenAround(file)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	content, err := folder.Read(file)
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
func (r *run) writeRule(ctx context.Context, s *step, account *estate.Account, database string, w *writtenRule) error {
	server := r.view.server.(*postgres.Server)
	// The rule of another account may have been written since the plan.
	m, err := r.hostRuleFor(ctx, account, database)
	if err != nil || m == nil || m.LetsIn() {
		return err
	}
	w.file = m.Place().File // rules may be spread over several files
	if w.before, err = r.ownRules(ctx, w.file); err != nil {
		return err
	}
	w.after = m.Insert(w.before)
	folder, err := r.Host.OpenAround(w.file)
	if err != nil {
		return err
	}
	defer folder.Close()
	attributes, err := folder.Attributes(w.file)
	if err != nil {
		return err
	}
	kept, err := r.journal.KeepCopy(w.file, w.before)
	if err == nil {
		err = r.journal.Record(state.Entry{Event: state.Intended, Step: stepRights, Object: w.file, Copy: kept})
	}
	if err != nil {
		return err
	}
	prepared, err := folder.Prepare(w.file, w.after, attributes)
	if err == nil {
		err = prepared.Expect(w.before)
	}
	if err != nil {
		return err
	}
	if err := prepared.Commit(); err != nil {
		return err
	}
	s.Touched = true
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
	return r.proveRule(ctx, account, database)
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
func (r *run) putBackRules(ctx context.Context, w *writtenRule) error {
	folder, err := r.Host.OpenAround(w.file)
	if err != nil {
		return err
	}
	defer folder.Close()
	now, err := folder.Read(w.file)
	if err != nil {
		return err
	}
	if w.after == nil || bytes.Equal(now, w.before) {
		return nil
	}
	if !bytes.Equal(now, w.after) {
		return fault.At(fault.Protected, fault.Place{File: w.file}, "remove the line by hand", "the host-based rules were changed by someone else in the meantime")
	}
	attributes, err := folder.Attributes(w.file)
	if err == nil {
		err = folder.Write(w.file, w.before, attributes)
	}
	return errors.Join(err, r.view.server.Exec(ctx, dbms.Statement{Text: "SELECT pg_reload_conf()"}))
}
