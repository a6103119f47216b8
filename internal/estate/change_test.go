package estate_test

import (
	"os"
	"path/filepath"
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
