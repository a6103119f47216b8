package mysql

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// A long run of rows goes to the server through LOAD DATA LOCAL where that stores the
// same: it spares the server the parsing of every value, and an empty InnoDB table of
// MariaDB is filled in bulk by it, keys and all. With LOCAL the server makes warnings of
// all that is an error of an INSERT, and leaves rows out (MySQL Reference Manual, "LOAD
// DATA Statement"); but some values it takes for others without a word. Which literals
// mean the same to a column of which type was found by trying all of them, on either
// product; see TestLoadedRowsAreThoseOfInserts. What is left to INSERT:
//   - numbers that are not written as the server writes them (-0, 007, .5), fractions into
//     whole numbers, and any number into ENUM, SET, JSON and dates, where they are
//     positions, or dates of two digits;
//   - literals of bytes, but for columns that hold bytes: these get them in hexadecimal;
//   - BIT, geometry, generated columns, columns that are not listed, DEFAULT, TRUE;
//   - numbers that the server is to give out, NULL where none is allowed;
//   - text that is not UTF-8, or might not survive the session's character sets.

// literalKind is a kind of literals.
type literalKind byte

const (
	nullLiteral literalKind = 1 << iota
	textLiteral             // in quotes
	wholeNumber             // as the server writes it
	yearNumber              // one of four digits
	fraction                // with a point, as the server writes it
	negativeFraction
	floating                 // with an exponent
	bytesLiteral             // hexadecimal, or _binary
	otherLiteral literalKind = 0
)

// loadColumn is one column that LOAD DATA fills.
type loadColumn struct {
	takes literalKind
	bytes bool // given in hexadecimal
	auto  bool // AUTO_INCREMENT
}

// loadForm is how the rows of a table are given to LOAD DATA.
type loadForm struct {
	columns   []loadColumn
	listed    []string // the columns as the INSERTs list them; nil for all
	statement string   // what follows the file's name
	// narrow says that the session's character set has characters of three bytes at most.
	narrow bool
	bulk   bool // into an empty table that the server fills in bulk
}

var (
	wholeTypes   = wordset.Of("TINYINT SMALLINT MEDIUMINT INT INTEGER BIGINT")
	decimalTypes = wordset.Of("DECIMAL NUMERIC")
	floatTypes   = wordset.Of("FLOAT DOUBLE REAL")
	textTypes    = wordset.Of("CHAR VARCHAR TINYTEXT TEXT MEDIUMTEXT LONGTEXT")
	byteTypes    = wordset.Of("BINARY VARBINARY TINYBLOB BLOB MEDIUMBLOB LONGBLOB")
	literalTypes = wordset.Of("DATE DATETIME TIMESTAMP TIME ENUM SET JSON")
	// loadModes are those of sql_mode that do not change what is said above.
	loadModes = wordset.Of(`ONLY_FULL_GROUP_BY STRICT_TRANS_TABLES STRICT_ALL_TABLES NO_ZERO_IN_DATE NO_ZERO_DATE ERROR_FOR_DIVISION_BY_ZERO
		NO_AUTO_CREATE_USER NO_ENGINE_SUBSTITUTION NO_AUTO_VALUE_ON_ZERO ALLOW_INVALID_DATES ANSI_QUOTES HIGH_NOT_PRECEDENCE IGNORE_SPACE`)
)

// loadColumnOf says what LOAD DATA does for a column; ok is false where INSERTs do it.
func loadColumnOf(c *sqltext.Column) (column loadColumn, ok bool) {
	const whole = textLiteral | wholeNumber | yearNumber
	const numbers = whole | fraction | negativeFraction
	switch {
	case c.Generated || c.Invisible:
		return column, false
	case byteTypes[c.Type] || textTypes[c.Type] && c.Charset == "binary":
		column = loadColumn{takes: numbers | bytesLiteral, bytes: true}
	case wholeTypes[c.Type]:
		column.takes = whole
	case decimalTypes[c.Type], textTypes[c.Type]:
		column.takes = numbers
	case floatTypes[c.Type]:
		column.takes = numbers | floating
	case c.Type == "YEAR":
		column.takes = textLiteral | yearNumber
	case literalTypes[c.Type]:
		column.takes = textLiteral
	default:
		return column, false
	}
	if c.Unsigned { // an INSERT refuses what would become -0
		column.takes &^= negativeFraction
	}
	if !c.NotNull {
		column.takes |= nullLiteral
	}
	if c.Auto {
		column.auto, column.takes = true, wholeNumber|yearNumber|textLiteral
	}
	return column, true
}

// newLoadForm is how rows go into a table's columns, as an INSERT lists them, under the
// session's settings by their names; nil where INSERTs have to do it.
func newLoadForm(t *table, listed []string, setting func(name string) string) *loadForm {
	f := &loadForm{listed: listed}
	for _, name := range []string{"character_set_client", "character_set_connection"} {
		switch setting(name) {
		case "utf8mb4":
		case "utf8", "utf8mb3":
			f.narrow = true
		default:
			return nil
		}
	}
	for mode := range strings.SplitSeq(setting("sql_mode"), ",") {
		if mode != "" && !loadModes[mode] {
			return nil
		}
	}
	names := listed
	if names == nil {
		for _, c := range t.definition.Columns {
			names = append(names, c.Name)
		}
	}
	if len(names) != len(t.definition.Columns) {
		return nil
	}
	var targets, sets []string
	for i, name := range names {
		c := t.definition.Column(name)
		if c == nil || slices.ContainsFunc(names[:i], func(other string) bool { return strings.EqualFold(other, name) }) {
			return nil
		}
		column, ok := loadColumnOf(c)
		if !ok {
			return nil
		}
		f.columns = append(f.columns, column)
		target := mysql.QuoteName(name)
		if column.bytes {
			variable := fmt.Sprintf("@yellowfield_%d", i)
			sets = append(sets, target+" = UNHEX("+variable+")")
			target = variable
		}
		targets = append(targets, target)
	}
	f.statement = "INTO TABLE " + mysql.QuoteName(t.name) + ` CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' (` + strings.Join(targets, ", ") + ")"
	if len(sets) > 0 {
		f.statement += " SET " + strings.Join(sets, ", ")
	}
	return f
}

// appendRows writes the rows of an INSERT as LOAD DATA reads them; ok is false where that
// might not store the same, and to is of no use then. row is used for each.
func (f *loadForm) appendRows(to []byte, v judge.Verdict, row *sqltext.Row) (_ []byte, rows int64, ok bool) {
	if !slices.Equal(v.Insert.Columns, f.listed) || v.Dialect.NoBackslashEscapes {
		return to, 0, false
	}
	scanner := sqltext.NewRowScanner(v.Sent, v.Insert.Body, v.Dialect)
	for scanner.Next(row) {
		if len(row.Values) != len(f.columns) {
			return to, 0, false
		}
		for i := range row.Values {
			if i > 0 {
				to = append(to, '\t')
			}
			if to, ok = f.appendValue(to, &f.columns[i], v.Sent, &row.Values[i]); !ok {
				return to, 0, false
			}
		}
		to = append(to, '\n')
		rows++
	}
	return to, rows, scanner.Literal()
}

func (f *loadForm) appendValue(to []byte, c *loadColumn, text []byte, v *sqltext.Value) (_ []byte, ok bool) {
	value := text[v.Start:v.End]
	kind := kindOf(value)
	switch {
	case kind&c.takes == 0, c.auto && judge.AutoValue(value) != judge.Explicit:
		return to, false
	case kind == textLiteral && !v.ASCII && (!utf8.Valid(value) || f.narrow && slices.ContainsFunc(value, isLong)):
		return to, false
	case kind == nullLiteral:
		return append(to, '\\', 'N'), true
	case c.bytes:
		return hex.AppendEncode(to, bytesBehind(value, kind)), true
	case v.Plain:
		return append(to, value[1:len(value)-1]...), true
	case kind == textLiteral:
		return appendText(to, value), true
	}
	return append(to, value...), true
}

// isLong reports the first byte of a character of four.
func isLong(c byte) bool { return c >= 0xf0 }

// kindOf says what kind of literal a value is.
func kindOf(value []byte) literalKind {
	switch c := value[0]; {
	case c == '\'' || c == '"':
		return textLiteral
	case len(value) == len("NULL") && bytes.EqualFold(value, []byte("NULL")):
		return nullLiteral
	case c == '0' && len(value) > 1 && value[1] == 'x':
		return hexKind(value[2:])
	case (c == 'x' || c == 'X') && len(value) > 2 && value[1] == '\'':
		return hexKind(value[2 : len(value)-1])
	case c == '_' && len(value) > len(introducer) && bytes.EqualFold(value[:len(introducer)], []byte(introducer)):
		return introducedKind(value)
	case c >= '0' && c <= '9' || c == '-':
		return numberKind(value)
	}
	return otherLiteral
}

// introducer marks the string after it as bytes.
const introducer = "_binary"

// introducedKind takes a string in single quotes alone.
func introducedKind(value []byte) literalKind {
	if rest := bytes.TrimLeft(value[len(introducer):], " \t\r\n"); rest[0] == '\'' {
		return bytesLiteral
	}
	return otherLiteral
}

func hexKind(digits []byte) literalKind {
	if len(digits)%2 != 0 || len(digits) == 0 {
		return otherLiteral
	}
	for _, c := range digits {
		if (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'f') {
			return otherLiteral
		}
	}
	return bytesLiteral
}

// numberKind takes numbers as the server writes them.
func numberKind(value []byte) literalKind {
	rest := value
	if value[0] == '-' {
		rest = value[1:]
	}
	n := sqltext.Digits(rest)
	if n == 0 || n > 1 && rest[0] == '0' || len(rest) < len(value) && !bytes.ContainsAny(rest, "123456789") {
		return otherLiteral
	}
	const year = 4
	kind := wholeNumber
	if n == year && len(value) == year {
		kind = yearNumber
	}
	rest = rest[n:]
	if len(rest) > 0 && rest[0] == '.' {
		if n = sqltext.Digits(rest[1:]); n == 0 {
			return otherLiteral
		}
		if kind, rest = fraction, rest[1+n:]; value[0] == '-' {
			kind = negativeFraction
		}
	}
	if len(rest) > 1 && rest[0]|0x20 == 'e' {
		rest = bytes.TrimLeft(rest[1:], "+-")
		kind, rest = floating, rest[sqltext.Digits(rest):]
	}
	if len(rest) > 0 {
		return otherLiteral
	}
	return kind
}

// appendText writes what a string in quotes stands for as LOAD DATA reads it, whose escapes
// are those of literals but for three: there \N is NULL, \% is % and \_ is _ (MySQL Reference
// Manual, "LOAD DATA Statement" and "String Literals").
func appendText(to, literal []byte) []byte {
	quote, text := literal[0], literal[1:len(literal)-1]
	copied := 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c != '\\' && c != quote && c != '\t' && c != '\n' {
			continue
		}
		to = append(to, text[copied:i]...)
		if c == '\\' || c == quote { // which are two bytes
			i++
			c = text[i]
		}
		copied = i + 1
		switch {
		case c == '\t':
			to = append(to, '\\', 't')
		case c == '\n':
			to = append(to, '\\', 'n')
		case text[i-1] != '\\':
			to = append(to, c)
		case c == '%' || c == '_': // these keep their backslash
			to = append(to, '\\', '\\', c)
		case strings.IndexByte("0bnrtZ\\", c) >= 0:
			to = append(to, '\\', c)
		default:
			to = append(to, c)
		}
	}
	return append(to, text[copied:]...)
}

// bytesBehind are the bytes that a literal stands for.
func bytesBehind(value []byte, kind literalKind) []byte {
	switch {
	case kind == textLiteral:
		return sqltext.Unquoted(value)
	case kind != bytesLiteral: // a number
		return value
	case value[0] == '_':
		return sqltext.Unquoted(value[bytes.IndexByte(value, '\''):])
	}
	found, _ := hex.AppendDecode(nil, bytes.TrimSuffix(value[2:], []byte("'"))) // 0x.. and x'..', whose digits were looked at
	return found
}
