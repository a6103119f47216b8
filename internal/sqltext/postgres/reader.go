// Package postgres splits scripts for PostgreSQL into statements, where the server's
// stock client splits them, and hands on the rows of COPY.
//
// It must never know of a server, or of what a statement would do.
package postgres

import (
	"bytes"
	"errors"
	"io"
	"regexp"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/window"
)

// Reader reads a script for PostgreSQL statement by statement, and
// splits it where the server's stock client, psql, does (PostgreSQL, "psql",
// "Meta-Commands"; "Lexical Structure"). Its memory is that of the longest
// statement; data of COPY is handed on as a stream.
type Reader struct {
	window.Window
	// commands are the client's commands inside the current statement, as
	// beginning and end in Buf.
	commands [][2]int
	begun    bool
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

// NewReader reads the script src; name is the file's name for errors.
func NewReader(name string, src io.Reader) *Reader {
	return &Reader{Window: window.New(name, src), plainQuotes: true}
}

// Retarget makes the reader pass over the command that goes to another
// database. It must be called before Next.
func (r *Reader) Retarget() { r.retarget = true }

// Resume reads on at a mark of this kind of reader; src begins at its offset.
func (r *Reader) Resume(src io.Reader, m sqltext.Mark) {
	r.Restart(src, m.Offset, m.Line, m.Column)
	r.begun, r.data, r.plainQuotes = true, nil, m.State.(bool)
}

// Passed lists the commands for the stock client that were passed over so far,
// because they have no meaning for the server.
func (r *Reader) Passed() []ClientCommand { return r.passed }

// Next gives the next statement without its semicolon, or io.EOF after the last one. Data that
// follows a COPY and was not read is passed over. What never ends, and a command that only the
// stock client could carry out, are errors with their place.
func (r *Reader) Next() (sqltext.Statement, error) {
	if !r.begun {
		r.begun = true
		r.SkipMark()
	}
	if r.data != nil {
		if _, err := io.Copy(io.Discard, r.data); err != nil {
			return sqltext.Statement{}, err
		}
		r.data = nil
	}
	for {
		if err := r.skipGap(); err != nil {
			return sqltext.Statement{}, err
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
func (r *Reader) Data() io.Reader {
	if r.data == nil {
		return nil
	}
	return r.data
}

// skipGap passes over white space, comments and client commands.
func (r *Reader) skipGap() error {
	for {
		if !r.Ensure(1) {
			r.Consume(r.Pos)
			if !errors.Is(r.Err, io.EOF) {
				return r.SourceError()
			}
			if !r.Leave() {
				return io.EOF
			}
			continue
		}
		switch c := r.Buf[r.Pos]; {
		case window.IsSpace(c):
			r.Pos++
			if r.Pos > window.ReadAhead {
				r.Consume(r.Pos)
			}
		case r.At("--"):
			r.SkipLineOfGap()
		case r.At("/*"):
			if err := r.SkipGap(r.skipNested); err != nil {
				return err
			}
		case c == '\\':
			r.Consume(r.Pos)
			if entered, err := r.enter(); entered || err != nil {
				if err != nil {
					return err
				}
				continue
			}
			if _, err := r.command(); err != nil {
				return err
			}
		default:
			r.Consume(r.Pos)
			return nil
		}
	}
}

// skipNested passes over a block comment and those inside it.
func (r *Reader) skipNested() error {
	opened, depth, opening := r.Pos, 0, window.Opening{}
	if r.Gap { // which forgets it
		opening = r.OpeningAt(opened)
	}
	for r.Ensure(2) {
		switch {
		case r.At("/*"):
			depth++
			r.Pos += 2
		case r.At("*/"):
			depth--
			r.Pos += 2
			if depth == 0 {
				return nil
			}
		default:
			r.Pos++
		}
	}
	if !r.Gap {
		opening = r.OpeningAt(opened)
	}
	return r.Ended(opening, "a comment", "*/")
}

// body follows whether a semicolon belongs to the body of a routine that is
// written in SQL: CREATE FUNCTION ... BEGIN ATOMIC ...; END (psqlscan.l).
type body struct {
	first [4]byte // first letters of the first four words, where they matter
	words int
	depth int
}

func (b *body) word(text []byte, parentheses int) {
	if b.words > 0 && b.first[0] != 'c' || b.words == 0 && text[0]|0x20 != 'c' { // no CREATE, as nearly all statements of a dump
		b.words++
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
func (r *Reader) scan() (sqltext.Statement, error) {
	r.Unsee(0)
	r.commands = nil
	parentheses := 0
	var b body
	for {
		if !r.Ensure(1) {
			if !errors.Is(r.Err, io.EOF) {
				return sqltext.Statement{}, r.SourceError()
			}
			return r.statement(r.Pos), nil
		}
		if r.passPlain(); r.Pos == len(r.Buf) {
			continue
		}
		c := r.Buf[r.Pos]
		var err error
		switch {
		case r.AtToken():
			r.See(r.Pos)
			r.Pos += len(r.Token)
		case startsWord(c):
			err = r.skipWord(&b, parentheses)
		case c >= '0' && c <= '9': // 1$ is no dollar quote
			for r.Ensure(1) && isWord(r.Buf[r.Pos]) {
				for r.Pos < len(r.Buf) && isWord(r.Buf[r.Pos]) {
					r.Pos++
				}
			}
		case c == '\'':
			err = r.skipString(!r.plainQuotes)
		case c == '"':
			err = r.skipQuotedName()
		case c == '$':
			err = r.skipDollars()
		case c == '-' && r.At("--"):
			r.SkipLine()
		case c == '/' && r.At("/*"):
			err = r.skipNested()
		case c == '\\':
			end := r.Pos
			var ends bool
			if ends, err = r.command(); ends {
				return r.statement(end), err
			}
			if err == nil {
				r.commands = append(r.commands, [2]int{end, r.Pos})
			}
		case c == '(':
			parentheses++
			r.Pos++
		case c == ')':
			parentheses = max(0, parentheses-1)
			r.Pos++
		case c == ';' && parentheses == 0 && b.depth == 0:
			r.Pos++
			return r.statement(r.Pos - 1), nil
		default:
			r.Pos++
		}
		if err != nil {
			return sqltext.Statement{}, err
		}
	}
}

func startsWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}

// Bytes by what they are: part of a word, or of no meaning to where a statement
// ends. Tables are several times faster here than comparing.
var wordBytes, plainBytes = byteTables()

func byteTables() (words, plain [256]bool) {
	for i := range 256 {
		c := byte(i)
		words[i] = startsWord(c) || c >= '0' && c <= '9' || c == '$'
		plain[i] = !words[i] && strings.IndexByte("'\"-/\\();", c) < 0
	}
	return words, plain
}

func isWord(c byte) bool { return wordBytes[c] }

// passPlain passes over blanks, commas and the like, as far as they are at hand.
func (r *Reader) passPlain() {
	if len(r.Token) > 0 && plainBytes[r.Token[0]] { // the token may begin with one
		return
	}
	for r.Pos < len(r.Buf) && plainBytes[r.Buf[r.Pos]] {
		r.Pos++
	}
}

// skipWord passes over a word, and over the literal that E or U& begins.
func (r *Reader) skipWord(b *body, parentheses int) error {
	start := r.Pos
	for r.Ensure(1) && isWord(r.Buf[r.Pos]) {
		if len(r.Token) > 0 {
			if r.Pos > start && r.AtToken() {
				break
			}
			r.Pos++
			continue
		}
		for r.Pos < len(r.Buf) && isWord(r.Buf[r.Pos]) {
			r.Pos++
		}
	}
	if r.Pos == start+1 && r.Buf[start]|0x20 == 'e' && r.At("'") {
		return r.skipString(true)
	}
	b.word(r.Buf[start:r.Pos], parentheses)
	return nil
}

// skipString passes over a literal. One that goes on after a line end goes on in the way it
// has begun, as the server reads it; psql, which looks at one line at a time, does not see
// that.
func (r *Reader) skipString(escapes bool) error {
	opened := r.Pos
	r.Pos++
	for r.Ensure(1) {
		i := window.LiteralEnd(r.Buf[r.Pos:], '\'', escapes)
		if r.Pos += i; r.Pos == len(r.Buf) {
			continue
		}
		r.Pos++
		if r.Buf[r.Pos-1] == '\\' {
			if !r.Ensure(1) {
				break
			}
			r.Pos++
			continue
		}
		if r.At("'") {
			r.Pos++
			continue
		}
		if !escapes || !r.continues() {
			return nil
		}
	}
	return r.Ended(r.OpeningAt(opened), "a string literal", "'")
}

// continues passes over white space with a line end in it, and the quote after that; without
// one nothing is passed.
func (r *Reader) continues() bool {
	from, lines := r.Pos, 0
	for at := 0; r.Ensure(at + 1); at++ {
		switch c := r.Buf[from+at]; {
		case c == '\n' || c == '\r':
			lines++
		case window.IsSpace(c):
		case c == '\'' && lines > 0:
			r.Pos = from + at + 1
			return true
		default:
			return false
		}
	}
	return false
}

func (r *Reader) skipQuotedName() error {
	opened := r.Pos
	r.Pos++
	for r.Ensure(1) {
		if r.AtToken() {
			r.See(r.Pos)
			r.Pos += len(r.Token)
			continue
		}
		r.Pos++
		if r.Buf[r.Pos-1] == '"' { // a doubled one closes and opens again
			return nil
		}
	}
	return r.Ended(r.OpeningAt(opened), "a quoted name", `"`)
}

// skipDollars passes over a literal in dollar quotes, or over a dollar that is
// none: $1.
func (r *Reader) skipDollars() error {
	opened := r.Pos
	r.Pos++
	for r.Ensure(1) && isWord(r.Buf[r.Pos]) && r.Buf[r.Pos] != '$' {
		if r.Pos == opened+1 && !startsWord(r.Buf[r.Pos]) {
			return nil
		}
		r.Pos++
	}
	if !r.At("$") {
		return nil
	}
	r.Pos++
	tag := bytes.Clone(r.Buf[opened:r.Pos])
	for r.Ensure(len(tag)) {
		i := bytes.Index(r.Buf[r.Pos:], tag)
		if i >= 0 {
			r.Pos += i + len(tag)
			return nil
		}
		r.Pos = len(r.Buf) - len(tag) + 1
	}
	return r.Ended(r.OpeningAt(opened), "a literal in dollar quotes", string(tag))
}

// passedCommands are the client's commands that change nothing for the server.
var passedCommands = map[string]bool{
	`\restrict`: true, `\unrestrict`: true, `\echo`: true, `\qecho`: true, `\warn`: true, `\pset`: true, `\timing`: true, `\x`: true, `\a`: true, `\t`: true, `\f`: true, `\H`: true,
}

// passedVariables are variables of the client that a script may set.
var passedVariables = map[string]bool{"ON_ERROR_STOP": true, "ON_ERROR_ROLLBACK": true, "ECHO": true, "ECHO_HIDDEN": true, "QUIET": true, "VERBOSITY": true, "SHOW_CONTEXT": true, "FETCH_COUNT": true, "AUTOCOMMIT": true, "SINGLELINE": true, "SINGLESTEP": true}

// includes is a command that names a file, which may stand in single quotes.
var includes = regexp.MustCompile(`^\\(?:ir?|include(?:_relative)?)[ \t]+(?:'([^'\\]+)'|([^\s'"\\:]+))\s*$`)

// enter goes on in the file that \i or \ir names at Pos, where files are followed.
func (r *Reader) enter() (entered bool, err error) {
	if !r.Follows() {
		return false, nil
	}
	start := r.Pos
	r.SkipLine()
	m := includes.FindSubmatch(r.Buf[start:r.Pos])
	if m == nil {
		r.Pos = start
		return false, nil
	}
	return true, r.Enter(start, string(append(m[1], m[2]...)))
}

// command deals with a backslash command: to the end of its line it is the
// client's. ends reports that it ends the statement before it (\g).
func (r *Reader) command() (ends bool, err error) {
	start := r.Pos
	for r.Ensure(1) && r.Buf[r.Pos] != '\n' {
		r.Pos++
	}
	line := strings.TrimRight(string(r.Buf[start:r.Pos]), "\r")
	name, rest, _ := strings.Cut(line, " ")
	if i := strings.IndexAny(name[1:], "\\;\t"); i >= 0 {
		name, rest = name[:i+1], name[i+1:]
	}
	rest = strings.TrimSpace(rest)
	place := r.PlaceAt(start)
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
	return false, fault.At(fault.Invalid, place, next, "%s is a command of the stock client, not of the server", name).With(window.ErrClientCommand)
}

// statement cuts Buf[:end] into a Statement. psql takes a command out of the middle of one;
// blanks keep the places after it right.
func (r *Reader) statement(end int) sqltext.Statement {
	for _, command := range r.commands {
		copy(r.Buf[command[0]:], bytes.Repeat([]byte{' '}, command[1]-command[0]))
	}
	raw, text := r.Cut(end)
	s := sqltext.Statement{Text: text, Offset: r.Offset, Size: len(raw), File: r.File(), Line: r.Line, Column: r.Column, Dialect: dialect}
	s.Dialect.NoBackslashEscapes = r.plainQuotes
	if len(r.Included()) == 0 {
		s.State = r.plainQuotes
	}
	return s
}

// dialect is how PostgreSQL reads a statement unless standard_conforming_strings is
// off.
var dialect = sqltext.Dialect{ANSIQuotes: true, NoBackslashEscapes: true, PostgreSQL: true}

// observe follows standard_conforming_strings.
func (r *Reader) observe(text []byte) {
	if len(text) < 3 || !strings.EqualFold(string(text[:3]), "set") {
		return
	}
	for _, a := range sqltext.ParseSet(text, dialect) {
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
	scanner := sqltext.NewScanner(text, dialect)
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

// copyData are the rows after a COPY, up to the line \. or the end.
type copyData struct {
	reader *Reader
	begun  bool
	done   bool
}

// Read gives whole lines where it can.
func (d *copyData) Read(into []byte) (int, error) {
	r := d.reader
	if !d.begun { // the rest of the COPY's own line
		d.begun = true
		r.SkipLine()
		r.Consume(r.Pos)
	}
	if d.done || !r.Ensure(1) {
		d.done = true
		if r.Err != nil && !errors.Is(r.Err, io.EOF) {
			return 0, r.SourceError()
		}
		return 0, io.EOF
	}
	// At the beginning of a line: is it the last one?
	if r.Column == 1 && r.At(`\.`) && (!r.Ensure(3) || r.Buf[r.Pos+2] == '\n' || r.Buf[r.Pos+2] == '\r') {
		r.SkipLine()
		r.Consume(r.Pos)
		d.done = true
		return 0, io.EOF
	}
	n := len(r.Buf) - r.Pos
	if i := bytes.IndexByte(r.Buf[r.Pos:], '\n'); i >= 0 {
		n = i + 1
		// More whole lines, as long as none of them begins with a backslash
		// and a dot.
		for n < len(into) {
			next := bytes.IndexByte(r.Buf[r.Pos+n:], '\n')
			if next < 0 || bytes.HasPrefix(r.Buf[r.Pos+n:], []byte(`\.`)) {
				break
			}
			n += next + 1
		}
	}
	n = copy(into, r.Buf[r.Pos:r.Pos+n])
	r.Pos += n
	r.Consume(r.Pos)
	return n, nil
}
