package postgres

import (
	"slices"
	"strings"

	"yellowfield/internal/dbms"
)

// What rights on a database are called here. The first three are the server's
// own; the others stand for several statements.
const (
	connect   = "CONNECT"
	temporary = "TEMPORARY"
	usage     = "USAGE"     // of the application's schemas
	sequences = "SEQUENCES" // USAGE, SELECT and UPDATE on all, those of later too
	owner     = "OWNER"     // works as the owner of the database
)

// onTables are rights on all tables of these schemas, those of later too.
var onTables = dbms.NewPrivileges("SELECT", "INSERT", "UPDATE", "DELETE")

// levels are what the levels of rights mean (the estate's words for them are in
// package dbms).
var levels = map[string]dbms.Privileges{
	dbms.LevelStructure: dbms.NewPrivileges(connect, temporary, owner),
	dbms.LevelRows:      onTables.Plus(dbms.NewPrivileges(connect, temporary, usage, sequences)),
	dbms.LevelRead:      dbms.NewPrivileges(connect, usage, "SELECT"),
}

// Resolve turns levels into the privileges they mean. The owner's include all
// others.
func (s SQL) Resolve(rights []string, _ dbms.Contents) dbms.Privileges {
	var set dbms.Privileges
	for _, word := range rights {
		set = set.Plus(levels[word])
	}
	return withoutIncluded(set)
}

// withoutIncluded drops what the owner can do anyway.
func withoutIncluded(p dbms.Privileges) dbms.Privileges {
	if p.Has(owner) {
		return p.Minus(onTables).Minus(dbms.NewPrivileges(usage, sequences))
	}
	return p
}

// HeldOn gives the rights that a role has on a database. Nothing leaks: names
// are no patterns here.
func (s SQL) HeldOn(database string, g dbms.Grants) (held dbms.Privileges, leaking []string) {
	return g.Databases[database], nil
}

// Elsewhere lists what else a role may touch.
func (s SQL) Elsewhere(database string, g dbms.Grants) []string {
	var places []string
	if len(g.Global) > 0 {
		places = append(places, "the whole server ("+g.Global.String()+")")
	}
	for _, other := range g.Below {
		if other != database {
			places = append(places, other)
		}
	}
	slices.Sort(places)
	return places
}

// AdministratorLacks names the attributes that an administrator's role lacks.
func (s SQL) AdministratorLacks(g dbms.Grants, _ string, _ dbms.Privileges) []string {
	if g.Global.Has("SUPERUSER") {
		return nil
	}
	return dbms.NewPrivileges("CREATEDB", "CREATEROLE").Minus(g.Global)
}

// LacksForEndingSessions is the same for ending others' sessions, which a member
// of their role, or of pg_signal_backend, may do.
func (s SQL) LacksForEndingSessions(g dbms.Grants) []string {
	if g.Global.Has("SUPERUSER") || g.Global.Has("CREATEROLE") {
		return nil
	}
	return []string{"pg_signal_backend"}
}

// Reading is the owner's right: whoever works as the owner reads all that it has.
func (s SQL) Reading(dbms.Contents) dbms.Privileges { return dbms.NewPrivileges(connect, owner) }

// Pattern is the database's name.
func (s SQL) Pattern(database string) string { return database }

// Grant gives rights on a database.
func (s SQL) Grant(p dbms.Privileges, database string, a dbms.Account) []dbms.Statement {
	return s.change(p, database, a, "GRANT", "TO")
}

// Revoke takes them.
func (s SQL) Revoke(p dbms.Privileges, database string, a dbms.Account) []dbms.Statement {
	return s.change(p, database, a, "REVOKE", "FROM")
}

// RevokeGlobal takes an attribute of a role.
func (s SQL) RevokeGlobal(attribute string, a dbms.Account) dbms.Statement {
	return plain("ALTER ROLE %s NO%s", QuoteName(a.User), attribute)
}

// change gives or takes rights. Those on tables and sequences are also those on
// what the owner makes later.
func (s SQL) change(p dbms.Privileges, database string, a dbms.Account, verb, preposition string) []dbms.Statement {
	role, of := QuoteName(a.User), QuoteName(Owner(database))
	var statements []dbms.Statement
	if own := common(p, dbms.NewPrivileges(connect, temporary)); len(own) > 0 {
		statements = append(statements, plain("%s %s ON DATABASE %s %s %s", verb, own, QuoteName(database), preposition, role))
	}
	for _, schema := range s.schemasOf(database) {
		schema = QuoteName(schema)
		if p.Has(usage) {
			statements = append(statements, within(database, "%s USAGE ON SCHEMA %s %s %s", verb, schema, preposition, role))
		}
		for _, kind := range []struct {
			rights dbms.Privileges
			what   string
		}{{common(p, onTables), "TABLES"}, {sequenceRights(p), "SEQUENCES"}} {
			if len(kind.rights) > 0 {
				statements = append(statements,
					within(database, "%s %s ON ALL %s IN SCHEMA %s %s %s", verb, kind.rights, kind.what, schema, preposition, role),
					within(database, "ALTER DEFAULT PRIVILEGES FOR ROLE %s IN SCHEMA %s %s %s ON %s %s %s", of, schema, verb, kind.rights, kind.what, preposition, role))
			}
		}
	}
	if p.Has(owner) {
		statements = append(statements, plain("%s %s %s %s", verb, of, preposition, role))
		if verb == "GRANT" {
			statements = append(statements, plain("ALTER ROLE %s IN DATABASE %s SET role TO %s", role, QuoteName(database), of))
		} else {
			// Else every login warns that the role may not be taken.
			statements = append(statements, plain("ALTER ROLE %s IN DATABASE %s RESET role", role, QuoteName(database)))
		}
	}
	return statements
}

func common(a, b dbms.Privileges) dbms.Privileges { return a.Minus(a.Minus(b)) }

func sequenceRights(p dbms.Privileges) dbms.Privileges {
	if p.Has(sequences) {
		return dbms.NewPrivileges("USAGE", "SELECT", "UPDATE")
	}
	return nil
}

// ChangeRights grants what is missing first, and then revokes what is too much.
// A session that works as the owner goes on doing so: it has to be ended.
func (s SQL) ChangeRights(a dbms.Account, database string, g dbms.Grants, want dbms.Privileges) (statements []dbms.Statement, lowers bool) {
	held, _ := s.HeldOn(database, g)
	if missing := want.Minus(held); len(missing) > 0 {
		statements = append(statements, s.Grant(missing, database, a)...)
	}
	if extra := held.Minus(want); len(extra) > 0 {
		statements = append(statements, s.Revoke(extra, database, a)...)
		lowers = len(withoutIncluded(extra.Plus(want)).Minus(want)) > 0
	}
	return statements, lowers
}

// TableName is a table's name as the server stores it: as it is.
func (s SQL) TableName(name string) string { return strings.TrimPrefix(name, "public.") }
