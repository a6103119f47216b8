package sqltext

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"strings"

	"yellowfield/internal/sqltext/window"
)

// Insert is an INSERT of rows that are all literals, so that what it stores
// depends on nothing but the statement, the table and the session.
type Insert struct {
	Table   ObjectName
	Columns []string // as listed; nil for all of the table
	// Body is where the first row begins; what stands before it is the head.
	Body int
}

// ParseInsert reads the head of a plain INSERT ... VALUES. ok is false for
// every other statement, and for an INSERT with a priority, IGNORE or a
// partition: what these do to several rows at once is not what they do to one.
func ParseInsert(text []byte, d Dialect) (insert Insert, ok bool) {
	if len(text) < len("INSERT") || !bytes.EqualFold(text[:len("INSERT")], []byte("INSERT")) {
		return insert, false
	}
	s := NewScanner(text, d)
	s.pos = len("INSERT")
	t, ok := s.Next()
	if ok && t.Is("INTO") {
		t, ok = s.Next()
	}
	if !ok || t.Kind == String || t.Kind == Punct || t.Kind == Word && priorities[strings.ToUpper(string(t.Text))] {
		return insert, false
	}
	var next Token
	insert.Table, next = readName(s, t)
	if next.IsPunct('(') {
		for {
			t, ok := s.Next()
			if !ok {
				return insert, false
			}
			if t.IsPunct(')') {
				break
			}
			if t.Kind == Word || t.Kind == Name {
				insert.Columns = append(insert.Columns, s.folded(t))
			} else if !t.IsPunct(',') {
				return insert, false
			}
		}
		next, _ = s.Next()
	}
	if !next.Is("VALUES") && (!next.Is("VALUE") || d.PostgreSQL) {
		return insert, false
	}
	insert.Body = skipSpace(text, s.pos)
	return insert, true
}

var priorities = map[string]bool{"LOW_PRIORITY": true, "DELAYED": true, "HIGH_PRIORITY": true, "IGNORE": true, "SET": true, "VALUES": true, "VALUE": true, "SELECT": true}

// Row is one row of an Insert.
type Row struct {
	Start, End int // in the statement, brackets included
	// Values are those of the row; of one that has more than a table has columns there is
	// one more than that.
	Values []Value
	// Nulls has a bit for each of the first 64 values that is NULL; ManyNulls says that one
	// after them is.
	Nulls     uint64
	ManyNulls bool
}

// mostColumns is how many columns a table may have (MySQL Reference Manual, "Limits on Table
// Column Count and Row Size"; PostgreSQL has fewer).
const mostColumns = 4096

// Value is one value of a row.
type Value struct {
	Start, End int // in the statement
	// Plain is a string in quotes that stands for what is between them, and has no control
	// character. ASCII says so of a plain one.
	Plain, ASCII bool
}

// Value is the text of the i-th value of a row of this statement; empty where there is none.
func (r *Row) Value(statement []byte, i int) []byte {
	if i < 0 || i >= len(r.Values) {
		return nil
	}
	return statement[r.Values[i].Start:r.Values[i].End]
}

// RowScanner gives the rows of an Insert one by one.
type RowScanner struct {
	text    []byte
	pos     int
	dialect Dialect
	escapes bool // backslashes do, in single quotes
	begun   bool
	bad     bool
}

// NewRowScanner reads the rows of the statement text from body on.
func NewRowScanner(text []byte, body int, d Dialect) *RowScanner {
	return &RowScanner{text: text, pos: body, dialect: d, escapes: d.Escapes('\'')}
}

// Literal reports, once Next has given false, whether all rows were read and hold nothing but
// literals, with nothing after them.
func (s *RowScanner) Literal() bool { return !s.bad && s.begun }

// Next reads one more row, which keeps its memory; false when there is none, or something
// else.
func (s *RowScanner) Next(row *Row) bool {
	text := s.text
	pos := skipSpace(text, s.pos)
	if s.begun {
		if pos == len(text) {
			return false
		}
		if text[pos] != ',' {
			return s.fail()
		}
		pos = skipSpace(text, pos+1)
	}
	s.begun = true
	if pos >= len(text) || text[pos] != '(' {
		return s.fail()
	}
	*row = Row{Start: pos, Values: row.Values[:0]}
	for pos++; ; pos++ {
		pos = skipSpace(text, pos)
		n := min(len(row.Values), mostColumns)
		row.Values = append(row.Values[:n], Value{Start: pos})
		value, null := &row.Values[n], false
		switch end := pos + Digits(text[pos:]); { // nearly all are whole numbers or strings
		case end > pos && end < len(text) && (text[end] == ',' || text[end] == ')'):
			value.End = end
		case end == pos && end < len(text) && text[end] == '\'':
			value.End = plainEnd(text, pos, s.escapes, value)
		default:
			null = s.literal(value)
		}
		if value.End >= 0 && s.dialect.PostgreSQL {
			value.End = castEnd(text, value.End, s.dialect)
		}
		switch {
		case value.End < 0:
			return s.fail()
		case null && n < 64:
			row.Nulls |= 1 << n
		case null:
			row.ManyNulls = true
		}
		pos = skipSpace(text, value.End)
		if pos >= len(text) {
			return s.fail()
		}
		if text[pos] == ')' {
			row.End = pos + 1
			s.pos = row.End
			return true
		}
		if text[pos] != ',' {
			return s.fail()
		}
	}
}

func (s *RowScanner) fail() bool {
	s.bad, s.begun = true, true
	s.pos = len(s.text)
	return false
}

// Digits is how many digits a text begins with.
func Digits(text []byte) int {
	n := 0
	for n < len(text) && text[n] >= '0' && text[n] <= '9' {
		n++
	}
	return n
}

func skipSpace(text []byte, pos int) int {
	for pos < len(text) && text[pos] <= ' ' && window.IsSpace(text[pos]) {
		pos++
	}
	return pos
}

// literal reads the literal at which a value starts and sets its end, -1 if there is none:
// an expression, a function, DEFAULT, a comment.
func (s *RowScanner) literal(value *Value) (null bool) {
	text, pos, d := s.text, value.Start, &s.dialect
	value.End = -1
	if pos >= len(text) {
		return false
	}
	switch c := text[pos]; {
	case c == '"' && !d.ANSIQuotes:
		value.End = plainEnd(text, pos, d.Escapes(c), value)
	case d.PostgreSQL && c|0x20 == 'e' && pos+1 < len(text) && text[pos+1] == '\'':
		value.End = stringEnd(text, pos+1, true)
	case c >= '0' && c <= '9', c == '-', c == '+', c == '.':
		value.End = numberEnd(text, pos)
	case c == 'N' || c == 'n' || c == 'T' || c == 't' || c == 'F' || c == 'f' || c == '_' || c == 'x' || c == 'X' || c == 'b' || c == 'B':
		end := pos
		for end < len(text) && isWordByte(text[end]) {
			end++
		}
		word := text[pos:end]
		switch {
		case len(word) == 4 && bytes.EqualFold(word, []byte("NULL")):
			value.End = end
			return true
		case bytes.EqualFold(word, []byte("TRUE")), bytes.EqualFold(word, []byte("FALSE")):
			value.End = end
		case c == '_':
			end = skipSpace(text, end)
			if end < len(text) && text[end] == '\'' {
				value.End = stringEnd(text, end, d.Escapes('\''))
			}
			if end < len(text) && text[end] == '0' { // _binary 0x...
				value.End = numberEnd(text, end)
			}
		case len(word) == 1 && c|0x20 != 't' && c|0x20 != 'f' && end < len(text) && text[end] == '\'': // x'..', b'..', N'..'
			value.End = stringEnd(text, end, d.Escapes('\''))
		}
	}
	return false
}

// castEnd is the end of the casts after a literal, 'x'::text::varchar(3); end itself where
// there are none.
func castEnd(text []byte, end int, d Dialect) int {
	for end+1 < len(text) && text[end] == ':' && text[end+1] == ':' {
		end += 2
		for end < len(text) && (isWordByte(text[end]) || text[end] == '.' || text[end] == ' ') {
			end++
		}
		for _, closer := range []byte{')', ']'} { // varchar(3), numeric(5, 2), text[]
			opener := map[byte]byte{')': '(', ']': '['}[closer]
			if end < len(text) && text[end] == opener {
				i := bytes.IndexByte(text[end:], closer)
				if i < 0 {
					return -1
				}
				end += i + 1
			}
		}
	}
	return end
}

// stringEnd is the end of the string at pos; -1 when it is not closed.
func stringEnd(text []byte, pos int, escapes bool) int {
	quote := text[pos]
	for pos++; ; {
		pos += window.LiteralEnd(text[pos:], quote, escapes)
		switch {
		case pos >= len(text):
			return -1
		case text[pos] != quote: // a backslash
			pos += 2
			if pos > len(text) {
				return -1
			}
		case pos+1 < len(text) && text[pos+1] == quote:
			pos += 2
		default:
			return pos + 1
		}
	}
}

// plainEnd is stringEnd for nearly all strings, and says whether this one is plain. It looks
// at eight bytes at a time.
func plainEnd(text []byte, pos int, escapes bool, value *Value) int {
	const ones, highs, spaces = 0x0101010101010101, 0x8080808080808080, 0x2020202020202020
	quote := text[pos]
	quotes, backslashes := ones*uint64(quote), ones*uint64('\\')
	if !escapes {
		backslashes = quotes
	}
	var seen, control uint64
	for i := pos + 1; i+8 <= len(text); i += 8 {
		word := binary.LittleEndian.Uint64(text[i:])
		found := window.Marks(word, quotes, backslashes)
		if found == 0 {
			seen, control = seen|word, control|(word-spaces)&^word
			continue
		}
		n := bits.TrailingZeros64(found) / 8
		if end := i + n; text[end] != quote || end+1 == len(text) || text[end+1] == quote {
			break
		}
		behind := ^uint64(0) << (8 * n)
		word = word&^behind | spaces&behind
		seen, control = seen|word, control|(word-spaces)&^word
		value.Plain, value.ASCII = control&highs == 0, seen&highs == 0
		return i + n + 1
	}
	return stringEnd(text, pos, escapes)
}

// Unquoted are the bytes that a string literal with backslashes stands for (MySQL Reference
// Manual, "String Literals"). They may be a part of the literal itself.
func Unquoted(literal []byte) []byte {
	if len(literal) < 2 {
		return literal
	}
	quote, text := literal[0], literal[1:len(literal)-1]
	n := window.LiteralEnd(text, quote, true)
	if n == len(text) {
		return text
	}
	found := make([]byte, 0, len(text))
	for ; n+1 < len(text); n = window.LiteralEnd(text, quote, true) { // what ends it takes two
		found = append(found, text[:n]...)
		second := text[n+1]
		switch i := strings.IndexByte("0bnrtZ", second); {
		case text[n] == quote: // doubled
			found = append(found, quote)
		case i >= 0:
			found = append(found, "\x00\b\n\r\t\x1a"[i])
		case second == '%' || second == '_': // these keep their backslash
			found = append(found, '\\', second)
		default:
			found = append(found, second)
		}
		text = text[n+2:]
	}
	return append(found, text...)
}

// numberEnd is the end of the number at pos: sign, digits, point, exponent, or
// hexadecimal and bit notation; -1 if it is none.
func numberEnd(text []byte, pos int) int {
	if c := text[pos]; c == '-' || c == '+' {
		pos++
	}
	from := pos
	if pos+1 < len(text) && text[pos] == '0' && (text[pos+1] == 'x' || text[pos+1] == 'b') {
		pos += 2
		for pos < len(text) && (text[pos] >= '0' && text[pos] <= '9' || text[pos]|0x20 >= 'a' && text[pos]|0x20 <= 'f') {
			pos++
		}
		return pos
	}
	for pos < len(text) && (text[pos] >= '0' && text[pos] <= '9' || text[pos] == '.') {
		pos++
	}
	if pos > from && pos < len(text) && text[pos]|0x20 == 'e' {
		pos++
		if pos < len(text) && (text[pos] == '-' || text[pos] == '+') {
			pos++
		}
		for pos < len(text) && text[pos] >= '0' && text[pos] <= '9' {
			pos++
		}
	}
	if pos == from {
		return -1
	}
	return pos
}

// Inserts reads the heads of plain INSERTs, as ParseInsert does. In a dump the next one
// mostly begins with the same bytes, and its answer is ready.
type Inserts struct {
	head    []byte
	dialect Dialect
	insert  Insert
}

// Parse reads the head of a statement; ok is false for one that is no plain INSERT.
func (i *Inserts) Parse(s Statement) (insert Insert, ok bool) {
	if n := len(i.head); n > 0 && len(s.Text) > n && bytes.Equal(s.Text[:n], i.head) && s.Dialect == i.dialect {
		return i.insert, true
	}
	insert, ok = ParseInsert(s.Text, s.Dialect)
	// Only a head that ends where its first row opens is sure to be whole.
	if ok && insert.Body < len(s.Text) && s.Text[insert.Body] == '(' {
		i.head = append(i.head[:0], s.Text[:insert.Body+1]...)
		i.dialect, i.insert = s.Dialect, insert
	}
	return insert, ok
}
