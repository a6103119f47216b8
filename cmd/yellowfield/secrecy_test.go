package main

import (
	"context"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/demo"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// TestNothingShowsAPassword runs every command of the scenario, good runs and
// bad ones, and looks for the generated passwords in all that was printed and
// kept: only the settings file, the pending file and connection --reveal may
// hold them.
func TestNothingShowsAPassword(t *testing.T) {
	t.Parallel()
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.MariaDB})
	require.NoError(t, err)
	defer server.Stop()
	folder := t.TempDir()
	require.NoError(t, demo.Unpack(folder, server, nil))

	var printed strings.Builder
	run := func(arguments ...string) string {
		out, _ := program(t.Context(), t, folder, arguments...).CombinedOutput()
		return string(out)
	}
	show := func(arguments ...string) { printed.WriteString(run(arguments...)) }

	structure := filepath.Join(folder, "www/combledger/sql/structure.sql")
	sound, err := os.ReadFile(structure)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(structure, append(sound, "SELECT nonsense;\n"...), 0o600))
	show("provision", "combledger", "--verbose") // fails, is undone
	require.Contains(t, printed.String(), "undone")
	require.NoError(t, os.WriteFile(structure, sound, 0o600))
	for _, arguments := range [][]string{
		{"provision", "--dry-run", "--verbose"}, {"provision", "--verbose"}, {"provision", "--json"}, {"provision", "--dry-run", "--json"},
		{"verify", "--verbose"}, {"verify", "--json"}, {"connection", "honeystall"}, {"connection", "honeystall", "--json"},
		{"connection", "honeystall", "--json", "--reveal"}, {"connection", "combledger", "--account", "comb_report"}, {"list"},
	} {
		show(arguments...)
	}
	var settings []byte
	var passwords []string
	require.NoError(t, exec.Command("cp", "-a", filepath.Join(folder, "www/combledger"), filepath.Join(folder, "www/combtrial")).Run())
	for _, arguments := range [][]string{
		{"export", "combledger", "out.sql", "--verbose"}, {"import", "combledger", "out.sql", "--drop-existing", "--verbose"}, {"copy", "combledger", "combtrial", "--folder", "www/combtrial", "--yes", "--verbose"},
		{"retire", "combledger", "--yes", "--verbose"}, {"retire", "combledger", "--back", "--yes", "--json"}, {"retire", "combtrial", "--drop-database", "--confirm", "combtrial", "--verbose"},
	} {
		if arguments[1] == "combtrial" {
			copied, err := os.ReadFile(filepath.Join(folder, "www/combtrial/private/ledger.php"))
			require.NoError(t, err)
			passwords = append(passwords, string(wordInLedger.FindSubmatch(copied)[1]))
		}
		show(arguments...)
	}
	require.Contains(t, printed.String(), "loaded again and compared")
	for _, arguments := range [][]string{ // each password is looked for, and what comes after it
		{"rotate", "combledger", "--yes", "--overlap", "0s", "--verbose"}, {"close", "combledger", "--yes", "--acknowledged", "--verbose"},
		{"rotate", "combledger", "--yes", "--leaked", "--json"}, {"reopen", "combledger", "--yes", "--verbose"},
		{"rotate", "combledger", "--yes", "--dry-run", "--verbose"}, {"history", "--steps"}, {"history", "--json"}, {"connection", "combledger", "--markdown"},
	} {
		show(arguments...)
		settings, err = os.ReadFile(filepath.Join(folder, "www/combledger/private/ledger.php"))
		require.NoError(t, err)
		word := wordInLedger.FindSubmatch(settings)
		require.NotNil(t, word)
		passwords = append(passwords, string(word[1]))
	}
	slices.Sort(passwords)
	passwords = slices.Compact(passwords)
	require.Len(t, passwords, 3)
	require.Contains(t, printed.String(), "1 app: 1 closed")
	reveal := regexp.MustCompile(`password +(\S+)`)
	for _, arguments := range [][]string{{"connection", "honeystall", "--reveal"}, {"connection", "combledger", "--account", "comb_report", "--reveal"}} {
		found := reveal.FindStringSubmatch(run(arguments...))
		require.Len(t, found, 2)
		passwords = append(passwords, found[1])
	}

	// With the settings broken, errors must not show what stood there.
	require.NoError(t, os.WriteFile(filepath.Join(folder, "www/combledger/private/ledger.php"), []byte(strings.Replace(string(settings), "'comb_app'", "'someone'", 1)), 0o600))
	show("verify", "--verbose")
	show("provision", "--verbose", "--fix", "settings,server-password")
	require.Regexp(t, `fixed +settings`, printed.String())
	show("verify", "combledger", "--json")

	for _, password := range passwords {
		require.Len(t, password, 28)
		assert.NotContains(t, printed.String(), password)
		assert.Contains(t, printed.String(), "********")
		err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || strings.Contains(path, "/www/") || strings.Contains(path, "/state/pending/") || strings.Contains(path, "/state/copies/") {
				return err
			}
			content, err := os.ReadFile(path)
			assert.NotContains(t, string(content), password, path)
			return err
		})
		require.NoError(t, err)
	}
	// What holds secrets is for its owner alone.
	require.NoError(t, filepath.WalkDir(filepath.Join(folder, "state"), func(path string, entry fs.DirEntry, err error) error {
		if err == nil {
			info, infoErr := entry.Info()
			require.NoError(t, infoErr)
			assert.Zero(t, info.Mode().Perm()&0o077, path)
		}
		return err
	}))
}

var wordInLedger = regexp.MustCompile(`LEDGER_SQL_WORD', "([^"]+)"`)

// TestDemo plays the whole scenario; the demo itself checks every exit code.
func TestDemo(t *testing.T) {
	oracletest.NeedTime(t)
	t.Parallel()
	// The demo starts itself by its path, so here the test binary cannot stand
	// in for the program: it would start all tests again.
	built := filepath.Join(t.TempDir(), "yellowfield")
	out, err := exec.Command("go", "build", "-o", built, ".").CombinedOutput()
	require.NoError(t, err, string(out))
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	out, err = exec.CommandContext(ctx, built, "demo").CombinedOutput()
	require.NoError(t, err, string(out))
	for _, want := range []string{
		"would make    database   combledger", "imported      sql        seasons.sql.gz: 24,496 rows", "2 tables made, config/shop.php written",
		"Rape field: 20 hives", "Гречишный мёд", "has another password on the", "fixed         account    comb_app@localhost",
		"1 app: 1 closed", "ALTER command denied to user", "hives have a colour now", "each time it came",
		"as combtrial_app through the socket", "export of smokerloan, loaded again and compared", "honeystall from barn: 2 tables", "honeystall from shed: 2 tables",
	} {
		assert.Contains(t, string(out), want)
	}
}
