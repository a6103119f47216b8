package main

import (
	"cmp"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
)

// TestBothLeaveTheSameBehind is the short form of the benchmark: every shape of
// dump, small, through the built program and through the stock client.
func TestBothLeaveTheSameBehind(t *testing.T) {
	const small = 0.02
	extras := cmp.Or(os.Getenv("YELLOWFIELD_MARIADB_EXTRAS"), usualExtras)
	program, err := build(t.TempDir())
	require.NoError(t, err)
	for _, product := range oracletest.Sample([]dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL}, 2) {
		t.Run(string(product), func(t *testing.T) {
			root := ""
			if product == dbms.MySQL {
				if root = os.Getenv("YELLOWFIELD_MYSQL_ROOT"); root == "" {
					root = "/var/cache/yellowfield-tests/mysql-root"
				}
				if _, err := os.Stat(root + "/usr/sbin/mysqld"); err != nil || os.Geteuid() != 0 {
					t.Skip("NOT TESTED: real MySQL is not at hand")
				}
			}
			w, err := openWorkshop(t.Context(), product, usual, root, program, t.TempDir())
			require.NoError(t, err)
			defer w.close()
			w.dumpProgram, w.hurried = findDumpProgram(extras), true
			for _, s := range oracletest.Sample(shapesFor(product), 27) { // the first
				if s.dumped && product == dbms.MariaDB && w.dumpProgram == "" {
					continue // said below
				}
				ways := contests(product)
				for _, c := range ways[min(1, len(ways)-1):] { // the two ways of ours
					r, err := w.run(t.Context(), s, c, small, 1, t.Logf)
					require.NoError(t, err, s.name)
					assert.Empty(t, r.Differences, s.name)
					assert.Positive(t, r.Memory)
				}
			}
			if product == dbms.MariaDB && w.dumpProgram == "" {
				t.Skip("NOT TESTED: MariaDB's dump program is not at hand")
			}
			r, err := w.runExports(t.Context(), shapesFor(product)[1], small, 1, t.Logf)
			require.NoError(t, err)
			assert.Empty(t, r.Differences)
		})
	}
}
