package sqltext

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"yellowfield/internal/fault"
)

// PostgresReader reads a script for PostgreSQL statement by statement, and
// splits it where the server's stock client, psql, does (PostgreSQL, "psql",
// "Meta-Commands"; "Lexical Structure"). Its memory is that of the longest
// statement; data of COPY is handed on as a stream.
type PostgresReader struct {
	input
	token  []byte // prefix token, empty for none
	prefix []byte
	tokens []int // where in buf the current statement holds the token
	begun  bool
	// plainQuotes is standard_conforming_strings: a backslash in '...' is an
	// ordinary character.
	plainQuotes bool
	retarget    bool
	data        *copyData // of the COPY that Next returned last; nil for none
	passed      []ClientCommand
}

// ClientCommand is a line that is meant for the stock client.
type ClientCommand struct {
	Place fault.Place
	Name  string // with its backslash
}

// NewPostgresReader reads the script src; name is the file's name for errors.
func NewPostgresReader(name string, src io.Reader) *PostgresReader {
	return &PostgresReader{input: newInput(name, src), plainQuotes: true}
}

// ReplacePrefix makes the reader write prefix wherever the script says token,
// outside string literals and comments. It must be called before Next.
func (r *PostgresReader) ReplacePrefix(token, prefix string) {
	r.token, r.prefix = []byte(token), []byte(prefix)
}

// Retarget makes the reader pass over the command that goes to another
// database. It must be called before Next.
func (r *PostgresReader) Retarget() { r.retarget = true }

// PostgresMark is a place in a script from which it can be read on: where a
// statement begins, with all that the script has said to its reader before.
type PostgresMark struct {
	Offset       int64
	line, column int
	plainQuotes  bool
}

// Mark gives the place of the statement that Next returned last.
func (r *PostgresReader) Mark() PostgresMark {
	return PostgresMark{Offset: r.offset, line: r.line, column: r.col, plainQuotes: r.plainQuotes}
}

// Resume reads on at a mark; src begins at its offset.
func (r *PostgresReader) Resume(src io.Reader, m PostgresMark) {
	r.src, r.err, r.begun, r.data = src, nil, true, nil
	r.buf, r.pos = make([]byte, 0, readAhead), 0
	r.offset, r.line, r.col, r.plainQuotes = m.Offset, m.line, m.column, m.plainQuotes
}

// Passed lists the commands for the stock client that were passed over so far,
// because they have no meaning for the server.
func (r *PostgresReader) Passed() []ClientCommand { return r.passed }

// Next gives the next statement without its semicolon, or io.EOF behind the last
// one. Data that follows a COPY and was not read is passed over. What never ends,
// and a command that only the stock client could carry out, are errors with
// their place.
func (r *PostgresReader) Next() (Statement, error) {
	if !r.begun {
		r.begun = true
		r.skipMark()
	}
	if r.data != nil {
		if _, err := io.Copy(io.Discard, r.data); err != nil {
			return Statement{}, err
		}
		r.data = nil
	}
	for {
		if err := r.skipGap(); err != nil {
			return Statement{}, err
		}
		s, err := r.scan()
		if err != nil {
			return s, err
		}
		if len(s.Text) > 0 {
			r.observe(s.Text)
			if takesData(s.Text) {
				r.data = &copyData{reader: r}
			}
			return s, nil
		}
	}
}

// Data gives the rows that follow the COPY ... FROM STDIN that Next returned
// last, without the line that ends them; nil when it was another statement. It
// must be read before the next call of Next, and reading it makes the
// statement's text invalid.
func (r *PostgresReader) Data() io.Reader {
	if r.data == nil {
		return nil
	}
	return r.data
}

// skipGap passes over white space, comments and client commands.
func (r *PostgresReader) skipGap() error {
	for {
		if !r.ensure(1) {
			r.consume(r.pos)
			if errors.Is(r.err, io.EOF) {
				return io.EOF
			}
			return r.sourceError()
		}
		switch c := r.buf[r.pos]; {
		case isSpace(c):
			r.pos++
			if r.pos > readAhead {
				r.consume(r.pos)
			}
		case r.at("--"):
			r.skipLine()
		case r.at("/*"):
			if err := r.skipNested(); err != nil {
				return err
			}
		case c == '\\':
			r.consume(r.pos)
			if _, err := r.command(); err != nil {
				return err
			}
		default:
			r.consume(r.pos)
			return nil
		}
	}
}

// skipNested passes over a block comment and those inside it.
func (r *PostgresReader) skipNested() error {
	opened, depth := r.pos, 0
	for r.ensure(2) {
		switch {
		case r.at("/*"):
			depth++
			r.pos += 2
		case r.at("*/"):
			depth--
			r.pos += 2
			if depth == 0 {
				return nil
			}
		default:
			r.pos++
		}
	}
	return r.ended(opened, "a comment", "*/")
}

// body follows whether a semicolon belongs to the body of a routine that is
// written in SQL: CREATE FUNCTION ... BEGIN ATOMIC ...; END (psqlscan.l).
type body struct {
	first [4]byte // first letters of the first four words, where they matter
	words int
	depth int
}

func (b *body) word(text []byte, parentheses int) {
	if b.words > 0 && b.first[0] != 'c' { // no CREATE, as nearly all statements of a dump
		return
	}
	lower := strings.ToLower(string(text))
	if b.words < len(b.first) {
		switch lower {
		case "create", "function", "procedure", "or", "replace":
			b.first[b.words] = lower[0]
		}
	}
	b.words++
	routine := b.first[0] == 'c' && (b.first[1] == 'f' || b.first[1] == 'p' || b.first[1] == 'o' && b.first[2] == 'r' && (b.first[3] == 'f' || b.first[3] == 'p'))
	if !routine || parentheses > 0 {
		return
	}
	switch {
	case lower == "begin", lower == "case" && b.depth > 0:
		b.depth++
	case lower == "end" && b.depth > 0:
		b.depth--
	}
}

// scan reads from pos to the semicolon or the end of the input.
func (r *PostgresReader) scan() (Statement, error) {
	r.tokens = r.tokens[:0]
	parentheses := 0
	var b body
	for {
		if !r.ensure(1) {
			if !errors.Is(r.err, io.EOF) {
				return Statement{}, r.sourceError()
			}
			return r.statement(r.pos), nil
		}
		if r.passDull(); r.pos == len(r.buf) {
			continue
		}
		c := r.buf[r.pos]
		var err error
		switch {
		case len(r.token) > 0 && c == r.token[0] && r.at(string(r.token)):
			r.tokens = append(r.tokens, r.pos)
			r.pos += len(r.token)
		case isPostgresWordStart(c):
			err = r.skipWord(&b, parentheses)
		case c >= '0' && c <= '9': // 1$ is no dollar quote
			for r.ensure(1) && isPostgresWord(r.buf[r.pos]) {
				for r.pos < len(r.buf) && isPostgresWord(r.buf[r.pos]) {
					r.pos++
				}
			}
		case c == '\'':
			err = r.skipString(!r.plainQuotes)
		case c == '"':
			err = r.skipQuotedName()
		case c == '$':
			err = r.skipDollars()
		case c == '-' && r.at("--"):
			r.skipLine()
		case c == '/' && r.at("/*"):
			err = r.skipNested()
		case c == '\\':
			end := r.pos
			var ends bool
			if ends, err = r.command(); ends {
				return r.statement(end), err
			}
			if err == nil {
				// psql takes a command out of the middle of a statement; blanks
				// keep the places behind it right.
				for i := end; i < r.pos; i++ {
					r.buf[i] = ' '
				}
			}
		case c == '(':
			parentheses++
			r.pos++
		case c == ')':
			parentheses = max(0, parentheses-1)
			r.pos++
		case c == ';' && parentheses == 0 && b.depth == 0:
			r.pos++
			return r.statement(r.pos - 1), nil
		default:
			r.pos++
		}
		if err != nil {
			return Statement{}, err
		}
	}
}

func isPostgresWordStart(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}

// Bytes by what they are: part of a word, or of no meaning to where a statement
// ends. Tables are several times faster here than comparing.
var wordBytes, dullBytes = byteTables()

func byteTables() (words, dull [256]bool) {
	for i := range 256 {
		c := byte(i)
		words[i] = isPostgresWordStart(c) || c >= '0' && c <= '9' || c == '$'
		dull[i] = !words[i] && strings.IndexByte("'\"-/\\();", c) < 0
	}
	return words, dull
}

func isPostgresWord(c byte) bool { return wordBytes[c] }

// passDull passes over blanks, commas and the like, as far as they are at hand.
func (r *PostgresReader) passDull() {
	if len(r.token) > 0 && dullBytes[r.token[0]] { // the token may begin with one
		return
	}
	for r.pos < len(r.buf) && dullBytes[r.buf[r.pos]] {
		r.pos++
	}
}

// skipWord passes over a word, and over the literal that E or U& begins.
func (r *PostgresReader) skipWord(b *body, parentheses int) error {
	start := r.pos
	for r.ensure(1) && isPostgresWord(r.buf[r.pos]) {
		if len(r.token) > 0 {
			if r.pos > start && r.buf[r.pos] == r.token[0] && r.at(string(r.token)) {
				break
			}
			r.pos++
			continue
		}
		for r.pos < len(r.buf) && isPostgresWord(r.buf[r.pos]) {
			r.pos++
		}
	}
	word := r.buf[start:r.pos]
	if len(word) == 1 && word[0]|0x20 == 'e' && r.at("'") {
		return r.skipString(true)
	}
	b.word(word, parentheses)
	return nil
}

// skipString passes over a literal. One that goes on behind a line end goes on
// in the way it has begun, as the server reads it; psql, which looks at one line
// at a time, does not see that.
func (r *PostgresReader) skipString(escapes bool) error {
	opened := r.pos
	r.pos++
	for r.ensure(1) {
		i := literalEnd(r.buf[r.pos:], '\'', escapes)
		if r.pos += i; r.pos == len(r.buf) {
			continue
		}
		r.pos++
		if r.buf[r.pos-1] == '\\' {
			if !r.ensure(1) {
				break
			}
			r.pos++
			continue
		}
		if r.at("'") {
			r.pos++
			continue
		}
		if !escapes || !r.continues() {
			return nil
		}
	}
	return r.ended(opened, "a string literal", "'")
}

// continues passes over white space with a line end in it, and the quote behind
// that; without one nothing is passed.
func (r *PostgresReader) continues() bool {
	from, lines := r.pos, 0
	for at := 0; r.ensure(at + 1); at++ {
		switch c := r.buf[from+at]; {
		case c == '\n' || c == '\r':
			lines++
		case isSpace(c):
		case c == '\'' && lines > 0:
			r.pos = from + at + 1
			return true
		default:
			return false
		}
	}
	return false
}

func (r *PostgresReader) skipQuotedName() error {
	opened := r.pos
	r.pos++
	for r.ensure(1) {
		if len(r.token) > 0 && r.at(string(r.token)) {
			r.tokens = append(r.tokens, r.pos)
			r.pos += len(r.token)
			continue
		}
		r.pos++
		if r.buf[r.pos-1] == '"' { // a doubled one closes and opens again
			return nil
		}
	}
	return r.ended(opened, "a quoted name", `"`)
}

// skipDollars passes over a literal in dollar quotes, or over a dollar that is
// none: $1.
func (r *PostgresReader) skipDollars() error {
	opened := r.pos
	r.pos++
	for r.ensure(1) && isPostgresWord(r.buf[r.pos]) && r.buf[r.pos] != '$' {
		if r.pos == opened+1 && !isPostgresWordStart(r.buf[r.pos]) {
			return nil
		}
		r.pos++
	}
	if !r.at("$") {
		return nil
	}
	r.pos++
	tag := bytes.Clone(r.buf[opened:r.pos])
	for r.ensure(len(tag)) {
		i := bytes.Index(r.buf[r.pos:], tag)
		if i >= 0 {
			r.pos += i + len(tag)
			return nil
		}
		r.pos = len(r.buf) - len(tag) + 1
	}
	return r.ended(opened, "a literal in dollar quotes", string(tag))
}

// passedCommands are the client's commands that change nothing for the server.
var passedCommands = map[string]bool{
	`\restrict`: true, `\unrestrict`: true, `\echo`: true, `\qecho`: true, `\warn`: true, `\pset`: true, `\timing`: true, `\x`: true, `\a`: true, `\t`: true, `\f`: true, `\H`: true,
}

// passedVariables are variables of the client that a script may set.
var passedVariables = map[string]bool{"ON_ERROR_STOP": true, "ON_ERROR_ROLLBACK": true, "ECHO": true, "ECHO_HIDDEN": true, "QUIET": true, "VERBOSITY": true, "SHOW_CONTEXT": true, "FETCH_COUNT": true, "AUTOCOMMIT": true, "SINGLELINE": true, "SINGLESTEP": true}

// command deals with a backslash command: to the end of its line it is the
// client's. ends reports that it ends the statement before it (\g).
func (r *PostgresReader) command() (ends bool, err error) {
	start := r.pos
	for r.ensure(1) && r.buf[r.pos] != '\n' {
		r.pos++
	}
	line := strings.TrimRight(string(r.buf[start:r.pos]), "\r")
	name, rest, _ := strings.Cut(line, " ")
	if i := strings.IndexAny(name[1:], "\\;\t"); i >= 0 {
		name, rest = name[:i+1], name[i+1:]
	}
	rest = strings.TrimSpace(rest)
	place := r.placeAt(start)
	if name == `\g` && rest == "" {
		return true, nil
	}
	variable, _, _ := strings.Cut(rest, " ")
	if passedCommands[name] || name == `\set` && passedVariables[variable] || name == `\encoding` && strings.EqualFold(strings.Trim(rest, "'"), "utf8") {
		r.passed = append(r.passed, ClientCommand{place, name})
		return false, nil
	}
	next := "remove the line, or name the files one by one under import"
	if name == `\connect` || name == `\c` {
		if r.retarget {
			r.passed = append(r.passed, ClientCommand{place, name})
			return false, nil
		}
		next = "remove the line, or use {retarget}: the script goes into the app's own database"
	}
	return false, fault.At(fault.Invalid, place, next, "%s is a command of the stock client, not of the server", name).With(ErrClientCommand)
}

// statement cuts buf[:end] into a Statement.
func (r *PostgresReader) statement(end int) Statement {
	raw := bytes.TrimRight(r.buf[:end], " \n\r\t\v\f")
	s := Statement{Text: raw, Offset: r.offset, Size: len(raw), Line: r.line, Column: r.col, Dialect: Dialect{ANSIQuotes: true, NoBackslashEscapes: r.plainQuotes, PostgreSQL: true}}
	s.Text = replaced(raw, r.tokens, len(r.token), r.prefix)
	return s
}

// longestSet is how long a SET statement may be to be looked into: those that
// dumps and installers write are far shorter.
const longestSet = 4096

// observe follows standard_conforming_strings.
func (r *PostgresReader) observe(text []byte) {
	if len(text) > longestSet || len(text) < 3 || !strings.EqualFold(string(text[:3]), "set") {
		return
	}
	for _, a := range ParseSet(text, Dialect{ANSIQuotes: true, NoBackslashEscapes: true, PostgreSQL: true}) {
		if a.Name == "standard_conforming_strings" && len(a.Value) > 0 {
			value := strings.ToLower(a.Value[len(a.Value)-1].Plain())
			r.plainQuotes = value != "off" && value != "false" && value != "0" && value != "no"
		}
	}
}

// takesData reports whether a statement is a COPY from standard input.
func takesData(text []byte) bool {
	if len(text) < 4 || !strings.EqualFold(string(text[:4]), "copy") {
		return false
	}
	scanner := NewScanner(text, Dialect{ANSIQuotes: true, NoBackslashEscapes: true, PostgreSQL: true})
	depth, from := 0, false
	for t, ok := scanner.Next(); ok; t, ok = scanner.Next() {
		switch {
		case t.IsPunct('('):
			depth++
		case t.IsPunct(')'):
			depth--
		case depth == 0 && from:
			return t.Is("STDIN")
		case depth == 0 && t.Is("FROM"):
			from = true
		}
	}
	return false
}

// copyData are the rows behind a COPY, up to the line \. or the end.
type copyData struct {
	reader *PostgresReader
	begun  bool
	done   bool
}

// Read gives whole lines where it can.
func (d *copyData) Read(into []byte) (int, error) {
	r := d.reader
	if !d.begun { // the rest of the COPY's own line
		d.begun = true
		r.skipLine()
		r.consume(r.pos)
	}
	if d.done || !r.ensure(1) {
		d.done = true
		if r.err != nil && !errors.Is(r.err, io.EOF) {
			return 0, r.sourceError()
		}
		return 0, io.EOF
	}
	// At the beginning of a line: is it the last one?
	if r.col == 1 && r.at(`\.`) && (!r.ensure(3) || r.buf[r.pos+2] == '\n' || r.buf[r.pos+2] == '\r') {
		r.skipLine()
		r.consume(r.pos)
		d.done = true
		return 0, io.EOF
	}
	n := len(r.buf) - r.pos
	if i := bytes.IndexByte(r.buf[r.pos:], '\n'); i >= 0 {
		n = i + 1
		// More whole lines, as long as none of them begins with a backslash
		// and a dot.
		for n < len(into) {
			next := bytes.IndexByte(r.buf[r.pos+n:], '\n')
			if next < 0 || bytes.HasPrefix(r.buf[r.pos+n:], []byte(`\.`)) {
				break
			}
			n += next + 1
		}
	}
	n = copy(into, r.buf[r.pos:r.pos+n])
	r.pos += n
	r.consume(r.pos)
	return n, nil
}
