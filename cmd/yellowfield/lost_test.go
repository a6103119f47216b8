package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
)

// TestRecordsAreLost: a run is killed, and the folder with its records is gone. What it has left
// on servers is known by itself, told with the way back, and dropped by inspect --fix.
func TestRecordsAreLost(t *testing.T) {
	for _, product := range oracletest.Sample([]dbms.Product{dbms.MySQL, dbms.MariaDB, dbms.PostgreSQL}, 3) {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			m := &mover{from: serverOf(t, product), to: serverOf(t, product)}
			m.killed = killed{victim: victim{t: t, login: m.from.Login(), postgres: product == dbms.PostgreSQL}, product: product}
			m.prepare(t)
			loses := func() { require.NoError(t, os.RemoveAll(filepath.Join(m.folder, "state"))) }
			says := func(text string, arguments ...string) { t.Helper(); m.says(t, text, arguments...) }

			// The journal alone is lost: what arrived is not said to be gone.
			_, err := m.moveWhile(t, "transfer", "kill -9 $PPID")
			require.Error(t, err)
			require.NoError(t, os.RemoveAll(filepath.Join(m.folder, "state", "journal")))
			says("yellowfield inspect shed --fix --only left-by-a-run drops it", "provision", "combs")
			assert.True(t, m.isOn(m.to))
			says("shed: 1 mended", "inspect", "shed", "--fix", "--yes", "--only", "left-by-a-run")
			says("what had arrived on shed is gone", "provision", "combs")
			assert.False(t, m.isOn(m.to))
			says("1 app: 1 verified", "verify", "combs")

			// While the rows are on the way: the app may only read where it is, and its database
			// and accounts are on the new server, too.
			_, err = m.moveWhile(t, "transfer", "kill -9 $PPID")
			require.Error(t, err)
			loses()
			says("yellowfield provision combs --fix rights", "verify", "combs")
			if product == dbms.MySQL {
				says("combs is read-only, so that the application cannot write", "verify", "combs")
				m.on(m.from, "", "ALTER DATABASE `combs` READ ONLY = 0") // as it says
			}
			says("1 app: 1 open", "reopen", "combs", "--yes", "--without-export")
			says("1 app: 1 verified", "verify", "combs")
			says("inspect shed --fix --only left-by-a-run drops it", "move", "combs", "--to", "shed", "--yes")
			says("what it brought is here, and the app is on barn", "inspect", "shed")
			out, _ := m.run(0, 0, "inspect", "shed", "--fix", "--yes", "--only", "left-by-a-run")
			assert.Contains(t, out, "shed: 1 mended")
			assert.NotContains(t, out, "takes it back")
			assert.False(t, m.isOn(m.to))
			says("1 app: 1 verified", "verify", "combs")

			// Accounts and databases that were there for a while.
			for at := 30; m.isClean(m.from) && m.isClean(m.to); at++ {
				_, died := m.run(at, 0, "move", "combs", "--to", "shed", "--yes", "--new-passwords")
				require.True(t, died)
				loses()
				m.run(0, 0, "reopen", "combs", "--yes", "--without-export")
			}
			for _, server := range []string{"barn", "shed"} {
				m.run(0, 0, "inspect", server, "--fix", "--yes", "--only", "left-by-a-run")
			}
			assert.True(t, m.isClean(m.from) && m.isClean(m.to))
			says("1 app: 1 moved", "move", "combs", "--to", "shed", "--yes")
			says("1 app: 1 verified", "verify", "combs")
			assert.True(t, m.isClean(m.from) && m.isClean(m.to))

			// A retirement.
			_, died := m.run(30, 0, "retire", "combs", "--yes")
			require.True(t, died)
			loses()
			m.run(0, 0, "retire", "combs", "--back", "--yes")
			out, _ = m.run(0, 0, "verify", "combs")
			assert.NotContains(t, out, "is locked")
		})
	}
}
