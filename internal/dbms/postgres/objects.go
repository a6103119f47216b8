package postgres

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"yellowfield/internal/dbms"
)

// object is something in a database as the server itself names it.
type object struct {
	dbms.Object
	arguments string // of a routine, with its brackets
	// word and identity are what DROP takes: the kind, and the name qualified and
	// quoted by the server, so that whatever an application called its things,
	// nothing but one of them can be meant.
	word, identity string
}

// shown is the object as Contents lists it.
func (o object) shown() dbms.Object { return dbms.Object{Kind: o.Kind, Name: o.Name + o.arguments} }

// objectsQuery lists all that an application can make, outside of the server's own schemas.
// What belongs to an extension comes and goes with it. Its rows lie in the order in which
// objects are dropped; views come after tables, since those that are kept as tables go with
// their tables.
const objectsQuery = `WITH own AS (SELECT oid, CASE nspname WHEN 'public' THEN '' ELSE nspname || '.' END AS prefix
		FROM pg_catalog.pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'),
	extension AS (SELECT classid, objid FROM pg_catalog.pg_depend WHERE deptype = 'e')
	SELECT CASE WHEN c.relkind IN ('v', 'm') THEN 7 WHEN c.relkind = 'S' THEN 2 ELSE 1 END,
			CASE WHEN c.relkind IN ('v', 'm') THEN 'VIEW' WHEN c.relkind = 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, n.prefix || c.relname, '',
			CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END, c.oid::regclass::text
		FROM pg_catalog.pg_class c JOIN own n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S')
	UNION ALL SELECT 3, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END, n.prefix || p.proname,
			'(' || pg_get_function_identity_arguments(p.oid) || ')', CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END, p.oid::regprocedure::text
		FROM pg_catalog.pg_proc p JOIN own n ON n.oid = p.pronamespace WHERE NOT EXISTS (SELECT FROM extension WHERE classid = 'pg_proc'::regclass AND objid = p.oid)
	UNION ALL SELECT 5, CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, n.prefix || t.typname, '', CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, t.oid::regtype::text
		FROM pg_catalog.pg_type t JOIN own n ON n.oid = t.typnamespace LEFT JOIN pg_catalog.pg_class c ON c.oid = t.typrelid
		WHERE (t.typtype IN ('d', 'e', 'r') OR c.relkind = 'c') AND NOT EXISTS (SELECT FROM extension WHERE classid = 'pg_type'::regclass AND objid = t.oid)
	UNION ALL SELECT 9, 'SCHEMA', nspname::text, '', 'SCHEMA', oid::regnamespace::text FROM pg_catalog.pg_namespace WHERE nspname !~ '^pg_' AND nspname NOT IN ('information_schema', 'public')
	ORDER BY 1, 3, 4`

// errTooMany is what objects gives for a database that holds more than is kept account of.
var errTooMany = errors.New("too many objects")

func (s *Server) objects(ctx context.Context, database string) (found []object, err error) {
	var kept dbms.Contents
	err = s.each(ctx, database, objectsQuery, nil, func(rows pgx.Rows) error {
		var o object
		var order int
		err := rows.Scan(&order, &o.Kind, &o.Name, &o.arguments, &o.word, &o.identity)
		if err == nil && !kept.Admits(o.Name, o.arguments, o.identity) {
			return errTooMany
		}
		found = append(found, o)
		return err
	})
	if kept.TooMany {
		return nil, dbms.TooMuch(s.Server, database).With(errTooMany)
	}
	return found, err
}

// Contents reads what databases hold outside of the server's own schemas. A database that does
// not exist is absent from the result.
func (s *Server) Contents(ctx context.Context, databases ...string) (map[string]dbms.Contents, error) {
	contents := map[string]dbms.Contents{}
	for _, database := range databases {
		exists, err := s.takesLogins(ctx, database)
		if err != nil {
			return nil, err
		}
		if !exists {
			continue
		}
		var c dbms.Contents
		found, err := s.objects(ctx, database)
		switch {
		case errors.Is(err, errTooMany):
			c.TooMany = true
		case err != nil:
			return nil, err
		}
		for _, o := range found {
			if o.Kind == "TABLE" || o.Kind == "VIEW" {
				c.Tables = append(c.Tables, dbms.Table{Name: o.Name, View: o.Kind == "VIEW"})
			} else {
				c.Routines = append(c.Routines, o.shown())
			}
		}
		slices.SortStableFunc(c.Tables, func(a, b dbms.Table) int { return strings.Compare(a.Name, b.Name) })
		err = s.each(ctx, database, `SELECT tgname FROM pg_catalog.pg_trigger WHERE NOT tgisinternal ORDER BY 1`, nil, func(rows pgx.Rows) error {
			o := dbms.Object{Kind: "TRIGGER"}
			err := rows.Scan(&o.Name)
			if c.Admits(o.Name) {
				c.Triggers = append(c.Triggers, o)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		contents[database] = c
	}
	return contents, nil
}

// Tables lists those of a database, and its views.
func (s *Server) Tables(ctx context.Context, database string) ([]dbms.Table, error) {
	contents, err := s.Contents(ctx, database)
	return contents[database].Tables, err
}

// takesLogins reports whether a database is there, and was not dropped by half.
func (s *Server) takesLogins(ctx context.Context, database string) (takes bool, err error) {
	err = s.each(ctx, s.Database, `SELECT NOT `+halfDropped+` FROM pg_catalog.pg_database WHERE datname = $1`, []any{database}, func(rows pgx.Rows) error { return rows.Scan(&takes) })
	return takes, err
}

// halfDropped is what the server remembers of a database whose dropping was cut off; it can
// only be dropped again (PostgreSQL, "pg_database").
const halfDropped = "datconnlimit = -2"

// RemoveObjects drops what a script made, of what is there now and was not there
// before, with what depends on it. The arguments of a routine are spelled in one way
// by a script and in another by the server, so that they do not count.
func (s *Server) RemoveObjects(ctx context.Context, database string, made, before map[dbms.Object]bool) error {
	takes, err := s.takesLogins(ctx, database)
	if err != nil || !takes {
		return err
	}
	found, err := s.objects(ctx, database)
	if err != nil {
		return err
	}
	for _, o := range found {
		if (made[o.Object] || made[o.shown()]) && !before[o.shown()] {
			if err := s.Exec(ctx, within(database, "DROP %s IF EXISTS %s CASCADE", o.word, o.identity)); err != nil {
				return err
			}
		}
	}
	return nil
}

// LacksForReading asks the server for each table and sequence, as this login.
func (s *Server) LacksForReading(ctx context.Context, database string, _ dbms.Grants, _ dbms.Contents) (lacks []string, err error) {
	err = s.each(ctx, database, `SELECT 'SELECT on ' || c.oid::pg_catalog.regclass::pg_catalog.text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND c.relkind IN ('r', 'p', 'S') AND c.relpersistence <> 't'
			AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_catalog.pg_class'::pg_catalog.regclass AND e.objid = c.oid AND e.deptype = 'e')
			AND NOT (pg_catalog.has_schema_privilege(n.oid, 'USAGE') AND pg_catalog.has_table_privilege(c.oid, 'SELECT')) ORDER BY 1`, nil, func(rows pgx.Rows) error {
		var one string
		err := rows.Scan(&one)
		lacks = append(lacks, one)
		return err
	})
	return lacks, err
}

// RowsWith looks through all columns of text, each table once.
func (s *Server) RowsWith(ctx context.Context, database, text string) (found []dbms.Found, err error) {
	type table struct{ identity, shown string }
	columns := map[table][]string{}
	var tables []table
	err = s.each(ctx, database, `SELECT c.oid::pg_catalog.regclass::pg_catalog.text, CASE n.nspname WHEN 'public' THEN '' ELSE n.nspname || '.' END || c.relname, a.attname::pg_catalog.text
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid
		WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND c.relkind = 'r' AND a.attnum > 0 AND NOT a.attisdropped
			AND a.atttypid IN ('pg_catalog.text'::pg_catalog.regtype, 'pg_catalog.varchar'::pg_catalog.regtype, 'pg_catalog.bpchar'::pg_catalog.regtype, 'pg_catalog.json'::pg_catalog.regtype, 'pg_catalog.jsonb'::pg_catalog.regtype)
		ORDER BY 1, a.attnum`, nil, func(rows pgx.Rows) error {
		var t table
		var column string
		err := rows.Scan(&t.identity, &t.shown, &column)
		if columns[t] == nil {
			tables = append(tables, t)
		}
		columns[t] = append(columns[t], column)
		return err
	})
	for _, t := range tables {
		sums := make([]string, len(columns[t]))
		for i, column := range columns[t] {
			sums[i] = "pg_catalog.count(*) FILTER (WHERE pg_catalog.strpos(" + QuoteName(column) + "::pg_catalog.text, $1) > 0)"
		}
		if err != nil {
			return nil, err
		}
		err = s.eachOf(ctx, database, "SELECT "+strings.Join(sums, ", ")+" FROM "+t.identity, []any{text}, func(rows pgx.Rows) error {
			values, err := rows.Values()
			for i, v := range values {
				if n, is := v.(int64); is && n > 0 {
					found = append(found, dbms.Found{Column: t.shown + "." + columns[t][i], Rows: n})
				}
			}
			return err
		})
	}
	return found, err
}
