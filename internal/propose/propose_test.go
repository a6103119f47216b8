package propose

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/estate"
)

const barn = "servers:\n  barn: {dbms: mariadb, socket: /run/barn.sock, admin: {user: root}}\n"

// FuzzHostileTree looks through trees whose names and values are meant to be read as
// something else, and writes the entry: the estate file then says what was found,
// letter by letter, and nothing besides, or it stays as it was.
func FuzzHostileTree(f *testing.F) {
	for _, hostile := range []string{
		"plain", "a: b", "a\nafter_settings_change: [[sh]]\nx", "a\r\n    after_settings_change: [[sh, -c, id]]", "x]\n#", "- y", "&a", "*a", "!!binary x", "{a: b}", "a #b", "a'b\"c", "%x", "`x`", "| x", "> x",
		"\u2028links: [/etc]", "\u0085host_rule: true", "\x1b[2J", "~", "null", "true", "0x10", "1e3", "=", "<<", "? a", "a\\nb", "{password}", "{user|url}", "\xff\xfe", "", " x ", "\ufeffa", "---", "...", "a:", ": a",
	} {
		f.Add("conf", hostile, hostile, hostile)
		f.Add(hostile, "DB_NAME", "x", "meadow")
	}
	f.Fuzz(func(t *testing.T, file, key, value, name string) {
		folder := t.TempDir()
		tree := filepath.Join(folder, "www")
		require.NoError(t, os.Mkdir(tree, 0o755))
		save := func(name, content string) {
			_ = os.WriteFile(filepath.Join(tree, filepath.Base(name)), []byte(content), 0o644) // some are no names of files
		}
		php := strings.NewReplacer(`\`, `\\`, `'`, `\'`)
		save(file+".php", "<?php\ndefine('DB_HOST', 'localhost');\ndefine('DB_USER', '"+php.Replace(value)+"');\ndefine('DB_PASSWORD', '');\n$"+"config['db']['"+php.Replace(key)+"'] = '"+php.Replace(value)+"';\ndefine('DB_NAME', '"+php.Replace(name)+"');\ndefine('TABLE_PREFIX', '"+php.Replace(value)+"');\n")
		save("index.php", "<?php\nrequire '"+php.Replace(file)+".php';\n$link = new mysqli(DB_HOST, DB_USER, DB_PASSWORD, DB_NAME);\n")
		save(file+".sql", "CREATE TABLE `"+strings.ReplaceAll(value, "`", "``")+"hives` (i INT);\n")
		composer, _ := json.Marshal(map[string]any{"name": name, "require": map[string]string{"ext-" + key: "*", value: "*", "ext-mysqli": "*"}})
		save("composer.json", string(composer))

		path := filepath.Join(folder, estate.FileName)
		require.NoError(t, os.WriteFile(path, []byte(barn), 0o600))
		before, err := estate.Loader{}.Load(path)
		require.NoError(t, err)
		p, err := New(t.Context(), Options{Folder: tree, Name: "hives", Estate: before, Path: path})
		if err != nil {
			return
		}
		if _, err = p.Write(t.Context()); err != nil {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			require.Equal(t, barn, string(text), "a refused entry leaves the file alone")
			return
		}
		after, err := estate.Loader{}.Load(path)
		require.NoError(t, err)
		assert.Equal(t, before.Servers, after.Servers)
		require.Len(t, after.Apps, 1)
		app := after.Apps["hives"]
		assert.Equal(t, tree, app.Folder)
		assert.Empty(t, app.AfterSettingsChange)
		assert.Empty(t, app.Links)
		assert.Empty(t, app.ServerDuringImport)
		assert.False(t, app.HostRule)
		assert.Nil(t, app.Ownership)
		for _, account := range app.Accounts {
			assert.Nil(t, account.Password)
			assert.Equal(t, "hives_app", account.Name)
		}
		for _, script := range app.Import {
			assert.FileExists(t, filepath.Join(tree, script.File))
		}
		chosen := p.chosen()
		for _, settings := range app.Settings {
			assert.Equal(t, chosen.File, settings.File)
			assert.Equal(t, chosen.Template, settings.Template)
			for _, v := range settings.Values {
				meant := false
				for _, found := range chosen.Values {
					meant = meant || found.Address == v.Address && found.Text == v.Text.String() && found.Doubt == ""
				}
				assert.True(t, meant, "%q: %q was not meant", v.Address, v.Text)
			}
		}
		if app.PHP != nil {
			for _, extension := range app.PHP.Extensions {
				assert.Regexp(t, `^[a-z0-9_]+$`, extension)
			}
		}
	})
}
