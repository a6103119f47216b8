package mysql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/export"
)

// columns are those of a table that rows are written for.
type columns struct {
	names []string
	reads []string // the expressions by which they are read
	forms []form
}

// form says how a column's values are written.
type form struct {
	kind       kind
	introducer string // of text that is written by its bytes
	floating   bool
}

type kind int

const (
	quoted  kind = iota // text as it stands, or by its bytes where that is no UTF-8
	bare                // numbers
	byBytes             // what is no text, and text in sets that cannot stand in a script
)

// readable are the character sets that the server turns into UTF-8 and back without any
// loss (latin1 stands for all 256 bytes there: MySQL Reference Manual, "West European
// Character Sets").
var readable = []string{"utf8mb4", "utf8mb3", "utf8", "ascii", "latin1"}

var bareTypes = strings.Fields("tinyint smallint mediumint int bigint decimal float double year")

var byteTypes = strings.Fields("binary varbinary tinyblob blob mediumblob longblob bit vector " +
	"geometry point linestring polygon multipoint multilinestring multipolygon geometrycollection geomcollection")

// columnsOf lists the columns of a table but for those that the server fills itself.
func (e *Exporter) columnsOf(ctx context.Context, session Session, table string) (*columns, error) {
	rows, err := session.Query(ctx, `SELECT COLUMN_NAME, LOWER(DATA_TYPE), COALESCE(CHARACTER_SET_NAME, '') FROM information_schema.COLUMNS
		WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = `+mysql.QuoteText(table)+` AND COALESCE(GENERATION_EXPRESSION, '') = '' ORDER BY ORDINAL_POSITION`)
	if err != nil {
		return nil, err
	}
	c := &columns{}
	for _, row := range rows {
		name, dataType, charset := mysql.QuoteName(row[0]), row[1], row[2]
		read, f := name, form{introducer: "_utf8mb4 "}
		switch {
		case dataType == "float": // which is shown with fewer digits than it has
			read, f.kind, f.floating = "CAST("+name+" AS DOUBLE)", bare, true
		case slices.Contains(bareTypes, dataType):
			f.kind, f.floating = bare, dataType == "double"
		case slices.Contains(byteTypes, dataType):
			f = form{kind: byBytes}
		case charset != "" && !slices.Contains(readable, charset):
			read, f = "CAST("+name+" AS BINARY)", form{kind: byBytes, introducer: "_" + charset + " "}
		}
		c.names, c.reads, c.forms = append(c.names, name), append(c.reads, read), append(c.forms, f)
	}
	return c, nil
}

const (
	// longBytes is from where on bytes stand in a literal with escapes: written as hexadecimal
	// they take twice their size, and a server may not accept a statement that long.
	longBytes = 1 << 20
	// statementSize is how long an INSERT is to become; the servers take the most rows a
	// second at about that.
	statementSize = 256 << 10
	hexadecimal   = "0123456789ABCDEF"
)

// rowsOf writes the rows of a table. Each piece holds whole statements, so that those of
// several tables can follow one another in whatever order.
func (w *work) rowsOf(ctx context.Context, session Session, t *table) error {
	lead := "INSERT INTO " + mysql.QuoteName(t.name) + " (" + strings.Join(t.names, ", ") + ") VALUES\n"
	object := dbms.Object{Kind: "TABLE", Name: t.name}
	piece := w.Out.Piece()
	begun := -1 // where the statement begins; none
	var sum export.Sum
	hand := func() error {
		w.Took(object, len(piece), sum)
		sum = export.Sum{}
		err := w.Out.Put(piece)
		piece = w.Out.Piece()
		return err
	}
	err := session.Rows(ctx, "SELECT "+strings.Join(t.reads, ", ")+" FROM "+mysql.QuoteName(t.name), func(values [][]byte) error {
		if begun < 0 {
			begun = len(piece)
			piece = append(piece, lead...)
		} else {
			piece = append(piece, ",\n"...)
		}
		row := len(piece)
		piece = append(piece, '(')
		for i, v := range values {
			if i > 0 {
				piece = append(piece, ',')
			}
			piece = appendValue(piece, v, t.forms[i], w.Sums)
		}
		piece = append(piece, ')')
		w.Count(&sum, piece[row:])
		if len(piece)-begun < statementSize {
			return nil
		}
		piece, begun = append(piece, ";\n"...), -1
		if len(piece) < export.PieceSize-statementSize {
			return nil
		}
		return hand()
	})
	if err != nil {
		return fmt.Errorf("%s: %w", t.name, err)
	}
	if begun >= 0 {
		piece = append(piece, ";\n"...)
	}
	return hand()
}

// appendValue writes one value as SQL. Servers write numbers with a fraction in different
// ways; alike makes them the same, so that rows of two servers can be compared.
func appendValue(to, v []byte, f form, alike bool) []byte {
	switch {
	case v == nil:
		return append(to, "NULL"...)
	case f.floating && string(v) == "-0":
		return append(to, "-0e0"...) // -0 alone is the integer 0
	case f.floating && alike:
		if number, err := strconv.ParseFloat(string(v), 64); err == nil {
			return strconv.AppendFloat(to, number, 'g', -1, 64)
		}
		return append(to, v...)
	case f.kind == bare:
		return append(to, v...)
	case f.kind == quoted:
		if to, isText := appendText(to, v); isText {
			return to
		}
	case len(v) == 0:
		return append(append(to, f.introducer...), "''"...)
	case len(v) > longBytes && f.introducer == "":
		return appendEscaped(append(to, "_binary "...), v)
	}
	to = append(append(to, f.introducer...), "0x"...)
	for _, b := range v {
		to = append(to, hexadecimal[b>>4], hexadecimal[b&15])
	}
	return to
}

// escapes are the characters that do not stand for themselves in a literal, or not on every
// client's way (MySQL Reference Manual, "String Literals").
var escapes = [256]byte{0: '0', '\n': 'n', '\r': 'r', '\\': '\\', '\'': '\'', 0x1a: 'Z'}

// appendText writes a literal, unless the text is no UTF-8.
func appendText(to, text []byte) (with []byte, isText bool) {
	for at, c := range text {
		if c >= utf8.RuneSelf {
			if !utf8.Valid(text[at:]) {
				return to, false
			}
			break
		}
	}
	return appendEscaped(to, text), true
}

func appendEscaped(to, text []byte) []byte {
	to = append(to, '\'')
	for from := 0; ; {
		at := from
		for at < len(text) && escapes[text[at]] == 0 {
			at++
		}
		to = append(to, text[from:at]...)
		if at == len(text) {
			return append(to, '\'')
		}
		to = append(to, '\\', escapes[text[at]])
		from = at + 1
	}
}

// hasNoBody reports whether a definition is one that the account may not see.
func hasNoBody(shown []string) bool { return strings.TrimSpace(shown[2]) == "" }
