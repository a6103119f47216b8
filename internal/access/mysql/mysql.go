// Package mysql looks at who can do what on MariaDB and MySQL servers.
//
// It must never change anything: what it asks for itself goes through a session that the
// server keeps from changing.
package mysql

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/access"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/inspect"
)

// view is the look at one server.
type view struct {
	*mysql.Server
	access.Report
	subject   inspect.Subject
	look      inspect.Look
	each      func(ctx context.Context, query string, take func(row [][]byte) error) error
	catalogue *dbms.Catalogue
	// roles are those that accounts and roles were given, and isRole whether something is one.
	roles  map[dbms.Account][]dbms.Account
	isRole map[dbms.Account]bool
	// global are the roles' rights on the whole server, which MariaDB lists nowhere else.
	global   map[dbms.Account]dbms.Privileges
	programs []program
}

// program is what runs with its definer's rights for whoever uses it.
type program struct {
	database, kind, name string
	definer              dbms.Account
	needs                string   // the right to use it
	mentions             []string // other databases that its text speaks of
}

// Read looks at a server with an administrator's login.
func Read(ctx context.Context, server *mysql.Server, name string, subject inspect.Subject) (access.Report, error) {
	session, err := server.OpenSingle(ctx)
	if err != nil {
		return access.Report{}, err
	}
	defer session.Close()
	if _, err := session.Exec(ctx, "START TRANSACTION READ ONLY"); err != nil {
		return access.Report{}, err
	}
	v := &view{Server: server, subject: subject, look: session.Query, each: session.Rows, roles: map[dbms.Account][]dbms.Account{}, isRole: map[dbms.Account]bool{}, global: map[dbms.Account]dbms.Privileges{}}
	if v.catalogue, err = server.ReadCatalogue(ctx, true, nil); err != nil {
		return access.Report{}, err
	}
	var databases []string
	for _, database := range slices.Sorted(maps.Keys(v.catalogue.Databases)) {
		if !slices.Contains(mysql.SystemDatabases, database) {
			databases = append(databases, database)
		}
	}
	if err := v.readRoles(ctx); err != nil {
		return access.Report{}, err
	}
	if err := v.readPrograms(ctx, databases); err != nil {
		return access.Report{}, err
	}
	for _, a := range v.accounts() {
		cells := map[string]*access.Cell{}
		for _, database := range databases {
			if c := v.cell(a, database); c != nil {
				c.Server = name
				cells[database] = c
			}
		}
		v.throughPrograms(name, a, cells)
		for _, database := range databases {
			if c := cells[database]; c != nil {
				v.Cells = append(v.Cells, *c)
			}
		}
	}
	return v.Report, nil
}

// accounts are those that log in, and those that only have rights: everybody's.
func (v *view) accounts() []dbms.Account {
	var all []dbms.Account
	for a := range v.catalogue.Accounts {
		if !v.isRole[a] && !slices.Contains(mysql.SystemAccounts, a.User) {
			all = append(all, a)
		}
	}
	slices.SortFunc(all, func(a, b dbms.Account) int { return strings.Compare(a.String(), b.String()) })
	return all
}

// readRoles reads who has which (MariaDB, "mysql.roles_mapping Table"; MySQL Reference
// Manual, "Grant Tables").
func (v *view) readRoles(ctx context.Context) error {
	query := "SELECT TO_USER, TO_HOST, FROM_USER, FROM_HOST FROM mysql.role_edges"
	mariadb := v.About().Product == dbms.MariaDB
	if mariadb {
		query = "SELECT User, Host, Role, '' FROM mysql.roles_mapping"
	}
	rows, err := v.look(ctx, query)
	if err != nil {
		return err
	}
	for _, row := range rows {
		member, role := dbms.Account{User: row[0], Host: row[1]}, dbms.Account{User: row[2], Host: row[3]}
		v.roles[member], v.isRole[role] = append(v.roles[member], role), true
	}
	if !mariadb {
		return nil
	}
	var columns []string
	for _, of := range rightColumns {
		columns = append(columns, "IF("+of[0]+"_priv = 'Y', '"+of[1]+"', NULL)")
	}
	rows, err = v.look(ctx, "SELECT User, CONCAT_WS(',', "+strings.Join(columns, ", ")+") FROM mysql.user WHERE is_role = 'Y'")
	for _, row := range rows {
		role := dbms.Account{User: row[0]}
		v.isRole[role] = true
		if row[1] != "" {
			v.global[role] = dbms.NewPrivileges(strings.Split(row[1], ",")...)
		}
	}
	return err
}

// rightColumns are the columns of mysql.user with rights that reach databases.
var rightColumns = [][2]string{{"Select", "SELECT"}, {"Insert", "INSERT"}, {"Update", "UPDATE"}, {"Delete", "DELETE"}, {"Create", "CREATE"}, {"Drop", "DROP"}, {"References", "REFERENCES"}, {"Index", "INDEX"},
	{"Alter", "ALTER"}, {"Create_tmp_table", "CREATE TEMPORARY TABLES"}, {"Lock_tables", "LOCK TABLES"}, {"Create_view", "CREATE VIEW"}, {"Show_view", "SHOW VIEW"}, {"Create_routine", "CREATE ROUTINE"},
	{"Alter_routine", "ALTER ROUTINE"}, {"Execute", "EXECUTE"}, {"Event", "EVENT"}, {"Trigger", "TRIGGER"}, {"Super", "SUPER"}, {"Create_user", "CREATE USER"}, {"Grant", "GRANT OPTION"}, {"File", "FILE"}}

// everybody holds what all accounts have besides their own.
var everybody = []dbms.Account{{User: "PUBLIC"}, {User: "", Host: "%"}, {User: "", Host: "localhost"}}

// grantees are whose grants an account has: its own, those of its roles and of theirs,
// everybody's. Each is named as it is to be told.
func (v *view) grantees(a dbms.Account) (all []dbms.Account, by []string) {
	all, by = []dbms.Account{a}, []string{""}
	for at := 0; at < len(all); at++ {
		for _, role := range v.roles[all[at]] {
			if !slices.Contains(all, role) {
				all, by = append(all, role), append(by, "role "+role.User)
			}
		}
	}
	for _, one := range everybody {
		if !slices.Contains(all, one) && v.catalogue.Granted[one] != nil {
			all, by = append(all, one), append(by, "everybody")
		}
	}
	return all, by
}

func joined(words ...string) string {
	return strings.Join(slices.DeleteFunc(words, func(w string) bool { return w == "" }), ", ")
}

// cell is what an account can do on a database; nil for nothing.
func (v *view) cell(a dbms.Account, database string) *access.Cell {
	var held access.Held
	administers := false
	grantees, through := v.grantees(a)
	for at, grantee := range grantees {
		g := v.catalogue.Grants(grantee)
		if slices.Contains(everybody, grantee) && grantee.User == "" {
			g.Global = nil // such an account's own; only its rights on databases are everybody's
		}
		global := g.Global.Plus(v.global[grantee])
		administers = administers || mysql.Administers(g) || mysql.Administers(dbms.Grants{Global: global})
		held.Add(global.Minus(global.Minus(onDatabases)), joined(through[at], "rights on the whole server"))
		// Of an account's patterns the most exact one counts.
		exact, others := v.HeldOn(database, g)
		if len(exact) > 0 {
			held.Add(exact, cmp.Or(through[at], "grant"))
		} else {
			for _, pattern := range others {
				held.Add(g.Databases[pattern], joined(through[at], "pattern "+pattern))
			}
		}
		if slices.Contains(g.GrantOption, v.Pattern(database)) {
			held.Add(dbms.Privileges{"GRANT OPTION"}, cmp.Or(through[at], "grant"))
		}
		if slices.Contains(g.Below, database) {
			held.Add(dbms.Privileges{"SINGLE TABLES"}, joined(through[at], "grants on single tables or columns"))
		}
	}
	if len(held.Privileges) == 0 && !administers {
		return nil
	}
	c := &access.Cell{Account: a.String(), Database: database, By: held.By, Logins: v.logins(a)}
	if administers {
		c.Level, c.By = access.Everything, []string{"administrator"}
		for at, role := range grantees[1:] {
			if g := v.catalogue.Grants(role); mysql.Administers(g) || mysql.Administers(dbms.Grants{Global: v.global[role]}) {
				c.By = append(c.By, through[at+1])
			}
		}
	} else {
		c.Level, c.Privileges = access.Level(held.Privileges, func(level string) dbms.Privileges { return v.Resolve([]string{level}, dbms.Contents{}) })
	}
	access.Judge(c, v.subject, administers)
	if allowed := access.Allowed(v.subject, a.User, func(rights []string) dbms.Privileges { return v.Resolve(rights, allKinds) }); c.Unexpected == "" && c.AccountApp != "" {
		if more := held.Minus(allowed); len(more) > 0 {
			c.Unexpected = "more than the estate file gives it: " + more.String()
		}
	}
	return c
}

// allKinds has what rights on rows take in.
var allKinds = dbms.Contents{Triggers: []dbms.Object{{}}, Events: []dbms.Object{{}}}

// onDatabases are the global rights that reach what databases hold.
var onDatabases = dbms.NewPrivileges(append(dbms.PrivilegeNames(), "GRANT OPTION")...)

// logins is what stands against an account's logins.
func (v *view) logins(a dbms.Account) string {
	state := v.catalogue.Accounts[a]
	switch {
	case state.Locked:
		return "locked"
	case state.Expired:
		return "password expired"
	}
	return ""
}

// readPrograms reads views and routines that run with their definer's rights.
func (v *view) readPrograms(ctx context.Context, databases []string) error {
	// One text at a time: an application may have many, and long ones.
	return v.each(ctx, `SELECT TABLE_SCHEMA, 'view', TABLE_NAME, DEFINER, 'SELECT', VIEW_DEFINITION FROM information_schema.VIEWS WHERE SECURITY_TYPE = 'DEFINER'
		UNION ALL SELECT ROUTINE_SCHEMA, LOWER(ROUTINE_TYPE), ROUTINE_NAME, DEFINER, 'EXECUTE', ROUTINE_DEFINITION FROM information_schema.ROUTINES WHERE SECURITY_TYPE = 'DEFINER'
		UNION ALL SELECT TRIGGER_SCHEMA, 'trigger', TRIGGER_NAME, DEFINER, 'INSERT', ACTION_STATEMENT FROM information_schema.TRIGGERS`, func(row [][]byte) error {
		if slices.Contains(mysql.SystemDatabases, string(row[0])) {
			return nil
		}
		p := program{database: string(row[0]), kind: string(row[1]), name: string(row[2]), definer: dbms.ParseAccount(string(row[3])), needs: string(row[4])}
		text := strings.ReplaceAll(string(row[5]), "`", "")
		for _, database := range databases {
			if database != p.database && mentions(text, database) {
				p.mentions = append(p.mentions, database)
			}
		}
		if len(p.mentions) > 0 {
			v.programs = append(v.programs, p)
		}
		return nil
	})
}

// mentions reports whether a text without quotes names something in a database.
func mentions(text, database string) bool {
	for at := 0; ; {
		i := strings.Index(text[at:], database+".")
		if i < 0 {
			return false
		}
		at += i
		if at == 0 || !isWord(text[at-1]) {
			return true
		}
		at++
	}
}

func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// throughPrograms adds what an account reaches by using programs of others.
func (v *view) throughPrograms(server string, a dbms.Account, cells map[string]*access.Cell) {
	for _, p := range v.programs {
		own := cells[p.database]
		if p.definer == a || own == nil || own.Level == access.Everything || !v.may(a, p.database, p.needs) {
			continue
		}
		for _, database := range p.mentions {
			if v.cell(p.definer, database) == nil { // it would fail
				continue
			}
			c := cells[database]
			if c == nil {
				c = &access.Cell{Server: server, Account: a.String(), Database: database, Logins: v.logins(a)}
				access.Judge(c, v.subject, false)
				cells[database] = c
			}
			by := fmt.Sprintf("%s %s.%s, which runs as %s", p.kind, p.database, p.name, p.definer.String())
			c.By = append(c.By, by)
			if word := "through a " + p.kind; !slices.Contains(c.Privileges, word) {
				c.Privileges = append(c.Privileges, word)
			}
		}
	}
}

// may reports whether an account has a right on a database.
func (v *view) may(a dbms.Account, database, right string) bool {
	grantees, _ := v.grantees(a)
	for _, grantee := range grantees {
		g := v.catalogue.Grants(grantee)
		exact, others := v.HeldOn(database, g)
		if g.Global.Has(right) || v.global[grantee].Has(right) || exact.Has(right) || slices.Contains(g.Below, database) ||
			len(exact) == 0 && slices.ContainsFunc(others, func(pattern string) bool { return g.Databases[pattern].Has(right) }) {
			return true
		}
	}
	return false
}
