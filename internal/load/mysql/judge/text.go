package judge

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// textCheck makes sure that a script is text of its encoding.
type textCheck struct {
	load.Encoding
	strict bool // zero dates may be refused
}

// badByte finds the first byte that is no text; -1 for none. Binary values are
// none of its business: literals marked _binary, and values of binary columns. valid says
// whether the text is UTF-8.
func (t *textCheck) badByte(v *Verdict, valid bool, defined map[string]*sqltext.Table) int {
	switch {
	case !t.Checks():
		return t.BadByte(v.Text, valid)
	case valid:
		return -1
	case v.Kind == Rows:
		return badValue(v, defined[v.Insert.Table.Name])
	}
	scanner := sqltext.NewScanner(v.Text, v.Dialect)
	binary := false
	for token, ok := scanner.Next(); ok; token, ok = scanner.Next() {
		if !utf8.Valid(token.Text) && (!binary || token.Kind != sqltext.String) {
			return token.Start + load.FirstInvalid(token.Text)
		}
		binary = token.Is("_binary")
	}
	return -1
}

// badValue looks at the values of rows. Those of a table that the script has
// not made are left to the server.
func badValue(v *Verdict, table *sqltext.Table) int {
	if table == nil {
		return -1
	}
	columns := v.Insert.Columns
	if columns == nil {
		for _, c := range table.Columns {
			columns = append(columns, c.Name)
		}
	}
	scanner := sqltext.NewRowScanner(v.Text, v.Insert.Body, v.Dialect)
	var row sqltext.Row
	for scanner.Next(&row) {
		for i := range row.Values {
			value := row.Value(v.Text, i)
			if value[0] == '_' || utf8.Valid(value) {
				continue
			}
			if i < len(columns) {
				if c := table.Column(columns[i]); c != nil && isBinary(c) {
					continue
				}
			}
			return row.Values[i].Start + load.FirstInvalid(value)
		}
	}
	return -1
}

// isBinary reports whether a column holds bytes and no text.
func isBinary(c *sqltext.Column) bool {
	switch c.Type {
	case "BIT", "GEOMETRY", "POINT", "LINESTRING", "POLYGON", "MULTIPOINT", "MULTILINESTRING", "MULTIPOLYGON", "GEOMETRYCOLLECTION":
		return true
	}
	return strings.HasSuffix(c.Type, "BLOB") || strings.HasSuffix(c.Type, "BINARY") || c.Charset == "binary"
}

// observe follows SET NAMES and sql_mode.
func (t *textCheck) observe(v Verdict) {
	if v.Lead.Verb != "SET" {
		return
	}
	for _, a := range sqltext.SetOf(v.Tokens) {
		if len(a.Value) == 0 || a.User {
			continue
		}
		value := strings.ToLower(a.Value[0].Plain())
		switch a.Name {
		case "names", "character set", "character_set_client":
			if a.Value[0].Kind != sqltext.Punct { // not another variable's
				t.Foreign = !strings.HasPrefix(value, "utf8")
			}
		case "sql_mode":
			t.strict = strings.Contains(value, "strict") && strings.Contains(value, "no_zero_date")
		}
	}
}

func (t *textCheck) zeroDates(v *Verdict) bool {
	return t.strict && bytes.Contains(v.Sent, []byte("'0000-00-00"))
}
