// Package sqltext reads SQL scripts: as a stream of statements with their places, of
// MariaDB and MySQL (Reader) or of PostgreSQL (PostgresReader), and each statement as
// a row of tokens (Scanner) from which its head can be told (ParseHead).
//
// It splits a script where the servers' stock client splits it. It must never
// know of servers, connections or settings files: what a statement would do is
// for internal/load to judge.
package sqltext

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"maps"
	"math/bits"
	"strings"

	"yellowfield/internal/fault"
)

// Statement is one statement of a script, without its delimiter.
type Statement struct {
	// Text is the statement with prefix tokens replaced. It is valid until
	// the next call of Reader.Next.
	Text []byte
	// Offset is the byte offset of the first character in the script, after
	// decompression, and Size the bytes it takes there.
	Offset int64
	Size   int
	// Line and Column of the first character, from 1; columns count
	// characters, not bytes.
	Line, Column int
	// Dialect is how the server reads this statement, given the sql_mode that
	// the script has set before it.
	Dialect Dialect
	// SetsReading tells that the statement changes how the server reads those
	// behind it, and Untraced says why it cannot be told in which way.
	SetsReading bool
	Untraced    string
}

// Head tells what the beginning of the statement says.
func (s Statement) Head() Head { return ParseHead(s.Text, s.Dialect) }

// Reader reads a script statement by statement. Its memory is that of the
// longest statement, whatever the length of the script.
type Reader struct {
	input
	delimiter  []byte
	token      []byte // prefix token, empty for none
	prefix     []byte
	tokensSeen []int // where in buf the current statement holds the token
	special    [256]bool
	begun      bool
	modes      modes
}

// NewReader reads the script src. name is the file's name for error messages,
// mode the sql_mode that the session begins with.
func NewReader(name string, src io.Reader, d Dialect, mode string) *Reader {
	r := &Reader{input: newInput(name, src)}
	r.modes = modes{dialect: d.WithMode(mode), now: mode}
	r.modes.begun.charset, r.modes.begun.mode = d.Charset, mode
	r.setDelimiter([]byte(";"))
	return r
}

// ReplacePrefix makes the reader write prefix wherever the script says token,
// outside string literals and comments. It must be called before Next.
func (r *Reader) ReplacePrefix(token, prefix string) {
	r.token, r.prefix = []byte(token), []byte(prefix)
	r.setDelimiter(r.delimiter)
}

func (r *Reader) setDelimiter(delimiter []byte) {
	r.delimiter = bytes.Clone(delimiter)
	r.special = [256]bool{'\'': true, '"': true, '`': true, '-': true, '#': true, '/': true, '*': true, '\\': true}
	r.special[r.delimiter[0]] = true
	if len(r.token) > 0 {
		r.special[r.token[0]] = true
	}
}

// Next gives the next statement, or io.EOF behind the last one. Text between
// statements (white space, comments, DELIMITER lines) is passed over. A
// literal or comment that never ends, and a command that only the stock client
// could carry out, are errors with their place. Reading errors of the source
// come back as they are, wrapped with the file's name.
func (r *Reader) Next() (Statement, error) {
	// The statement before is forgotten only together with the gap behind it:
	// it mostly ends with its line, and then no column has to be counted.
	if !r.begun {
		r.begun = true
		r.skipMark()
	}
	for {
		if err := r.skipGap(); err != nil {
			return Statement{}, err
		}
		statement, err := r.scanStatement()
		if err != nil {
			return statement, err
		}
		if len(statement.Text) > 0 {
			statement.Dialect = r.modes.dialect
			statement.SetsReading, statement.Untraced = r.modes.observe(statement.Text)
			return statement, nil
		}
	}
}

// Behind is how the server reads what comes behind the statement that Next returned
// last.
func (r *Reader) Behind() Dialect { return r.modes.dialect }

// Mark is a place in a script from which it can be read on: where a statement
// begins, with all that the script has said to its reader before.
type Mark struct {
	Offset       int64
	line, column int
	delimiter    []byte
	modes        modes
}

// Mark gives the place of the statement that Next returned last, as it was
// read: before what the statement itself sets.
func (r *Reader) Mark() Mark {
	m := Mark{Offset: r.offset, line: r.line, column: r.col, delimiter: r.delimiter, modes: r.modes}
	m.modes.saved = maps.Clone(m.modes.saved)
	return m
}

// Resume reads on at a mark; src begins at its offset.
func (r *Reader) Resume(src io.Reader, m Mark) {
	r.src, r.err, r.begun = src, nil, true
	r.buf, r.pos = make([]byte, 0, readAhead), 0
	r.offset, r.line, r.col = m.Offset, m.line, m.column
	r.modes = m.modes
	r.modes.saved = maps.Clone(m.modes.saved)
	r.setDelimiter(m.delimiter)
}

// skipGap passes over what stands between statements and leaves the place at
// the first character of the next one. io.EOF: there is none.
func (r *Reader) skipGap() error {
	begun := r.pos
	for {
		if !r.ensure(1) {
			r.consume(r.pos)
			if errors.Is(r.err, io.EOF) {
				return io.EOF
			}
			return r.sourceError()
		}
		c := r.buf[r.pos]
		switch {
		case isSpace(c):
			r.pos++
			if r.pos-begun > readAhead {
				r.consume(r.pos)
				begun = 0
			}
		case c == '#' || r.atDashComment():
			r.skipLine()
		case r.atBlockComment() && !r.atConditional():
			if err := r.skipBlockComment(); err != nil {
				return err
			}
		default:
			r.consume(r.pos)
			isCommand, err := r.clientCommand()
			if err != nil || !isCommand {
				return err
			}
		}
	}
}

// atDashComment: two hyphens begin a comment only before white space, a
// control character or the end (MySQL Reference Manual, "Comments").
func (r *Reader) atDashComment() bool {
	return r.at("--") && (!r.ensure(3) || r.buf[r.pos+2] <= ' ')
}

func (r *Reader) atBlockComment() bool { return r.at("/*") }

// atConditional reports whether the block comment at pos holds text that a
// server may execute. Version 999999 is that of no server: newer dumps begin
// with such a comment to put the stock client into its sandbox mode.
func (r *Reader) atConditional() bool {
	if r.at("/*M!999999") || r.at("/*!999999") {
		return false
	}
	return r.at("/*!") || r.at("/*M!")
}

func (r *Reader) skipBlockComment() error {
	opened := r.pos
	r.pos += 2
	for r.ensure(2) {
		i := bytes.Index(r.buf[r.pos:], []byte("*/"))
		if i >= 0 {
			r.pos += i + 2
			return nil
		}
		r.pos = len(r.buf) - 1
	}
	return r.ended(opened, "a comment", "*/")
}

// clientCommand deals with a line that is meant for the stock client and not
// for the server. DELIMITER is obeyed; the others have no meaning here or
// reach outside the database, and are refused by name.
func (r *Reader) clientCommand() (bool, error) {
	r.ensure(64)
	line, _, _ := bytes.Cut(r.buf[r.pos:min(len(r.buf), r.pos+64)], []byte{'\n'})
	word := line
	if i := bytes.IndexFunc(line, func(c rune) bool { return c <= ' ' || c == ';' }); i >= 0 {
		word = line[:i]
	}
	name := strings.ToLower(string(word))
	switch name {
	case "delimiter":
		start := r.pos
		r.skipLine()
		fields := bytes.Fields(r.buf[start+len("delimiter") : r.pos])
		if len(fields) == 0 || bytes.ContainsRune(fields[0], '\\') {
			return false, fault.At(fault.Invalid, r.placeAt(start), "write for instance: DELIMITER ;;",
				"DELIMITER needs a word without a backslash")
		}
		r.setDelimiter(fields[0])
		return true, nil
	}
	if clientCommands[name] || len(word) > 1 && word[0] == '\\' {
		if word[0] == '\\' {
			name = string(word[:2])
		}
		return false, r.refuseCommand(r.pos, name)
	}
	return false, nil
}

// clientCommands are the words that the stock clients take for themselves at
// the beginning of a line (MySQL Reference Manual, "mysql Client Commands";
// MariaDB, "mariadb Command-Line Client"). USE and HELP are known to servers,
// too, and are none.
var clientCommands = map[string]bool{
	"?": true, "charset": true, "clear": true, "connect": true, "costs": true, "edit": true, "ego": true, "exit": true,
	"go": true, "nopager": true, "notee": true, "nowarning": true, "pager": true, "print": true, "prompt": true,
	"query_attributes": true, "quit": true, "rehash": true, "resetconnection": true, "sandbox": true, "source": true,
	"ssl_session_data_print": true, "status": true, "system": true, "tee": true, "warnings": true,
}

func (r *Reader) refuseCommand(at int, name string) error {
	return fault.At(fault.Invalid, r.placeAt(at), "remove the line, or name the files one by one under import",
		"%q is a command of the stock client, not of the server", name).With(ErrClientCommand)
}

// scanStatement reads from pos to the delimiter or the end of the input. An
// empty statement comes back with no text.
func (r *Reader) scanStatement() (Statement, error) {
	r.tokensSeen = r.tokensSeen[:0]
	conditional := -1 // where the conditional comment we are in was opened
	for {
		r.skipPlain()
		if !r.ensure(1) {
			if conditional >= 0 {
				return Statement{}, r.ended(conditional, "a conditional comment", "*/")
			}
			if !errors.Is(r.err, io.EOF) {
				return Statement{}, r.sourceError()
			}
			return r.statement(r.pos), nil
		}
		c := r.buf[r.pos]
		switch {
		case len(r.token) > 0 && c == r.token[0] && r.at(string(r.token)):
			r.tokensSeen = append(r.tokensSeen, r.pos)
			r.pos += len(r.token)
		case c == r.delimiter[0] && r.at(string(r.delimiter)):
			end := r.pos
			r.pos += len(r.delimiter)
			return r.statement(end), nil
		case c == '\'' || c == '"' || c == '`':
			if err := r.skipQuoted(c); err != nil {
				return Statement{}, err
			}
		case c == '\\' && r.ensure(2) && r.buf[r.pos+1] != 'N': // \N is NULL
			if r.buf[r.pos+1]|0x20 == 'g' { // \g and \G end a statement
				end := r.pos
				r.pos += 2
				return r.statement(end), nil
			}
			return Statement{}, r.refuseCommand(r.pos, string(r.buf[r.pos:r.pos+2]))
		case c == '#' || c == '-' && r.atDashComment():
			r.skipLine()
		case c == '/' && r.atBlockComment():
			if conditional < 0 && r.atConditional() {
				conditional = r.pos
				r.pos += 3
			} else if err := r.skipBlockComment(); err != nil {
				return Statement{}, err
			}
		case c == '*' && conditional >= 0 && r.at("*/"):
			conditional = -1
			r.pos += 2
		default:
			r.pos++
		}
	}
}

// skipPlain passes over what needs no decision: ordinary characters, and
// string literals that end within the buffer. Nearly all of a dump is such,
// so this loop decides how fast a script is read.
func (r *Reader) skipPlain() {
	buf, pos := r.buf, r.pos
	special, escapes := &r.special, r.modes.dialect.escapes('\'')
	for pos < len(buf) {
		for pos+4 <= len(buf) {
			four := buf[pos : pos+4 : pos+4]
			if special[four[0]] || special[four[1]] || special[four[2]] || special[four[3]] {
				break
			}
			pos += 4
		}
		for pos < len(buf) && !special[buf[pos]] {
			pos++
		}
		if pos == len(buf) || buf[pos] != '\'' {
			break
		}
		end := pos + 1
		for {
			end += literalEnd(buf[end:], '\'', escapes)
			if end >= len(buf) || buf[end] == '\'' {
				break
			}
			end += 2 // a backslash and what it escapes
			if end >= len(buf) {
				break
			}
		}
		if end >= len(buf) {
			break // skipQuoted reads on
		}
		pos = end + 1
	}
	r.pos = pos
}

var quoteNames = map[byte]string{
	'\'': "a string literal", '"': "a double-quoted string", '`': "a quoted name",
}

// skipQuoted passes over a literal or a quoted name. A doubled quote needs no
// care: it closes the literal and opens the next at once.
func (r *Reader) skipQuoted(quote byte) error {
	opened := r.pos
	escapes := r.modes.dialect.escapes(quote)
	r.pos++
	for r.ensure(1) {
		rest := r.buf[r.pos:]
		switch {
		case quote == '`':
			i := bytes.IndexByte(rest, '`')
			end := len(rest)
			if i >= 0 {
				end = i
			}
			if len(r.token) > 0 {
				for from := 0; ; {
					t := bytes.Index(rest[from:end], r.token)
					if t < 0 {
						break
					}
					r.tokensSeen = append(r.tokensSeen, r.pos+from+t)
					from += t + len(r.token)
				}
			}
			if i >= 0 {
				r.pos += i + 1
				return nil
			}
			if len(r.token) > 0 && !r.ensure(len(rest)+1) {
				return r.ended(opened, quoteNames[quote], string(quote))
			} else if len(r.token) > 0 {
				// The name goes on behind the buffer's end and a token may
				// straddle it: look at the whole name again.
				r.tokensSeen = dropFrom(r.tokensSeen, opened)
				r.pos = opened + 1
				continue
			}
			r.pos = len(r.buf)
		default:
			i := literalEnd(rest, quote, escapes)
			if i == len(rest) {
				r.pos = len(r.buf)
				continue
			}
			r.pos += i + 1
			if rest[i] == quote {
				return nil
			}
			if !r.ensure(1) { // a backslash at the very end
				return r.ended(opened, quoteNames[quote], string(quote))
			}
			r.pos++
		}
	}
	return r.ended(opened, quoteNames[quote], string(quote))
}

// literalEnd finds the first quote, or backslash where that escapes; it looks
// at eight bytes at a time.
func literalEnd(text []byte, quote byte, escapes bool) int {
	const ones, highs = 0x0101010101010101, 0x8080808080808080
	quotes, backslashes := ones*uint64(quote), ones*uint64('\\')
	if !escapes {
		backslashes = quotes
	}
	i := 0
	for ; i+8 <= len(text); i += 8 {
		word := binary.LittleEndian.Uint64(text[i:])
		// A byte that equals the wanted one is zero in the difference, and
		// the lowest such byte is marked in its highest bit.
		q, b := word^quotes, word^backslashes
		if found := ((q-ones)&^q | (b-ones)&^b) & highs; found != 0 {
			return i + bits.TrailingZeros64(found)/8
		}
	}
	for ; i < len(text); i++ {
		if text[i] == quote || text[i] == '\\' && escapes {
			break
		}
	}
	return i
}

func dropFrom(positions []int, from int) []int {
	for i, p := range positions {
		if p >= from {
			return positions[:i]
		}
	}
	return positions
}

// statement cuts buf[:end] into a Statement. Trailing white space goes, as it
// does with the stock client.
func (r *Reader) statement(end int) Statement {
	raw := bytes.TrimRight(r.buf[:end], " \n\r\t\v\f")
	s := Statement{Text: raw, Offset: r.offset, Size: len(raw), Line: r.line, Column: r.col}
	s.Text = replaced(raw, r.tokensSeen, len(r.token), r.prefix)
	return s
}

// replaced puts the prefix in place of the tokens, which are length bytes long
// and begin at the places seen; without any it is raw itself.
func replaced(raw []byte, seen []int, length int, prefix []byte) []byte {
	if len(seen) == 0 {
		return raw
	}
	var text []byte
	last := 0
	for _, at := range seen {
		text = append(append(text, raw[last:at]...), prefix...)
		last = at + length
	}
	return append(text, raw[last:]...)
}
