// Package postgres looks at PostgreSQL servers.
//
// It must never change anything: what it asks for itself goes through transactions that
// the server keeps from changing (PostgreSQL, "SET TRANSACTION").
package postgres

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/inspect"
)

// inspection is the look at one server.
type inspection struct {
	*postgres.Server
	inspect.Report
	subject   inspect.Subject
	catalogue *dbms.Catalogue
	databases []database
}

type database struct {
	name                    string
	template, takesLogins   bool
	openConnect, openCreate bool // to everybody
}

// Inspect looks at a server with an administrator's login.
func Inspect(ctx context.Context, server *postgres.Server, subject inspect.Subject) (inspect.Report, error) {
	i := &inspection{Server: server, subject: subject}
	var err error
	if i.catalogue, err = server.ReadCatalogue(ctx, true, nil); err != nil {
		return inspect.Report{}, err
	}
	for _, step := range []func(context.Context) error{i.settings, i.roles, i.listDatabases, i.presets, i.rules} {
		if err := step(ctx); err != nil {
			return inspect.Report{}, err
		}
	}
	for _, d := range i.databases {
		i.database(d)
		if !d.takesLogins {
			continue
		}
		if err := i.inside(ctx, d); err != nil {
			if ctx.Err() != nil {
				return inspect.Report{}, err
			}
			i.Unseen = append(i.Unseen, fmt.Sprintf("what stands in the database %s: %v", d.name, err))
		}
	}
	return i.Report, nil
}

// ends are when the makers stop mending a release (PostgreSQL, "Versioning Policy", as
// published in November 2026).
var ends = map[string]string{"11": "2023-11-09", "12": "2024-11-21", "13": "2025-11-13", "14": "2026-11-12", "15": "2027-11-11", "16": "2028-11-09", "17": "2029-11-08", "18": "2030-11-14"}

// all asks in the administrator's own database.
func (i *inspection) all(ctx context.Context, query string) ([][]string, error) {
	return i.Look(ctx, i.Database, query)
}

func statement(database, format string, names ...any) dbms.Statement {
	for at, name := range names {
		names[at] = postgres.QuoteName(name.(string))
	}
	return dbms.Statement{Text: fmt.Sprintf(format, names...), Database: database}
}

// settings looks at what the server says of itself.
func (i *inspection) settings(ctx context.Context) error {
	rows, err := i.all(ctx, `SELECT name, setting FROM pg_catalog.pg_settings WHERE name IN ('server_encoding', 'ssl', 'listen_addresses', 'password_encryption', 'max_connections', 'data_directory', 'fsync')
		UNION ALL SELECT 'uptime', extract(epoch FROM now() - pg_postmaster_start_time())::bigint::text`)
	if err != nil {
		return err
	}
	v := map[string]string{}
	for _, row := range rows {
		v[row[0]] = row[1]
	}
	about := i.About()
	i.Fact("version", about.Product.Title()+" "+about.Version)
	release, _, _ := strings.Cut(about.Version, ".")
	i.Support(about.Product.Title(), release, ends)
	seconds, _ := strconv.ParseInt(v["uptime"], 10, 64)
	i.RunningFor(seconds)
	template := i.catalogue.Databases["template1"]
	i.Fact("character set", template.Charset+", "+template.Collation+" (template1)")
	if template.Charset != "UTF8" {
		i.Add(inspect.Finding{Kind: inspect.DefaultCharset, On: "template1", Evidence: "the encoding of template1 is " + template.Charset,
			Remedy: "nothing for databases that yellowfield makes, whose encoding it names; others want TEMPLATE template0 ENCODING 'UTF8'"})
	}
	i.Fact("passwords kept as", v["password_encryption"])
	if v["password_encryption"] == "md5" {
		i.Add(inspect.Finding{Kind: inspect.WeakVerifier, On: "password_encryption", Evidence: "new passwords are kept as MD5 sums",
			Remedy: "set password_encryption = 'scram-sha-256', then give the accounts new passwords"})
	}
	text := "not offered"
	if v["ssl"] == "on" {
		text = "offered"
	}
	i.Fact("TLS", text)
	elsewhere := slices.ContainsFunc(strings.Split(v["listen_addresses"], ","), func(address string) bool {
		return !slices.Contains([]string{"", "localhost", "127.0.0.1", "::1"}, strings.TrimSpace(address))
	})
	if elsewhere && v["ssl"] != "on" {
		i.Add(inspect.Finding{Kind: inspect.NoTLS, On: "TLS", Evidence: "the server takes connections from other hosts (listen_addresses = " + v["listen_addresses"] + ") and offers no TLS",
			Remedy: "give it a certificate (ssl = on), or have it listen on localhost alone"})
	}
	i.Connections(v["max_connections"])
	if v["fsync"] == "off" {
		i.Fact("fsync", "off: a crash of the host can destroy every database")
	}
	if v["data_directory"] == "" {
		i.Unseen = append(i.Unseen, "room on the server's disk: only a superuser may see where it is")
	} else {
		i.Room(i.Address, v["data_directory"])
	}
	return nil
}

// powers are predefined roles that reach the server's host (PostgreSQL, "Predefined Roles").
const powers = `'pg_execute_server_program', 'pg_read_server_files', 'pg_write_server_files'`

// roles looks at the accounts.
func (i *inspection) roles(ctx context.Context) error {
	// An account reaches something if it, or a role that it is a member of, owns or was
	// given anything, in whichever database.
	rows, err := i.all(ctx, `WITH RECURSIVE reach(role, through) AS (SELECT oid, oid FROM pg_catalog.pg_roles
			UNION SELECT r.role, m.roleid FROM reach r JOIN pg_catalog.pg_auth_members m ON m.member = r.through)
		SELECT r.rolname, r.rolsuper, r.rolcreaterole, r.rolcreatedb, r.rolreplication, r.rolbypassrls, r.oid = 10, r.rolcanlogin,
			array_to_string(ARRAY(SELECT p.rolname FROM reach JOIN pg_catalog.pg_roles p ON p.oid = reach.through WHERE reach.role = r.oid AND p.rolname IN (`+powers+`) ORDER BY 1), ', '),
			EXISTS (SELECT FROM reach JOIN pg_catalog.pg_shdepend s ON s.refclassid = 'pg_catalog.pg_authid'::pg_catalog.regclass AND s.refobjid = reach.through WHERE reach.role = r.oid)
				OR EXISTS (SELECT FROM pg_catalog.pg_auth_members m WHERE m.member = r.oid)
		FROM pg_catalog.pg_roles r WHERE NOT starts_with(r.rolname, 'pg_') ORDER BY 1`)
	var superusers []string
	for _, row := range rows {
		name := row[0]
		is := func(column int) bool { return row[column] == "t" }
		super, own, logsIn := is(1), is(6), is(7)
		if !logsIn {
			continue
		}
		state := i.catalogue.Accounts[dbms.Account{User: name}]
		app := i.subject.AppWith(name)
		severity := estate.Severity("")
		if app != "" {
			severity = estate.MustFix
		}
		add := func(f inspect.Finding) {
			f.On, f.App = name, app
			i.Add(f)
		}
		if super {
			superusers = append(superusers, name)
		}
		if super && !own {
			add(inspect.Finding{Kind: inspect.Superuser, Severity: severity, Evidence: "it is a superuser beside the one the server was made with", Remedy: "take that away, unless it administers the server",
				SQL: []dbms.Statement{statement("", "ALTER ROLE %s NOSUPERUSER", name)}, Back: []dbms.Statement{statement("", "ALTER ROLE %s SUPERUSER", name)}, Lowered: &dbms.Account{User: name}})
		}
		var attributes []string
		for column, attribute := range []string{2: "CREATEROLE", 3: "CREATEDB", 4: "REPLICATION", 5: "BYPASSRLS"} {
			if attribute != "" && is(column) && !super {
				attributes = append(attributes, attribute)
			}
		}
		if len(attributes) > 0 {
			add(inspect.Finding{Kind: inspect.GlobalRights, Severity: severity, Evidence: "it has " + strings.Join(attributes, ", ") + " on the whole server", Remedy: "take that away, unless it administers the server",
				SQL:  []dbms.Statement{statement("", "ALTER ROLE %s NO"+strings.Join(attributes, " NO"), name)},
				Back: []dbms.Statement{statement("", "ALTER ROLE %s "+strings.Join(attributes, " "), name)}, Lowered: &dbms.Account{User: name}})
		}
		if row[8] != "" && !super {
			add(inspect.Finding{Kind: inspect.ServerPrograms, Severity: severity, Evidence: "it is a member of " + row[8], Remedy: "REVOKE the role, unless the account administers the server"})
		}
		if state.Expired {
			add(inspect.Finding{Kind: inspect.ExpiredAccount, Evidence: "its password has expired", Remedy: "ALTER ROLE ... VALID UNTIL, with a new password"})
		}
		if state.Verifier.Method() == "md5" {
			f := inspect.Finding{Kind: inspect.WeakVerifier, Evidence: "its password is kept as an MD5 sum", Remedy: "give it a new password while password_encryption is scram-sha-256"}
			if app != "" {
				f.Remedy = "yellowfield rotate " + app
			}
			add(f)
		}
		if !super && !is(9) {
			add(inspect.Finding{Kind: inspect.ReachesNothing, Evidence: "nothing is its own or was given to it, but what everybody has", Remedy: "drop it when nobody misses it"})
		}
	}
	i.Fact("superusers", strings.Join(superusers, ", "))
	return err
}

// listDatabases reads them with what everybody may do on them.
func (i *inspection) listDatabases(ctx context.Context) error {
	rows, err := i.all(ctx, `SELECT d.datname, d.datistemplate, d.datallowconn,
			EXISTS (SELECT FROM aclexplode(COALESCE(d.datacl, acldefault('d', d.datdba))) a WHERE a.grantee = 0 AND a.privilege_type = 'CONNECT'),
			EXISTS (SELECT FROM aclexplode(COALESCE(d.datacl, acldefault('d', d.datdba))) a WHERE a.grantee = 0 AND a.privilege_type = 'CREATE')
		FROM pg_catalog.pg_database d ORDER BY 1`)
	for _, row := range rows {
		i.databases = append(i.databases, database{row[0], row[1] == "t", row[2] == "t", row[3] == "t", row[4] == "t"})
	}
	return err
}

// database looks at one from outside.
func (i *inspection) database(d database) {
	has, app := i.catalogue.Databases[d.name], i.subject.AppOf(d.name)
	add := func(f inspect.Finding) {
		f.On, f.App = d.name, app
		i.Add(f)
	}
	switch {
	case has.HalfDropped:
		remedy := "drop it, and import its last export"
		if strings.HasPrefix(d.name, dbms.ScratchPrefix) {
			remedy = "drop it: nothing was kept there"
		}
		add(inspect.Finding{Kind: inspect.HalfDropped, Evidence: "dropping it was cut off", Remedy: remedy, SQL: []dbms.Statement{statement("", "DROP DATABASE %s", d.name)}})
		return
	case !d.takesLogins && !d.template:
		add(inspect.Finding{Kind: inspect.UnreachedDatabase, Evidence: "it takes no logins (ALLOW_CONNECTIONS false)", Remedy: "ask whose it is; before it is dropped, export it"})
	}
	if has.Drift != "" {
		add(inspect.Finding{Kind: inspect.CollationDrift, Evidence: "the library that orders text has another version: " + has.Drift,
			Remedy: "REINDEX DATABASE, then ALTER DATABASE ... REFRESH COLLATION VERSION"})
	}
	if d.template {
		return
	}
	if has.Charset != "UTF8" {
		add(inspect.Finding{Kind: inspect.CharsetDiffers, Evidence: "its encoding is " + has.Charset, Remedy: "export it, and import it into a database in UTF8"})
	}
	if d.openConnect {
		severity := estate.Severity("")
		if d.name == "postgres" {
			severity = estate.GoodToKnow // programs expect to get in there
		}
		add(inspect.Finding{Kind: inspect.PublicConnect, Severity: severity, Evidence: "everybody (PUBLIC) may connect to it", Remedy: "give CONNECT to the accounts that work there, then take it from PUBLIC",
			SQL: []dbms.Statement{statement("", "REVOKE CONNECT ON DATABASE %s FROM PUBLIC", d.name)}, Back: []dbms.Statement{statement("", "GRANT CONNECT ON DATABASE %s TO PUBLIC", d.name)}})
	}
	if d.openCreate {
		add(inspect.Finding{Kind: inspect.PublicCreate, Evidence: "everybody (PUBLIC) may make schemas in it", Remedy: "take that away",
			SQL: []dbms.Statement{statement("", "REVOKE CREATE ON DATABASE %s FROM PUBLIC", d.name)}, Back: []dbms.Statement{statement("", "GRANT CREATE ON DATABASE %s TO PUBLIC", d.name)}})
	}
}

// presets looks at settings that sessions begin with.
func (i *inspection) presets(context.Context) error {
	for _, p := range i.catalogue.Presets {
		f := inspect.Finding{Kind: inspect.Preset, On: strings.TrimSuffix(p.User+" in "+p.Database, " in "), App: i.subject.AppOf(p.Database), Evidence: p.Setting, Remedy: "ALTER ROLE or ALTER DATABASE ... RESET, if nobody wants it"}
		if p.User == "" {
			f.On = p.Database
		}
		if f.App == "" {
			f.App = i.subject.AppWith(p.User)
		}
		name, _, _ := strings.Cut(p.Setting, "=")
		if slices.Contains([]string{"session_preload_libraries", "local_preload_libraries", "role", "session_authorization", "row_security"}, name) {
			f.Severity = estate.ShouldLook
		}
		i.Add(f)
	}
	return nil
}

// rules looks at the host-based rules.
func (i *inspection) rules(ctx context.Context) error {
	rules, err := i.HostRules(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		i.Unseen = append(i.Unseen, "the host-based rules: only a superuser may read them")
		return nil
	}
	for _, rule := range rules {
		f := inspect.Finding{On: rule.Place.String(), Evidence: rule.String()}
		switch {
		case rule.Error != "":
			f.Kind, f.Evidence, f.Remedy = inspect.BrokenRule, rule.Error, "mend the line, then SELECT pg_reload_conf()"
		case rule.Method == "trust":
			f.Kind, f.Remedy = inspect.TrustRule, "write scram-sha-256 (or peer, for the administrator's own line) instead of trust, then SELECT pg_reload_conf()"
		case rule.Method == "password" && rule.Type != "local" && rule.Type != "hostssl", rule.Method == "md5":
			f.Kind, f.Remedy = inspect.WeakRule, "write scram-sha-256 once every account's password is kept so, then SELECT pg_reload_conf()"
		case (rule.Method == "peer" || rule.Method == "ident") && (slices.Contains(rule.Users, "all") || slices.ContainsFunc(rule.Users, func(user string) bool { return i.subject.AppWith(user) != "" })):
			f.Kind, f.Remedy = inspect.PeerRule, "nothing for applications that come by TCP; else yellowfield provision --write-host-rule"
		default:
			continue
		}
		i.Add(f)
	}
	return nil
}

// ofUsers are schemas that are no part of the server itself.
const ofUsers = `n.nspname <> 'information_schema' AND NOT starts_with(n.nspname, 'pg_')`

// notOfExtensions leaves out what CREATE EXTENSION has made.
func notOfExtensions(class, object string) string {
	return `NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_catalog.` + class + `'::pg_catalog.regclass AND e.objid = ` + object + ` AND e.deptype = 'e')`
}

// inside looks at what stands in a database.
func (i *inspection) inside(ctx context.Context, d database) error {
	rows, err := i.Look(ctx, d.name, `SELECT 'schema', n.nspname, '' FROM pg_catalog.pg_namespace n, aclexplode(COALESCE(n.nspacl, acldefault('n', n.nspowner))) a
			WHERE `+ofUsers+` AND a.grantee = 0 AND a.privilege_type = 'CREATE'
		UNION ALL SELECT 'rows', n.nspname || '.' || c.relname, string_agg(DISTINCT a.privilege_type, ', ') FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace, aclexplode(c.relacl) a
			WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND `+ofUsers+` AND `+notOfExtensions("pg_class", "c.oid")+` AND a.grantee = 0 GROUP BY n.nspname, c.relname
		UNION ALL SELECT 'object', n.nspname || '.' || c.relname, '' FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
			WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S') AND `+ofUsers+` AND `+notOfExtensions("pg_class", "c.oid")+`
		ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	app := i.subject.AppOf(d.name)
	var openRows, objects []string
	open := map[string]bool{}
	for _, row := range rows {
		switch row[0] {
		case "schema":
			i.Add(inspect.Finding{Kind: inspect.PublicCreate, On: d.name + ", schema " + row[1], App: app, Evidence: "everybody (PUBLIC) may make objects in the schema " + row[1], Remedy: "take that away",
				SQL:  []dbms.Statement{statement(d.name, "REVOKE CREATE ON SCHEMA %s FROM PUBLIC", row[1])},
				Back: []dbms.Statement{statement(d.name, "GRANT CREATE ON SCHEMA %s TO PUBLIC", row[1])}})
		case "rows":
			openRows = append(openRows, row[1])
			for _, right := range strings.Split(row[2], ", ") {
				open[right] = true
			}
		case "object":
			objects = append(objects, row[1])
		}
	}
	if len(openRows) > 0 {
		i.Add(inspect.Finding{Kind: inspect.PublicRows, On: d.name, App: app, Evidence: "everybody (PUBLIC) has " + strings.Join(slices.Sorted(maps.Keys(open)), ", ") + " on " + figures.Counted(len(openRows), "table or view", "tables or views") + ": " + inspect.Some(openRows),
			Remedy: "REVOKE ALL ON TABLE ... FROM PUBLIC, once the accounts that work there have rights of their own"})
	}
	if d.name == "template1" && len(objects) > 0 {
		i.Add(inspect.Finding{Kind: inspect.TemplateDrift, On: d.name, Evidence: figures.Counted(len(objects), "table stands", "tables stand") + " in it: " + inspect.Some(objects),
			Remedy: "drop them if nobody wants them in every new database; yellowfield makes databases from template0"})
	}
	if one, zero := i.catalogue.Databases["template1"], i.catalogue.Databases["template0"]; d.name == "template1" && (one.Charset != zero.Charset || one.Collation != zero.Collation) {
		i.Add(inspect.Finding{Kind: inspect.TemplateDrift, On: d.name, Evidence: fmt.Sprintf("it has %s %s, template0 %s %s", one.Charset, one.Collation, zero.Charset, zero.Collation),
			Remedy: "nothing for yellowfield, which makes databases from template0 and names both"})
	}
	return i.functions(ctx, d, app)
}

// functions looks for those that run with their owner's rights.
func (i *inspection) functions(ctx context.Context, d database, app string) error {
	rows, err := i.Look(ctx, d.name, `SELECT n.nspname || '.' || p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')', r.rolname, r.rolsuper,
			EXISTS (SELECT FROM aclexplode(COALESCE(p.proacl, acldefault('f', p.proowner))) a WHERE a.grantee = 0 AND a.privilege_type = 'EXECUTE'),
			EXISTS (SELECT FROM unnest(p.proconfig) c WHERE starts_with(c, 'search_path='))
		FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace JOIN pg_catalog.pg_roles r ON r.oid = p.proowner
		WHERE p.prosecdef AND `+ofUsers+` AND `+notOfExtensions("pg_proc", "p.oid")+` ORDER BY 1`)
	for _, row := range rows {
		super, forAll, fixed := row[2] == "t", row[3] == "t", row[4] == "t"
		f := inspect.Finding{Kind: inspect.SecurityDefiner, On: d.name + ", " + row[0], App: app, Evidence: "it is SECURITY DEFINER and belongs to " + row[1]}
		if super {
			f.Evidence += ", a superuser"
		}
		if forAll {
			f.Evidence += "; everybody may call it"
		}
		if !fixed {
			f.Evidence += "; its search_path is the caller's, who so decides which tables and functions it uses"
		}
		switch {
		case super && (forAll || !fixed):
			f.Severity = estate.MustFix
		case fixed:
			f.Severity = estate.GoodToKnow
		}
		f.Remedy = "ALTER FUNCTION ... SET search_path, have the application's owner role own it, and REVOKE EXECUTE from PUBLIC"
		i.Add(f)
	}
	return err
}

// Sample looks into rows as an application's account may read them.
func Sample(ctx context.Context, server *postgres.Server, report *inspect.Report, app, database string) error {
	look := func(ctx context.Context, query string) ([][]string, error) { return server.Look(ctx, database, query) }
	rows, err := look(ctx, `SELECT c.oid::pg_catalog.regclass, a.attname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid
		WHERE c.relkind IN ('r', 'p') AND `+ofUsers+` AND a.attnum > 0 AND NOT a.attisdropped AND a.attcollation <> 0 AND has_column_privilege(c.oid, a.attnum, 'SELECT') ORDER BY 1, a.attnum`)
	if err != nil {
		return err
	}
	from := func(table string) string { return table } // regclass quotes it
	return report.Sample(ctx, app, database, inspect.ColumnsOf(rows, postgres.QuoteName, from), look)
}
