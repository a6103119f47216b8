package provision

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/content"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

const hivesEstate = `
servers:
  barn: {dbms: DBMS, socket: /nowhere/barn.sock, admin: {user: root}}
apps:
  hives:
    server: barn
    database: {name: hives, CHARSET}
    accounts: [{name: hives_app, rights: {installing: structure, running: rows}, password: {file: PASSWORD}}]
`

// known is the password that the estate file gives.
const known = "comb-55d2e0"

// barn is an engine with one pretended server, on which everything is as an empty one
// has it.
func barn(t *testing.T, product dbms.Product) (*Engine, *pretended) {
	t.Helper()
	p := &pretended{about: dbms.About{Product: product, Version: "9.9"}, catalogue: dbms.NewCatalogue()}
	p.catalogue.Contents = map[string]dbms.Contents{}
	charset := "charset: utf8mb4, collation: utf8mb4_unicode_ci"
	administrator := dbms.Account{User: "root", Host: "localhost"}
	if product == dbms.PostgreSQL {
		p.SQL, administrator.Host, charset = postgres.NewSQL(), "", "charset: UTF8, collation: C.UTF-8"
		p.catalogue.Collations["C.UTF-8"] = "UTF8"
		p.catalogue.Granted[administrator] = &dbms.Grants{Global: dbms.NewPrivileges("CREATEDB", "CREATEROLE")}
	} else {
		p.SQL = mysql.NewSQL(p.about)
		p.catalogue.Collations["utf8mb4_unicode_ci"] = "utf8mb4"
		p.catalogue.Granted[administrator] = &dbms.Grants{Global: dbms.NewPrivileges("ALL PRIVILEGES"), GrantOption: []string{""}}
	}
	p.user = administrator.String()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "password"), []byte(known), 0o600))
	text := strings.NewReplacer("DBMS", string(product), "CHARSET", charset, "PASSWORD", filepath.Join(folder, "password")).Replace(hivesEstate)
	path := filepath.Join(folder, "yellowfield.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	loaded, err := estate.Loader{TrustOthers: true}.Load(path)
	require.NoError(t, err)
	kept, err := state.Open(filepath.Join(folder, "state"))
	require.NoError(t, err)
	e := &Engine{Engine: work.Engine{Estate: loaded, State: kept}}
	e.Servers = map[string]*work.Connection{"barn": {Entry: loaded.Servers["barn"], Admin: p}}
	return e, p
}

// stands makes the catalogue what a run that went well has left.
func (p *pretended) stands(t *testing.T, e *Engine, rights string) dbms.Account {
	t.Helper()
	app := e.Estate.Apps["hives"]
	d := app.Database
	p.catalogue.Databases[d.Name] = dbms.Database{Name: d.Name, Charset: d.Charset, Collation: d.Collation}
	a := e.Estate.Servers["barn"].DBMS.Accounts("hives_app", app.Accounts[0].ClientHosts)[0]
	p.catalogue.Accounts[a] = dbms.AccountState{Account: a, Verifier: p.Verifier(a, secret.NewPassword(known), "")}
	p.catalogue.Granted[a] = &dbms.Grants{Databases: map[string]dbms.Privileges{p.Pattern(d.Name): p.Resolve([]string{rights}, dbms.Contents{})}}
	return a
}

// beforeLogin are the steps that need no login of the application's.
var beforeLogin = []string{work.StepDatabase, work.StepAccount, work.StepRights}

func provisionHives(t *testing.T, e *Engine, o work.Options) work.Result {
	t.Helper()
	o.Command, o.Only = "provision", beforeLogin
	results, err := e.Provision(t.Context(), []*estate.App{e.Estate.Apps["hives"]}, o)
	require.NoError(t, err)
	return results[0]
}

// outcomes are the rows of a result, each as its outcome and step.
func outcomes(r work.Result) string {
	var list []string
	for _, row := range r.Rows {
		list = append(list, string(row.Outcome)+" "+row.Step)
	}
	return strings.Join(list, ", ")
}

var everyProduct = []dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL}

func TestWhatIsMissingIsMadeAndTheRestKept(t *testing.T) {
	for _, product := range everyProduct {
		e, p := barn(t, product)
		r := provisionHives(t, e, work.Options{DryRun: true})
		assert.Equal(t, "would make database, would make account, would make rights", outcomes(r), product)
		assert.Empty(t, p.sent, "a dry run sends nothing")

		r = provisionHives(t, e, work.Options{})
		assert.Equal(t, "made database, made account, made rights", outcomes(r), product)
		assert.True(t, r.Changed && r.Exit == 0)
		sent := strings.Join(p.sent, "\n")
		assert.NotContains(t, sent, known, "the password is sent as a verifier, and shown as none")
		if product == dbms.PostgreSQL {
			assert.Contains(t, sent, `REVOKE ALL ON DATABASE "hives" FROM PUBLIC`)
		} else {
			assert.Contains(t, sent, "CREATE DATABASE `hives` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
		}

		p.sent = nil
		p.stands(t, e, "structure")
		r = provisionHives(t, e, work.Options{})
		assert.Equal(t, "kept database, kept account, kept rights", outcomes(r), product)
		assert.False(t, r.Changed)
		assert.Empty(t, p.sent, "a second run sends nothing")
		assert.True(t, r.Open)
		p.stands(t, e, "rows")
		assert.False(t, provisionHives(t, e, work.Options{}).Open, "%s: the rights say that the installer has had its time", product)
	}
}

func TestARefusalUndoesWhatWasDoneNewestFirst(t *testing.T) {
	for _, product := range everyProduct {
		e, p := barn(t, product)
		p.refuse = "GRANT ALTER"
		if product == dbms.PostgreSQL {
			p.refuse = "GRANT CONNECT"
		}
		r := provisionHives(t, e, work.Options{})
		assert.Equal(t, "made database, made account, failed rights, undone account, undone database", outcomes(r), product)
		assert.Equal(t, fault.Failed.ExitCode(), r.Exit)
		sent := strings.Join(p.sent, "\n")
		user, database := strings.LastIndex(sent, "DROP USER"), strings.LastIndex(sent, "DROP DATABASE")
		if product == dbms.PostgreSQL {
			user = strings.LastIndex(sent, `DROP ROLE IF EXISTS "hives_app"`)
		}
		assert.True(t, user > 0 && database > user, "%s: %s", product, sent)
		cut, err := e.State.CutOff("hives", e.Estate.Path)
		require.NoError(t, err)
		assert.Nil(t, cut, "the run has ended, and says so")
	}
}

func TestWhatDiffersIsToldAndFixedWhenAskedFor(t *testing.T) {
	for name, row := range map[string]struct {
		products []dbms.Product
		change   func(t *testing.T, e *Engine, p *pretended, a dbms.Account)
		options  work.Options
		want     string
		says     string // a row, or what was sent
	}{
		"too many rights": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			p.catalogue.Granted[a].Databases[p.Pattern("hives")] = p.Resolve([]string{"rows"}, dbms.Contents{}).Plus(dbms.NewPrivileges("TRIGGER", "OWNER"))
		}, work.Options{}, "kept database, kept account, differs rights", "--fix rights"},
		"too many rights, fixed": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			p.catalogue.Granted[a].Databases[p.Pattern("hives")] = p.Resolve([]string{"read"}, dbms.Contents{}).Plus(dbms.NewPrivileges("EVENT"))
		}, work.Options{Fix: []string{work.FixRights}}, "kept database, kept account, fixed rights", "GRANT "},
		"a grant that leaks": {[]dbms.Product{dbms.MariaDB, dbms.MySQL}, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			p.catalogue.Granted[a].Databases["hive_"] = dbms.NewPrivileges("SELECT")
		}, work.Options{}, "kept database, kept account, differs rights", "wildcards"},
		"a right on the whole server": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			p.catalogue.Granted[a].Global = dbms.NewPrivileges("PROCESS")
		}, work.Options{}, "kept database, kept account, differs rights, kept rights", "if it is not meant"},
		"another password": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			s := p.catalogue.Accounts[a]
			s.Verifier = p.Verifier(a, secret.NewPassword("another"), "")
			p.catalogue.Accounts[a] = s
		}, work.Options{}, "kept database, differs account, kept rights", "--fix server-password"},
		"another password, fixed": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			s := p.catalogue.Accounts[a]
			s.Verifier = p.Verifier(a, secret.NewPassword("another"), "")
			p.catalogue.Accounts[a] = s
		}, work.Options{Fix: []string{work.FixPassword}}, "kept database, fixed account, kept rights", "ALTER "},
		"a locked account": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, a dbms.Account) {
			s := p.catalogue.Accounts[a]
			s.Locked = true
			p.catalogue.Accounts[a] = s
		}, work.Options{}, "differs account", "if it was not locked on purpose"},
		"another character set": {everyProduct, func(_ *testing.T, e *Engine, p *pretended, _ dbms.Account) {
			d := p.catalogue.Databases["hives"]
			d.Charset = "latin1"
			p.catalogue.Databases["hives"] = d
		}, work.Options{}, "differs database", "latin1"},
		"an administrator who may not": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, _ dbms.Account) {
			p.catalogue.Granted[dbms.ParseAccount(p.user)] = &dbms.Grants{}
		}, work.Options{}, "failed server", "lacks rights for this"},
		"someone at work elsewhere": {everyProduct, func(_ *testing.T, _ *Engine, p *pretended, _ dbms.Account) {
			p.locked = &dbms.Connection{Who: "root from 10.0.4.7", Administers: true}
		}, work.Options{}, "refused server", "root from 10.0.4.7"},
	} {
		for _, product := range row.products {
			e, p := barn(t, product)
			a := p.stands(t, e, "structure")
			row.change(t, e, p, a)
			r := provisionHives(t, e, row.options)
			assert.Equal(t, row.want, outcomes(r), "%s, %s", name, product)
			said := strings.Join(p.sent, "\n")
			for _, row := range r.Rows {
				said += "\n" + row.Facts + "\n" + row.Remedy
			}
			assert.Contains(t, said, row.says, "%s, %s", name, product)
			if len(row.options.Fix) == 0 {
				assert.Empty(t, p.sent, "%s, %s: nothing is changed unasked", name, product)
				assert.NotZero(t, r.Exit, name)
			}
			assert.NotContains(t, said, known, name)
		}
	}
}

func TestWhatAnInterruptedImportLeftIsRemovedAndNothingElse(t *testing.T) {
	for _, product := range everyProduct {
		e, p := barn(t, product)
		p.stands(t, e, "structure")
		p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "hive"}, {Name: "before"}, {Name: "made_since"}}}
		require.NoError(t, e.State.SetNote(content.UnfinishedImports, e.Estate.Servers["barn"].Address().String()+"/hives", content.Unfinished{
			App: "hives", Scripts: []string{"hives.sql"}, Makes: []dbms.Object{{Kind: "TABLE", Name: "hive"}, {Kind: "TABLE", Name: "before"}},
			Before: []dbms.Object{{Kind: "TABLE", Name: "before"}},
		}))
		results, err := e.Provision(t.Context(), []*estate.App{e.Estate.Apps["hives"]}, work.Options{Command: "provision", Only: append([]string{work.StepSQL}, beforeLogin...)})
		require.NoError(t, err)
		assert.Contains(t, outcomes(results[0]), "fixed sql", product)
		assert.Equal(t, map[dbms.Object]bool{{Kind: "TABLE", Name: "hive"}: true}, p.removed, product)
	}
}
