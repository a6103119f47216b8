package estate

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
)

const good = `
servers:
  barn: {dbms: mariadb, socket: /run/barn.sock, admin: {user: root}}
apps:
  combledger:
    server: barn
    folder: www/combledger
    labels: [members]
    database: {name: combledger}
    accounts:
      - {name: comb_app, rights: {installing: structure, running: [rows, CREATE]}, limits: {connections: 40}}
      - {name: comb_report, client_hosts: [10.0.4.%], rights: read}
    prefix: cl_
    php: {extensions: [mysqli], ini: {max_file_uploads: ">= 40", memory_limit: {want: ">= 256M", severity: should-look}}}
    import: [sql/a.sql, {file: sql/b.sql.gz, prefix_token: "@p_"}]
    settings:
      - file: private/ledger.php
        template: private/ledger.php.dist
        values:
          HOST: "{host}"
          $stock['main']['password']: "{password}"
          PORT: 3306
    ownership: {owner: www-data, modes: {installing: "0660", running: 0440}}
`

func load(t *testing.T, files map[string]string) (*Estate, error) {
	t.Helper()
	folder := t.TempDir()
	for name, content := range files {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	}
	return Loader{}.Load(filepath.Join(folder, FileName))
}

func TestLoadCompletesWhatIsNotSaid(t *testing.T) {
	e, err := load(t, map[string]string{FileName: good})
	require.NoError(t, err)
	app := e.Apps["combledger"]
	assert.Equal(t, Database{Name: "combledger", Charset: "utf8mb4", Collation: "utf8mb4_unicode_ci"}, app.Database)
	assert.Equal(t, []string{"localhost"}, app.Accounts[0].ClientHosts)
	assert.Equal(t, Rights{Installing: []string{"read"}, Running: []string{"read"}}, app.Accounts[1].Rights)
	assert.True(t, app.Accounts[0].Rights.Split())
	assert.Equal(t, filepath.Join(filepath.Dir(e.Path), "www/combledger"), app.Folder)
	assert.Equal(t, []Script{{File: "sql/a.sql"}, {File: "sql/b.sql.gz", PrefixToken: "@p_"}}, app.Import)
	assert.Equal(t, Mode(0o440), app.Ownership.Modes.Running)
	assert.Equal(t, "$stock['main']['password']", app.Settings[0].Values[1].Address)
	assert.Equal(t, "3306", app.Settings[0].Values[2].Text.String())
	assert.Equal(t, ShouldLook, app.PHP.INI["memory_limit"].Severity)
	assert.Equal(t, MustFix, app.PHP.INI["max_file_uploads"].Severity)
	assert.Equal(t, "11:16", strings.SplitN(e.Place("apps.combledger.accounts[0].name.x").String(), ".yaml:", 2)[1])
}

func TestDefaultsAndIncludes(t *testing.T) {
	files := map[string]string{
		FileName: `
include: [apps/*.yaml]
defaults:
  server: barn
  database: {collation: utf8mb4_bin}
  account: {client_hosts: [127.0.0.1], rights: rows}
servers: {barn: {dbms: mysql, host: localhost, admin: {}}}
`,
		"apps/a.yaml": "apps: {one: {database: {name: one}, accounts: [{name: one}]}}",
		"apps/b.yaml": "apps: {two: {database: {name: two, collation: utf8mb4_general_ci}, accounts: [{name: two, rights: read}]}}",
	}
	e, err := load(t, files)
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, Names(e.Apps))
	assert.Equal(t, "utf8mb4_bin", e.Apps["one"].Database.Collation)
	assert.Equal(t, []string{"rows"}, e.Apps["one"].Accounts[0].Rights.Running)
	assert.Equal(t, []string{"127.0.0.1"}, e.Apps["two"].Accounts[0].ClientHosts)
	assert.Equal(t, []string{"read"}, e.Apps["two"].Accounts[0].Rights.Running)
	assert.Equal(t, "127.0.0.1", e.Servers["barn"].HostForApps(), "localhost over TCP is not what PHP takes localhost for")

	files["apps/c.yaml"] = "apps:\n  one: {server: barn, database: {name: x}, accounts: [{name: x}]}"
	_, err = load(t, files)
	assert.ErrorContains(t, err, `c.yaml:2:3: "one" is there twice, first at `)
}

// TestEveryFaultHasItsPlace changes the good file in one place and expects
// the fault there.
func TestEveryFaultHasItsPlace(t *testing.T) {
	for name, row := range map[string]struct{ old, new, want string }{
		"unknown key":              {"folder: www", "foldr: www", `:7:5: unknown key "foldr" (did you mean folder?)`},
		"key of a later version":   {"labels: [members]", "backups: {}", `unknown key "backups"`},
		"doubled key":              {"    prefix: cl_", "    prefix: cl_\n    server: barn", `:14:5: "server" is there twice, first in line 6`},
		"wrong type":               {"labels: [members]", "labels: members", `:8:13: labels must be a list, and this is a text`},
		"broken YAML":              {"labels: [members]", "labels: [members", `this is not valid YAML`},
		"unknown dbms":             {"dbms: mariadb", "dbms: mariabd", `:3:16: unknown dbms "mariabd" (did you mean mariadb?)`},
		"other server":             {"server: barn", "server: bran", `:6:13: there is no server "bran" (did you mean barn?)`},
		"socket and host":          {"socket: /run/barn.sock", "socket: /run/barn.sock, host: x", `must have a socket or a host`},
		"relative socket":          {"/run/barn.sock", "run/barn.sock", `must be absolute`},
		"literal password":         {"{user: root}", "{user: root, password: tops3cret}", `:3:79: a password may not stand in the estate file (give {file: PATH}`},
		"password from two places": {"{user: root}", "{user: root, password: {env: A, file: b}}", `must come from exactly one place`},
		"reserved database":        {"{name: combledger}", "{name: mysql}", `:9:22: "mysql" is reserved`},
		"bad characters":           {"{name: combledger}", "{name: comb-ledger}", `"comb-ledger" cannot be the name of a database (small letters`},
		"long name":                {"name: comb_app", "name: " + strings.Repeat("a", 81), `has 81 characters, and this server allows 80`},
		"reserved account":         {"name: comb_app", "name: root", `:11:16: "root" is reserved`},
		"same account twice":       {"name: comb_report", "name: comb_app", `the account comb_app is there twice`},
		"unknown right":            {"rights: read", "rights: reed", `unknown right "reed" (did you mean read`},
		"half a state":             {"running: [rows, CREATE]", "", `rights must have both installing and running`},
		"right on the server":      {"rows, CREATE]", "rows, SUPER]", `unknown right "SUPER"`},
		"client host":              {"10.0.4.%", "'a b'", `"a b" cannot be a client host`},
		"token without prefix":     {"    prefix: cl_\n", "", `a prefix token needs a prefix`},
		"path out of the folder":   {"file: private/ledger.php\n", "file: ../ledger.php\n", `../ledger.php leads out of the folder of app combledger`},
		"unknown placeholder":      {"{host}", "{hots}", `unknown placeholder "hots" (did you mean host?)`},
		"unknown filter":           {"{host}", "{host|uri}", `unknown filter "uri" (did you mean url?)`},
		"world-writable mode":      {`"0660"`, `"0666"`, `mode 0666 lets everyone on the host write the file`},
		"no mode":                  {`"0660"`, `"rw"`, `"rw" is no file mode`},
		"severity":                 {"severity: should-look", "severity: bad", `unknown severity "bad"`},
		"missing include":          {"servers:", "include: [nowhere.yaml]\nservers:", `:2:11: there is no file nowhere.yaml`},
		"no administrator":         {", admin: {user: root}", "", `database combledger cannot be made: server barn has no administrator`},
		"installer without values": {"    prefix: cl_", "    prefix: cl_\n    installer: {settings: [other.php]}", `other.php is written by the installer, but settings does not say`},
	} {
		require.Contains(t, good, row.old, name)
		_, err := load(t, map[string]string{FileName: strings.Replace(good, row.old, row.new, 1)})
		if assert.Error(t, err, name) {
			assert.Contains(t, err.Error(), row.want, name)
			assert.NotContains(t, err.Error(), "tops3cret")
			first := fault.All(err)[0]
			assert.Equal(t, fault.Invalid, first.Class, name)
			assert.NotZero(t, first.Place.Line, name)
		}
	}
}

func TestSharingMustBeMeant(t *testing.T) {
	two := func(extra string) string {
		return "servers: {barn: {dbms: mariadb, socket: /s, admin: {}}}\napps:\n" +
			"  one: {server: barn, database: {name: same}, accounts: [{name: one}], prefix: a_" + extra + "}\n" +
			"  two: {server: barn, database: {name: same}, accounts: [{name: two}], prefix: b_" + extra + "}\n"
	}
	_, err := load(t, map[string]string{FileName: two("")})
	assert.ErrorContains(t, err, ":4:40: database same is also used by app one (line 3)")
	_, err = load(t, map[string]string{FileName: two(", shared: true")})
	assert.NoError(t, err)
	_, err = load(t, map[string]string{FileName: strings.ReplaceAll(two(", shared: true"), "b_", "a_")})
	assert.ErrorContains(t, err, "must have different prefixes")
}

func TestFindLooksUpwards(t *testing.T) {
	folder := t.TempDir()
	deep := filepath.Join(folder, "a", "b")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	_, err := Find(deep)
	assert.ErrorContains(t, err, "there is no yellowfield.yaml in "+deep)
	require.NoError(t, os.WriteFile(filepath.Join(folder, FileName), nil, 0o600))
	found, err := Find(deep)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(folder, FileName), found)
}

func TestTextsAreFilledAndReadBack(t *testing.T) {
	facts := Facts{"user": "comb_app", "password": "a/b:c@d é+%", "host": "db", "database": "x y"}
	dsn, err := parseText("mysql://{user|url}:{password|url}@{host}/{database|url}?a={{b}}")
	require.NoError(t, err)
	filled := dsn.Fill(facts)
	assert.Equal(t, "mysql://comb_app:a%2Fb%3Ac%40d%20%C3%A9%2B%25@db/x%20y?a={b}", filled)
	got, ok := dsn.Read(filled)
	assert.True(t, ok)
	assert.Equal(t, facts, got)
	assert.NotContains(t, fmt.Sprintf("%v %+v %q %s", got, got, got, got), "a/b:c@d")
	assert.Equal(t, "a/b:c@d é+%", got.Password().Reveal())
	_, ok = dsn.Read("mysql://somewhere else")
	assert.False(t, ok)
	plain, _ := parseText(`{"json": 1}`)
	assert.Equal(t, `{"json": 1}`, plain.Fill(facts))
}

// TestOneBadEntryStopsNobodyElse: faults in an app's entry leave that app out; what
// concerns all, or what two apps share, stops as ever.
func TestOneBadEntryStopsNobodyElse(t *testing.T) {
	const head = "servers: {barn: {dbms: mariadb, socket: /run/barn.sock, admin: {user: root}}}\ndefaults: {server: barn}\napps:\n"
	const shop = "  shop: {database: {name: shop}, accounts: [{name: shop}]}\n"
	for name, row := range map[string]struct {
		text string
		shop string // what stops shop; empty for nothing
	}{
		"an unknown key":            {head + "  a: {database: {name: a}, acounts: []}\n" + shop, ""},
		"behind it, and no account": {head + shop + "  z: {database: {name: z}}\n", ""},
		"a list for a map":          {head + "  a: [x]\n" + shop, ""},
		"nothing at all":            {head + "  a:\n" + shop, ""},
		"its own":                   {head + "  a: {bogus: 1}\n  shop: {database: {name: shop}}\n", "accounts"},
		"a server":                  {strings.Replace(head, "socket", "sokket", 1) + shop, "unknown key"},
		"a section behind the apps": {head + shop + "includes: []\n", "unknown key"},
		"no YAML":                   {head + shop + "  a: {\n", "not valid YAML"},
		"its database":              {head + "  a: {database: {name: shop}, accounts: [{name: a}], bogus: 1}\n" + shop, "also used by app a"},
		"its account":               {head + shop + "  z: {database: {name: z}, accounts: [{name: shop}], bogus: 1}\n", "also used by app z"},
	} {
		path := filepath.Join(t.TempDir(), "yellowfield.yaml")
		require.NoError(t, os.WriteFile(path, []byte(row.text), 0o600))
		e, err := Loader{}.LoadSome(path)
		var chosen []*App
		if err == nil {
			chosen, err = e.Select([]string{"shop"}, nil)
		}
		if row.shop != "" {
			assert.ErrorContains(t, err, row.shop, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Len(t, chosen, 1, name)
		assert.Len(t, e.Broken, 1, name)
		_, err = e.Select(nil, nil)
		assert.Error(t, err, "%s: a command for all apps stops", name)
		_, err = Loader{}.Load(path)
		assert.Error(t, err, name)
	}
	_, err := Loader{}.LoadText("/estate.yaml", []byte(head+"  z: {bogus: 1}\n  a: {bogus: 2}\n"))
	var lines []int
	for _, f := range fault.All(err) {
		lines = append(lines, f.Place.Line)
	}
	assert.True(t, len(lines) > 1 && slices.IsSorted(lines), "%v: as they stand", lines)
}

// TestJSONSchemaKnowsEveryKey walks the schema beside a file that uses all
// kinds of keys: what the loader takes, the schema must know.
func TestJSONSchemaKnowsEveryKey(t *testing.T) {
	text, err := JSONSchema()
	require.NoError(t, err)
	var schema map[string]any
	require.NoError(t, json.Unmarshal(text, &schema))
	definitions := schema["$defs"].(map[string]any)
	for definition, keys := range map[string][]string{
		"App":      {"server", "folder", "database", "databases", "accounts", "import", "settings", "installer", "ownership", "php", "notes", "labels", "shared", "prefix", "server_during_import", "after_settings_change", "installer_files", "host_rule", "links", "accept", "url", "retired"},
		"Accepted": {"finding", "object", "why"},
		"Server":   {"dbms", "socket", "host", "port", "tls", "ca", "certificate", "admin", "seen_by_apps"},
	} {
		d := definitions[definition].(map[string]any)
		assert.Equal(t, false, d["additionalProperties"])
		assert.Len(t, d["properties"], len(keys), definition)
		for _, key := range keys {
			assert.Contains(t, d["properties"], key)
		}
	}
	assert.NotContains(t, string(text), "$ref\": \"#/$defs/Source")
}

// TestTheExamplesLoad keeps the first things that a reader copies true.
func TestTheExamplesLoad(t *testing.T) {
	for path, app := range map[string]string{"README.md": "newapp", "docs/estate.md": "combledger", "packaging/yellowfield.yaml": "combledger"} {
		text, err := os.ReadFile("../../" + path)
		require.NoError(t, err)
		example := string(text)
		if _, rest, within := strings.Cut(example, "```yaml\n"); within {
			example, _, _ = strings.Cut(rest, "```")
		}
		e, err := load(t, map[string]string{FileName: example})
		require.NoError(t, err, path)
		assert.Equal(t, []string{app}, Names(e.Apps))
		for _, name := range Placeholders {
			assert.True(t, path != "docs/estate.md" || strings.Contains(string(text), "{"+name+"}"), name)
		}
	}
}
