package mysql

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
)

// textColumn is a column of text of a table that has another character set by default than
// the wanted one; without a name for a table that has no such column.
type textColumn struct{ table, name, charset, collation, own string }

// How long looking at a table's rows may take, and at all tables' rows; what is left then is
// not counted.
const (
	longestLook  = 20 * time.Second
	longestLooks = time.Minute
)

// Conversions tells which tables of a database have another character set, and what giving
// them the wanted one would meet. Rows are read: ask as the application.
func (s *Server) Conversions(ctx context.Context, database, charset, collation string) (all dbms.Conversions, err error) {
	columns, err := s.textColumns(ctx, database, charset)
	if err != nil {
		return all, err
	}
	var has, collates string
	if err := s.row(ctx, `SELECT DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?`, []any{database}, &has, &collates); err != nil {
		return all, err
	}
	byDefault := func(charset, collation string) dbms.Statement {
		return plain("ALTER DATABASE %s CHARACTER SET %s COLLATE %s", QuoteName(database), charset, collation)
	}
	all.Database, all.DatabaseBack = byDefault(charset, collation), byDefault(has, collates)
	if len(columns) == 0 {
		return all, nil
	}
	ctx, cancel := context.WithTimeout(ctx, longestLooks+longestLook)
	defer cancel()
	until := time.Now().Add(longestLooks)
	var found []dbms.Conversion
	at := map[string]int{}
	for _, c := range columns {
		if _, seen := at[c.table]; !seen {
			at[c.table] = len(found)
			found = append(found, dbms.Conversion{Table: c.table, From: c.collation,
				Statement: convert(database, c.table, charset, collation), Back: convert(database, c.table, charsetOf(c.collation), c.collation)})
		}
		if c.name == "" {
			continue
		}
		conversion := &found[at[c.table]]
		if c.own != c.collation {
			conversion.Troubles = append(conversion.Troubles, dbms.Trouble{Where: c.name, Kind: dbms.OwnCollation, Count: 1})
		}
		for _, look := range looksAt(c, charset) {
			count, tooLong, err := s.count(ctx, until, fmt.Sprintf("COUNT(*) FROM %s.%s WHERE %s", QuoteName(database), QuoteName(c.table), look.where))
			if err != nil {
				return all, err
			}
			if count > 0 || tooLong {
				conversion.Troubles = append(conversion.Troubles, dbms.Trouble{Where: c.name, Kind: look.kind, Count: count, NotCounted: tooLong})
			}
		}
	}
	if err := s.longKeys(ctx, database, charset, found, at); err != nil {
		return all, err
	}
	if err := s.collisions(ctx, until, database, charset, collation, found, at); err != nil {
		return all, err
	}
	all.Tables = found
	keys, err := s.ForeignKeys(ctx, database)
	for _, k := range keys {
		_, child := at[k.Table]
		_, parent := at[k.References]
		if child || parent {
			all.Keys = append(all.Keys, k)
		}
	}
	return all, err
}

func convert(database, table, charset, collation string) dbms.Statement {
	return plain("ALTER TABLE %s.%s CONVERT TO CHARACTER SET %s COLLATE %s", QuoteName(database), QuoteName(table), charset, collation)
}

func charsetOf(collation string) string {
	charset, _, _ := strings.Cut(collation, "_")
	return charset
}

// TextSum is the same before and after a conversion that has changed no text.
func (s *Server) TextSum(ctx context.Context, database, table string) (string, error) {
	sums := []string{"COUNT(*)"}
	if err := s.each(ctx, `SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND CHARACTER_SET_NAME IS NOT NULL ORDER BY ORDINAL_POSITION`, []any{database, table}, func(scan func(...any) error) error {
		var column string
		err := scan(&column)
		sums = append(sums, fmt.Sprintf("COUNT(%[1]s), COALESCE(SUM(CRC32(CONVERT(%[1]s USING utf8mb4))), 0), COALESCE(SUM(LENGTH(CONVERT(%[1]s USING utf8mb4))), 0)", QuoteName(column)))
		return err
	}); err != nil {
		return "", err
	}
	var sum string
	err := s.row(ctx, fmt.Sprintf("SELECT CONCAT_WS(' ', %s) FROM %s.%s", strings.Join(sums, ", "), QuoteName(database), QuoteName(table)), nil, &sum)
	return sum, err
}

func (s *Server) textColumns(ctx context.Context, database, charset string) (columns []textColumn, err error) {
	err = s.each(ctx, `SELECT t.TABLE_NAME, COALESCE(c.COLUMN_NAME, ''), COALESCE(c.CHARACTER_SET_NAME, ''), t.TABLE_COLLATION, COALESCE(c.COLLATION_NAME, t.TABLE_COLLATION) FROM information_schema.TABLES t
		LEFT JOIN information_schema.COLUMNS c ON c.TABLE_SCHEMA = t.TABLE_SCHEMA AND c.TABLE_NAME = t.TABLE_NAME AND c.CHARACTER_SET_NAME IS NOT NULL
		WHERE t.TABLE_SCHEMA = ? AND t.TABLE_TYPE = 'BASE TABLE' AND SUBSTRING_INDEX(t.TABLE_COLLATION, '_', 1) <> ?
		ORDER BY t.TABLE_NAME, c.ORDINAL_POSITION`, []any{database, charset}, func(scan func(...any) error) error {
		var c textColumn
		err := scan(&c.table, &c.name, &c.charset, &c.collation, &c.own)
		columns = append(columns, c)
		return err
	})
	return columns, err
}

// look is a condition on rows that a conversion would affect.
type look struct {
	kind  dbms.TroubleKind
	where string
}

// looksAt are the conditions that make sense for a column: bytes of UTF-8 in a column that
// says latin1, text that was encoded twice, characters that the wanted set lacks.
func looksAt(c textColumn, wanted string) []look {
	name := QuoteName(c.name)
	asText := "CONVERT(CAST(%s AS BINARY) USING utf8mb4)"
	var looks []look
	if c.charset == "latin1" {
		inside := fmt.Sprintf(asText, name)
		looks = append(looks, look{dbms.HoldsUTF8, fmt.Sprintf("HEX(%s) = HEX(%s) AND CHAR_LENGTH(%s) < LENGTH(%s)", inside, name, inside, name)})
	}
	if strings.HasPrefix(c.charset, "utf8") {
		once := fmt.Sprintf("CONVERT(%s USING latin1)", name)
		inside := fmt.Sprintf(asText, once)
		looks = append(looks, look{dbms.EncodedTwice, fmt.Sprintf("LENGTH(%[1]s) <> CHAR_LENGTH(%[1]s) AND HEX(CONVERT(%[2]s USING utf8mb4)) = HEX(CONVERT(%[1]s USING utf8mb4)) AND HEX(%[3]s) = HEX(%[2]s) AND CHAR_LENGTH(%[3]s) < CHAR_LENGTH(%[1]s)", name, once, inside)})
	}
	if wanted != "utf8mb4" && wanted != c.charset {
		looks = append(looks, look{dbms.DoesNotFit, fmt.Sprintf("HEX(CONVERT(CONVERT(%[1]s USING %[2]s) USING utf8mb4)) <> HEX(CONVERT(%[1]s USING utf8mb4))", name, wanted)})
	}
	return looks
}

// bounded is a query that the server ends when it takes too long.
func (s *Server) bounded(query string) string { return s.within("SELECT "+query, longestLook) }

// tookTooLong are the codes by which servers say that they have ended a statement.
var tookTooLong = []int{1969, 3024}

func (s *Server) count(ctx context.Context, until time.Time, query string) (count int64, tooLong bool, err error) {
	if time.Now().After(until) {
		return 0, true, nil
	}
	err = s.row(ctx, s.bounded(query), nil, &count)
	if slices.Contains(tookTooLong, Code(err)) {
		return 0, true, nil
	}
	return count, false, err
}

// index is an index of a table, with the expressions of its parts.
type index struct {
	table, name      string
	unique           bool
	engine, format   string
	parts            []string
	notNull          []string
	bytes, longest   int // of all parts, and of the longest text
	holdsText, known bool
}

// indexes are those of the tables to be converted that hold text.
func (s *Server) indexes(ctx context.Context, database, charset, collation string) (all []*index, err error) {
	width := map[string]int{"utf8mb4": 4, "utf8mb3": 3, "utf8": 3}[charset]
	err = s.each(ctx, `SELECT s.TABLE_NAME, s.INDEX_NAME, s.NON_UNIQUE = 0, COALESCE(t.ENGINE, ''), COALESCE(t.ROW_FORMAT, ''), COALESCE(s.COLUMN_NAME, ''), COALESCE(s.SUB_PART, 0),
			COALESCE(c.CHARACTER_MAXIMUM_LENGTH, 0), COALESCE(c.CHARACTER_SET_NAME, '') FROM information_schema.STATISTICS s
		JOIN information_schema.TABLES t ON t.TABLE_SCHEMA = s.TABLE_SCHEMA AND t.TABLE_NAME = s.TABLE_NAME
		LEFT JOIN information_schema.COLUMNS c ON c.TABLE_SCHEMA = s.TABLE_SCHEMA AND c.TABLE_NAME = s.TABLE_NAME AND c.COLUMN_NAME = s.COLUMN_NAME
		WHERE s.TABLE_SCHEMA = ? AND t.TABLE_TYPE = 'BASE TABLE' AND s.INDEX_TYPE NOT IN ('FULLTEXT', 'SPATIAL') ORDER BY s.TABLE_NAME, s.INDEX_NAME, s.SEQ_IN_INDEX`, []any{database}, func(scan func(...any) error) error {
		var i index
		var column, of string
		var prefix, length int64
		if err := scan(&i.table, &i.name, &i.unique, &i.engine, &i.format, &column, &prefix, &length, &of); err != nil {
			return err
		}
		if last := len(all) - 1; last < 0 || all[last].table != i.table || all[last].name != i.name {
			i.known = true
			all = append(all, &i)
		}
		own := all[len(all)-1]
		if column == "" { // of an expression
			own.known = false
			return nil
		}
		name := QuoteName(column)
		own.notNull = append(own.notNull, name+" IS NOT NULL")
		if of == "" {
			own.parts = append(own.parts, name)
			return nil
		}
		if prefix > 0 {
			length, name = prefix, fmt.Sprintf("LEFT(%s, %d)", name, prefix)
		}
		own.holdsText = true
		own.bytes += int(length) * width
		own.longest = max(own.longest, int(length)*width)
		own.parts = append(own.parts, fmt.Sprintf("CONVERT(%s USING %s) COLLATE %s", name, charset, collation))
		return nil
	})
	return all, err
}

// longKeys finds indexes that grow too long (MySQL Reference Manual, "InnoDB Limits";
// MariaDB, "InnoDB Row Formats Overview").
func (s *Server) longKeys(ctx context.Context, database, charset string, found []dbms.Conversion, at map[string]int) error {
	all, err := s.indexes(ctx, database, charset, "binary")
	for _, i := range all {
		n, converted := at[i.table]
		if !converted || !i.holdsText {
			continue
		}
		most, whole := 3072, 3072
		switch format := strings.ToUpper(i.format); {
		case strings.EqualFold(i.engine, "MyISAM"), strings.EqualFold(i.engine, "Aria"):
			most, whole = 1000, 1000
		case format == "COMPACT", format == "REDUNDANT":
			most = 767
		}
		if i.longest > most || i.bytes > whole {
			found[n].Troubles = append(found[n].Troubles, dbms.Trouble{Where: i.name, Kind: dbms.KeyTooLong, Count: int64(max(i.longest, i.bytes))})
		}
	}
	return err
}

// collisions counts values of unique indexes that are the same by the wanted collation.
func (s *Server) collisions(ctx context.Context, until time.Time, database, charset, collation string, found []dbms.Conversion, at map[string]int) error {
	all, err := s.indexes(ctx, database, charset, collation)
	if err != nil {
		return err
	}
	for _, i := range all {
		n, converted := at[i.table]
		if !converted || !i.unique || !i.holdsText || !i.known {
			continue
		}
		count, tooLong, err := s.count(ctx, until, fmt.Sprintf("COUNT(*) FROM (SELECT 1 FROM %s.%s WHERE %s GROUP BY %s HAVING COUNT(*) > 1) AS same",
			QuoteName(database), QuoteName(i.table), strings.Join(i.notNull, " AND "), strings.Join(i.parts, ", ")))
		if err != nil {
			return err
		}
		if count > 0 || tooLong {
			found[n].Troubles = append(found[n].Troubles, dbms.Trouble{Where: i.name, Kind: dbms.Collides, Count: count, NotCounted: tooLong})
		}
	}
	return nil
}

// HasForeignKey reports whether a table has one of this name. It opens no view.
func (s *Server) HasForeignKey(ctx context.Context, database, table, name string) (has bool, err error) {
	err = s.row(ctx, `SELECT COUNT(*) > 0 FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND CONSTRAINT_NAME = ? AND REFERENCED_TABLE_NAME IS NOT NULL`,
		[]any{database, table, name}, &has)
	return has, err
}

// ForeignKeys lists those of text; it opens views: ask as the application. MariaDB converts no column that one uses, whatever
// foreign_key_checks says (error 1832).
func (s *Server) ForeignKeys(ctx context.Context, database string) (keys []dbms.ForeignKey, err error) {
	type parts struct{ columns, referenced, onUpdate, onDelete string }
	var found []dbms.ForeignKey
	var of []parts
	text := map[int]bool{}
	err = s.each(ctx, `SELECT k.TABLE_NAME, k.CONSTRAINT_NAME, k.REFERENCED_TABLE_NAME, r.UPDATE_RULE, r.DELETE_RULE, k.COLUMN_NAME, k.REFERENCED_COLUMN_NAME, c.CHARACTER_SET_NAME IS NOT NULL
		FROM information_schema.KEY_COLUMN_USAGE k
		JOIN information_schema.REFERENTIAL_CONSTRAINTS r ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.TABLE_NAME = k.TABLE_NAME AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
		JOIN information_schema.COLUMNS c ON c.TABLE_SCHEMA = k.TABLE_SCHEMA AND c.TABLE_NAME = k.TABLE_NAME AND c.COLUMN_NAME = k.COLUMN_NAME
		WHERE k.TABLE_SCHEMA = ? AND k.REFERENCED_TABLE_SCHEMA = k.TABLE_SCHEMA ORDER BY k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION`, []any{database}, func(scan func(...any) error) error {
		var k dbms.ForeignKey
		var p parts
		var isText bool
		if err := scan(&k.Table, &k.Name, &k.References, &p.onUpdate, &p.onDelete, &p.columns, &p.referenced, &isText); err != nil {
			return err
		}
		p.columns, p.referenced = QuoteName(p.columns), QuoteName(p.referenced)
		last := len(found) - 1
		if last < 0 || found[last].Table != k.Table || found[last].Name != k.Name {
			found, of, last = append(found, k), append(of, p), last+1
		} else {
			of[last].columns, of[last].referenced = of[last].columns+", "+p.columns, of[last].referenced+", "+p.referenced
		}
		text[last] = text[last] || isText
		return nil
	})
	for i, k := range found {
		if !text[i] {
			continue
		}
		k.Drop = plain("ALTER TABLE %s.%s DROP FOREIGN KEY %s", QuoteName(database), QuoteName(k.Table), QuoteName(k.Name))
		k.Add = plain("ALTER TABLE %s.%s ADD CONSTRAINT %s FOREIGN KEY (%s) REFERENCES %s.%s (%s) ON UPDATE %s ON DELETE %s", QuoteName(database), QuoteName(k.Table), QuoteName(k.Name),
			of[i].columns, QuoteName(database), QuoteName(k.References), of[i].referenced, of[i].onUpdate, of[i].onDelete)
		keys = append(keys, k)
	}
	return keys, err
}
