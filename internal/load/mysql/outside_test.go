package mysql

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
)

// TestNothingOutsideChanges runs the hostile statements, each in a script of
// its own, where the application's account could do harm: its rights reach
// into the other database, too.
func TestNothingOutsideChanges(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "ours", "other_db")
		h.Do(t, "CREATE TABLE other_db.t (a INT, b INT)", "INSERT INTO other_db.t VALUES (1, 1)")
		target := h.target(t, "ours")
		before := h.Fingerprint(t, "other_db")
		accounts := func() string {
			rows, err := h.Admin.OpenSingle(t.Context())
			require.NoError(t, err)
			defer rows.Close()
			users, err := rows.Query(t.Context(), "SELECT user, host FROM mysql.user ORDER BY 1, 2")
			require.NoError(t, err)
			databases, err := rows.Query(t.Context(), "SHOW DATABASES")
			require.NoError(t, err)
			return fmt.Sprint(users, databases)
		}
		known := accounts()
		hostile, err := os.ReadFile("judge/testdata/hostile.txt")
		require.NoError(t, err)
		for _, statement := range strings.Split(strings.TrimSpace(string(hostile)), "\n") {
			script := []byte("CREATE TABLE own (a INT);\n" + strings.ReplaceAll(statement, "DB", "other_db") + ";\n")
			_, err := loadtest.Import(t, string(script), target, load.Options{})
			assert.ErrorContains(t, err, "refused at a.sql:2", statement)
		}
		assert.Empty(t, h.Fingerprint(t, "ours"), "a script with a refused statement does not begin")
		assert.Equal(t, before, h.Fingerprint(t, "other_db"))
		assert.Equal(t, known, accounts())
	})
}
