// Package postgres looks at who can do what on PostgreSQL servers.
//
// It must never change anything: what it asks for itself goes through transactions that
// the server keeps from changing.
package postgres

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"yellowfield/internal/access"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/inspect"
)

// view is the look at one server.
type view struct {
	*postgres.Server
	access.Report
	subject   inspect.Subject
	catalogue *dbms.Catalogue
	// reach are the roles that a role is a member of, itself included.
	reach map[string][]string
	super map[string]bool
	// given are the roles that a database's own list of rights names; everybody is "".
	given map[string][]string
	rules []postgres.HostRule // nil where they could not be read
}

// Read looks at a server with an administrator's login.
func Read(ctx context.Context, server *postgres.Server, name string, subject inspect.Subject) (access.Report, error) {
	v := &view{Server: server, subject: subject, reach: map[string][]string{}, super: map[string]bool{}, given: map[string][]string{}}
	databases, err := v.databases(ctx)
	if err != nil {
		return access.Report{}, err
	}
	if v.catalogue, err = server.ReadCatalogue(ctx, true, databases); err != nil {
		return access.Report{}, err
	}
	if err := v.readRoles(ctx); err != nil {
		return access.Report{}, err
	}
	if v.rules, err = server.HostRules(ctx); err != nil {
		if ctx.Err() != nil {
			return access.Report{}, err
		}
		v.Unseen = append(v.Unseen, "whom the host-based rules let in: only a superuser may read them")
	}
	for _, database := range databases {
		inside, err := v.inside(ctx, database)
		if err != nil {
			if ctx.Err() != nil {
				return access.Report{}, err
			}
			v.Unseen = append(v.Unseen, fmt.Sprintf("single tables and functions of the database %s: %v", database, err))
		}
		for _, user := range slices.Sorted(maps.Keys(v.reach)) {
			if c := v.cell(user, database, inside); c != nil {
				c.Server = name
				v.Cells = append(v.Cells, *c)
			}
		}
	}
	return v.Report, nil
}

// databases lists those that take logins, with whom their rights name.
func (v *view) databases(ctx context.Context) (names []string, err error) {
	rows, err := v.Look(ctx, v.Database, `SELECT d.datname, a.grantee = 0, COALESCE(r.rolname, '') FROM pg_catalog.pg_database d, aclexplode(COALESCE(d.datacl, acldefault('d', d.datdba))) a
		LEFT JOIN pg_catalog.pg_roles r ON r.oid = a.grantee WHERE d.datallowconn AND NOT d.datistemplate ORDER BY 1`)
	for _, row := range rows {
		if !slices.Contains(names, row[0]) {
			names = append(names, row[0])
		}
		v.given[row[0]] = append(v.given[row[0]], row[2])
	}
	return names, err
}

// readRoles reads who logs in, and whose rights they have.
func (v *view) readRoles(ctx context.Context) error {
	rows, err := v.Look(ctx, v.Database, `WITH RECURSIVE reach(role, through) AS (SELECT oid, oid FROM pg_catalog.pg_roles WHERE rolcanlogin
			UNION SELECT r.role, m.roleid FROM reach r JOIN pg_catalog.pg_auth_members m ON m.member = r.through)
		SELECT r.rolname, t.rolname, r.rolsuper OR t.rolsuper FROM reach JOIN pg_catalog.pg_roles r ON r.oid = reach.role JOIN pg_catalog.pg_roles t ON t.oid = reach.through ORDER BY 1, r.oid <> t.oid, 2`)
	for _, row := range rows {
		v.reach[row[0]] = append(v.reach[row[0]], row[1])
		v.super[row[0]] = v.super[row[0]] || row[2] == "t"
	}
	return err
}

// inside is what a database holds that rights on the whole of it do not tell.
type inside struct {
	tables  map[string]bool   // roles with rights on single tables; everybody is ""
	definer map[string][]runs // what runs with another's rights, by who may use it
}

// runs is a function or view that reads and writes with the rights of its owner.
type runs struct{ kind, name, owner string }

func (v *view) inside(ctx context.Context, database string) (in inside, err error) {
	in = inside{map[string]bool{}, map[string][]runs{}}
	const ofUsers = `n.nspname <> 'information_schema' AND NOT starts_with(n.nspname, 'pg_')`
	rows, err := v.Look(ctx, database, `SELECT DISTINCT 'table', COALESCE(r.rolname, ''), '', '' FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace, aclexplode(c.relacl) a LEFT JOIN pg_catalog.pg_roles r ON r.oid = a.grantee
			WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND `+ofUsers+` AND a.grantee <> c.relowner
		UNION ALL SELECT 'function', COALESCE(r.rolname, ''), n.nspname || '.' || p.proname, o.rolname FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace JOIN pg_catalog.pg_roles o ON o.oid = p.proowner,
			aclexplode(COALESCE(p.proacl, acldefault('f', p.proowner))) a LEFT JOIN pg_catalog.pg_roles r ON r.oid = a.grantee
			WHERE p.prosecdef AND `+ofUsers+` AND a.grantee <> p.proowner
			AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_catalog.pg_proc'::pg_catalog.regclass AND e.objid = p.oid AND e.deptype = 'e')
		UNION ALL SELECT DISTINCT 'view', COALESCE(r.rolname, ''), n.nspname || '.' || c.relname, o.rolname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace JOIN pg_catalog.pg_roles o ON o.oid = c.relowner
			JOIN pg_catalog.pg_rewrite w ON w.ev_class = c.oid JOIN pg_catalog.pg_depend d ON d.classid = 'pg_catalog.pg_rewrite'::pg_catalog.regclass AND d.objid = w.oid AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.refobjid <> c.oid
			CROSS JOIN aclexplode(c.relacl) a LEFT JOIN pg_catalog.pg_roles r ON r.oid = a.grantee
			WHERE c.relkind = 'v' AND `+ofUsers+` AND a.grantee <> c.relowner AND NOT COALESCE(c.reloptions && ARRAY['security_invoker=true', 'security_invoker=on', 'security_invoker=1'], false)
			AND NOT has_table_privilege(a.grantee, d.refobjid, 'SELECT')
		ORDER BY 1, 2, 3`)
	for _, row := range rows {
		if row[0] == "table" {
			in.tables[row[1]] = true
		} else {
			in.definer[row[1]] = append(in.definer[row[1]], runs{row[0], row[2], row[3]})
		}
	}
	return in, err
}

// cell is what an account can do on a database; nil for nothing.
func (v *view) cell(user, database string, in inside) *access.Cell {
	c := &access.Cell{Account: user, Database: database}
	held := v.catalogue.Granted[dbms.Account{User: user}].Databases[database]
	if v.super[user] {
		c.Level, c.By = access.Everything, []string{"superuser"}
	} else {
		if len(held) == 0 {
			return nil
		}
		c.Level, c.Privileges = access.Level(held, func(level string) dbms.Privileges { return v.Resolve([]string{level}, dbms.Contents{}) })
		c.By = v.through(user, database)
		for _, role := range append([]string{""}, v.reach[user]...) {
			if in.tables[role] && (c.Level == "" || c.Level == dbms.LevelRead) && !slices.Contains(c.Privileges, "SINGLE TABLES") {
				c.Privileges, c.By = append(c.Privileges, "SINGLE TABLES"), append(c.By, "grants on single tables")
			}
			for _, f := range in.definer[role] {
				if held.Has("OWNER") && !v.super[f.owner] {
					continue // it can do that anyway
				}
				c.By = append(c.By, f.kind+" "+f.name+", which runs as "+f.owner)
				if !slices.Contains(c.Privileges, "through a "+f.kind) {
					c.Privileges = append(c.Privileges, "through a "+f.kind)
				}
			}
		}
	}
	access.Judge(c, v.subject, v.super[user])
	if allowed := access.Allowed(v.subject, user, func(rights []string) dbms.Privileges { return v.Resolve(rights, dbms.Contents{}) }); c.Unexpected == "" && c.AccountApp != "" {
		if allowed.Has("OWNER") {
			allowed = allowed.Plus(v.Resolve([]string{dbms.LevelRows}, dbms.Contents{}))
		}
		if more := held.Minus(allowed); len(more) > 0 {
			c.Unexpected = "more than the estate file gives it: " + more.String()
		}
	}
	if database == "postgres" && slices.Equal(c.By, []string{everybody}) {
		c.Unexpected = "" // everybody gets in there, and programs expect to
	}
	v.judgeLogins(c)
	return c
}

const everybody = "everybody (PUBLIC)"

// through tells through what an account has its rights on a database.
func (v *view) through(user, database string) (by []string) {
	for _, role := range v.reach[user] {
		switch {
		case role == user && slices.Contains(v.given[database], role):
			by = append(by, "grant")
		case role != user && role == postgres.Owner(database):
			by = append(by, "owner role "+role)
		case role != user && slices.Contains(v.given[database], role):
			by = append(by, "role "+role)
		}
	}
	if slices.Contains(v.given[database], "") {
		by = append(by, everybody)
	}
	return by
}

// judgeLogins tells how the host-based rules take the account's logins.
func (v *view) judgeLogins(c *access.Cell) {
	state := v.catalogue.Accounts[dbms.Account{User: c.Account}]
	if state.Expired {
		c.Logins = "password expired"
	}
	if v.rules == nil {
		return
	}
	login := postgres.ClientLogin{Database: c.Database, User: c.Account, Roles: v.reach[c.Account]}
	methods := map[string]bool{}
	enters := false
	for _, from := range []netip.Addr{{}, netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("::1"), netip.MustParseAddr("198.51.100.1")} { // the last one stands for hosts elsewhere
		login.From = from
		rule, matches, unsure := postgres.FirstMatch(v.rules, login)
		if unsure || matches && rule.Method != "reject" {
			enters = true
		}
		if matches {
			methods[rule.Method] = true
		}
	}
	switch {
	case !enters:
		c.Logins = "no host-based rule lets it in"
	case methods["trust"]:
		c.Logins = "a host-based rule lets it in without a password"
		if c.Unexpected == "" {
			c.Unexpected = c.Logins
		}
	}
}
