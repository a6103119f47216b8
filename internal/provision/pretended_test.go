package provision

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/secret"
)

// pretended is a server that is none: it holds what the test says, writes the statements
// of its product, remembers what it was sent, and does what these mean to its catalogue.
type pretended struct {
	dbms.SQL
	means     map[string]func() // by the last statement of those that do something
	keys      []dbms.ForeignKey
	about     dbms.About
	user      string
	catalogue *dbms.Catalogue
	refuse    string // a part of the statement that is refused
	cause     dbms.Cause
	sent      []string
	removed   map[dbms.Object]bool
	locked    *dbms.Connection // that has the lock
}

func (p *pretended) OwnRightsOnServer(context.Context) ([]string, error)            { return nil, nil }
func (p *pretended) About() dbms.About                                              { return p.about }
func (p *pretended) CurrentUser() string                                            { return p.user }
func (p *pretended) OnChange(func(dbms.Statement))                                  {}
func (p *pretended) Close()                                                         {}
func (p *pretended) Mentions(context.Context, string) ([]string, error)             { return nil, nil }
func (p *pretended) RowsWith(context.Context, string, string) ([]dbms.Found, error) { return nil, nil }
func (p *pretended) LacksForReading(context.Context, string, dbms.Grants, dbms.Contents) ([]string, error) {
	return nil, nil
}
func (p *pretended) Encrypted() bool    { return true }
func (p *pretended) Unavailable() error { return nil }
func (p *pretended) Note(format string, args ...any) {
	p.sent = append(p.sent, fmt.Sprintf(format, args...))
}
func (p *pretended) LacksPasswordKey(context.Context) (bool, error) { return false, nil }

func (p *pretended) SessionState(context.Context) (dbms.SessionState, error) {
	return dbms.SessionState{}, errors.New("nobody logs in here")
}

func (p *pretended) Exec(_ context.Context, statements ...dbms.Statement) error {
	for _, s := range statements {
		if p.refuse != "" && strings.Contains(s.Text, p.refuse) {
			return &dbms.ServerError{Statement: s.String(), Code: 1142, Message: "no", Cause: p.cause}
		}
		p.Note("%s", s)
		if means := p.means[s.Text]; means != nil {
			means()
		}
	}
	return nil
}

// doing has statements do something when they are sent.
func (p *pretended) doing(what func(), statements ...dbms.Statement) []dbms.Statement {
	if p.means == nil {
		p.means = map[string]func(){}
	}
	if len(statements) > 0 {
		p.means[statements[len(statements)-1].Text] = what
	}
	return statements
}

func (p *pretended) CreateDatabase(d dbms.Database) []dbms.Statement {
	return p.doing(func() { p.catalogue.Databases[d.Name] = d }, p.SQL.CreateDatabase(d)...)
}

func (p *pretended) DropDatabase(name string) []dbms.Statement {
	return p.doing(func() { delete(p.catalogue.Databases, name); delete(p.catalogue.Contents, name) }, p.SQL.DropDatabase(name)...)
}

// account has statements change an account.
func (p *pretended) account(a dbms.Account, change func(*dbms.AccountState), statements ...dbms.Statement) []dbms.Statement {
	return p.doing(func() {
		state := p.catalogue.Accounts[a]
		state.Account = a
		change(&state)
		p.catalogue.Accounts[a] = state
	}, statements...)
}

func (p *pretended) CreateAccount(a dbms.Account, v secret.Verifier, o dbms.AccountOptions) dbms.Statement {
	return p.account(a, func(s *dbms.AccountState) {
		s.Verifier, s.RequiresTLS, s.MaxConnections = v, o.RequireTLS, o.MaxConnections
	}, p.SQL.CreateAccount(a, v, o))[0]
}

func (p *pretended) DropAccount(a dbms.Account) dbms.Statement {
	return p.doing(func() { delete(p.catalogue.Accounts, a); delete(p.catalogue.Granted, a) }, p.SQL.DropAccount(a))[0]
}

func (p *pretended) LockAccount(a dbms.Account) dbms.Statement {
	return p.account(a, func(s *dbms.AccountState) { s.Locked = true }, p.SQL.LockAccount(a))[0]
}

func (p *pretended) UnlockAccount(a dbms.Account) dbms.Statement {
	return p.account(a, func(s *dbms.AccountState) { s.Locked = false }, p.SQL.UnlockAccount(a))[0]
}

func (p *pretended) SetVerifier(a dbms.Account, v secret.Verifier) []dbms.Statement {
	return p.account(a, func(s *dbms.AccountState) { s.Verifier = v }, p.SQL.SetVerifier(a, v)...)
}

func (p *pretended) SetOptions(a dbms.Account, o dbms.AccountOptions) dbms.Statement {
	return p.account(a, func(s *dbms.AccountState) { s.RequiresTLS, s.MaxConnections = o.RequireTLS, o.MaxConnections }, p.SQL.SetOptions(a, o))[0]
}

// rights has statements change what an account holds by a pattern.
func (p *pretended) rights(a dbms.Account, pattern string, change func(dbms.Privileges) dbms.Privileges, statements ...dbms.Statement) []dbms.Statement {
	return p.doing(func() {
		if p.catalogue.Granted[a] == nil {
			p.catalogue.Granted[a] = &dbms.Grants{Databases: map[string]dbms.Privileges{}}
		}
		now := p.catalogue.Granted[a].Databases
		if now[pattern] = change(now[pattern]); len(now[pattern]) == 0 {
			delete(now, pattern)
		}
	}, statements...)
}

func (p *pretended) Grant(rights dbms.Privileges, pattern string, a dbms.Account) []dbms.Statement {
	return p.rights(a, pattern, func(has dbms.Privileges) dbms.Privileges { return has.Plus(rights) }, p.SQL.Grant(rights, pattern, a)...)
}

func (p *pretended) Revoke(rights dbms.Privileges, pattern string, a dbms.Account) []dbms.Statement {
	return p.rights(a, pattern, func(has dbms.Privileges) dbms.Privileges { return has.Minus(rights) }, p.SQL.Revoke(rights, pattern, a)...)
}

func (p *pretended) ChangeRights(a dbms.Account, database string, g dbms.Grants, want dbms.Privileges) ([]dbms.Statement, bool) {
	statements, lowers := p.SQL.ChangeRights(a, database, g, want)
	_, leaking := p.HeldOn(database, g)
	return p.rights(a, p.Pattern(database), func(dbms.Privileges) dbms.Privileges {
		for _, pattern := range leaking {
			delete(p.catalogue.Granted[a].Databases, pattern)
		}
		return want
	}, statements...), lowers
}

func (p *pretended) Conversions(context.Context, string, string, string) (c dbms.Conversions, err error) {
	return c, nil
}
func (p *pretended) TextSum(context.Context, string, string) (string, error) { return "", nil }
func (p *pretended) ForeignKeys(context.Context, string) ([]dbms.ForeignKey, error) {
	return p.keys, nil
}
func (p *pretended) HasForeignKey(_ context.Context, _, table, name string) (bool, error) {
	return slices.ContainsFunc(p.keys, func(k dbms.ForeignKey) bool { return k.Table == table && k.Name == name }), nil
}

var _ dbms.ConvertsCharsets = (*pretended)(nil)

func (p *pretended) RemoveObjects(_ context.Context, database string, made, before map[dbms.Object]bool) error {
	p.removed = made
	gone := maps.Clone(made)
	maps.DeleteFunc(gone, func(o dbms.Object, _ bool) bool { return before[o] })
	p.catalogue.Contents[database] = p.catalogue.Contents[database].Without(gone)
	return nil
}

func (p *pretended) Lock(context.Context, string) (func(), bool, error) {
	return func() {}, p.locked == nil, nil
}

func (p *pretended) LockHolder(context.Context, string) (*dbms.Connection, error) {
	return p.locked, nil
}

func (p *pretended) EndSessions(_ context.Context, a dbms.Account) error {
	p.Note("end sessions of %s", a)
	return nil
}

func (p *pretended) Reread(context.Context, *dbms.Catalogue, []string, []string) (*dbms.Catalogue, error) {
	return p.catalogue, nil
}

func (p *pretended) ReadCatalogue(context.Context, bool, []string) (*dbms.Catalogue, error) {
	return p.catalogue, nil
}

func (p *pretended) Tables(context.Context, string) ([]dbms.Table, error) { return nil, nil }
func (p *pretended) Contents(context.Context, ...string) (map[string]dbms.Contents, error) {
	return p.catalogue.Contents, nil
}

func (p *pretended) StoredVerifiers(context.Context, dbms.Account) ([]secret.Verifier, error) {
	return nil, nil
}

func (p *pretended) Sessions(context.Context, dbms.Account) ([]dbms.OpenSession, error) {
	return nil, nil
}
