package postgres

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// ReadCatalogue reads databases, collations, roles and rights in a few queries,
// and rights on the databases named in each of these. Passwords can be read by
// superusers only.
func (s *Server) ReadCatalogue(ctx context.Context, administrator bool, databases []string) (*dbms.Catalogue, error) {
	c := dbms.NewCatalogue()
	clear(s.left)
	err := s.readCollations(ctx, c)
	if err == nil {
		err = s.read(ctx, c, administrator, databases, everything)
	}
	return c, err
}

// Reread takes collations as they were known.
func (s *Server) Reread(ctx context.Context, known *dbms.Catalogue, databases, users []string) (*dbms.Catalogue, error) {
	users = slices.Clone(users)
	for _, d := range databases {
		users = append(users, Owner(d))
		delete(s.left, Owner(d))
	}
	c := known.Without(databases, users)
	return c, s.read(ctx, c, true, databases, narrowed{databases, users})
}

// narrowed narrows a look to databases and roles; nil for all of both.
type narrowed struct{ databases, roles []string }

var everything narrowed

func (s *Server) read(ctx context.Context, c *dbms.Catalogue, administrator bool, databases []string, to narrowed) error {
	reads := []func(context.Context, *dbms.Catalogue, narrowed) error{s.readDatabases, s.readGrants, s.readPresets}
	if administrator {
		reads = append(reads, s.readAccounts)
	}
	for _, read := range reads {
		if err := read(ctx, c, to); err != nil {
			return err
		}
	}
	for name, d := range c.Databases {
		if to.databases == nil || slices.Contains(to.databases, name) {
			d.HalfMade = administrator && s.left[Owner(name)] == makingComment(name)
			c.Databases[name] = d
		}
	}
	for _, database := range databases {
		if d, exists := c.Databases[database]; exists && !d.HalfDropped {
			if err := s.readRights(ctx, c, database); err != nil {
				return err
			}
		}
	}
	var err error
	c.Contents, err = s.Contents(ctx, databases...)
	return err
}

// localeColumn is where a version keeps the locale of the ICU library.
func (s *Server) localeColumn(catalogue string) string {
	switch {
	case s.version >= 170000:
		return map[string]string{"database": "datlocale", "collation": "colllocale"}[catalogue]
	case s.version >= 150000:
		return map[string]string{"database": "daticulocale", "collation": "colliculocale"}[catalogue]
	}
	return map[string]string{"database": "NULL", "collation": "collcollate"}[catalogue]
}

func (s *Server) readDatabases(ctx context.Context, c *dbms.Catalogue, to narrowed) error {
	collation, drift := "datcollate", "''"
	if s.version >= 150000 {
		drift = "COALESCE(CASE WHEN datallowconn AND datcollversion <> pg_database_collation_actual_version(oid) THEN datcollversion || ' then, ' || pg_database_collation_actual_version(oid) || ' now' END, '')"
		collation = "CASE datlocprovider WHEN 'i' THEN '" + icuPrefix + "' || " + s.localeColumn("database") + " ELSE datcollate END"
	}
	return s.each(ctx, s.Database, `SELECT datname, pg_encoding_to_char(encoding), `+collation+`, `+drift+`, `+halfDropped+` FROM pg_catalog.pg_database WHERE $1::text[] IS NULL OR datname = ANY($1)`, []any{to.databases}, func(rows pgx.Rows) error {
		var d dbms.Database
		err := rows.Scan(&d.Name, &d.Charset, &d.Collation, &d.Drift, &d.HalfDropped)
		c.Databases[d.Name] = d
		return err
	})
}

// readCollations lists locales that UTF8 databases can have: a name that the
// server does not list is refused here, since some versions take any name for
// one of the ICU library.
func (s *Server) readCollations(ctx context.Context, c *dbms.Catalogue) error {
	c.Collations["C"], c.Collations["POSIX"] = "UTF8", "UTF8"
	return s.each(ctx, s.Database, `SELECT collprovider::text, COALESCE(collcollate, ''), COALESCE(`+s.localeColumn("collation")+`, '')
		FROM pg_catalog.pg_collation WHERE collprovider IN ('c', 'i') AND collencoding IN (-1, pg_char_to_encoding('UTF8'))`, nil, func(rows pgx.Rows) error {
		var provider, libc, icu string
		err := rows.Scan(&provider, &libc, &icu)
		switch {
		case provider == "i" && icu != "":
			c.Collations[icuPrefix+icu] = "UTF8"
		case provider == "c" && libc != "":
			c.Collations[libc] = "UTF8"
			// The system's library takes either spelling, and lists one.
			c.Collations[strings.Replace(libc, ".utf8", ".UTF-8", 1)] = "UTF8"
		}
		return err
	})
}

func (s *Server) readAccounts(ctx context.Context, c *dbms.Catalogue, to narrowed) error {
	passwords, from := "rolpassword", "pg_catalog.pg_authid"
	if !c.GrantsOf(s.currentUser).Global.Has("SUPERUSER") {
		passwords, from = "NULL", "pg_catalog.pg_roles"
	}
	return s.each(ctx, s.Database, `SELECT rolname, COALESCE(`+passwords+`, ''), NOT rolcanlogin, COALESCE(rolvaliduntil < now(), false), rolconnlimit, COALESCE(shobj_description(oid, 'pg_authid'), '') FROM `+from+` WHERE $1::text[] IS NULL OR rolname = ANY($1)`, []any{to.roles}, func(rows pgx.Rows) error {
		var a dbms.AccountState
		var verifier, comment string
		err := rows.Scan(&a.User, &verifier, &a.Locked, &a.Expired, &a.MaxConnections, &comment)
		a.Verifier = stored(verifier)
		a.MaxConnections = max(0, a.MaxConnections)
		if s.left[a.User] = ""; a.Locked {
			s.left[a.User] = comment
		}
		c.Accounts[a.Account] = a
		return err
	})
}

// stored is a verifier as the server keeps it, whose beginning tells its method.
func stored(text string) secret.Verifier {
	switch {
	case strings.HasPrefix(text, "SCRAM-SHA-256$"):
		return secret.StoredVerifier(secret.MethodSCRAM, []byte(text))
	case strings.HasPrefix(text, "md5"):
		return secret.StoredVerifier(secret.MethodMD5, []byte(text))
	}
	return secret.StoredVerifier("", []byte(text))
}

// readGrants reads roles' attributes, and the databases on which roles have
// rights of their own.
func (s *Server) readGrants(ctx context.Context, c *dbms.Catalogue, to narrowed) error {
	err := s.each(ctx, s.Database, `SELECT rolname, rolsuper, rolcreatedb, rolcreaterole FROM pg_catalog.pg_roles WHERE $1::text[] IS NULL OR rolname = ANY($1)`, []any{to.roles}, func(rows pgx.Rows) error {
		var name string
		var super, databases, roles bool
		err := rows.Scan(&name, &super, &databases, &roles)
		var global []string
		for attribute, has := range map[string]bool{"SUPERUSER": super, "CREATEDB": databases, "CREATEROLE": roles} {
			if has {
				global = append(global, attribute)
			}
		}
		c.Granted[dbms.Account{User: name}] = &dbms.Grants{Global: dbms.NewPrivileges(global...), Databases: map[string]dbms.Privileges{}}
		return err
	})
	if err != nil {
		return err
	}
	if to.roles != nil && !slices.ContainsFunc(to.roles, func(role string) bool { return c.Granted[dbms.Account{User: role}] != nil }) {
		return nil // a role that is not there has no rights
	}
	return s.each(ctx, s.Database, `SELECT rolname, datname FROM (SELECT DISTINCT r.rolname, d.datname FROM pg_catalog.pg_database d, aclexplode(d.datacl) a JOIN pg_catalog.pg_roles r ON r.oid = a.grantee
		UNION SELECT r.rolname, d.datname FROM pg_catalog.pg_database d JOIN pg_catalog.pg_roles r ON r.oid = d.datdba
		UNION SELECT m.rolname, d.datname FROM pg_catalog.pg_database d JOIN pg_catalog.pg_auth_members g ON g.roleid = d.datdba JOIN pg_catalog.pg_roles m ON m.oid = g.member) AS all_of_them WHERE $1::text[] IS NULL OR rolname = ANY($1)`, []any{to.roles}, func(rows pgx.Rows) error {
		var role, database string
		err := rows.Scan(&role, &database)
		if g := c.Granted[dbms.Account{User: role}]; g != nil {
			g.Below = append(g.Below, database)
		}
		return err
	})
}

// readPresets reads what ALTER DATABASE and ALTER ROLE have set. That an account
// works as the owner of a database is no news.
func (s *Server) readPresets(ctx context.Context, c *dbms.Catalogue, to narrowed) error {
	return s.each(ctx, s.Database, `SELECT COALESCE(d.datname, ''), COALESCE(r.rolname, ''), setting FROM pg_catalog.pg_db_role_setting s CROSS JOIN unnest(s.setconfig) AS u(setting)
		LEFT JOIN pg_catalog.pg_database d ON d.oid = s.setdatabase LEFT JOIN pg_catalog.pg_roles r ON r.oid = s.setrole
		WHERE $1::text[] IS NULL OR d.datname = ANY($1) OR r.rolname = ANY($2) ORDER BY 1, 2, 3`, []any{to.databases, to.roles}, func(rows pgx.Rows) error {
		var p dbms.Preset
		err := rows.Scan(&p.Database, &p.User, &p.Setting)
		if p.User == "" || p.Database == "" || strings.ReplaceAll(p.Setting, `"`, "") != "role="+Owner(p.Database) {
			c.Presets = append(c.Presets, p)
		}
		return err
	})
}

// ours are the application's schemas: the usual one, and those that its owner has made, but
// for an extension's.
const ours = `ours AS (SELECT n.oid, n.nspname FROM pg_catalog.pg_namespace n, pg_catalog.pg_database d WHERE d.datname = current_database()
		AND (n.nspname = 'public' OR n.nspowner = d.datdba AND n.nspname <> 'information_schema' AND NOT starts_with(n.nspname, 'pg_'))
		AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_catalog.pg_namespace'::pg_catalog.regclass AND e.objid = n.oid AND e.deptype = 'e'))`

// readRights reads what roles may do in a database, those that have anything to do with
// it: rights on tables count when all tables have them and those made later will.
func (s *Server) readRights(ctx context.Context, c *dbms.Catalogue, database string) error {
	s.schemas[database] = nil
	if err := s.each(ctx, database, `WITH `+ours+` SELECT nspname FROM ours ORDER BY nspname <> 'public', nspname`, nil, func(rows pgx.Rows) error {
		var name string
		err := rows.Scan(&name)
		s.schemas[database] = append(s.schemas[database], name)
		return err
	}); err != nil {
		return err
	}
	const query = `WITH owner AS (SELECT datdba, datname FROM pg_catalog.pg_database WHERE datname = current_database()), ` + ours + `,
		later AS (SELECT d.defaclobjtype, d.defaclnamespace, a.grantee, a.privilege_type FROM pg_catalog.pg_default_acl d, owner, aclexplode(d.defaclacl) a WHERE d.defaclrole = owner.datdba)
		SELECT r.rolname,
			has_database_privilege(r.oid, owner.datname, 'CONNECT'), has_database_privilege(r.oid, owner.datname, 'TEMPORARY'),
			EXISTS (SELECT FROM ours) AND NOT EXISTS (SELECT FROM ours WHERE NOT has_schema_privilege(r.oid, ours.oid, 'USAGE')), pg_has_role(r.oid, owner.datdba, 'MEMBER'),
			ARRAY(SELECT p FROM unnest(ARRAY['SELECT', 'INSERT', 'UPDATE', 'DELETE']) p
				WHERE NOT EXISTS (SELECT FROM pg_catalog.pg_class t JOIN ours ON t.relnamespace = ours.oid WHERE CASE WHEN t.relkind IN ('r', 'p', 'v', 'm', 'f') THEN NOT has_table_privilege(r.oid, t.oid, p) ELSE false END)
				AND EXISTS (SELECT FROM ours) AND NOT EXISTS (SELECT FROM ours WHERE NOT EXISTS (SELECT FROM later WHERE defaclobjtype = 'r' AND defaclnamespace IN (ours.oid, 0) AND grantee = r.oid AND privilege_type = p))),
			NOT EXISTS (SELECT FROM pg_catalog.pg_class t JOIN ours ON t.relnamespace = ours.oid WHERE CASE WHEN t.relkind = 'S' THEN NOT has_sequence_privilege(r.oid, t.oid, 'USAGE') ELSE false END)
				AND EXISTS (SELECT FROM ours) AND NOT EXISTS (SELECT FROM ours WHERE NOT EXISTS (SELECT FROM later WHERE defaclobjtype = 'S' AND defaclnamespace IN (ours.oid, 0) AND grantee = r.oid AND privilege_type = 'USAGE'))
		FROM pg_catalog.pg_roles r, owner WHERE r.rolcanlogin AND NOT r.rolsuper AND (has_database_privilege(r.oid, owner.datname, 'CONNECT') OR pg_has_role(r.oid, owner.datdba, 'MEMBER')
			OR EXISTS (SELECT FROM pg_catalog.pg_shdepend s JOIN pg_catalog.pg_database d ON d.oid = s.dbid WHERE d.datname = owner.datname AND s.refclassid = 'pg_catalog.pg_authid'::pg_catalog.regclass AND s.refobjid = r.oid))`
	return s.each(ctx, database, query, nil, func(rows pgx.Rows) error {
		var role string
		var connects, temporaries, uses, owns, sequencesToo bool
		var tables []string
		if err := rows.Scan(&role, &connects, &temporaries, &uses, &owns, &tables, &sequencesToo); err != nil {
			return err
		}
		names := tables
		for name, has := range map[string]bool{connect: connects, temporary: temporaries, usage: uses, owner: owns, sequences: sequencesToo} {
			if has {
				names = append(names, name)
			}
		}
		if g := c.Granted[dbms.Account{User: role}]; g != nil { // which another catalogue may have, too
			own := *g
			own.Databases = maps.Clone(g.Databases)
			own.Databases[database] = withoutIncluded(dbms.NewPrivileges(names...))
			c.Granted[dbms.Account{User: role}] = &own
		}
		return nil
	})
}

// Lock takes an advisory lock in the database that all share: on a connection of its own,
// which outlives a statement that is interrupted, and once more on the one that most
// statements are sent on, so that the server frees it, when this program dies, not before
// the statement at work has ended.
func (s *Server) Lock(ctx context.Context, name string) (release func(), held bool, err error) {
	conn, err := s.dial(ctx, standard)
	if err != nil {
		return nil, false, err
	}
	working, err := s.in(ctx, standard)
	if err == nil {
		held, err = s.tryLock(ctx, conn, name)
	}
	if err == nil && held {
		held, err = s.tryLock(ctx, working, workOf(name))
	}
	if err != nil || !held {
		_ = conn.Close(context.WithoutCancel(ctx))
		return nil, false, err
	}
	return func() {
		// The run may have been interrupted; the lock has to go all the same, and at
		// once: the server takes its time to notice that a connection was closed.
		ctx := context.WithoutCancel(ctx)
		_, _ = working.Exec(ctx, unlock, workOf(name))
		_, _ = conn.Exec(ctx, unlock, name)
		_ = conn.Close(ctx)
	}, true, nil
}

const unlock = `SELECT pg_advisory_unlock(hashtextextended($1, 0))`

// workOf is the name of the lock on the connection that works.
func workOf(name string) string { return "work:" + name }

func (s *Server) tryLock(ctx context.Context, conn *pgx.Conn, name string) (held bool, err error) {
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(hashtextextended($1, 0))`, name).Scan(&held); err != nil {
		return false, s.failed(dbms.Statement{Text: "SELECT pg_try_advisory_lock()"}, err)
	}
	return held, nil
}

// LockHolder gives the session that has an advisory lock. A role administers when it
// is, or may become, one that is a superuser or may make roles.
func (s *Server) LockHolder(ctx context.Context, name string) (*dbms.Connection, error) {
	var holder *dbms.Connection
	err := s.each(ctx, standard, `SELECT a.pid, COALESCE(a.usename, ''), COALESCE(host(a.client_addr), 'the socket'), extract(epoch FROM now() - a.backend_start)::int,
			a.usename = session_user OR EXISTS (SELECT 1 FROM pg_catalog.pg_roles r WHERE (r.rolsuper OR r.rolcreaterole) AND pg_has_role(a.usesysid, r.oid, 'MEMBER'))
		FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_stat_activity a ON a.pid = l.pid JOIN pg_catalog.pg_database d ON d.oid = l.database
		WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1 AND d.datname = current_database() AND ((l.classid::int8 << 32) | l.objid::int8) IN (hashtextextended($1, 0), hashtextextended($2, 0)) ORDER BY ((l.classid::int8 << 32) | l.objid::int8) = hashtextextended($1, 0) DESC`, []any{name, workOf(name)}, func(rows pgx.Rows) error {
		var pid, seconds int
		var user, from string
		var administers bool
		err := rows.Scan(&pid, &user, &from, &seconds, &administers)
		if holder != nil { // both of its connections
			if strings.HasPrefix(holder.Who, user+" ") {
				holder.End.Text += fmt.Sprintf(", pg_terminate_backend(%d)", pid)
			}
			return err
		}
		holder = &dbms.Connection{Administers: administers}
		holder.Who = fmt.Sprintf("%s from %s, process %d, connected for %d s", user, from, pid, seconds)
		holder.End = dbms.Statement{Text: fmt.Sprintf("SELECT pg_terminate_backend(%d)", pid)}
		return err
	})
	return holder, err
}

// EndSessions ends the open connections of a role, and waits until they are gone as far
// as the server does that soon.
func (s *Server) EndSessions(ctx context.Context, a dbms.Account) error {
	var ended []int32
	if err := s.each(ctx, s.Database, `SELECT pid, pg_terminate_backend(pid) FROM pg_catalog.pg_stat_activity WHERE usename = $1 AND pid <> pg_backend_pid()`, []any{a.User}, func(rows pgx.Rows) error {
		ended = append(ended, 0)
		return rows.Scan(&ended[len(ended)-1], nil)
	}); err != nil {
		return err
	}
	return dbms.AwaitNone(ctx, func() (left int, err error) {
		err = s.each(ctx, s.Database, `SELECT count(*) FROM pg_catalog.pg_stat_activity WHERE pid = ANY($1)`, []any{ended}, func(rows pgx.Rows) error { return rows.Scan(&left) })
		return left, err
	})
}

// StoredVerifiers gives what the server keeps of a role's password; nothing for
// an administrator who may not read that.
func (s *Server) StoredVerifiers(ctx context.Context, a dbms.Account) (verifiers []secret.Verifier, err error) {
	err = s.each(ctx, s.Database, `SELECT COALESCE(rolpassword, '') FROM pg_catalog.pg_authid WHERE rolname = $1`, []any{a.User}, func(rows pgx.Rows) error {
		var text string
		err := rows.Scan(&text)
		verifiers = append(verifiers, stored(text))
		return err
	})
	if dbms.CauseOf(err) == dbms.NoRightThere {
		return nil, nil
	}
	if err == nil && len(verifiers) == 0 {
		err = fault.New(fault.Failed, "it was removed by someone else in the meantime; run the command again", "server %s has no role %s", s.Server, a.User)
	}
	return verifiers, err
}

// Sessions lists a role's open sessions.
func (s *Server) Sessions(ctx context.Context, a dbms.Account) ([]dbms.OpenSession, error) {
	var found []dbms.OpenSession
	err := s.each(ctx, s.Database, `SELECT COALESCE(host(client_addr), 'the socket'), COALESCE(datname, ''), COALESCE(extract(epoch FROM now() - state_change), 0)::int
		FROM pg_catalog.pg_stat_activity WHERE usename = $1 ORDER BY 1`, []any{a.User}, func(rows pgx.Rows) error {
		var o dbms.OpenSession
		err := rows.Scan(&o.From, &o.Database, &o.Seconds)
		found = append(found, o)
		return err
	})
	return found, err
}

// SessionState tells what this login meets.
func (s *Server) SessionState(ctx context.Context) (f dbms.SessionState, err error) {
	var begins string
	err = s.each(ctx, s.Database, `SELECT current_database(), session_user, current_setting('client_encoding'), current_setting('default_transaction_read_only')`, nil, func(rows pgx.Rows) error {
		return rows.Scan(&f.Database, &f.CurrentUser, &f.Charset, &begins)
	})
	switch {
	case s.facts.ReadOnly:
		f.ReadOnly = "it is a standby"
	case begins == "on":
		f.ReadOnly = "default_transaction_read_only is on for the server, this database or this role"
	}
	return f, err
}

// LacksPasswordKey is false: with SCRAM the password itself is never sent.
func (s *Server) LacksPasswordKey(context.Context) (bool, error) { return false, nil }
