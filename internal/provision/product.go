package provision

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
)

// This is the one place that picks by product: who speaks to a server, which file its
// clients read, how its scripts are sent.

// open logs in to a server of a product.
func open(ctx context.Context, product dbms.Product, login dbms.Login) (dbms.Server, error) {
	switch product {
	case dbms.MariaDB, dbms.MySQL:
		return mysql.Connect(ctx, login)
	case dbms.PostgreSQL:
		return postgres.Connect(ctx, login)
	}
	return nil, fault.New(fault.Invalid, "known: "+strings.Join(dbms.Products, ", "), "server %s: there is no product %s", login.Server, product)
}

// usualAdministrator is the account that a product's servers come with.
func usualAdministrator(product dbms.Product) string {
	if product == dbms.PostgreSQL {
		return "postgres"
	}
	return "root"
}

// fromClientFile takes what the product's own clients would take for a login: the
// option file, or the password file.
func fromClientFile(entry *estate.Server, login *dbms.Login) (err error) {
	path := entry.Admin.Options
	if entry.DBMS == dbms.PostgreSQL {
		if login.User == "" {
			login.User = usualAdministrator(entry.DBMS)
		}
		login.Password, err = postgres.PasswordFromFile(path, *login)
		return err
	}
	if home, err := os.UserHomeDir(); path == "" && err == nil {
		path = filepath.Join(home, ".my.cnf")
	}
	if path == "" {
		return nil
	}
	options, err := mysql.ReadOptionFile(path)
	if err != nil {
		return err
	}
	if login.User == "" {
		login.User = options.User
	}
	// A file that names another user holds that user's password.
	if options.User == "" || login.User == options.User {
		login.Password = options.Password
	}
	return nil
}

// openSessions says how a script's sessions are opened with the application's login.
func (r *run) openSessions(login dbms.Server, database string, target *load.Target) {
	switch login := login.(type) {
	case *postgres.Server:
		target.OpenPostgres = func(ctx context.Context, warned func(string)) (load.PostgresSession, error) {
			session, err := login.OpenImport(ctx, warned)
			if err != nil {
				return nil, err // and no session that only looks like one
			}
			return session, nil
		}
	case *mysql.Server:
		target.Definer = mysql.Definer(dbms.ParseAccount(login.CurrentUser()))
		target.Open = func(ctx context.Context) (load.Session, error) {
			session, err := login.OpenImport(ctx)
			if err != nil {
				return nil, err
			}
			return session, nil
		}
		if r.view.asAdmin() {
			target.Replay = func(ctx context.Context, like load.Session, build func(sqlMode, charset string) (mysql.Definition, error)) error {
				return r.view.server.(*mysql.Server).DefineFor(ctx, like.(*mysql.ImportSession), dbms.ParseAccount(login.CurrentUser()), database, build)
			}
		}
	}
}
