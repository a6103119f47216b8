package judge

import (
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/figures"
	"yellowfield/internal/sqltext"
)

// replicates notes what of a table a Galera cluster does not take to its other
// nodes (MariaDB, "MariaDB Galera Cluster - Known Limitations").
func (c *checker) replicates(v Verdict, t *sqltext.Table) {
	engine := t.Options.Engine
	if engine == "" {
		engine = c.server.DefaultEngine
	}
	if !strings.EqualFold(engine, "InnoDB") && !c.options.ConvertCharset {
		c.Note(c.Place(v.Statement), "the rows of "+t.Name.Name+" ("+engine+") stay on this node: the cluster replicates InnoDB", "write ENGINE=InnoDB, or use {convert-charset}")
	}
	if !slices.ContainsFunc(t.Keys, func(k sqltext.Key) bool { return k.Kind == "PRIMARY" }) {
		c.unkeyed[t.Name.Name] = c.Place(v.Statement)
	}
}

// fits notes what this server lacks of what a table asks for.
func (c *checker) fits(v Verdict, t *sqltext.Table) {
	charset := t.Options.Charset
	if charset == "" && t.Options.Collation != "" {
		charset = charsetOf(t.Options.Collation)
	}
	s := v.Statement
	modern := strings.HasPrefix(c.target.Charset, "utf8mb4")
	for _, name := range append([]string{charset}, columnCharsets(t)...) {
		switch {
		case name == "":
		case !c.server.HasCharset(name):
			c.Refuse(s, "this server has no character set "+name, "use one that SHOW CHARACTER SET lists")
		case modern && (name == "utf8" || name == "utf8mb3"):
			c.Note(c.Place(s), "utf8 means three bytes a character here: emoji and rare signs are refused or cut", "{convert-charset} makes it utf8mb4")
		case modern && name == "latin1":
			c.Note(c.Place(s), "tables or columns in latin1 in a utf8mb4 database", "{convert-charset} makes them utf8mb4")
		}
	}
	engine := strings.ToLower(t.Options.Engine)
	switch {
	case engine != "" && len(c.server.Engines) > 0 && !c.server.Engines[engine]:
		c.Note(c.Place(s), "this server has no storage engine "+t.Options.Engine+": it takes "+c.server.DefaultEngine+" or refuses the table, depending on sql_mode", "write ENGINE=InnoDB")
	case engine == "myisam" || engine == "aria":
		c.Note(c.Place(s), "tables of the engine "+t.Options.Engine+" do not roll back and are not crash-safe as InnoDB is", "{convert-charset} makes them InnoDB")
	}
	c.keyLengths(v, t, charset)
}

func columnCharsets(t *sqltext.Table) []string {
	var list []string
	for _, column := range t.Columns {
		list = append(list, columnCharset(column))
	}
	return list
}

// columnCharset is what a column says of its character set, be it by its collation;
// empty for that of the table.
func columnCharset(c sqltext.Column) string {
	if c.Charset == "" && c.Collation != "" {
		return charsetOf(c.Collation)
	}
	return c.Charset
}

// keyLengths notes keys that are longer than the row format allows (MySQL
// Reference Manual, "InnoDB Limits"): 767 bytes a column in the old row
// formats, else 3072; 1000 bytes a key on MyISAM.
func (c *checker) keyLengths(v Verdict, t *sqltext.Table, charset string) {
	if charset == "" {
		charset = c.target.Charset
	}
	limit := 3072
	engine := strings.ToLower(t.Options.Engine)
	switch {
	case engine == "myisam":
		limit = 1000
	case t.Options.RowFormat == "COMPACT" || t.Options.RowFormat == "REDUNDANT":
		limit = 767
	}
	for _, key := range t.Keys {
		if key.Kind == "FULLTEXT" || key.Kind == "SPATIAL" {
			continue
		}
		total := 0
		for _, part := range key.Columns {
			column := t.Column(part.Name)
			if column == nil || column.Type != "VARCHAR" && column.Type != "CHAR" && !strings.HasSuffix(column.Type, "TEXT") {
				continue
			}
			length := column.Length
			if part.Length > 0 && (part.Length < length || length == 0) {
				length = part.Length
			}
			own := columnCharset(*column)
			if own == "" {
				own = charset
			}
			total += length * bytesOf(own)
		}
		if total > limit {
			c.Note(c.Place(v.Statement), fmt.Sprintf("the key %s of the table %s takes %s bytes, and %s are allowed: the server refuses or shortens it", orPrimary(key), t.Name.Name, figures.Thousands(total), figures.Thousands(limit)),
				"shorten the key, or give the table ROW_FORMAT=DYNAMIC")
		}
	}
}

func orPrimary(k sqltext.Key) string {
	if k.Name == "" {
		return strings.ToLower(k.Kind)
	}
	return k.Name
}

// bytesOf is the longest character of a character set in bytes.
func bytesOf(charset string) int {
	switch charset {
	case "utf8mb4", "utf16", "utf32", "gb18030", "utf16le":
		return 4
	case "utf8", "utf8mb3", "eucjpms", "ujis":
		return 3
	case "ucs2", "gbk", "big5", "sjis", "cp932", "euckr", "gb2312":
		return 2
	}
	return 1
}
