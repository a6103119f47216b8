package mysql

import (
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
)

// HeldOn gives the rights that an account really has on a database through
// database-level grants, and the other patterns of the account that match the
// database without meaning it alone. Only the most specific matching row
// counts on the server, which is the one spelled exactly, if there is one.
func (s SQL) HeldOn(database string, g dbms.Grants) (held dbms.Privileges, leaking []string) {
	exact := s.Pattern(database)
	held = g.Databases[exact]
	for pattern := range g.Databases {
		if pattern != exact && s.Matches(pattern, database) {
			leaking = append(leaking, pattern)
		}
	}
	slices.Sort(leaking)
	return held, leaking
}

// Elsewhere lists what else an account may touch: other databases, or the
// whole server.
func (s SQL) Elsewhere(database string, g dbms.Grants) []string {
	var places []string
	if len(g.Global) > 0 {
		places = append(places, "the whole server ("+firstOf(g.Global)+")")
	}
	for pattern, privileges := range g.Databases {
		if len(privileges) > 0 && !s.Matches(pattern, database) {
			places = append(places, pattern)
		}
	}
	for _, other := range g.Below {
		if other != database && !slices.Contains(places, other) {
			places = append(places, other)
		}
	}
	slices.Sort(places)
	return places
}

func firstOf(p dbms.Privileges) string {
	const most = 3
	if len(p) > most {
		return fmt.Sprintf("%s and %d more", p[:most], len(p)-most)
	}
	return p.String()
}

// Matches applies a stored grant pattern to a database name as the server does.
func (s SQL) Matches(pattern, database string) bool {
	if s.facts.PartialRevokes {
		return pattern == database
	}
	return like(pattern, database)
}

// like is SQL's LIKE with backslash escapes, for short names.
func like(pattern, text string) bool {
	for pattern != "" {
		switch c := pattern[0]; {
		case c == '%':
			for i := 0; i <= len(text); i++ {
				if like(pattern[1:], text[i:]) {
					return true
				}
			}
			return false
		case c == '\\' && len(pattern) > 1:
			pattern = pattern[1:]
			if text == "" || text[0] != pattern[0] {
				return false
			}
		case text == "" || c != '_' && c != text[0]:
			return false
		}
		pattern, text = pattern[1:], text[1:]
	}
	return text == ""
}

// AdministratorLacks names the rights that an administrator with grants g
// would lack for provisioning the given database with the given rights; nil
// when nothing is missing.
func (s SQL) AdministratorLacks(g dbms.Grants, database string, grants dbms.Privileges) []string {
	have := g.Global
	if g.Global.Has("ALL PRIVILEGES") {
		return nil
	}
	mayPassOn := slices.Contains(g.GrantOption, "")
	for pattern, privileges := range g.Databases {
		if s.Matches(pattern, database) {
			have = have.Plus(privileges)
			mayPassOn = mayPassOn || slices.Contains(g.GrantOption, pattern)
		}
	}
	var lacks []string
	for _, name := range grants.Plus(dbms.Privileges{"CREATE", "DROP"}) {
		if !have.Has(name) {
			lacks = append(lacks, name)
		}
	}
	if !g.Global.Has("CREATE USER") {
		lacks = append(lacks, "CREATE USER")
	}
	if !mayPassOn {
		lacks = append(lacks, "GRANT OPTION")
	}
	slices.Sort(lacks)
	return slices.Compact(lacks)
}

// LacksForEndingSessions names the global rights that an administrator with
// grants g would need to end other accounts' sessions, and lacks. Neither
// product says so when asked to: they pass over what the account may not see.
func (s SQL) LacksForEndingSessions(g dbms.Grants) []string {
	if s.facts.Product == dbms.MariaDB {
		if g.Global.Has("SUPER") || g.Global.Has("CONNECTION ADMIN") {
			return nil
		}
		return []string{"CONNECTION ADMIN"}
	}
	var lacks []string
	if !g.Global.Has("SUPER") && !g.Global.Has("CONNECTION_ADMIN") {
		lacks = append(lacks, "CONNECTION_ADMIN")
	}
	if !g.Global.Has("PROCESS") {
		lacks = append(lacks, "PROCESS")
	}
	return lacks
}

// ChangeRights gives the statements that turn the held rights into the wanted
// ones without a gap: first the target is granted, then exactly what is too
// much is revoked. lowers tells whether open sessions would keep rights that
// they should lose.
func (s SQL) ChangeRights(a dbms.Account, database string, g dbms.Grants, want dbms.Privileges) (statements []dbms.Statement, lowers bool) {
	pattern := s.Pattern(database)
	held, leaking := s.HeldOn(database, g)
	if len(want.Minus(held)) > 0 {
		statements = append(statements, s.Grant(want, pattern, a)...)
	}
	revoke := func(p dbms.Privileges, pattern string) {
		if len(p) > 0 {
			statements = append(statements, s.Revoke(p, pattern, a)...)
			lowers = true
		}
		if slices.Contains(g.GrantOption, pattern) {
			statements = append(statements, s.Revoke(dbms.Privileges{"GRANT OPTION"}, pattern, a)...)
		}
	}
	revoke(held.Minus(want), pattern)
	for _, other := range leaking {
		revoke(g.Databases[other], other)
	}
	return statements, lowers
}

var rows = dbms.NewPrivileges(
	"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE", "SHOW VIEW")

var read = dbms.NewPrivileges("SELECT", "SHOW VIEW")

// Resolve turns levels and privilege names into the set of privileges they
// mean for a database with the given contents. A level of rows takes in
// TRIGGER and EVENT while the database has any: without them every change to a
// table with a trigger is refused, and events stop.
func (s SQL) Resolve(rights []string, contents dbms.Contents) dbms.Privileges {
	var set dbms.Privileges
	for _, word := range rights {
		switch word {
		case dbms.LevelStructure:
			set = set.Plus(dbms.PrivilegeNames())
		case dbms.LevelRows:
			set = set.Plus(rows)
			if len(contents.Triggers) > 0 {
				set = set.Plus(dbms.Privileges{"TRIGGER"})
			}
			if len(contents.Events) > 0 {
				set = set.Plus(dbms.Privileges{"EVENT"})
			}
		case dbms.LevelRead:
			set = set.Plus(read)
		default:
			set = set.Plus(dbms.NewPrivileges(word))
		}
	}
	return set
}

// Reading are those of an export. Without EXECUTE, TRIGGER and EVENT the server does not
// even list what these are for.
func (s SQL) Reading(contents dbms.Contents) dbms.Privileges {
	reading := dbms.NewPrivileges("SELECT", "LOCK TABLES", "SHOW VIEW", "EXECUTE")
	if len(contents.Triggers) > 0 {
		reading = reading.Plus(dbms.Privileges{"TRIGGER"})
	}
	if len(contents.Events) > 0 {
		reading = reading.Plus(dbms.Privileges{"EVENT"})
	}
	return reading
}

// SystemDatabases are those of the server itself.
var SystemDatabases = []string{"information_schema", "mysql", "performance_schema", "sys"}

// SystemAccounts come with the products and their packages (MySQL Reference Manual,
// "Reserved Accounts"; MariaDB, "mysql.user Table").
var SystemAccounts = []string{"mysql.sys", "mysql.session", "mysql.infoschema", "mariadb.sys", "mysql", "debian-sys-maint"}

// Administers reports whether an account with grants g may give itself what it lacks.
func Administers(g dbms.Grants) bool {
	return g.Global.Has("SUPER") || g.Global.Has("CREATE USER") || slices.Contains(g.GrantOption, "") || g.Global.Has("ALL PRIVILEGES")
}
