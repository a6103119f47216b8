package mysql_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// TestALookDoesNotWaitForAnApplication: a table that is being made for hours holds a lock that
// looks at it wait for; the server ends them, and the next step is to find out who it is.
func TestALookDoesNotWaitForAnApplication(t *testing.T) {
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.MariaDB})
	if err != nil {
		t.Skipf("NOT TESTED: no MariaDB can be started: %v", err)
	}
	defer server.Stop()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute) // it would be for ever
	defer cancel()
	admin, err := mysql.Connect(ctx, server.Login())
	require.NoError(t, err)
	defer admin.Close()
	require.NoError(t, admin.Exec(ctx, dbms.Statement{Text: "CREATE DATABASE comb"}))
	holder, err := admin.OpenSingle(ctx)
	require.NoError(t, err)
	go func() { _, _ = holder.Exec(ctx, "CREATE TABLE comb.hold AS SELECT SLEEP(500)") }()
	require.Eventually(t, func() bool {
		conn, err := admin.Conn(ctx)
		if err != nil {
			return false
		}
		defer conn.Close()
		held := 0
		err = conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE STATE = 'User sleep'").Scan(&held)
		return err == nil && held == 1
	}, 30*time.Second, 10*time.Millisecond)
	admin.SetLongestQuery(300 * time.Millisecond)
	_, err = admin.Contents(ctx, "comb")
	require.Error(t, err)
	require.NoError(t, ctx.Err())
	assert.Equal(t, 1969, mysql.Code(err))
	assert.Contains(t, fault.As(err).Next, "SHOW FULL PROCESSLIST")
}

// TestAChangeDoesNotWaitForAnApplication: somebody holds a table of a database that is to go.
func TestAChangeDoesNotWaitForAnApplication(t *testing.T) {
	oracletest.OnMySQL(t, func(t *testing.T, h *oracletest.MySQL) {
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Second) // less than lock_wait_timeout
		defer cancel()
		h.Fresh(t, "comb")
		holder, err := h.Admin.OpenSingle(ctx)
		require.NoError(t, err)
		defer holder.Close()
		for _, statement := range []string{"CREATE TABLE comb.held (n INT)", "BEGIN", "SELECT * FROM comb.held"} {
			_, err := holder.Exec(ctx, statement)
			require.NoError(t, err)
		}
		h.Admin.SetLongestQuery(300 * time.Millisecond)
		defer h.Admin.SetLongestQuery(time.Minute) // the server may go to another test
		err = h.Admin.Exec(ctx, dbms.Statement{Text: "DROP DATABASE comb"})
		require.Error(t, err)
		require.NoError(t, ctx.Err())
		assert.Equal(t, 1317, mysql.Code(err))
		assert.Contains(t, fault.As(err).Next, "SHOW FULL PROCESSLIST")
		assert.NoError(t, h.Admin.Exec(ctx, dbms.Statement{Text: "DO SLEEP(1)"}), "what is at work is let go on")
	})
}
