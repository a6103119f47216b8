package mysql

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/secret"
)

func TestPatternsMeanOneDatabase(t *testing.T) {
	s := SQL{}
	assert.Equal(t, `comb\_ledger`, s.Pattern("comb_ledger"))
	s.facts.PartialRevokes = true
	assert.Equal(t, "comb_ledger", s.Pattern("comb_ledger"))
	for _, row := range []struct {
		pattern, name string
		matches       bool
	}{
		{"comb_ledger", "combXledger", true}, {`comb\_ledger`, "combXledger", false}, {`comb\_ledger`, "comb_ledger", true},
		{"comb%", "comb", true}, {"comb%", "comb_ledger", true}, {"%ledger", "comb_ledger", true}, {"c%r_", "comb_ledgers", true},
		{"comb", "combs", false}, {"combs", "comb", false}, {`50\%`, "50%", true}, {`50\%`, "50x", false}, {"", "", true}, {"%%", "x", true},
	} {
		assert.Equal(t, row.matches, like(row.pattern, row.name), "%q %q", row.pattern, row.name)
	}
}

func TestRightsAreChangedWithoutAGap(t *testing.T) {
	s := SQL{}
	app := dbms.Account{User: "comb_app", Host: "10.0.4.%"}
	change := func(g dbms.Grants, want ...string) []string {
		statements, _ := s.ChangeRights(app, "comb_ledger", g, dbms.NewPrivileges(want...))
		var shown []string
		for _, statement := range statements {
			shown = append(shown, statement.String())
		}
		return shown
	}
	held := func(pattern string, names ...string) dbms.Grants {
		return dbms.Grants{Databases: map[string]dbms.Privileges{pattern: dbms.NewPrivileges(names...)}}
	}
	assert.Equal(t, []string{"GRANT INSERT, SELECT ON `comb\\_ledger`.* TO `comb_app`@`10.0.4.%`"}, change(dbms.Grants{}, "SELECT", "INSERT"))
	assert.Empty(t, change(held(`comb\_ledger`, "SELECT"), "SELECT"))
	assert.Equal(t, []string{
		"GRANT INSERT ON `comb\\_ledger`.* TO `comb_app`@`10.0.4.%`", "REVOKE DROP, SELECT ON `comb\\_ledger`.* FROM `comb_app`@`10.0.4.%`",
	}, change(held(`comb\_ledger`, "SELECT", "DROP"), "INSERT"))
	assert.Equal(t, []string{
		"GRANT SELECT ON `comb\\_ledger`.* TO `comb_app`@`10.0.4.%`", "REVOKE SELECT ON `comb_ledger`.* FROM `comb_app`@`10.0.4.%`",
	}, change(held(`comb_ledger`, "SELECT"), "SELECT"), "a grant that leaks is revoked as it is stored")
	passingOn := held(`comb\_ledger`, "SELECT")
	passingOn.GrantOption = []string{`comb\_ledger`}
	assert.Equal(t, []string{"REVOKE GRANT OPTION ON `comb\\_ledger`.* FROM `comb_app`@`10.0.4.%`"}, change(passingOn, "SELECT"))
}

func TestAdministratorLacks(t *testing.T) {
	s := SQL{}
	want := dbms.NewPrivileges("SELECT")
	full := dbms.Grants{Global: dbms.NewPrivileges("SELECT", "CREATE", "DROP", "CREATE USER"), GrantOption: []string{""}}
	assert.Empty(t, s.AdministratorLacks(full, "one", want))
	inPart := dbms.Grants{Global: dbms.NewPrivileges("CREATE USER"), GrantOption: []string{"web%"},
		Databases: map[string]dbms.Privileges{"web%": dbms.NewPrivileges("SELECT", "CREATE", "DROP")}}
	assert.Empty(t, s.AdministratorLacks(inPart, "web_1", want))
	assert.Equal(t, []string{"CREATE", "DROP", "GRANT OPTION", "SELECT"}, s.AdministratorLacks(inPart, "other", want))
}

func TestSecretsInStatementsAreMasked(t *testing.T) {
	p := secret.NewPassword("plain-and-visible")
	a := dbms.Account{User: "x%s", Host: "10.%"} // the % must not be taken for a verb
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL} {
		s := NewSQL(dbms.About{Product: product})
		verifier := secret.Native(p)
		for _, statement := range append(s.SetVerifier(a, verifier), s.CreateAccount(a, verifier, dbms.AccountOptions{}),
			s.CreateAccountInPlain(a, p, dbms.AccountOptions{}), s.SetPasswordInPlain(a, p)) {
			for _, shown := range []string{statement.String(), fmt.Sprint(statement), fmt.Sprintf("%v %s", statement, statement)} {
				assert.NotContains(t, shown, "plain-and-visible")
				assert.NotContains(t, shown, string(verifier.Bytes()))
				assert.NotContains(t, shown, fmt.Sprintf("%X", verifier.Bytes()))
				assert.NotContains(t, shown, "MISSING")
			}
		}
	}
	assert.Equal(t, "CREATE USER `x``y`@`%` IDENTIFIED BY 'it''s' REQUIRE SSL WITH MAX_USER_CONNECTIONS 3",
		SQL{}.CreateAccountInPlain(dbms.Account{User: "x`y", Host: "%"}, secret.NewPassword("it's"), dbms.AccountOptions{RequireTLS: true, MaxConnections: 3}).Text)
}

func TestOptionFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "my.cnf")
	require.NoError(t, os.WriteFile(path, []byte(`
password=outside
[mysqld]
user=not-this
[client]
# the administrator
user = keeper
password = "with # and \s and \\ inside" # behind
socket=/run/x.sock # behind
port=3307
`), 0o600))
	o, err := ReadOptionFile(path)
	require.NoError(t, err)
	assert.Equal(t, "keeper", o.User)
	assert.Equal(t, `with # and   and \ inside`, o.Password.Reveal())
	o, err = ReadOptionFile(path + ".missing")
	require.NoError(t, err)
	assert.Zero(t, o.User)
	require.NoError(t, os.WriteFile(path, []byte("[client]\npassword=alone\n"), 0o600))
	o, err = ReadOptionFile(path)
	require.NoError(t, err)
	assert.Equal(t, "alone", o.Password.Reveal())
}

func TestResolveLevels(t *testing.T) {
	assert.Len(t, SQL{}.Resolve([]string{"structure"}, dbms.Contents{}), 18)
	plain := SQL{}.Resolve([]string{"rows", "create"}, dbms.Contents{})
	assert.True(t, plain.Has("CREATE") && !plain.Has("TRIGGER"))
	with := SQL{}.Resolve([]string{"rows"}, dbms.Contents{Triggers: []dbms.Object{{}}, Events: []dbms.Object{{}}})
	assert.True(t, with.Has("TRIGGER") && with.Has("EVENT"), "else every change to a table with a trigger is refused")
}
