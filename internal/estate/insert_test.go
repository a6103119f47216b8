package estate

import (
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
)

const (
	newServer = "dbms: mariadb\nsocket: /s   # here\nadmin: {user: root}\n"
	newApp    = "server: barn\ndatabase: {name: new}\naccounts:\n  - name: new_app\n"
	barn      = "servers:\n  barn: {dbms: mariadb, socket: /s, admin: {user: root}}\n"
)

func TestEntriesAreAddedAndEveryOtherByteStays(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	insertedApp := "  new:\n    server: barn\n    database: {name: new}\n    accounts:\n      - name: new_app\n"
	old := "    old: {server: barn, database: {name: old}, accounts: [{name: old}]}   # old\n"
	for _, row := range []struct{ source, want string }{
		{barn, barn + "\napps:\n" + insertedApp},
		{strings.TrimSuffix(barn, "\n"), barn + "\napps:\n" + insertedApp},
		{barn + "apps: {}\n# end\n", barn + "apps:\n" + insertedApp + "# end\n"},
		{barn + "apps: null # none\n", barn + "apps: # none\n" + insertedApp},
		{barn + "apps:   # none yet\n", barn + "apps:   # none yet\n" + insertedApp},
		{"apps:\n" + old + "\n# the servers\n" + barn, "apps:\n" + old + "\n" + strings.ReplaceAll(strings.ReplaceAll(insertedApp, "\n  ", "\n    "), "  new:", "    new:") + "\n# the servers\n" + barn},
		{strings.ReplaceAll(barn, "\n", "\r\n"), strings.ReplaceAll(barn+"\napps:\n"+insertedApp, "\n", "\r\n")},
	} {
		got, err := Loader{}.Insert(path, []byte(row.source), nil, []Entry{{"new", newApp}})
		require.NoError(t, err, row.source)
		assert.Equal(t, row.want, string(got))
	}
	got, err := Loader{}.Insert(path, nil, []Entry{{"barn", newServer}}, []Entry{{"new", newApp}})
	require.NoError(t, err)
	assert.Equal(t, "servers:\n  barn:\n    dbms: mariadb\n    socket: /s   # here\n    admin: {user: root}\n\napps:\n"+insertedApp, string(got))
}

func TestWhatCannotBeAddedSaysWhy(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	for source, want := range map[string]string{
		barn + "apps: {old: {server: barn, database: {name: old}, accounts: [{name: old}]}}\n": ":3:1: apps is written in one line",
		barn + "apps:\n  new:\n    server: barn\n":                                             ":4:3: new is in the estate file already",
		"servers:\n  shed: {dbms: mariadb, socket: /s, admin: {user: root}}\n":                 "barn",
		barn + "apps: [\n": "not valid YAML",
	} {
		_, err := Loader{}.Insert(path, []byte(source), nil, []Entry{{"new", newApp}})
		assert.ErrorContains(t, err, want)
		assert.NotEmpty(t, fault.All(err)[0].Next)
	}
}

func TestKeysAreWrittenAsYAMLReadsThem(t *testing.T) {
	for key, want := range map[string]string{
		"$a['b']": "$a['b']", "[s] key": `"[s] key"`, "/a/b": "/a/b", "A#password": "A#password", `return["x"]: y`: `"return[\"x\"]: y"`, "'a'": `"'a'"`,
	} {
		assert.Equal(t, want, PlainKey(key))
	}
}

// FuzzQuoted has YAML read texts and keys back.
func FuzzQuoted(f *testing.F) {
	for _, text := range []string{"", "a", "a: b", "\n- x", "\x00", "\x1f", "\x85", "\u2028", "\ufeff", `"`, `\`, "#", "{", "é", "🐝", "\x7f", "\u00a0", "\ufffe"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return
		}
		var back map[string]string
		if err := yaml.Unmarshal([]byte("k: "+Quoted(text)+"\n"), &back); assert.NoError(t, err, "%q", text) {
			assert.Equal(t, map[string]string{"k": text}, back)
		}
		back = nil
		if err := yaml.Unmarshal([]byte(PlainKey(text)+": v\n"), &back); assert.NoError(t, err, "%q", text) {
			assert.Equal(t, map[string]string{text: "v"}, back)
		}
	})
}
