package mysql

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/oracle/oracletest"
)

// TestMain makes the fast paths worth taking on a few rows, so that small
// scripts go through all of them; lanes are asked for by Options.
func TestMain(m *testing.M) {
	deferFrom, judge.LongRun, smallBulk, pieceSize, leastRange = 200, 2000, 200, 3000, 2000
	code := m.Run()
	oracletest.CloseServers()
	os.Exit(code)
}

// testServer is a private server with an application's account on two databases:
// one that the stock client fills, and one that is ours to fill.
type testServer struct{ *oracletest.MySQL }

// onEveryServer runs a test on a private server of each product.
func onEveryServer(t *testing.T, test func(t *testing.T, h *testServer), arguments ...string) {
	t.Helper()
	oracletest.OnMySQL(t, func(t *testing.T, h *oracletest.MySQL) { test(t, &testServer{h}) }, arguments...)
}

// target is our database on the server.
func (h *testServer) target(t *testing.T, database string) *Importer {
	t.Helper()
	facts, err := h.Admin.ScriptConditions(t.Context())
	require.NoError(t, err)
	app := h.App(t, database)
	return &Importer{
		Target: load.Target{Database: database, Charset: "utf8mb4"},
		Server: facts,
		Open: func(ctx context.Context) (Session, error) {
			s, err := app.OpenSingle(ctx)
			if err != nil {
				return nil, err
			}
			return s, nil
		},
	}
}

// lines joins statements, one a line.
func lines(statements ...string) string { return strings.Join(statements, "\n") + "\n" }
