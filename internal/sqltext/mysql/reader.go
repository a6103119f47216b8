// Package mysql splits scripts for MariaDB and MySQL into statements, where the
// servers' stock clients split them, and follows what the script says of how it is to
// be read: sql_mode and the client's character set.
//
// It must never know of a server: what it read otherwise than a server would is found
// by internal/load, which compares.
package mysql

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/window"
)

// Reader reads a script statement by statement. Its memory is that of the
// longest statement, whatever the length of the script.
type Reader struct {
	window.Window
	special [256]bool // bytes that may mean something outside of quotes
	begun   bool
	// said is never changed, but replaced: statements keep it.
	said *state
}

// state is what a script has said to its reader.
type state struct {
	delimiter []byte
	modes     modes
}

// NewReader reads the script src. name is the file's name for error messages,
// mode the sql_mode that the session begins with.
func NewReader(name string, src io.Reader, d sqltext.Dialect, mode string) *Reader {
	r := &Reader{Window: window.New(name, src)}
	begun := state{delimiter: []byte(";"), modes: modes{dialect: d.WithMode(mode), now: mode}}
	begun.modes.begun.charset, begun.modes.begun.mode = d.Charset, mode
	r.follow(&begun)
	return r
}

// ReplacePrefix makes the reader write prefix wherever the script says token,
// outside string literals and comments. It must be called before Next.
func (r *Reader) ReplacePrefix(token, prefix string) {
	r.Window.ReplacePrefix(token, prefix)
	r.follow(r.said)
}

// follow reads on with what the script has said.
func (r *Reader) follow(said *state) {
	r.said = said
	r.special = [256]bool{'\'': true, '"': true, '`': true, '-': true, '#': true, '/': true, '*': true, '\\': true}
	r.special[said.delimiter[0]], r.special[';'] = true, true
	if len(r.Token) > 0 {
		r.special[r.Token[0]] = true
	}
}

// Next gives the next statement, or io.EOF behind the last one. Text between
// statements (white space, comments, DELIMITER lines) is passed over. A
// literal or comment that never ends, and a command that only the stock client
// could carry out, are errors with their place. Reading errors of the source
// come back as they are, wrapped with the file's name.
func (r *Reader) Next() (sqltext.Statement, error) {
	// The statement before is forgotten only together with the gap behind it:
	// it mostly ends with its line, and then no column has to be counted.
	if !r.begun {
		r.begun = true
		r.SkipMark()
	}
	for {
		if err := r.skipGap(); err != nil {
			return sqltext.Statement{}, err
		}
		statement, err := r.scanStatement()
		if err != nil {
			return statement, err
		}
		if len(statement.Text) > 0 {
			statement.Dialect = r.said.modes.dialect
			if len(r.Included()) == 0 {
				statement.State = r.said
			}
			if mayAssign(statement.Text) {
				next := state{r.said.delimiter, r.said.modes}
				statement.SetsReading, statement.Untraced = next.modes.observe(statement.Text)
				r.said = &next
			}
			return statement, nil
		}
	}
}

// Behind is how the server reads what comes behind the statement that Next returned
// last.
func (r *Reader) Behind() sqltext.Dialect { return r.said.modes.dialect }

// Resume reads on at a mark of this kind of reader; src begins at its offset.
func (r *Reader) Resume(src io.Reader, m sqltext.Mark) {
	r.Restart(src, m.Offset, m.Line, m.Column)
	r.begun = true
	r.follow(m.State.(*state))
}

// skipGap passes over what stands between statements and leaves the place at
// the first character of the next one. io.EOF: there is none.
func (r *Reader) skipGap() error {
	begun := r.Pos
	for {
		if !r.Ensure(1) {
			r.Consume(r.Pos)
			if !errors.Is(r.Err, io.EOF) {
				return r.SourceError()
			}
			if !r.Leave() {
				return io.EOF
			}
			begun = 0
			continue
		}
		c := r.Buf[r.Pos]
		switch {
		case window.IsSpace(c):
			r.Pos++
			if r.Pos-begun > window.ReadAhead {
				r.Consume(r.Pos)
				begun = 0
			}
		case c == '#' || r.atDashComment():
			r.SkipLineOfGap()
			begun = 0
		case r.atBlockComment() && !r.atConditional():
			if err := r.SkipGap(r.skipBlockComment); err != nil {
				return err
			}
			begun = 0
		default:
			r.Consume(r.Pos)
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
	return r.At("--") && (!r.Ensure(3) || r.Buf[r.Pos+2] <= ' ')
}

func (r *Reader) atBlockComment() bool { return r.At("/*") }

// atConditional reports whether the block comment at pos holds text that a
// server may execute. Version 999999 is that of no server: newer dumps begin
// with such a comment to put the stock client into its sandbox mode.
func (r *Reader) atConditional() bool {
	if r.At("/*M!999999") || r.At("/*!999999") {
		return false
	}
	return r.At("/*!") || r.At("/*M!")
}

func (r *Reader) skipBlockComment() error {
	opened, opening := r.Pos, window.Opening{}
	if r.Gap { // which forgets it
		opening = r.OpeningAt(opened)
	}
	r.Pos += 2
	for r.Ensure(2) {
		i := bytes.Index(r.Buf[r.Pos:], []byte("*/"))
		if i >= 0 {
			r.Pos += i + 2
			return nil
		}
		r.Pos = len(r.Buf) - 1
	}
	if !r.Gap {
		opening = r.OpeningAt(opened)
	}
	return r.Ended(opening, "a comment", "*/")
}

// clientCommand deals with a line that is meant for the stock client and not
// for the server. DELIMITER is obeyed, and so is source where files are followed; the
// others have no meaning here or reach outside the database, and are refused by name.
func (r *Reader) clientCommand() (bool, error) {
	r.Ensure(64)
	if r.Pos < len(r.Buf) && r.Buf[r.Pos]|0x20 == 'i' { // none begins so, and most statements do: INSERT
		return false, nil
	}
	line, _, _ := bytes.Cut(r.Buf[r.Pos:min(len(r.Buf), r.Pos+64)], []byte{'\n'})
	word := line
	if i := bytes.IndexFunc(line, func(c rune) bool { return c <= ' ' || c == ';' }); i >= 0 {
		word = line[:i]
	}
	name := strings.ToLower(string(word))
	switch name {
	case "delimiter":
		start := r.Pos
		r.SkipLine()
		fields := bytes.Fields(r.Buf[start+len("delimiter") : r.Pos])
		if len(fields) == 0 || bytes.ContainsRune(fields[0], '\\') {
			return false, fault.At(fault.Invalid, r.PlaceAt(start), "write for instance: DELIMITER ;;",
				"DELIMITER needs a word without a backslash")
		}
		r.follow(&state{bytes.Clone(fields[0]), r.said.modes})
		return true, nil
	}
	if (name == "source" || strings.HasPrefix(name, `\.`)) && r.Follows() {
		return true, r.enter(name)
	}
	if clientCommands[name] || len(word) > 1 && word[0] == '\\' {
		if word[0] == '\\' {
			name = string(word[:2])
		}
		return false, r.refuseCommand(r.Pos, name)
	}
	return false, nil
}

// enter goes on in the file that source or its short form \. names: all that stands
// behind it on the line, without a delimiter (MySQL Reference Manual, "mysql Client
// Commands").
func (r *Reader) enter(command string) error {
	start := r.Pos
	r.SkipLine()
	line := string(r.Buf[start:r.Pos])
	if command[0] == '\\' {
		command = `\.`
	}
	named := strings.TrimSpace(line[len(command):])
	named = strings.TrimSpace(strings.TrimSuffix(named, string(r.said.delimiter)))
	if named == "" || strings.Contains(named, string(r.said.delimiter)) {
		return fault.At(fault.Invalid, r.PlaceAt(start), "give it a line of its own, with one file", "%s needs the name of a file, and nothing after it", command)
	}
	return r.Enter(start, named)
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
	return fault.At(fault.Invalid, r.PlaceAt(at), "remove the line, or name the files one by one under import",
		"%q is a command of the stock client, not of the server", name).With(window.ErrClientCommand)
}

// scanStatement reads from pos to the delimiter or the end of the input. An
// empty statement comes back with no text.
func (r *Reader) scanStatement() (sqltext.Statement, error) {
	r.Unsee(0)
	conditional := -1 // where the conditional comment we are in was opened
	var inside chunk
	for {
		r.skipPlain()
		if !r.Ensure(1) {
			if conditional >= 0 {
				return sqltext.Statement{}, r.Ended(r.OpeningAt(conditional), "a conditional comment", "*/")
			}
			if !errors.Is(r.Err, io.EOF) {
				return sqltext.Statement{}, r.SourceError()
			}
			return r.statement(r.Pos), nil
		}
		c := r.Buf[r.Pos]
		switch {
		case r.AtToken():
			r.See(r.Pos)
			r.Pos += len(r.Token)
		case c == r.said.delimiter[0] && r.At(string(r.said.delimiter)):
			end := r.Pos
			r.Pos += len(r.said.delimiter)
			return r.statement(end), nil
		case c == ';':
			inside.whole = inside.whole || conditional >= 0
			end := r.Pos
			r.Pos++
			if inside.ends(r.Buf[:end], r.said.modes.dialect) {
				return r.statement(end), nil
			}
		case c == '\'' || c == '"' || c == '`':
			if err := r.skipQuoted(c); err != nil {
				return sqltext.Statement{}, err
			}
		case c == '\\' && r.Ensure(2) && r.Buf[r.Pos+1] != 'N': // \N is NULL
			if r.Buf[r.Pos+1]|0x20 == 'g' { // \g and \G end a statement
				end := r.Pos
				r.Pos += 2
				return r.statement(end), nil
			}
			return sqltext.Statement{}, r.refuseCommand(r.Pos, string(r.Buf[r.Pos:r.Pos+2]))
		case c == '#' || c == '-' && r.atDashComment():
			r.SkipLine()
		case c == '/' && r.atBlockComment():
			if conditional < 0 && r.atConditional() {
				conditional = r.Pos
				r.Pos += 3
			} else if err := r.skipBlockComment(); err != nil {
				return sqltext.Statement{}, err
			}
		case c == '*' && conditional >= 0 && r.At("*/"):
			conditional = -1
			r.Pos += 2
		default:
			r.Pos++
		}
	}
}

// skipPlain passes over what needs no decision: ordinary characters, and
// string literals and names that end within the buffer. Nearly all of a dump is such,
// so this loop decides how fast a script is read.
func (r *Reader) skipPlain() {
	buf, pos := r.Buf, r.Pos
	special, escapes := &r.special, r.said.modes.dialect.Escapes('\'')
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
		if pos < len(buf) && buf[pos] == '`' && len(r.Token) == 0 {
			closes := bytes.IndexByte(buf[pos+1:], '`')
			if closes < 0 {
				break // skipName reads on
			}
			pos += closes + 2
			continue
		}
		if pos == len(buf) || buf[pos] != '\'' {
			break
		}
		end := pos + 1
		for {
			end += window.LiteralEnd(buf[end:], '\'', escapes)
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
	r.Pos = pos
}

var quoteNames = map[byte]string{
	'\'': "a string literal", '"': "a double-quoted string", '`': "a quoted name",
}

// skipQuoted passes over a literal or a quoted name. A doubled quote needs no
// care: it closes the literal and opens the next at once.
func (r *Reader) skipQuoted(quote byte) error {
	if quote == '`' {
		return r.skipName()
	}
	opened := r.Pos
	escapes := r.said.modes.dialect.Escapes(quote)
	r.Pos++
	for r.Ensure(1) {
		rest := r.Buf[r.Pos:]
		i := window.LiteralEnd(rest, quote, escapes)
		if i == len(rest) {
			r.Pos = len(r.Buf)
			continue
		}
		r.Pos += i + 1
		if rest[i] == quote {
			return nil
		}
		if !r.Ensure(1) { // a backslash at the very end
			break
		}
		r.Pos++
	}
	return r.Ended(r.OpeningAt(opened), quoteNames[quote], string(quote))
}

// skipName passes over a name in backquotes, in which the prefix token counts.
func (r *Reader) skipName() error {
	opened := r.Pos
	r.Pos++
	// Tokens are looked for when all of the name is there: one may straddle the
	// buffer's end.
	for looked := 0; r.Ensure(looked + 1); looked = len(r.Buf) - r.Pos {
		closes := bytes.IndexByte(r.Buf[r.Pos+looked:], '`')
		if closes < 0 {
			continue
		}
		end := looked + closes
		r.seeTokens(r.Buf[r.Pos : r.Pos+end])
		r.Pos += end + 1
		return nil
	}
	return r.Ended(r.OpeningAt(opened), quoteNames['`'], "`")
}

// seeTokens notes the prefix tokens of a name, which begins at Pos.
func (r *Reader) seeTokens(name []byte) {
	for from := 0; len(r.Token) > 0; from += len(r.Token) {
		at := bytes.Index(name[from:], r.Token)
		if at < 0 {
			return
		}
		from += at
		r.See(r.Pos + from)
	}
}

// statement cuts Buf[:end] into a Statement.
func (r *Reader) statement(end int) sqltext.Statement {
	raw, text := r.Cut(end)
	return sqltext.Statement{Text: text, Offset: r.Offset, Size: len(raw), File: r.File(), Line: r.Line, Column: r.Column}
}
