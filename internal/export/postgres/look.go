package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/export"
)

// contents are what the database holds.
type contents struct {
	survey    export.Survey
	tables    []*table
	sequences []relation
	early     []definition // before the rows
	late      []definition // after them
}

// definition is one or more statements that make an object, or a part of it.
type definition struct {
	dbms.Object
	text string
}

// relation is what lies in a schema, as the server itself names it.
type relation struct {
	dbms.Object
	identity string
}

type table struct {
	relation
	oid         string
	columns     string // that are copied, as a list in brackets
	bytes       int64
	partitioned bool
}

// node is an object whose making has to wait for others.
type node struct {
	definition
	rank int
	late bool // it depends on a view, which in turn may depend on keys
	// behind are statements that follow when all objects are there.
	behind []definition
}

// looking collects what there is.
type looking struct {
	*contents
	*Exporter
	session Session
	options export.Options
	nodes   map[string]*node
	err     error
}

// ranks put objects that do not depend on each other into an order.
const (
	rankType = iota
	rankSequence
	rankFunction
	rankTable
	rankView
)

// own are the schemas of the application, and what no extension has brought: that comes
// with it.
const own = `n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'`

func (e *Exporter) look(ctx context.Context, session Session, o export.Options) (*contents, error) {
	l := &looking{contents: &contents{survey: export.Survey{Counts: map[string]int{}}}, Exporter: e, session: session, options: o, nodes: map[string]*node{}}
	for _, part := range []func(context.Context){
		l.schemas, l.types, l.functions, l.relations, l.inOrder, l.references, l.policies, l.triggers, l.comments, l.whatIsLeftOut,
	} {
		if part(ctx); l.err != nil {
			return nil, l.err
		}
	}
	return l.contents, nil
}

// each runs a query and calls take for every row.
func (l *looking) each(ctx context.Context, query string, take func(row []string)) {
	if l.err != nil {
		return
	}
	rows, err := l.session.Query(ctx, query)
	l.err = err
	for _, row := range rows {
		take(row)
	}
}

// lists runs queries whose rows each give a definition: kind, name and text.
func (l *looking) lists(ctx context.Context, into *[]definition, queries ...string) {
	for _, query := range queries {
		l.each(ctx, query, func(row []string) {
			if l.options.Takes(row[1]) {
				*into = append(*into, definition{dbms.Object{Kind: row[0], Name: row[1]}, row[2]})
			}
		})
	}
}

// shown writes a name as the rest of the program does: without the schema public.
const shown = `CASE n.nspname WHEN 'public' THEN '' ELSE n.nspname || '.' END || `

// noMember is true of what no extension has brought.
func noMember(class, oid string) string {
	return "NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_catalog." + class + "'::pg_catalog.regclass AND e.objid = " + oid + " AND e.deptype = 'e')"
}

func (l *looking) schemas(ctx context.Context) {
	before := len(l.early)
	l.lists(ctx, &l.early, `SELECT 'SCHEMA', n.nspname, 'CREATE SCHEMA ' || n.oid::pg_catalog.regnamespace::text || ';' FROM pg_catalog.pg_namespace n
		WHERE `+own+` AND n.nspname <> 'public' AND `+noMember("pg_namespace", "n.oid")+` ORDER BY 2`)
	l.survey.Counts["SCHEMA"] = len(l.early) - before
	before = len(l.early)
	l.lists(ctx, &l.early, `SELECT 'EXTENSION', x.extname, 'CREATE EXTENSION IF NOT EXISTS ' || pg_catalog.quote_ident(x.extname) || ' WITH SCHEMA ' || x.extnamespace::pg_catalog.regnamespace::text || ';'
		FROM pg_catalog.pg_extension x WHERE x.extname <> 'plpgsql' ORDER BY 2`)
	l.survey.Counts["EXTENSION"] = len(l.early) - before
}

// add takes an object that others may wait for.
func (l *looking) add(id string, rank int, kind, name, text string) *node {
	if !l.options.Takes(name) {
		return nil
	}
	n := &node{definition: definition{dbms.Object{Kind: kind, Name: name}, text}, rank: rank}
	l.nodes[id] = n
	l.survey.Counts[kind]++
	return n
}

func (l *looking) leave(kind, name, why string) {
	l.survey.LeftOut = append(l.survey.LeftOut, export.LeftOut{Object: dbms.Object{Kind: kind, Name: name}, Why: why})
}

// collation is the clause of a column or domain whose collation is not its type's.
const collation = `COALESCE((SELECT ' COLLATE ' || o.oid::pg_catalog.regcollation::text FROM pg_catalog.pg_collation o WHERE o.oid = %s AND o.oid <> %s), '')`

func (l *looking) types(ctx context.Context) {
	take := func(row []string) { l.add(row[0], rankType, row[1], row[2], row[3]) }
	name := "t.oid::pg_catalog.regtype::text"
	from := ` FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid = t.typnamespace `
	where := ` AND ` + own + ` AND ` + noMember("pg_type", "t.oid")
	l.each(ctx, `SELECT 't' || t.oid, 'TYPE', `+shown+`t.typname, 'CREATE TYPE ' || `+name+` || ' AS ENUM (' ||
		(SELECT COALESCE(pg_catalog.string_agg(pg_catalog.quote_literal(v.enumlabel), ', ' ORDER BY v.enumsortorder), '') FROM pg_catalog.pg_enum v WHERE v.enumtypid = t.oid) || ');'`+
		from+`WHERE t.typtype = 'e'`+where, take)
	l.each(ctx, `SELECT 't' || t.oid, 'DOMAIN', `+shown+`t.typname, 'CREATE DOMAIN ' || `+name+` || ' AS ' || pg_catalog.format_type(t.typbasetype, t.typtypmod) ||
		`+fmt.Sprintf(collation, "t.typcollation", "(SELECT b.typcollation FROM pg_catalog.pg_type b WHERE b.oid = t.typbasetype)")+` || COALESCE(' DEFAULT ' || t.typdefault, '') || CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END ||
		COALESCE((SELECT pg_catalog.string_agg(' CONSTRAINT ' || pg_catalog.quote_ident(c.conname) || ' ' || pg_catalog.pg_get_constraintdef(c.oid), '' ORDER BY c.conname)
			FROM pg_catalog.pg_constraint c WHERE c.contypid = t.oid AND c.contype = 'c'), '') || ';'`+
		from+`WHERE t.typtype = 'd'`+where, take)
	l.each(ctx, `SELECT 'c' || t.typrelid, 'TYPE', `+shown+`t.typname, 'CREATE TYPE ' || `+name+` || ' AS (' ||
		(SELECT COALESCE(pg_catalog.string_agg(pg_catalog.quote_ident(a.attname) || ' ' || pg_catalog.format_type(a.atttypid, a.atttypmod) || `+fmt.Sprintf(collation, "a.attcollation", "(SELECT b.typcollation FROM pg_catalog.pg_type b WHERE b.oid = a.atttypid)")+`, ', ' ORDER BY a.attnum), '')
			FROM pg_catalog.pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped) || ');'`+
		from+`JOIN pg_catalog.pg_class r ON r.oid = t.typrelid AND r.relkind = 'c' WHERE t.typtype = 'c'`+where, take)
	l.each(ctx, `SELECT 't' || t.oid, 'TYPE', `+shown+`t.typname, 'CREATE TYPE ' || `+name+` || ' AS RANGE (SUBTYPE = ' || pg_catalog.format_type(r.rngsubtype, NULL) ||
		`+fmt.Sprintf(strings.Replace(collation, "' COLLATE '", "', COLLATION = '", 1), "r.rngcollation", "(SELECT b.typcollation FROM pg_catalog.pg_type b WHERE b.oid = r.rngsubtype)")+` ||
		CASE WHEN r.rngsubdiff <> 0 THEN ', SUBTYPE_DIFF = ' || r.rngsubdiff::text ELSE '' END || ');'`+
		from+`JOIN pg_catalog.pg_range r ON r.rngtypid = t.oid WHERE t.typtype = 'r'`+where, take)
}

func (l *looking) functions(ctx context.Context) {
	l.each(ctx, `SELECT 'p' || p.oid, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, `+shown+`p.proname || '(' || pg_catalog.pg_get_function_identity_arguments(p.oid) || ')',
			CASE WHEN p.prokind IN ('f', 'p', 'w') THEN pg_catalog.pg_get_functiondef(p.oid) ELSE '' END, p.prokind, g.lanname
		FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace JOIN pg_catalog.pg_language g ON g.oid = p.prolang
		WHERE `+own+` AND `+noMember("pg_proc", "p.oid")+`
			AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend i WHERE i.classid = 'pg_catalog.pg_proc'::pg_catalog.regclass AND i.objid = p.oid AND i.deptype = 'i') ORDER BY 3`, func(row []string) {
		switch bare, _, _ := strings.Cut(row[2], "("); {
		case !l.options.Takes(bare):
		case row[4] == "a":
			l.leave("AGGREGATE", row[2], "aggregates are not taken")
		case row[5] == "c", row[5] == "internal":
			l.leave(row[1], row[2], "it is program code in the server (language "+row[5]+")")
		default:
			l.nodes[row[0]] = &node{definition: definition{dbms.Object{Kind: row[1], Name: row[2]}, strings.TrimRight(row[3], "\n") + ";"}, rank: rankFunction}
			l.survey.Counts[row[1]]++
		}
	})
}

// relations are sequences, tables and views.
func (l *looking) relations(ctx context.Context) {
	from := ` FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace `
	where := ` AND ` + own + ` AND c.relpersistence <> 't' AND ` + noMember("pg_class", "c.oid")
	identity := `c.oid::pg_catalog.regclass::text`
	sequence := `' START WITH ' || q.seqstart || ' INCREMENT BY ' || q.seqincrement || ' MINVALUE ' || q.seqmin || ' MAXVALUE ' || q.seqmax || ' CACHE ' || q.seqcache || CASE WHEN q.seqcycle THEN ' CYCLE' ELSE '' END`
	l.each(ctx, `SELECT c.oid, `+shown+`c.relname, `+identity+`, 'CREATE SEQUENCE ' || `+identity+` || ' AS ' || pg_catalog.format_type(q.seqtypid, NULL) || `+sequence+` || ';',
			COALESCE((SELECT d.deptype::text FROM pg_catalog.pg_depend d WHERE d.classid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.objid = c.oid AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.deptype IN ('a', 'i') LIMIT 1), ''),
			COALESCE((SELECT 'ALTER SEQUENCE ' || `+identity+` || ' OWNED BY ' || d.refobjid::pg_catalog.regclass::text || '.' || pg_catalog.quote_ident(a.attname) || ';' FROM pg_catalog.pg_depend d
				JOIN pg_catalog.pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
				WHERE d.classid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.objid = c.oid AND d.deptype = 'a'), '')`+from+
		`JOIN pg_catalog.pg_sequence q ON q.seqrelid = c.oid WHERE c.relkind = 'S'`+where+` ORDER BY 2`, func(row []string) {
		object := dbms.Object{Kind: "SEQUENCE", Name: row[1]}
		if !l.options.Takes(row[1]) {
			return
		}
		l.sequences = append(l.sequences, relation{object, row[2]})
		if row[4] == "i" { // an identity's, which is made with its column
			return
		}
		n := l.add("c"+row[0], rankSequence, "SEQUENCE", row[1], row[3])
		if row[5] != "" {
			n.behind = append(n.behind, definition{object, row[5]})
		}
	})
	column := `pg_catalog.quote_ident(a.attname) || ' ' || pg_catalog.format_type(a.atttypid, a.atttypmod) || ` + fmt.Sprintf(collation, "a.attcollation", "(SELECT b.typcollation FROM pg_catalog.pg_type b WHERE b.oid = a.atttypid)") + ` ||
		CASE WHEN a.attgenerated <> '' THEN ' GENERATED ALWAYS AS (' || pg_catalog.pg_get_expr(d.adbin, d.adrelid) || CASE a.attgenerated WHEN 's' THEN ') STORED' ELSE ') VIRTUAL' END
			WHEN a.attidentity <> '' THEN ' GENERATED ' || CASE a.attidentity WHEN 'a' THEN 'ALWAYS' ELSE 'BY DEFAULT' END || ' AS IDENTITY (' ||
				(SELECT 'SEQUENCE NAME ' || q.seqrelid::pg_catalog.regclass::text || ` + sequence + ` FROM pg_catalog.pg_depend i JOIN pg_catalog.pg_sequence q ON q.seqrelid = i.objid
					WHERE i.classid = 'pg_catalog.pg_class'::pg_catalog.regclass AND i.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND i.refobjid = c.oid AND i.refobjsubid = a.attnum AND i.deptype = 'i') || ')'
			WHEN d.adbin IS NOT NULL THEN ' DEFAULT ' || pg_catalog.pg_get_expr(d.adbin, d.adrelid) ELSE '' END || CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END`
	l.each(ctx, `SELECT c.oid, `+shown+`c.relname, `+identity+`, c.relkind, pg_catalog.pg_relation_size(c.oid), GREATEST(c.reltuples, 0)::pg_catalog.int8,
			'CREATE ' || CASE c.relpersistence WHEN 'u' THEN 'UNLOGGED ' ELSE '' END || 'TABLE ' || `+identity+` || E' (\n    ' || COALESCE((SELECT pg_catalog.string_agg(part, E',\n    ' ORDER BY ord) FROM (
				SELECT a.attnum::pg_catalog.int4 AS ord, `+column+` AS part FROM pg_catalog.pg_attribute a LEFT JOIN pg_catalog.pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
					WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND (a.attislocal OR c.relispartition)
				UNION ALL SELECT 10000, 'CONSTRAINT ' || pg_catalog.quote_ident(k.conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid) FROM pg_catalog.pg_constraint k
					WHERE k.conrelid = c.oid AND k.contype = 'c' AND k.convalidated AND (k.conislocal OR c.relispartition)) AS parts), '') || E'\n)' ||
			COALESCE((SELECT ' INHERITS (' || pg_catalog.string_agg(i.inhparent::pg_catalog.regclass::text, ', ' ORDER BY i.inhseqno) || ')' FROM pg_catalog.pg_inherits i WHERE i.inhrelid = c.oid AND NOT c.relispartition), '') ||
			CASE c.relkind WHEN 'p' THEN ' PARTITION BY ' || pg_catalog.pg_get_partkeydef(c.oid) ELSE '' END || COALESCE(' WITH (' || pg_catalog.array_to_string(c.reloptions, ', ') || ')', '') || ';',
			COALESCE((SELECT pg_catalog.string_agg(pg_catalog.quote_ident(a.attname), ', ' ORDER BY a.attnum) FROM pg_catalog.pg_attribute a
				WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''), ''),
			CASE WHEN c.relispartition THEN (SELECT 'ALTER TABLE ONLY ' || i.inhparent::pg_catalog.regclass::text || ' ATTACH PARTITION ' || `+identity+` || ' ' || pg_catalog.pg_get_expr(c.relpartbound, c.oid) || ';' FROM pg_catalog.pg_inherits i WHERE i.inhrelid = c.oid) ELSE '' END,
			COALESCE((SELECT pg_catalog.string_agg('ALTER TABLE ONLY ' || `+identity+` || ' ALTER COLUMN ' || pg_catalog.quote_ident(a.attname) || ' SET DEFAULT ' || pg_catalog.pg_get_expr(d.adbin, d.adrelid) || ';', E'\n')
				FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
				WHERE a.attrelid = c.oid AND a.attgenerated = '' AND NOT a.attislocal AND NOT c.relispartition AND NOT a.attisdropped), '')`+
		from+`WHERE c.relkind IN ('r', 'p')`+where+` ORDER BY 2`, func(row []string) {
		n := l.add("c"+row[0], rankTable, "TABLE", row[1], row[6])
		if n == nil {
			return
		}
		t := &table{relation: relation{n.Object, row[2]}, oid: row[0], bytes: export.Number(row[4]), partitioned: row[3] == "p"}
		if row[7] != "" {
			t.columns = " (" + row[7] + ")"
		}
		l.survey.AboutBytes += t.bytes
		l.survey.AboutRows += export.Number(row[5])
		l.tables = append(l.tables, t)
		for _, more := range row[8:10] {
			if more != "" {
				n.behind = append(n.behind, definition{n.Object, more})
			}
		}
	})
	l.each(ctx, `SELECT c.oid, `+shown+`c.relname, c.relkind, 'CREATE ' || CASE c.relkind WHEN 'm' THEN 'MATERIALIZED ' ELSE '' END || 'VIEW ' || `+identity+` || COALESCE(' WITH (' || pg_catalog.array_to_string(c.reloptions, ', ') || ')', '') || E' AS\n' ||
			pg_catalog.rtrim(pg_catalog.pg_get_viewdef(c.oid), ';') || CASE c.relkind WHEN 'm' THEN E'\n  WITH NO DATA' ELSE '' END || ';',
			CASE WHEN c.relkind = 'm' AND c.relispopulated THEN 'REFRESH MATERIALIZED VIEW ' || `+identity+` || ';' ELSE '' END,
			COALESCE((SELECT pg_catalog.string_agg('ALTER VIEW ' || `+identity+` || ' ALTER COLUMN ' || pg_catalog.quote_ident(a.attname) || ' SET DEFAULT ' || pg_catalog.pg_get_expr(d.adbin, d.adrelid) || ';', E'\n')
				FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum WHERE a.attrelid = c.oid AND c.relkind = 'v'), '')`+
		from+`WHERE c.relkind IN ('v', 'm')`+where+` ORDER BY 2`, func(row []string) {
		n := l.add("c"+row[0], rankView, "VIEW", row[1], row[3])
		if n == nil {
			return
		}
		n.late = true
		for _, more := range row[4:6] {
			if more != "" {
				n.behind = append(n.behind, definition{n.Object, more})
			}
		}
	})
}

// inOrder puts the objects after those that they depend on, and what depends on a view after
// the rows and keys. Where two wait for each other, the order of kinds counts: bodies of
// functions are not looked into when these are made.
func (l *looking) inOrder(ctx context.Context) {
	waits := map[string][]string{}
	l.each(ctx, `WITH node AS (
			SELECT 'pg_catalog.pg_class'::pg_catalog.regclass AS classid, c.oid AS objid, 'c' || c.oid AS id FROM pg_catalog.pg_class c WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S', 'c')
			UNION ALL SELECT 'pg_catalog.pg_type'::pg_catalog.regclass, t.oid, COALESCE('c' || NULLIF(b.typrelid, 0), 't' || COALESCE(g.rngtypid, b.oid)) FROM pg_catalog.pg_type t
				JOIN pg_catalog.pg_type b ON b.oid = CASE WHEN t.typcategory = 'A' AND t.typelem <> 0 THEN t.typelem ELSE t.oid END
				LEFT JOIN pg_catalog.pg_depend m ON m.classid = 'pg_catalog.pg_type'::pg_catalog.regclass AND m.objid = b.oid AND m.refclassid = 'pg_catalog.pg_type'::pg_catalog.regclass AND m.deptype = 'i' AND b.typtype = 'm'
				LEFT JOIN pg_catalog.pg_range g ON g.rngtypid = m.refobjid
			UNION ALL SELECT 'pg_catalog.pg_proc'::pg_catalog.regclass, p.oid, 'p' || p.oid FROM pg_catalog.pg_proc p
			UNION ALL SELECT 'pg_catalog.pg_attrdef'::pg_catalog.regclass, d.oid, 'c' || d.adrelid FROM pg_catalog.pg_attrdef d
			UNION ALL SELECT 'pg_catalog.pg_rewrite'::pg_catalog.regclass, r.oid, 'c' || r.ev_class FROM pg_catalog.pg_rewrite r WHERE r.rulename = '_RETURN'
			UNION ALL SELECT 'pg_catalog.pg_constraint'::pg_catalog.regclass, k.oid, COALESCE('t' || NULLIF(k.contypid, 0), 'c' || k.conrelid) FROM pg_catalog.pg_constraint k WHERE k.contype = 'c')
		SELECT DISTINCT a.id, b.id FROM pg_catalog.pg_depend d JOIN node a ON a.classid = d.classid AND a.objid = d.objid JOIN node b ON b.classid = d.refclassid AND b.objid = d.refobjid
		WHERE a.id <> b.id AND NOT (d.deptype IN ('a', 'i') AND d.classid = 'pg_catalog.pg_class'::pg_catalog.regclass AND EXISTS (SELECT FROM pg_catalog.pg_class s WHERE s.oid = d.objid AND s.relkind = 'S'))
		ORDER BY 1, 2`, func(row []string) {
		if l.nodes[row[0]] != nil && l.nodes[row[1]] != nil {
			waits[row[0]] = append(waits[row[0]], row[1])
		}
	})
	var ids []string
	for id := range l.nodes {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b string) int {
		x, y := l.nodes[a], l.nodes[b]
		if x.rank != y.rank {
			return x.rank - y.rank
		}
		return strings.Compare(x.Name, y.Name)
	})
	var order []*node
	state := map[string]int{}
	var visit func(id string)
	visit = func(id string) {
		if state[id] > 0 {
			return
		}
		state[id] = 1
		n := l.nodes[id]
		for _, other := range waits[id] {
			visit(other)
			n.late = n.late || l.nodes[other].late && state[other] == 2
		}
		state[id] = 2
		order = append(order, n)
	}
	for _, id := range ids {
		visit(id)
	}
	var behindEarly, views []definition
	for _, n := range order {
		if n.late && n.rank == rankTable {
			l.leave("TABLE", n.Name, "its definition depends on a view")
			l.tables = slices.DeleteFunc(l.tables, func(t *table) bool { return t.Name == n.Name })
			continue
		}
		if n.late {
			views = append(views, n.definition)
			views = append(views, n.behind...)
			continue
		}
		l.early = append(l.early, n.definition)
		behindEarly = append(behindEarly, n.behind...)
	}
	l.early = append(l.early, behindEarly...)
	l.keysOf(ctx, "r")
	l.late = append(l.late, views...)
	l.keysOf(ctx, "m")
}
