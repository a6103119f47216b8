package estate_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/estate"
)

const layouts = `servers: {barn: {dbms: mariadb, socket: /run/x.sock, admin: {user: root}}}
apps:
  # the first
  combs:  # of 2019
    # where it lies
    folder: "www/combs" # here
    server: barn
    url: https://combs.example/
    database:
      charset: utf8mb4
      name: 'combs'
    accounts:
      - name: combs_app
        rights: structure
      - {client_hosts: [10.0.0.1], name: combs_report}
    notes:
      - "folder: www/combs"

  # the second
  honey: {folder: www/honey, server: barn, url: "https://h.example/", databases: {main: {name: honey}, log: {name: honey_log}}, accounts: [{name: h}]}
`

// TestEntriesAreChangedInTheirLayout: every byte stays that is not meant.
func TestEntriesAreChangedInTheirLayout(t *testing.T) {
	path := filepath.Join(t.TempDir(), "yellowfield.yaml")
	require.NoError(t, os.WriteFile(path, []byte(layouts), 0o600))
	load := func() *estate.Estate {
		e, err := estate.Loader{}.Load(path)
		require.NoError(t, err)
		return e
	}
	for _, app := range []string{"combs", "honey"} {
		change, err := load().Retire(app, "2026-11-26")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, change.After, 0o600))
		assert.Equal(t, "2026-11-26", load().Apps[app].Retired)
		change, err = load().Retire(app, "")
		require.NoError(t, err)
		assert.Equal(t, layouts, string(change.After))
		require.NoError(t, os.WriteFile(path, change.After, 0o600))
	}
	for app, wanted := range map[string]string{"combs": "    server: byre\n", "honey": "server: byre,"} {
		change, err := load().MoveTo(app, "byre")
		require.NoError(t, err)
		assert.Contains(t, string(change.After), wanted)
	}
	change, err := load().CopyEntry("combs", estate.Copied{Name: "try", Folder: "www/try \"it\"", Databases: map[string]string{"combs": "try"}, Accounts: map[string]string{"combs_app": "try_app", "combs_report": "try_report"}})
	require.NoError(t, err)
	assert.Contains(t, string(change.After), `
  try:  # of 2019
    # where it lies
    folder: "www/try \"it\"" # here
    server: barn
    database:
      charset: utf8mb4
      name: try
    accounts:
      - name: try_app
        rights: structure
      - {client_hosts: [10.0.0.1], name: try_report}
    notes:
      - "folder: www/combs"

  # the second
`)
	require.NoError(t, os.WriteFile(path, change.After, 0o600))
	change, err = load().CopyEntry("honey", estate.Copied{Name: "more", Folder: "m", Databases: map[string]string{"honey": "m", "honey_log": "m_log"}, Accounts: map[string]string{"h": "m_app"}})
	require.NoError(t, err)
	assert.Contains(t, string(change.After), `
  more: {folder: "m", server: barn, databases: {main: {name: m}, log: {name: m_log}}, accounts: [{name: m_app}]}
`)
	_, err = load().CopyEntry("honey", estate.Copied{Name: "combs", Folder: "m", Databases: map[string]string{"honey": "m", "honey_log": "m_log"}, Accounts: map[string]string{"h": "m_app"}})
	require.Error(t, err)
}

// TestAnEntryIsChangedInWhatIsThereNow: others have changed the file since it was read, or since
// the edit that is taken back; what they wrote stays, and what they changed in the entry itself
// is not overwritten.
func TestAnEntryIsChangedInWhatIsThereNow(t *testing.T) {
	copied := estate.Copied{Name: "try", Folder: "www/try", Databases: map[string]string{"combs": "try"}, Accounts: map[string]string{"combs_app": "try_app", "combs_report": "try_report"}}
	changes := map[string]func(*estate.Estate) (*estate.Change, error){
		"retired": func(e *estate.Estate) (*estate.Change, error) { return e.Retire("combs", "2026-11-26") },
		"moved":   func(e *estate.Estate) (*estate.Change, error) { return e.MoveTo("combs", "byre") },
		"copied":  func(e *estate.Estate) (*estate.Change, error) { return e.CopyEntry("combs", copied) },
	}
	others := func(text string) string { return strings.Replace(text, "www/honey", "www/elsewhere", 1) + "# more\n" }
	for name, change := range changes {
		path := filepath.Join(t.TempDir(), "yellowfield.yaml")
		write := func(text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
		text := func() string {
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			return string(content)
		}
		start := strings.Replace(layouts, "apps:", "  byre: {dbms: mariadb, socket: /run/y.sock, admin: {user: root}}\napps:", 1)
		start = strings.Replace(start, "servers: {barn: {dbms: mariadb, socket: /run/x.sock, admin: {user: root}}}", "servers:\n  barn: {dbms: mariadb, socket: /run/x.sock, admin: {user: root}}", 1)
		write(start)
		e, err := estate.Loader{}.Load(path)
		require.NoError(t, err)
		wanted, err := change(e)
		require.NoError(t, err)

		write(strings.Replace(start, "structure", "data", 1))
		_, err = e.Now("combs")
		require.NoError(t, err)
		assert.ErrorContains(t, e.CheckUnchanged(t.Context(), wanted), "the entry of app combs was changed by someone else", name)
		write(others(start))
		var written *estate.Change
		require.NoError(t, e.Apply(t.Context(), wanted, nil, func(c *estate.Change) error { written = c; return nil }))
		assert.Equal(t, others(string(wanted.After)), text(), name)

		changed := func([]byte) ([]byte, error) { return nil, nil }
		write(strings.Replace(text(), "# more", "# still more", 1))
		require.NoError(t, e.TakeBack(t.Context(), path, written.Edit, changed))
		assert.Equal(t, strings.Replace(others(start), "# more", "# still more", 1), text(), name)
		require.NoError(t, e.TakeBack(t.Context(), path, written.Edit, changed), "twice")

		write(strings.NewReplacer("2026-11-26", "2026-11-27", "server: byre", "server: hut", "try_app", "other_app").Replace(string(wanted.After)))
		before := text()
		if name != "moved" { // there is no such server, which is an error of the file by itself
			assert.ErrorContains(t, e.TakeBack(t.Context(), path, written.Edit, changed), "was changed by someone else", name)
		}
		assert.Equal(t, before, text(), name)

		if name == "copied" {
			write(strings.Replace(string(wanted.After), "www/try", "www/third", 1))
			assert.ErrorContains(t, e.Apply(t.Context(), wanted, nil, nil), "app try is in the estate file already")
		}
	}
}

// TestAFolderByTwoNames: the lock of a folder that is named by a link, too, is taken once.
func TestAFolderByTwoNames(t *testing.T) {
	folder := t.TempDir()
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(folder, link))
	path := filepath.Join(folder, "yellowfield.yaml")
	require.NoError(t, os.WriteFile(path, []byte("include: ["+link+"/apps.yaml]\nservers: {barn: {dbms: mariadb, socket: /run/x.sock, admin: {user: root}}}\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "apps.yaml"), []byte("apps:\n  combs: {server: barn, database: {name: combs}, accounts: [{name: combs_app}]}\n"), 0o600))
	e, err := estate.Loader{TrustOthers: true}.Load(path)
	require.NoError(t, err)
	change, err := e.Retire("combs", "2026-12-02")
	require.NoError(t, err)
	require.NoError(t, e.CheckUnchanged(t.Context(), change))
	release, err := estate.LockFolder(t.Context(), link)
	require.NoError(t, err)
	defer release()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, e.CheckUnchanged(ctx, change), context.Canceled, "while somebody holds it, Ctrl-C ends the wait")
}
