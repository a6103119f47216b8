package sqltext

import (
	"bytes"
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
	Values     int
	// Nulls has a bit for each of the first 64 values that is NULL; ManyNulls
	// says that one behind them is.
	Nulls     uint64
	ManyNulls bool
	// Watched is the text of the value that RowScanner.Watch asks for.
	Watched []byte
}

// RowScanner gives the rows of an Insert one by one.
type RowScanner struct {
	// Watch is the position of a value whose text is wanted, from 0; -1 for
	// none.
	Watch int
	// Each is called with every value and its position, if it is set.
	Each func(position int, value []byte)

	text    []byte
	pos     int
	dialect Dialect
	begun   bool
	bad     bool
}

// NewRowScanner reads the rows of the statement text from body on.
func NewRowScanner(text []byte, body int, d Dialect) *RowScanner {
	return &RowScanner{Watch: -1, text: text, pos: body, dialect: d}
}

// Literal reports, once Next has given false, whether all rows were read and
// hold nothing but literals, with nothing behind them.
func (s *RowScanner) Literal() bool { return !s.bad && s.begun }

// Next reads one more row; false when there is none, or something else.
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
	*row = Row{Start: pos}
	for pos++; ; pos++ {
		pos = skipSpace(text, pos)
		end, null := literal(text, pos, s.dialect)
		if end >= 0 && s.dialect.PostgreSQL {
			end = castEnd(text, end, s.dialect)
		}
		if end < 0 {
			return s.fail()
		}
		switch {
		case null && row.Values < 64:
			row.Nulls |= 1 << row.Values
		case null:
			row.ManyNulls = true
		}
		if row.Values == s.Watch {
			row.Watched = text[pos:end]
		}
		if s.Each != nil {
			s.Each(row.Values, text[pos:end])
		}
		row.Values++
		pos = skipSpace(text, end)
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

func skipSpace(text []byte, pos int) int {
	for pos < len(text) && window.IsSpace(text[pos]) {
		pos++
	}
	return pos
}

// literal reads the literal at pos and gives its end, -1 if there is none: an
// expression, a function, DEFAULT, a comment.
func literal(text []byte, pos int, d Dialect) (end int, null bool) {
	if pos >= len(text) {
		return -1, false
	}
	switch c := text[pos]; {
	case c == '\'', c == '"' && !d.ANSIQuotes:
		return stringEnd(text, pos, d), false
	case d.PostgreSQL && c|0x20 == 'e' && pos+1 < len(text) && text[pos+1] == '\'':
		d.NoBackslashEscapes = false
		return stringEnd(text, pos+1, d), false
	case c >= '0' && c <= '9', c == '-', c == '+', c == '.':
		return numberEnd(text, pos), false
	case c == 'N' || c == 'n' || c == 'T' || c == 't' || c == 'F' || c == 'f' || c == '_' || c == 'x' || c == 'X' || c == 'b' || c == 'B':
		end := pos
		for end < len(text) && isWordByte(text[end]) {
			end++
		}
		word := text[pos:end]
		switch {
		case len(word) == 4 && bytes.EqualFold(word, []byte("NULL")):
			return end, true
		case bytes.EqualFold(word, []byte("TRUE")), bytes.EqualFold(word, []byte("FALSE")):
			return end, false
		case c == '_':
			end = skipSpace(text, end)
			if end < len(text) && text[end] == '\'' {
				return stringEnd(text, end, d), false
			}
			if end < len(text) && text[end] == '0' { // _binary 0x...
				return numberEnd(text, end), false
			}
		case len(word) == 1 && c|0x20 != 't' && c|0x20 != 'f' && end < len(text) && text[end] == '\'': // x'..', b'..', N'..'
			return stringEnd(text, end, d), false
		}
	}
	return -1, false
}

// castEnd is the end of the casts behind a literal, 'x'::text::varchar(3); end
// itself where there are none.
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
func stringEnd(text []byte, pos int, d Dialect) int {
	quote := text[pos]
	escapes := d.Escapes(quote)
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

// CountRows reads all rows of an Insert; literal is false where they hold anything but
// literals.
func CountRows(text []byte, body int, d Dialect) (count int64, literal bool) {
	scanner := NewRowScanner(text, body, d)
	var row Row
	for scanner.Next(&row) {
		count++
	}
	return count, scanner.Literal()
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
