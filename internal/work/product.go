package work

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"yellowfield/internal/access"
	accessmysql "yellowfield/internal/access/mysql"
	accesspostgres "yellowfield/internal/access/postgres"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	exportmysql "yellowfield/internal/export/mysql"
	exportpostgres "yellowfield/internal/export/postgres"
	"yellowfield/internal/fault"
	"yellowfield/internal/inspect"
	inspectmysql "yellowfield/internal/inspect/mysql"
	inspectpostgres "yellowfield/internal/inspect/postgres"
	"yellowfield/internal/load"
	loadmysql "yellowfield/internal/load/mysql"
	loadpostgres "yellowfield/internal/load/postgres"
)

// This file is the one place that chooses by product: the driver, the file that the product's
// clients read, the importer and exporter.

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

// ImporterFor gives the importer of the server's product for a database. The login of
// the application's account is given to it later, by withLogin.
func (r *Run) ImporterFor(ctx context.Context, target load.Target) (load.Importer, error) {
	switch server := r.View.Server.(type) {
	case *postgres.Server:
		facts, err := server.ScriptConditions(ctx, target.Database)
		return &loadpostgres.Importer{Target: target, Server: facts}, err
	case *mysql.Server:
		facts, err := server.ScriptConditions(ctx)
		if wanted, err := strconv.Atoi(string(r.App.ServerDuringImport["max_allowed_packet"])); err == nil {
			facts.MaxPacket = wanted
		}
		return &loadmysql.Importer{Target: target, Server: facts}, err
	}
	return nil, lacking("imports", r.View.Server)
}

// lacking is the fault of a product for which something is not made yet.
func lacking(what string, server dbms.Server) error {
	return fault.New(fault.Invalid, "do it by the means of the server", "there are no %s for %s yet", what, server.About().Product.Title())
}

// noExporter is the exporter of a product without one.
type noExporter struct{ why error }

func (e noExporter) Look(context.Context, export.Options) (*export.Survey, error) { return nil, e.why }

func (e noExporter) Export(context.Context, io.Writer, export.Options, func(export.Progress)) (*export.Report, error) {
	return nil, e.why
}

// ExporterOf gives the exporter of a database, which reads with a login that is no
// administrator's. Definitions of routines that this may not see come from the server's
// catalogue.
func (r *Run) ExporterOf(login dbms.Server, database string) export.Exporter {
	switch server := login.(type) {
	case *postgres.Server:
		return &exportpostgres.Exporter{Version: server.VersionNumber(), Open: func(ctx context.Context) (exportpostgres.Session, error) {
			session, err := server.OpenSingle(ctx, func(string) {})
			if err != nil {
				return nil, err
			}
			return session, nil
		}}
	case *mysql.Server:
		e := &exportmysql.Exporter{MariaDB: server.About().Product == dbms.MariaDB, Database: database, Open: func(ctx context.Context) (exportmysql.Session, error) {
			session, err := server.OpenSingle(ctx)
			if err != nil {
				return nil, err
			}
			return session, nil
		}}
		if admin, is := r.View.Admin.(*mysql.Server); is {
			e.Routine = func(ctx context.Context, kind, name string) ([]string, error) {
				return admin.ShowRoutine(ctx, database, kind, name)
			}
		}
		return e
	}
	return noExporter{lacking("exports", login)}
}

// WithLogin gives an importer that opens its sessions with the application's login.
func (r *Run) WithLogin(importer load.Importer, login dbms.Server) load.Importer {
	switch importer := importer.(type) {
	case *loadpostgres.Importer:
		own := *importer
		own.Open = func(ctx context.Context, warned func(string)) (loadpostgres.Session, error) {
			session, err := login.(*postgres.Server).OpenSingle(ctx, warned)
			if err != nil {
				return nil, err // and not one that only looks like it
			}
			return session, nil
		}
		return &own
	case *loadmysql.Importer:
		own := *importer
		account := dbms.ParseAccount(login.CurrentUser())
		own.Definer = mysql.Definer(account)
		own.Open = func(ctx context.Context) (loadmysql.Session, error) {
			session, err := login.(*mysql.Server).OpenSingle(ctx)
			if err != nil {
				return nil, err
			}
			return session, nil
		}
		if r.View.AsAdmin() {
			own.Replay = func(ctx context.Context, like loadmysql.Session, build func(sqlMode, charset string) (mysql.Definition, error)) error {
				return r.View.Server.(*mysql.Server).DefineFor(ctx, like.(*mysql.SingleSession), account, importer.Database, build)
			}
		}
		return &own
	}
	return importer
}

// InspectWith looks at a server with the administrator's login.
func InspectWith(ctx context.Context, admin dbms.Server, subject inspect.Subject) (inspect.Report, error) {
	switch server := admin.(type) {
	case *postgres.Server:
		return inspectpostgres.Inspect(ctx, server, subject)
	case *mysql.Server:
		return inspectmysql.Inspect(ctx, server, subject)
	}
	return inspect.Report{}, lacking("inspections", admin)
}

// SampleWith looks into the rows of a database with an application's login.
func SampleWith(ctx context.Context, login dbms.Server, report *inspect.Report, app, database string) error {
	switch server := login.(type) {
	case *postgres.Server:
		return inspectpostgres.Sample(ctx, server, report, app, database)
	case *mysql.Server:
		return inspectmysql.Sample(ctx, server, report, app, database)
	}
	return lacking("samples", login)
}

// AccessWith looks at who can do what, with the administrator's login.
func AccessWith(ctx context.Context, admin dbms.Server, name string, subject inspect.Subject) (access.Report, error) {
	switch server := admin.(type) {
	case *postgres.Server:
		return accesspostgres.Read(ctx, server, name, subject)
	case *mysql.Server:
		return accessmysql.Read(ctx, server, name, subject)
	}
	return access.Report{}, lacking("lists of access", admin)
}
