// Package oracletest gives tests private servers with an application's account on them.
package oracletest

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/oracle"
	"yellowfield/internal/secret"
	"yellowfield/internal/throwaway"
)

// MySQL is a private server of MariaDB or MySQL.
type MySQL struct {
	*throwaway.Server
	Admin   *mysql.Server
	Product dbms.Product
	Root    string // of the system that it runs in; empty for this one
}

const (
	// AppUser is the name of the application's account.
	AppUser     = "app"
	appPassword = "app-77c0ffee1d"
)

// OnMySQL runs a test on a private server of each product, side by side and beside others.
func OnMySQL(t *testing.T, test func(t *testing.T, h *MySQL), arguments ...string) {
	t.Helper()
	t.Parallel()
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			test(t, StartMySQL(t, product, arguments...))
		})
	}
}

// StartMySQL starts one, for as long as the test runs.
func StartMySQL(t *testing.T, product dbms.Product, arguments ...string) *MySQL {
	t.Helper()
	root := ""
	if product == dbms.MySQL {
		if root = os.Getenv("YELLOWFIELD_MYSQL_ROOT"); root == "" {
			root = "/var/cache/yellowfield-tests/mysql-root"
		}
		if _, err := os.Stat(filepath.Join(root, "usr/sbin/mysqld")); err != nil || os.Geteuid() != 0 {
			t.Skip("NOT TESTED: real MySQL is not at hand")
		}
	}
	server := start(t, throwaway.Options{Product: product, Root: root, Arguments: arguments})
	admin, err := mysql.Connect(t.Context(), server.Login())
	require.NoError(t, err)
	t.Cleanup(admin.Close)
	h := &MySQL{Server: server, Admin: admin, Product: product, Root: root}
	h.Do(t, "CREATE USER "+AppUser+"@localhost IDENTIFIED BY '"+appPassword+"'")
	return h
}

// pools are the servers of this test binary that want no options.
var pools = map[dbms.Product]*Pool{dbms.MariaDB: {}, dbms.MySQL: {}}

// start has a server for as long as the test runs.
func start(t *testing.T, o throwaway.Options) *throwaway.Server {
	if len(o.Arguments) > 0 {
		server, err := throwaway.Start(t.Context(), o)
		require.NoError(t, err)
		t.Cleanup(server.Stop)
		return server
	}
	pool := pools[o.Product]
	pool.begin.Do(func() { pool.Options = o })
	server, err := pool.Take(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { pool.GiveBack(server) })
	return server.Server
}

// CloseServers ends the servers that tests have shared. TestMain calls it at the end.
func CloseServers() {
	for _, pool := range pools {
		pool.Close()
	}
}

// Do sends statements as the administrator.
func (h *MySQL) Do(t testing.TB, statements ...string) {
	t.Helper()
	for _, s := range statements {
		require.NoError(t, h.Admin.Exec(t.Context(), dbms.Statement{Text: s}))
	}
}

// Fresh makes empty databases for the account.
func (h *MySQL) Fresh(t testing.TB, names ...string) {
	t.Helper()
	for _, name := range names {
		h.Do(t, "DROP DATABASE IF EXISTS "+name, "CREATE DATABASE "+name+" CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci",
			"GRANT ALL ON "+name+".* TO "+AppUser+"@localhost")
	}
}

// App logs in with the application's account.
func (h *MySQL) App(t testing.TB, database string) *mysql.Server {
	t.Helper()
	login := h.Login()
	login.User, login.Password, login.Database, login.AsApplication = AppUser, secret.NewPassword(appPassword), database, true
	app, err := mysql.Connect(t.Context(), login)
	require.NoError(t, err)
	t.Cleanup(app.Close)
	return app
}

// Stock gives a script to the server's own client; the error is what it said.
func (h *MySQL) Stock(t testing.TB, database string, script []byte, options ...string) error {
	t.Helper()
	client := oracle.Client(h.Socket, h.Root, AppUser, database)
	client.Args = append(client.Args, options...)
	client.Env = append(os.Environ(), "MYSQL_PWD="+appPassword)
	client.Stdin = bytes.NewReader(script)
	if out, err := client.CombinedOutput(); err != nil {
		return fmt.Errorf("%s", bytes.TrimSpace(out))
	}
	return nil
}

// Fingerprint is what a database holds.
func (h *MySQL) Fingerprint(t testing.TB, database string) map[string]string {
	t.Helper()
	f, err := oracle.Fingerprint(t.Context(), h.Login(), database)
	require.NoError(t, err)
	return f
}
