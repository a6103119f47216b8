package mysql

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/oracle"
	"yellowfield/internal/secret"
	"yellowfield/internal/throwaway"
)

// TestMain makes the fast paths worth taking on a few rows, so that small
// scripts go through all of them; lanes are asked for by Options.
func TestMain(m *testing.M) {
	deferFrom, longRun = 200, 2000
	os.Exit(m.Run())
}

// testServer is a private server with an application's account on two databases:
// one that the stock client fills, and one that is ours to fill.
type testServer struct {
	*throwaway.Server
	admin   *mysql.Server
	product dbms.Product
	root    string
}

const (
	appUser     = "app"
	appPassword = "app-77c0ffee1d"
)

// onEveryServer runs a test on a private server of each product.
func onEveryServer(t *testing.T, test func(t *testing.T, h *testServer), arguments ...string) {
	t.Helper()
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			root := ""
			if product == dbms.MySQL {
				if root = os.Getenv("YELLOWFIELD_MYSQL_ROOT"); root == "" {
					root = "/var/cache/yellowfield-tests/mysql-root"
				}
				if _, err := os.Stat(filepath.Join(root, "usr/sbin/mysqld")); err != nil || os.Geteuid() != 0 {
					t.Skip("NOT TESTED: real MySQL is not at hand")
				}
			}
			server, err := throwaway.Start(t.Context(), throwaway.Options{Product: product, Root: root, Arguments: arguments})
			require.NoError(t, err)
			t.Cleanup(server.Stop)
			admin, err := mysql.Connect(t.Context(), server.Login())
			require.NoError(t, err)
			t.Cleanup(admin.Close)
			h := &testServer{Server: server, admin: admin, product: product, root: root}
			h.do(t, "CREATE USER "+appUser+"@localhost IDENTIFIED BY '"+appPassword+"'")
			test(t, h)
		})
	}
}

func (h *testServer) do(t *testing.T, statements ...string) {
	t.Helper()
	for _, s := range statements {
		require.NoError(t, h.admin.Exec(t.Context(), dbms.Statement{Text: s}))
	}
}

// fresh makes empty databases for the account.
func (h *testServer) fresh(t *testing.T, names ...string) {
	t.Helper()
	for _, name := range names {
		h.do(t, "DROP DATABASE IF EXISTS "+name, "CREATE DATABASE "+name+" CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci",
			"GRANT ALL ON "+name+".* TO "+appUser+"@localhost")
	}
}

// target is our database on the server.
func (h *testServer) target(t *testing.T, database string) *Importer {
	t.Helper()
	facts, err := h.admin.ScriptConditions(t.Context())
	require.NoError(t, err)
	login := h.Login()
	login.User, login.Password, login.Database = appUser, secret.NewPassword(appPassword), database
	app, err := mysql.Connect(t.Context(), login)
	require.NoError(t, err)
	t.Cleanup(app.Close)
	return &Importer{
		Target: load.Target{Database: database, Charset: "utf8mb4"},
		Server: facts,
		Open: func(ctx context.Context) (Session, error) {
			s, err := app.OpenImport(ctx)
			if err != nil {
				return nil, err
			}
			return s, nil
		},
	}
}

// stock gives a script to the server's own client; the error is what it said.
func (h *testServer) stock(t *testing.T, database string, script []byte, options ...string) error {
	t.Helper()
	client := oracle.Client(h.Socket, h.root, appUser, database)
	client.Args = append(client.Args, options...)
	client.Env = append(os.Environ(), "MYSQL_PWD="+appPassword)
	client.Stdin = bytes.NewReader(script)
	if out, err := client.CombinedOutput(); err != nil {
		return fmt.Errorf("%s", bytes.TrimSpace(out))
	}
	return nil
}

func (h *testServer) fingerprint(t *testing.T, database string) map[string]string {
	t.Helper()
	f, err := oracle.Fingerprint(t.Context(), h.Login(), database)
	require.NoError(t, err)
	return f
}

// lines joins statements, one a line.
func lines(statements ...string) string { return strings.Join(statements, "\n") + "\n" }
