package mysql

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// ReadCatalogue reads all but the accounts' secrets with any login; accounts
// and everyone's rights need an administrator. Contents are read for the
// databases named.
func (s *Server) ReadCatalogue(ctx context.Context, administrator bool, databases []string) (*dbms.Catalogue, error) {
	c := dbms.NewCatalogue()
	err := s.readDatabases(ctx, c, everyone)
	if err == nil {
		err = s.readCollations(ctx, c)
	}
	if err == nil {
		err = s.readGrants(ctx, c, everyone)
	}
	if err == nil && administrator {
		err = s.readAccounts(ctx, c, everyone)
	}
	if err == nil {
		c.Contents, err = s.Contents(ctx, databases...)
	}
	return c, err
}

// Reread asks for rights only where one of the accounts exists, or has rights waiting for it:
// for that query the server goes through the rights of all accounts.
func (s *Server) Reread(ctx context.Context, known *dbms.Catalogue, databases, users []string) (*dbms.Catalogue, error) {
	c := known.Without(databases, users)
	err := s.readDatabases(ctx, c, among("SCHEMA_NAME", databases))
	if err == nil {
		err = s.readAccounts(ctx, c, among("User", users))
	}
	grantees := map[string]bool{}
	note := func(a dbms.Account) {
		if slices.Contains(users, a.User) {
			grantees["'"+a.User+"'@'"+a.Host+"'"] = true
		}
	}
	for a := range c.Accounts {
		note(a)
	}
	for a := range known.Granted {
		note(a)
	}
	if err == nil && len(grantees) > 0 {
		err = s.readGrants(ctx, c, among("GRANTEE", slices.Sorted(maps.Keys(grantees))))
	}
	if err == nil {
		c.Contents, err = s.Contents(ctx, databases...)
	}
	return c, err
}

// condition narrows a query.
type condition struct {
	text string
	args []any
}

var everyone = condition{text: "TRUE"}

// among holds where a column has one of some values, of which there is at least one.
func among(column string, values []string) condition {
	c := condition{text: column + " IN (?" + strings.Repeat(", ?", len(values)-1) + ")"}
	for _, v := range values {
		c.args = append(c.args, v)
	}
	return c
}

func (s *Server) readDatabases(ctx context.Context, c *dbms.Catalogue, where condition) error {
	if err := s.each(ctx, `SELECT SCHEMA_NAME, DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE `+where.text, where.args,
		func(scan func(...any) error) error {
			var d dbms.Database
			err := scan(&d.Name, &d.Charset, &d.Collation)
			c.Databases[d.Name] = d
			return err
		}); err != nil || s.facts.Product != dbms.MySQL {
		return err
	}
	// MySQL Reference Manual, "The INFORMATION_SCHEMA SCHEMATA_EXTENSIONS Table".
	return s.each(ctx, `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA_EXTENSIONS WHERE OPTIONS LIKE '%READ ONLY=1%'`, nil, func(scan func(...any) error) error {
		var name string
		err := scan(&name)
		if d, read := c.Databases[name]; read {
			d.ReadOnly = true
			c.Databases[name] = d
		}
		return err
	})
}

func (s *Server) readCollations(ctx context.Context, c *dbms.Catalogue) error {
	// MariaDB lists uca1400 collations without their character set in
	// COLLATION_NAME; the full name is in a column that MySQL does not have.
	column := "COLLATION_NAME"
	if s.facts.Product == dbms.MariaDB {
		var columns int
		if err := s.row(ctx, `SELECT COUNT(*) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = 'information_schema'
			AND TABLE_NAME = 'COLLATION_CHARACTER_SET_APPLICABILITY' AND COLUMN_NAME = 'FULL_COLLATION_NAME'`, nil, &columns); err != nil {
			return err
		}
		if columns == 1 {
			column = "FULL_COLLATION_NAME"
		}
	}
	return s.each(ctx, `SELECT `+column+`, CHARACTER_SET_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY`, nil,
		func(scan func(...any) error) error {
			var collation string
			var charset sql.NullString
			err := scan(&collation, &charset)
			c.Collations[collation] = charset.String
			return err
		})
}

// olderOnMariaDB are the method and verifier of an account's second way to log in: an
// empty object in the list stands for the first (mysql.global_priv as it is found).
const olderOnMariaDB = `COALESCE(JSON_VALUE(Priv, '$.auth_or[0].plugin'), JSON_VALUE(Priv, '$.auth_or[1].plugin')),
			COALESCE(JSON_VALUE(Priv, '$.auth_or[0].authentication_string'), JSON_VALUE(Priv, '$.auth_or[1].authentication_string'))`

func (s *Server) readAccounts(ctx context.Context, c *dbms.Catalogue, where condition) error {
	query := `SELECT user, host, plugin, authentication_string, JSON_EXTRACT(User_attributes, '$.additional_password') IS NOT NULL,
		plugin, JSON_UNQUOTE(JSON_EXTRACT(User_attributes, '$.additional_password')), UNIX_TIMESTAMP(password_last_changed),
		account_locked = 'Y', password_expired = 'Y', ssl_type <> '', max_user_connections FROM mysql.user WHERE `
	if s.facts.Product == dbms.MariaDB {
		query = `SELECT User, Host, COALESCE(JSON_VALUE(Priv, '$.plugin'), ''), COALESCE(JSON_VALUE(Priv, '$.authentication_string'), ''),
			JSON_EXISTS(Priv, '$.auth_or[1]'), ` + olderOnMariaDB + `, JSON_VALUE(Priv, '$.password_last_changed'), COALESCE(JSON_VALUE(Priv, '$.account_locked'), 0) = 1,
			COALESCE(JSON_VALUE(Priv, '$.password_last_changed'), 1) = 0, COALESCE(JSON_VALUE(Priv, '$.ssl_type'), 0) > 0,
			COALESCE(JSON_VALUE(Priv, '$.max_user_connections'), 0)
			FROM mysql.global_priv WHERE COALESCE(JSON_VALUE(Priv, '$.is_role'), 0) <> 1 AND `
	}
	err := s.each(ctx, query+where.text, where.args, func(scan func(...any) error) error {
		var a dbms.AccountState
		var method string
		var stored []byte
		var second sql.NullBool
		var olderMethod, older sql.NullString
		var changed sql.NullInt64
		err := scan(&a.User, &a.Host, &method, &stored, &second, &olderMethod, &older, &changed, &a.Locked, &a.Expired, &a.RequiresTLS, &a.MaxConnections)
		a.Verifier, a.SecondMethod = secret.StoredVerifier(method, stored), second.Bool
		if second.Bool {
			a.Older = secret.StoredVerifier(olderMethod.String, []byte(older.String))
		}
		if changed.Int64 > 0 {
			a.Changed = time.Unix(changed.Int64, 0)
		}
		c.Accounts[a.Account] = a
		return err
	})
	if code := Code(err); code == 1142 || code == 1044 {
		return fault.New(fault.Invalid, "grant it SELECT on the database mysql, or log in as an account that has it",
			"server %s: the administrator %s may not read the accounts", s.Server, s.currentUser).With(err)
	}
	return err
}

// readGrants reads rights as sets from information_schema, never from the
// text of SHOW GRANTS. Without an administrator the server lists only the
// account's own.
func (s *Server) readGrants(ctx context.Context, c *dbms.Catalogue, where condition) error {
	read := map[dbms.Account]*dbms.Grants{}
	entry := func(grantee string) *dbms.Grants {
		// 'user'@'host', with no quote inside escaped
		user, host, _ := strings.Cut(strings.TrimSuffix(strings.TrimPrefix(grantee, "'"), "'"), "'@'")
		a := dbms.Account{User: user, Host: host}
		g := read[a]
		if g == nil {
			g = &dbms.Grants{Databases: map[string]dbms.Privileges{}}
			read[a] = g
		}
		return g
	}
	both := slices.Concat(where.args, where.args)
	err := s.each(ctx, `SELECT GRANTEE, '', PRIVILEGE_TYPE, IS_GRANTABLE FROM information_schema.USER_PRIVILEGES WHERE `+where.text+`
		UNION ALL SELECT GRANTEE, TABLE_SCHEMA, PRIVILEGE_TYPE, IS_GRANTABLE FROM information_schema.SCHEMA_PRIVILEGES WHERE `+where.text, both,
		func(scan func(...any) error) error {
			var grantee, database, privilege, grantable string
			if err := scan(&grantee, &database, &privilege, &grantable); err != nil {
				return err
			}
			g := entry(grantee)
			if grantable == "YES" && !slices.Contains(g.GrantOption, database) {
				g.GrantOption = append(g.GrantOption, database)
			}
			switch {
			case database != "":
				// USAGE stands for a row without rights (grant option alone).
				g.Databases[database] = append(g.Databases[database], privilege)
			case privilege != "USAGE":
				g.Global = append(g.Global, privilege)
			}
			return nil
		})
	if err != nil {
		return err
	}
	err = s.each(ctx, `SELECT DISTINCT GRANTEE, TABLE_SCHEMA FROM information_schema.TABLE_PRIVILEGES WHERE `+where.text+`
		UNION SELECT DISTINCT GRANTEE, TABLE_SCHEMA FROM information_schema.COLUMN_PRIVILEGES WHERE `+where.text, both,
		func(scan func(...any) error) error {
			var grantee, database string
			err := scan(&grantee, &database)
			g := entry(grantee)
			g.Below = append(g.Below, database)
			return err
		})
	for a, g := range read {
		c.Granted[a] = g
		g.Global = dbms.NewPrivileges(g.Global...)
		for pattern, privileges := range g.Databases {
			g.Databases[pattern] = dbms.NewPrivileges(privileges...).Minus(dbms.Privileges{"USAGE"})
		}
	}
	return err
}

// Contents reads what databases hold, for all of them in four queries. A database that does
// not exist is absent from the result.
func (s *Server) Contents(ctx context.Context, databases ...string) (map[string]dbms.Contents, error) {
	contents := map[string]dbms.Contents{}
	if len(databases) == 0 {
		return contents, nil
	}
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(databases)), ", ")
	args := make([]any, len(databases))
	for i, d := range databases {
		args[i] = d
	}
	err := s.eachTable(ctx, marks, args, func(database string, t dbms.Table) {
		c := contents[database]
		if c.Admits(t.Name, t.Collation, t.Engine) {
			c.Tables = append(c.Tables, t)
		}
		contents[database] = c
	})
	if err != nil {
		return nil, err
	}
	objects := func(query string, add func(*dbms.Contents, dbms.Object)) error {
		if err != nil {
			return err
		}
		return s.each(ctx, query+` IN (`+marks+`) ORDER BY 3`, args, func(scan func(...any) error) error {
			var database string
			var o dbms.Object
			err := scan(&database, &o.Kind, &o.Name)
			c := contents[database]
			if c.Admits(o.Name) {
				add(&c, o)
			}
			contents[database] = c
			return err
		})
	}
	err = errors.Join(
		objects(`SELECT ROUTINE_SCHEMA, ROUTINE_TYPE, ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA`,
			func(c *dbms.Contents, o dbms.Object) { c.Routines = append(c.Routines, o) }),
		// A trigger is in its table's database. MariaDB looks into all databases when it is asked
		// for the trigger's own.
		objects(`SELECT EVENT_OBJECT_SCHEMA, 'TRIGGER', TRIGGER_NAME FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA`,
			func(c *dbms.Contents, o dbms.Object) { c.Triggers = append(c.Triggers, o) }),
		objects(`SELECT EVENT_SCHEMA, 'EVENT', EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA`,
			func(c *dbms.Contents, o dbms.Object) { c.Events = append(c.Events, o) }),
	)
	return contents, err
}

func (s *Server) eachTable(ctx context.Context, marks string, databases []any, take func(database string, t dbms.Table)) error {
	return s.each(ctx, `SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE LIKE '%VIEW', COALESCE(ENGINE, ''), COALESCE(TABLE_COLLATION, '')
		FROM information_schema.TABLES WHERE TABLE_SCHEMA IN (`+marks+`) ORDER BY TABLE_NAME`, databases,
		func(scan func(...any) error) error {
			var database string
			var t dbms.Table
			err := scan(&database, &t.Name, &t.View, &t.Engine, &t.Collation)
			take(database, t)
			return err
		})
}

// Tables lists those of a database, and its views.
func (s *Server) Tables(ctx context.Context, database string) (tables []dbms.Table, err error) {
	err = s.eachTable(ctx, "?", []any{database}, func(_ string, t dbms.Table) { tables = append(tables, t) })
	return tables, err
}

// Mentions looks into the definitions of views, triggers, routines and events of other
// databases, as the catalogue has them.
func (s *Server) Mentions(ctx context.Context, database string) (found []string, err error) {
	query := ""
	for _, of := range []struct{ kind, name, table, text string }{
		{"view", "TABLE_NAME", "VIEWS WHERE TABLE_SCHEMA", "VIEW_DEFINITION"}, {"trigger", "TRIGGER_NAME", "TRIGGERS WHERE TRIGGER_SCHEMA", "ACTION_STATEMENT"},
		{"routine", "ROUTINE_NAME", "ROUTINES WHERE ROUTINE_SCHEMA", "ROUTINE_DEFINITION"}, {"event", "EVENT_NAME", "EVENTS WHERE EVENT_SCHEMA", "EVENT_DEFINITION"},
	} {
		schema := of.table[strings.LastIndexByte(of.table, ' ')+1:]
		if query != "" {
			query += " UNION ALL "
		}
		query += "SELECT CONCAT('" + of.kind + " ', " + schema + ", '.', " + of.name + ") FROM information_schema." + of.table + " NOT IN (" + QuoteText(database) + ", 'sys', 'mysql', 'performance_schema', 'information_schema')" +
			" AND LOCATE(CONCAT(" + QuoteText(database) + ", '.'), REPLACE(COALESCE(" + of.text + ", ''), '`', '')) > 0"
	}
	err = s.each(ctx, query, nil, func(scan func(...any) error) error {
		var one string
		err := scan(&one)
		found = append(found, one)
		return err
	})
	return found, err
}

// RowsWith looks through all columns of text, each table once.
func (s *Server) RowsWith(ctx context.Context, database, text string) (found []dbms.Found, err error) {
	columns := map[string][]string{}
	var tables []string
	err = s.each(ctx, `SELECT c.TABLE_NAME, c.COLUMN_NAME FROM information_schema.COLUMNS c JOIN information_schema.TABLES t ON t.TABLE_SCHEMA = c.TABLE_SCHEMA AND t.TABLE_NAME = c.TABLE_NAME
		WHERE c.TABLE_SCHEMA = ? AND t.TABLE_TYPE = 'BASE TABLE' AND (c.CHARACTER_SET_NAME IS NOT NULL OR c.DATA_TYPE = 'json') ORDER BY 1, c.ORDINAL_POSITION`, []any{database}, func(scan func(...any) error) error {
		var table, column string
		err := scan(&table, &column)
		if columns[table] == nil {
			tables = append(tables, table)
		}
		columns[table] = append(columns[table], column)
		return err
	})
	for _, table := range tables {
		sums := make([]string, len(columns[table]))
		counts, into, args := make([]int64, len(sums)), make([]any, len(sums)), make([]any, len(sums))
		for i, column := range columns[table] {
			sums[i] = "COALESCE(SUM(LOCATE(?, " + QuoteName(column) + ") > 0), 0)"
			into[i], args[i] = &counts[i], text
		}
		if err == nil {
			err = s.row(ctx, "SELECT "+strings.Join(sums, ", ")+" FROM "+QuoteName(database)+"."+QuoteName(table), args, into...)
		}
		for i, n := range counts {
			if n > 0 {
				found = append(found, dbms.Found{Column: table + "." + columns[table][i], Rows: n})
			}
		}
	}
	return found, err
}

// Events lists those of a database, whether or not the scheduler is at work.
func (s *Server) Events(ctx context.Context, database string) (found []dbms.Event, err error) {
	err = s.each(ctx, `SELECT EVENT_NAME, DEFINER, STATUS = 'ENABLED' FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? ORDER BY 1`, []any{database}, func(scan func(...any) error) error {
		e := dbms.Event{Database: database}
		var definer string
		err := scan(&e.Name, &definer, &e.Enabled)
		e.Definer = dbms.ParseAccount(definer)
		found = append(found, e)
		return err
	})
	return found, err
}

// RunsEvents reports whether the event scheduler is at work.
func (s *Server) RunsEvents(ctx context.Context) (runs bool, err error) {
	err = s.row(ctx, `SELECT @@GLOBAL.event_scheduler = 'ON'`, nil, &runs)
	return runs, err
}

// LacksForReading asks the server what this login has: nobody else may be there to say it.
// Names in the catalogue of rights are patterns.
func (s *Server) LacksForReading(ctx context.Context, database string, _ dbms.Grants, contents dbms.Contents) ([]string, error) {
	var held dbms.Privileges
	grantee := "'" + strings.Replace(s.currentUser, "@", "'@'", 1) + "'"
	err := s.each(ctx, `SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE = ?
		UNION SELECT PRIVILEGE_TYPE FROM information_schema.SCHEMA_PRIVILEGES WHERE GRANTEE = ? AND ? LIKE TABLE_SCHEMA`, []any{grantee, grantee, database}, func(scan func(...any) error) error {
		var one string
		err := scan(&one)
		held = held.Plus(dbms.Privileges{one})
		return err
	})
	return s.Reading(contents).Minus(held), err
}
