package postgres

import (
	"bytes"
	"context"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// Joined rows go to the server through COPY where that stores the same: it
// spares the server the parsing and planning of every value. A literal in quotes
// is read by the same input function either way, and what length a column has is
// applied alike (PostgreSQL source: coerce_type, NextCopyFrom). What is left to
// INSERT:
//   - literals of another type than their column's, which a cast brings there;
//   - escapes, casts and DEFAULT;
//   - columns of types that are not on the list, whose values the server makes
//     itself, and tables with row-level security.
//
// COPY may be stricter, so that what it refuses is sent again as INSERTs.

// columnKind is what literals a column takes through COPY.
type columnKind byte

const (
	unknownColumn columnKind = iota
	textColumn               // literals in quotes alone
	integerColumn            // integers, too
	numberColumn             // any number, too
	booleanColumn            // TRUE and FALSE, too
)

// columnKinds are the types that COPY is used for, by their names in the
// server's catalogue.
var columnKinds = map[string]columnKind{
	"int2": integerColumn, "int4": integerColumn, "int8": integerColumn,
	"numeric": numberColumn, "float4": numberColumn, "float8": numberColumn, "bool": booleanColumn,
	"text": textColumn, "varchar": textColumn, "bpchar": textColumn, "bytea": textColumn, "uuid": textColumn, "json": textColumn, "jsonb": textColumn,
	"date": textColumn, "time": textColumn, "timetz": textColumn, "timestamp": textColumn, "timestamptz": textColumn, "inet": textColumn, "cidr": textColumn,
}

// column is one column of a table.
type column struct {
	name string
	kind columnKind
}

// readColumns gives the columns of a table in their order; nil where COPY is
// never used.
func readColumns(ctx context.Context, session Session, table sqltext.ObjectName) ([]column, error) {
	found, err := session.Query(ctx, `SELECT a.attname, t.typname, a.attidentity = 'a' OR a.attgenerated <> '' OR c.relrowsecurity
		FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_type t ON t.oid = a.atttypid JOIN pg_catalog.pg_class c ON c.oid = a.attrelid
		WHERE a.attrelid = pg_catalog.to_regclass(`+postgres.QuoteText(quotedName(table))+`) AND a.attnum > 0 AND NOT a.attisdropped
		ORDER BY a.attnum`)
	var columns []column
	for _, row := range found {
		if row[2] == "t" {
			return nil, err
		}
		columns = append(columns, column{row[0], columnKinds[row[1]]})
	}
	return columns, err
}

// fewForCopy is below how many statements to a table COPY is not worth its
// messages.
const fewForCopy = 12

// asCopy turns a piece of joined rows into a COPY; ok is false where that might
// not store the same.
func (m *message) asCopy(p piece) (statement string, data []byte, ok bool) {
	if p.columns == nil || !p.dialect.NoBackslashEscapes {
		return "", nil, false
	}
	columns := p.columns
	if p.insert.Columns != nil {
		columns = make([]column, len(p.insert.Columns))
		for i, name := range p.insert.Columns {
			for _, c := range p.columns {
				if c.name == name {
					columns[i] = c
				}
			}
		}
	}
	given := -1 // values of a row; a short row leaves the last columns to their defaults
	text := m.text[p.start:p.end]
	scanner := sqltext.NewRowScanner(text, len(p.head), p.dialect)
	data = make([]byte, 0, len(text))
	var row sqltext.Row
	for scanner.Next(&row) {
		if len(row.Values) > len(columns) || given >= 0 && len(row.Values) != given {
			return "", nil, false
		}
		given = len(row.Values)
		for i := range row.Values {
			if i > 0 {
				data = append(data, '\t')
			}
			if data, ok = appendValue(data, row.Value(text, i), columns[i].kind); !ok {
				return "", nil, false
			}
		}
		data = append(data, '\n')
	}
	if !scanner.Literal() || p.insert.Columns != nil && given != len(columns) {
		return "", nil, false
	}
	var names []string
	for _, c := range columns[:given] {
		names = append(names, `"`+strings.ReplaceAll(c.name, `"`, `""`)+`"`)
	}
	return "COPY " + quotedName(p.insert.Table) + " (" + strings.Join(names, ", ") + ") FROM STDIN", data, true
}

// appendValue writes a literal as COPY has it (PostgreSQL, "COPY", Text Format).
func appendValue(data, value []byte, kind columnKind) ([]byte, bool) {
	switch c := value[0]; {
	case kind == unknownColumn:
		return data, false
	case c == '\'':
		return appendText(data, value[1:len(value)-1]), value[len(value)-1] == '\''
	case c >= '0' && c <= '9' || c == '-' || c == '+' || c == '.':
		whole := bytes.IndexFunc(value[1:], func(r rune) bool { return r < '0' || r > '9' }) < 0 && c != '.'
		if kind != numberColumn && (kind != integerColumn || !whole) || bytes.ContainsAny(value, "xXbBoO:") {
			return data, false
		}
		if c == '-' && !bytes.ContainsAny(value, "123456789") { // an INSERT stores 0, and COPY -0
			return data, false
		}
		return append(data, value...), true
	case bytes.EqualFold(value, []byte("NULL")):
		return append(data, '\\', 'N'), true
	case kind == booleanColumn && bytes.EqualFold(value, []byte("TRUE")):
		return append(data, 't'), true
	case kind == booleanColumn && bytes.EqualFold(value, []byte("FALSE")):
		return append(data, 'f'), true
	}
	return data, false
}

// appendText writes what stands between the quotes of a literal.
func appendText(data, text []byte) []byte {
	for len(text) > 0 {
		i := bytes.IndexAny(text, "'\\\n\r\t")
		if i < 0 {
			return append(data, text...)
		}
		data = append(data, text[:i]...)
		switch text[i] {
		case '\'': // doubled
			data = append(data, '\'')
			i++
		case '\\':
			data = append(data, '\\', '\\')
		case '\n':
			data = append(data, '\\', 'n')
		case '\r':
			data = append(data, '\\', 'r')
		case '\t':
			data = append(data, '\\', 't')
		}
		text = text[i+1:]
	}
	return data
}

// sendCopies sends a message whose pieces are all COPYs; sent is false where one
// is not, or the server refuses one: then nothing has come of it.
func (m *message) sendCopies(ctx context.Context, session Session, l *load.Ledger) (sent bool, err error) {
	type block struct {
		statement string
		data      []byte
	}
	var blocks []block
	parts := 0
	for _, p := range m.pieces {
		parts += len(p.parts)
	}
	if parts < fewForCopy*len(m.pieces) {
		return false, nil
	}
	for _, p := range m.pieces {
		statement, data, ok := m.asCopy(p)
		if !ok {
			return false, nil
		}
		blocks = append(blocks, block{statement, data})
	}
	ignore := func(int64) {}
	if err := session.Send(ctx, beginMessage, ignore); err != nil {
		return false, err
	}
	counts := make([]int64, len(blocks))
	for i, b := range blocks {
		if counts[i], err = session.Copy(ctx, b.statement, bytes.NewReader(b.data)); err != nil {
			if !dbms.IsRefusal(err) {
				return false, err
			}
			return false, session.Send(ctx, takeBack, ignore)
		}
	}
	if err := session.Send(ctx, endMessage, ignore); err != nil {
		if !dbms.IsRefusal(err) {
			return false, err
		}
		return false, session.Send(ctx, takeBack, ignore)
	}
	for i, p := range m.pieces {
		p.count(l, counts[i])
	}
	return true, nil
}

// A message is done or not within the transaction that it stands in, by a savepoint.
const (
	beginMessage = "SAVEPOINT yellowfield_rows"
	endMessage   = "RELEASE SAVEPOINT yellowfield_rows"
	endOfMessage = "\n;" + endMessage
	takeBack     = "ROLLBACK TO SAVEPOINT yellowfield_rows; RELEASE SAVEPOINT yellowfield_rows" // leaves nothing of it
	beginAgain   = "ROLLBACK TO SAVEPOINT yellowfield_rows"                                     // and begins again
)
