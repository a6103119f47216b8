package postgres

import (
	"context"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
)

// taken has parts of tables and views: those of objects that are in the export.
func (l *looking) taken(ctx context.Context, queries ...string) (found []definition) {
	all := map[dbms.Object]bool{}
	for _, n := range l.nodes {
		all[n.Object] = true
	}
	for _, s := range l.sequences {
		all[s.Object] = true
	}
	for _, d := range l.early { // schemas
		all[d.Object] = true
	}
	for _, query := range queries {
		l.each(ctx, query, func(row []string) {
			if d := (definition{dbms.Object{Kind: row[0], Name: row[1]}, row[2]}); all[d.Object] {
				found = append(found, d)
			}
		})
	}
	return found
}

// ofTable begins a query for what belongs to tables of the kinds that %s stands for.
const ofTable = `SELECT CASE WHEN c.relkind IN ('v', 'm') THEN 'VIEW' ELSE 'TABLE' END, ` + shown + `c.relname, `

const tables = ` JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace `

// keysOf has keys and indexes of tables, or of views whose rows are kept.
func (l *looking) keysOf(ctx context.Context, kinds string) {
	where := map[string]string{"r": "c.relkind IN ('r', 'p')", "m": "c.relkind = 'm'"}[kinds] + " AND " + own
	name := `c.oid::pg_catalog.regclass::text`
	l.late = append(l.late, l.taken(ctx,
		ofTable+`'ALTER TABLE ONLY ' || `+name+` || ' ADD CONSTRAINT ' || pg_catalog.quote_ident(k.conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid) || ';'
			FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid`+tables+`
			WHERE k.contype IN ('p', 'u', 'x') AND `+where+` ORDER BY CASE k.contype WHEN 'p' THEN 1 ELSE 2 END, 2, k.conname`,
		ofTable+`pg_catalog.pg_get_indexdef(i.indexrelid) || ';' FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid = i.indrelid`+tables+`JOIN pg_catalog.pg_class x ON x.oid = i.indexrelid
			WHERE `+where+` AND NOT EXISTS (SELECT FROM pg_catalog.pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')) ORDER BY 2, x.relname`,
		ofTable+`'ALTER INDEX ' || h.inhparent::pg_catalog.regclass::text || ' ATTACH PARTITION ' || h.inhrelid::pg_catalog.regclass::text || ';' FROM pg_catalog.pg_inherits h
			JOIN pg_catalog.pg_index i ON i.indexrelid = h.inhrelid JOIN pg_catalog.pg_class c ON c.oid = i.indrelid`+tables+`JOIN pg_catalog.pg_class x ON x.oid = h.inhrelid WHERE `+where+` ORDER BY 2, x.relname`,
		ofTable+`'ALTER TABLE ONLY ' || `+name+` || ' ADD CONSTRAINT ' || pg_catalog.quote_ident(k.conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid) || ';'
			FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid`+tables+`WHERE k.contype = 'c' AND NOT k.convalidated AND k.conislocal AND `+where+` ORDER BY 2, k.conname`,
		ofTable+`pg_catalog.pg_get_statisticsobjdef(s.oid) || ';' FROM pg_catalog.pg_statistic_ext s JOIN pg_catalog.pg_class c ON c.oid = s.stxrelid`+tables+`WHERE `+where+` ORDER BY 2, s.stxname`,
		ofTable+`'ALTER TABLE ' || `+name+` || ' REPLICA IDENTITY ' || CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' ELSE
				'USING INDEX ' || (SELECT pg_catalog.quote_ident(x.relname) FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisreplident) END || ';'
			FROM pg_catalog.pg_class c`+tables+`WHERE c.relreplident <> 'd' AND c.relkind IN ('r', 'p') AND `+where+` ORDER BY 2`,
	)...)
}

// references has foreign keys, when all rows and what they refer to are there.
func (l *looking) references(ctx context.Context) {
	l.late = append(l.late, l.taken(ctx,
		ofTable+`'ALTER TABLE ' || CASE c.relkind WHEN 'p' THEN '' ELSE 'ONLY ' END || c.oid::pg_catalog.regclass::text || ' ADD CONSTRAINT ' || pg_catalog.quote_ident(k.conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid) || ';'
			FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid`+tables+`WHERE k.contype = 'f' AND k.conparentid = 0 AND `+own+` ORDER BY 2, k.conname`)...)
}

// policies has what decides about single rows.
func (l *looking) policies(ctx context.Context) {
	l.late = append(l.late, l.taken(ctx,
		ofTable+`pg_catalog.concat_ws(E'\n', CASE WHEN c.relrowsecurity THEN 'ALTER TABLE ' || c.oid::pg_catalog.regclass::text || ' ENABLE ROW LEVEL SECURITY;' END,
				CASE WHEN c.relforcerowsecurity THEN 'ALTER TABLE ONLY ' || c.oid::pg_catalog.regclass::text || ' FORCE ROW LEVEL SECURITY;' END)
			FROM pg_catalog.pg_class c`+tables+`WHERE (c.relrowsecurity OR c.relforcerowsecurity) AND `+own+` ORDER BY 2`,
		ofTable+`'CREATE POLICY ' || pg_catalog.quote_ident(p.polname) || ' ON ' || c.oid::pg_catalog.regclass::text || CASE WHEN p.polpermissive THEN '' ELSE ' AS RESTRICTIVE' END ||
				CASE p.polcmd WHEN 'r' THEN ' FOR SELECT' WHEN 'a' THEN ' FOR INSERT' WHEN 'w' THEN ' FOR UPDATE' WHEN 'd' THEN ' FOR DELETE' ELSE '' END ||
				COALESCE(' USING (' || pg_catalog.pg_get_expr(p.polqual, p.polrelid) || ')', '') || COALESCE(' WITH CHECK (' || pg_catalog.pg_get_expr(p.polwithcheck, p.polrelid) || ')', '') || ';'
			FROM pg_catalog.pg_policy p JOIN pg_catalog.pg_class c ON c.oid = p.polrelid`+tables+`WHERE p.polroles = '{0}' AND `+own+` ORDER BY 2, p.polname`)...)
	l.each(ctx, `SELECT p.polname || ' on ' || `+shown+`c.relname FROM pg_catalog.pg_policy p JOIN pg_catalog.pg_class c ON c.oid = p.polrelid`+tables+`WHERE p.polroles <> '{0}' AND `+own+` ORDER BY 1`,
		func(row []string) { l.leave("POLICY", row[0], "it is for single roles of this server") })
}

// triggers has these, and other rules of rewriting, last, so that they see no row that is
// loaded.
func (l *looking) triggers(ctx context.Context) {
	parent := "t.tgparentid = 0"
	const withParents = 130000 // the version that tells which belong to a partitioned table's
	if l.Version < withParents {
		parent = "NOT t.tgisinternal"
	}
	found := l.taken(ctx,
		ofTable+`pg_catalog.pg_get_triggerdef(t.oid) || ';' || CASE t.tgenabled WHEN 'O' THEN '' ELSE E'\nALTER TABLE ' || c.oid::pg_catalog.regclass::text ||
				CASE t.tgenabled WHEN 'D' THEN ' DISABLE TRIGGER ' WHEN 'R' THEN ' ENABLE REPLICA TRIGGER ' ELSE ' ENABLE ALWAYS TRIGGER ' END || pg_catalog.quote_ident(t.tgname) || ';' END
			FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_class c ON c.oid = t.tgrelid`+tables+`WHERE NOT t.tgisinternal AND `+parent+` AND `+own+` ORDER BY 2, t.tgname`)
	l.survey.Counts["TRIGGER"] = len(found)
	l.late = append(l.late, found...)
	l.late = append(l.late, l.taken(ctx, ofTable+`pg_catalog.pg_get_ruledef(r.oid) FROM pg_catalog.pg_rewrite r JOIN pg_catalog.pg_class c ON c.oid = r.ev_class`+tables+`WHERE r.rulename <> '_RETURN' AND `+own+` ORDER BY 2, r.rulename`)...)
}

// kinds of objects, as the server's own function names them, and as COMMENT does, and what
// they are counted as.
var commented = map[string][2]string{
	"table": {"TABLE", "TABLE"}, "table column": {"COLUMN", "TABLE"}, "view": {"VIEW", "VIEW"}, "view column": {"COLUMN", "VIEW"},
	"materialized view": {"MATERIALIZED VIEW", "VIEW"}, "materialized view column": {"COLUMN", "VIEW"}, "sequence": {"SEQUENCE", "SEQUENCE"},
	"function": {"FUNCTION", "FUNCTION"}, "procedure": {"PROCEDURE", "PROCEDURE"}, "type": {"TYPE", "TYPE"}, "composite type": {"TYPE", "TYPE"}, "composite type column": {"COLUMN", "TYPE"},
	"domain": {"DOMAIN", "DOMAIN"}, "schema": {"SCHEMA", "SCHEMA"}, "table constraint": {"CONSTRAINT", "TABLE"}, "trigger": {"TRIGGER", "TABLE"}, "index": {"INDEX", "TABLE"}, "rule": {"RULE", "TABLE"}, "policy": {"POLICY", "TABLE"},
}

// comments has those on all that is taken.
func (l *looking) comments(ctx context.Context) {
	members := noMember("pg_class", "d.objoid")
	l.each(ctx, `SELECT i.type, i.identity, d.description,
			COALESCE((SELECT `+shown+`r.relname FROM pg_catalog.pg_class r JOIN pg_catalog.pg_namespace n ON n.oid = r.relnamespace WHERE r.oid = CASE d.classoid
				WHEN 'pg_catalog.pg_class'::pg_catalog.regclass THEN COALESCE((SELECT x.indrelid FROM pg_catalog.pg_index x WHERE x.indexrelid = d.objoid), d.objoid)
				WHEN 'pg_catalog.pg_constraint'::pg_catalog.regclass THEN (SELECT k.conrelid FROM pg_catalog.pg_constraint k WHERE k.oid = d.objoid)
				WHEN 'pg_catalog.pg_trigger'::pg_catalog.regclass THEN (SELECT t.tgrelid FROM pg_catalog.pg_trigger t WHERE t.oid = d.objoid)
				WHEN 'pg_catalog.pg_rewrite'::pg_catalog.regclass THEN (SELECT w.ev_class FROM pg_catalog.pg_rewrite w WHERE w.oid = d.objoid)
				WHEN 'pg_catalog.pg_policy'::pg_catalog.regclass THEN (SELECT p.polrelid FROM pg_catalog.pg_policy p WHERE p.oid = d.objoid) END),
				(SELECT `+shown+`p.proname || '(' || pg_catalog.pg_get_function_identity_arguments(p.oid) || ')' FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace
					WHERE d.classoid = 'pg_catalog.pg_proc'::pg_catalog.regclass AND p.oid = d.objoid),
				(SELECT `+shown+`t.typname FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid = t.typnamespace WHERE d.classoid = 'pg_catalog.pg_type'::pg_catalog.regclass AND t.oid = d.objoid),
				(SELECT n.nspname FROM pg_catalog.pg_namespace n WHERE d.classoid = 'pg_catalog.pg_namespace'::pg_catalog.regclass AND n.oid = d.objoid AND n.nspname <> 'public'), '')
		FROM pg_catalog.pg_description d, LATERAL pg_catalog.pg_identify_object(d.classoid, d.objoid, d.objsubid) i
		WHERE d.objoid >= 16384 AND `+strings.Replace(members, "'pg_catalog.pg_class'::pg_catalog.regclass", "d.classoid", 1)+` ORDER BY 1, 2`, func(row []string) {
		words, known := commented[row[0]]
		if !known || row[3] == "" {
			return
		}
		object := dbms.Object{Kind: words[1], Name: row[3]}
		for _, n := range l.nodes {
			if n.Object == object {
				l.late = append(l.late, definition{object, "COMMENT ON " + words[0] + " " + row[1] + " IS " + strings.TrimSpace(postgres.QuoteText(row[2])) + ";"})
				return
			}
		}
		if words[1] == "SCHEMA" || words[1] == "SEQUENCE" {
			l.late = append(l.late, definition{object, "COMMENT ON " + words[0] + " " + row[1] + " IS " + strings.TrimSpace(postgres.QuoteText(row[2])) + ";"})
		}
	})
}

// whatIsLeftOut names what an application could have made, and what is not taken.
func (l *looking) whatIsLeftOut(ctx context.Context) {
	if l.options.Keep != nil {
		return // only a part of the database was asked for
	}
	in := func(kind, class, schema, name, where, why string) string {
		return `SELECT '` + kind + `', ` + shown + `o.` + name + `, '` + why + `' FROM pg_catalog.` + class + ` o JOIN pg_catalog.pg_namespace n ON n.oid = o.` + schema + ` WHERE ` + own + ` AND ` + noMember(class, "o.oid") + where + ` ORDER BY 2`
	}
	const why = "objects of this kind are not taken"
	for _, query := range []string{
		in("FOREIGN TABLE", "pg_class", "relnamespace", "relname", " AND o.relkind = 'f'", "its rows lie elsewhere"),
		in("TYPE", "pg_type", "typnamespace", "typname", " AND o.typtype = 'b' AND o.typelem = 0 AND o.typcategory <> 'A'", "types with code of their own are not taken"),
		in("OPERATOR", "pg_operator", "oprnamespace", "oprname", "", why), in("COLLATION", "pg_collation", "collnamespace", "collname", "", why),
		in("CONVERSION", "pg_conversion", "connamespace", "conname", "", why), in("TEXT SEARCH CONFIGURATION", "pg_ts_config", "cfgnamespace", "cfgname", "", why),
		in("TEXT SEARCH DICTIONARY", "pg_ts_dict", "dictnamespace", "dictname", "", why), in("OPERATOR CLASS", "pg_opclass", "opcnamespace", "opcname", "", why),
		`SELECT 'CAST', o.castsource::pg_catalog.regtype::text || ' AS ' || o.casttarget::pg_catalog.regtype::text, '` + why + `' FROM pg_catalog.pg_cast o WHERE o.oid >= 16384
			AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_catalog.pg_cast'::pg_catalog.regclass AND e.objid = o.oid AND e.deptype IN ('e', 'i')) ORDER BY 2`,
		`SELECT 'EVENT TRIGGER', o.evtname, 'only a superuser could make it' FROM pg_catalog.pg_event_trigger o ORDER BY 2`,
		`SELECT 'LARGE OBJECT', 'all ' || pg_catalog.count(*), 'rows of this kind are not taken' FROM pg_catalog.pg_largeobject_metadata HAVING pg_catalog.count(*) > 0`,
	} {
		l.each(ctx, query, func(row []string) { l.leave(row[0], row[1], row[2]) })
	}
}
