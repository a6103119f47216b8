package sqltext

import (
	"bytes"
	"cmp"
	"regexp"
	"strings"
)

// Dialect is how a server reads a statement. The zero value is a MySQL that
// executes every conditional comment.
type Dialect struct {
	MariaDB bool
	// Version is the server's, as conditional comments count it: 101106 for
	// 10.11.6. 0 takes every conditional comment for executed.
	Version int
	// ANSIQuotes makes "x" a name, and NoBackslashEscapes makes a backslash
	// an ordinary character, as the SQL modes of these names do.
	ANSIQuotes, NoBackslashEscapes bool
	// Charset is the character set that the server takes the statement to be in,
	// in small letters (character_set_client); empty for UTF-8.
	Charset string
	// PostgreSQL has dollar quotes, E'...', nested comments, and no comments
	// with #. NoBackslashEscapes is its standard_conforming_strings.
	PostgreSQL bool
}

// WithMode gives the dialect under another sql_mode.
func (d Dialect) WithMode(mode string) Dialect {
	d.ANSIQuotes, d.NoBackslashEscapes = false, false
	for word := range strings.SplitSeq(mode, ",") {
		switch strings.ToUpper(strings.TrimSpace(word)) {
		case "ANSI_QUOTES", "ANSI", "DB2", "MAXDB", "MSSQL", "ORACLE", "POSTGRESQL":
			d.ANSIQuotes = true // the combinations hold ANSI_QUOTES on the servers that know them
		case "NO_BACKSLASH_ESCAPES":
			d.NoBackslashEscapes = true
		}
	}
	return d
}

// escapes reports whether a backslash escapes inside the given quotes.
func (d Dialect) escapes(quote byte) bool {
	return quote != '`' && !d.NoBackslashEscapes && (quote != '"' || !d.ANSIQuotes)
}

// executes reports whether a server runs the text of the conditional comment
// that text begins with, and how long its opening is. MariaDB passes over the
// versions 5.07.00 to 9.99.99, which it never had (MariaDB, "Comment Syntax").
// doubtful tells that the number could be read in two ways with different outcomes:
// versions have five digits or six, and MySQL takes a sixth only before white space
// (tried on both).
func (d Dialect) executes(text []byte) (opening int, executed, doubtful bool) {
	opening = bytes.IndexByte(text, '!') + 1
	own := opening > len("/*!")
	digits := 0
	for opening+digits < len(text) && text[opening+digits] >= '0' && text[opening+digits] <= '9' {
		digits++
	}
	number := func(n int) (version int) {
		for _, c := range text[opening : opening+n] {
			version = version*10 + int(c-'0')
		}
		return version
	}
	runs := func(version int) bool {
		switch {
		case d.Version == 0:
			return true
		case own && !d.MariaDB:
			return false
		case d.MariaDB && !own && version >= 50700 && version <= 99999:
			return false
		}
		return version <= d.Version
	}
	switch {
	case digits == 0:
		return opening, runs(0), false
	case digits < 5:
		return opening, runs(0), true
	case digits == 5:
		return opening + 5, runs(number(5)), false
	}
	blank := opening+6 < len(text) && isSpace(text[opening+6])
	doubtful = digits > 6 || !d.MariaDB && !blank
	six, five := runs(number(6)), runs(number(5))
	return opening + 6, six, doubtful && (six || five)
}

// isUTF8 holds the names of UTF-8.
var isUTF8 = map[string]bool{"": true, "utf8": true, "utf8mb3": true, "utf8mb4": true}

// IsUTF8 reports whether the server takes statements to be UTF-8.
func (d Dialect) IsUTF8() bool { return isUTF8[d.Charset] }

// WithCharset gives the dialect for a client of another character set.
func (d Dialect) WithCharset(name string) Dialect {
	d.Charset = strings.ToLower(name)
	if isUTF8[d.Charset] {
		d.Charset = ""
	}
	return d
}

// readable are the character sets in which every byte below 0x80 is the ASCII
// character, wherever it stands (MySQL Reference Manual, "Supported Character Sets
// and Collations"). In the others a quote or a backslash may be the second byte of
// a character, or a letter: what is a literal there cannot be told from here.
var readable = map[string]bool{
	"ascii": true, "binary": true, "latin1": true, "latin2": true, "latin5": true, "latin7": true, "cp1250": true, "cp1251": true, "cp1256": true,
	"cp1257": true, "cp850": true, "cp852": true, "cp866": true, "dec8": true, "hp8": true, "koi8r": true, "koi8u": true, "greek": true,
	"hebrew": true, "macce": true, "macroman": true, "keybcs2": true, "geostd8": true, "armscii8": true, "tis620": true,
	"euckr": true, "ujis": true, "eucjpms": true, "gb2312": true,
}

// IsReadable reports whether statements in a character set can be read byte by byte.
func IsReadable(charset string) bool {
	return isUTF8[strings.ToLower(charset)] || readable[strings.ToLower(charset)]
}

// modes follows what a script does to sql_mode and to the client's character set,
// so that the statements behind are read as the server will read them.
type modes struct {
	dialect Dialect
	now     string   // sql_mode
	begun   struct { // as the session begins
		charset, mode string
	}
	saved map[string]string // user variables whose value is known
}

// untraced says why it is not known how the server reads what comes behind a
// statement.
const (
	untracedMode    = "it sets sql_mode in a way that cannot be followed, and the statements behind it could be read in two ways"
	untracedCharset = "it sets the client's character set in a way that cannot be followed, and the statements behind it could be read in two ways"
)

func unreadable(charset string) string {
	return "in the character set " + charset + " a quote or a backslash may be a part of another character, so that the statements behind it could be read in two ways"
}

// observe looks at one statement; anything but a SET is over at once. sets tells
// that it changes how the statements behind it are read; untraced says why that
// cannot be known.
func (m *modes) observe(text []byte) (sets bool, untraced string) {
	if len(text) < 4 {
		return false, ""
	}
	if c := text[0] | 0x20; c != 's' && text[0] != '/' {
		return false, ""
	}
	next := m.dialect // what is assigned counts for the statements behind
	for _, a := range ParseSet(text, m.dialect) {
		value, known := m.evaluate(a.Value)
		switch {
		case a.User:
			if m.saved == nil {
				m.saved = map[string]string{}
			}
			delete(m.saved, a.Name)
			if known {
				m.saved[a.Name] = value
			}
		case a.Global:
		case a.Name == "sql_mode":
			sets = true
			if isDefault(a.Value) {
				value, known = m.begun.mode, true
			}
			if !known || !modeList.MatchString(value) {
				return true, untracedMode
			}
			m.now = value
			flags := m.dialect.WithMode(value)
			next.ANSIQuotes, next.NoBackslashEscapes = flags.ANSIQuotes, flags.NoBackslashEscapes
		case a.Name == "names" || a.Name == "character set" || a.Name == "character_set_client":
			sets = true
			if isDefault(a.Value) {
				value, known = m.begun.charset, true
			}
			switch {
			case !known:
				return true, untracedCharset
			case !IsReadable(value):
				return true, unreadable(value)
			}
			next = next.WithCharset(value)
		}
	}
	m.dialect = next
	return sets, ""
}

func isDefault(value []Token) bool { return len(value) == 1 && value[0].Is("DEFAULT") }

// modeList is a list of modes by name; a number, which the server takes for a set
// of bits, is none.
var modeList = regexp.MustCompile(`(?i)^( *([a-z][a-z0-9_]*)? *(,|$))*$`)

// evaluate works out what an expression comes to, of the few kinds that scripts
// set modes and character sets by: words and strings, variables whose value is
// known, CONCAT and REPLACE of such, a SELECT around one.
func (m *modes) evaluate(value []Token) (result string, known bool) {
	e := expression{modes: m, rest: value}
	result, known = e.value()
	if len(e.rest) > 1 && e.rest[0].Is("COLLATE") { // SET NAMES x COLLATE y
		e.rest = e.rest[2:]
	}
	return result, known && len(e.rest) == 0
}

// expression is one that is being read.
type expression struct {
	modes *modes
	rest  []Token
}

func (e *expression) take(want string) bool {
	if len(e.rest) == 0 || !strings.EqualFold(string(e.rest[0].Text), want) || e.rest[0].Kind == String || e.rest[0].Kind == Name {
		return false
	}
	e.rest = e.rest[1:]
	return true
}

func (e *expression) value() (result string, known bool) {
	switch {
	case len(e.rest) == 0:
		return "", false
	case e.take("("):
		e.take("SELECT")
		result, known = e.value()
		return result, e.take(")") && known
	case e.take("@"):
		return e.variable()
	}
	first := e.rest[0]
	e.rest = e.rest[1:]
	switch {
	case first.Kind == String && (first.Text[0] == '\'' || first.Text[0] == '"'):
		if bytes.IndexByte(first.Text, '\\') >= 0 || len(e.rest) > 0 && e.rest[0].Kind == String { // joined to one by the server
			return "", false
		}
		return first.Plain(), true
	case first.Is("CONCAT"), first.Is("REPLACE"):
		arguments, ok := e.arguments()
		switch {
		case !ok:
			return "", false
		case first.Is("CONCAT"):
			return strings.Join(arguments, ""), true
		case len(arguments) == 3:
			return strings.ReplaceAll(arguments[0], arguments[1], arguments[2]), true
		}
		return "", false
	case first.Kind == Word && (len(e.rest) == 0 || e.rest[0].IsPunct(',') || e.rest[0].IsPunct(')') || e.rest[0].Is("COLLATE")):
		return string(first.Text), true
	}
	return "", false
}

// variable reads what stands behind an @.
func (e *expression) variable() (string, bool) {
	if !e.take("@") {
		if len(e.rest) == 0 {
			return "", false
		}
		value, known := e.modes.saved[strings.ToLower(e.rest[0].Plain())]
		e.rest = e.rest[1:]
		return value, known
	}
	if e.take("SESSION") || e.take("LOCAL") {
		e.take(".")
	}
	switch {
	case e.take("sql_mode"):
		return e.modes.now, true
	case e.take("character_set_client"):
		return cmp.Or(e.modes.dialect.Charset, "utf8mb4"), true
	}
	return "", false
}

func (e *expression) arguments() (list []string, ok bool) {
	if !e.take("(") {
		return nil, false
	}
	for {
		value, known := e.value()
		if !known {
			return nil, false
		}
		list = append(list, value)
		if e.take(")") {
			return list, true
		}
		if !e.take(",") {
			return nil, false
		}
	}
}

// Assignment is one variable of a SET statement.
type Assignment struct {
	Name   string // in small letters, without @
	User   bool   // a user variable, @x
	Global bool   // the server's own, not the session's
	Value  []Token
	// Start and End are the place of the assignment in the statement.
	Start, End int
}

// ParseSet splits a SET statement into its assignments. SET NAMES and SET
// CHARACTER SET are assignments to "names" and "character set"; statements
// that only begin with SET (SET PASSWORD, SET ROLE, SET TRANSACTION) give
// their second word as the name. Nil for every other statement.
func ParseSet(text []byte, d Dialect) []Assignment {
	s := NewScanner(text, d)
	if t, ok := s.Next(); !ok || !t.Is("SET") {
		return nil
	}
	var tokens []Token
	for t, ok := s.Next(); ok; t, ok = s.Next() {
		if t.Is("FOR") && len(tokens) == 0 { // SET STATEMENT ... FOR
			break
		}
		tokens = append(tokens, t)
	}
	var found []Assignment
	depth, from := 0, 0
	for i := 0; i <= len(tokens); i++ {
		if i < len(tokens) {
			switch {
			case tokens[i].IsPunct('('):
				depth++
			case tokens[i].IsPunct(')'):
				depth--
			}
			if depth > 0 || !tokens[i].IsPunct(',') {
				continue
			}
		}
		if i > from {
			found = append(found, assignment(tokens[from:i]))
		}
		from = i + 1
	}
	return found
}

func assignment(tokens []Token) Assignment {
	a := Assignment{Start: tokens[0].Start, End: tokens[len(tokens)-1].End}
	i, ats := 0, 0
	for ; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.IsPunct('@'):
			ats++
			continue
		case t.IsPunct('.'), t.Is("SESSION"), t.Is("LOCAL"):
			continue
		case t.Is("GLOBAL"), t.Is("PERSIST"), t.Is("PERSIST_ONLY"):
			a.Global = true
			continue
		}
		break
	}
	if i == len(tokens) {
		return a
	}
	a.User = ats == 1
	a.Name = strings.ToLower(tokens[i].Plain())
	i++
	if a.Name == "character" && i < len(tokens) && tokens[i].Is("SET") {
		a.Name = "character set"
		i++
	} else if a.Name == "charset" {
		a.Name = "character set"
	}
	for i < len(tokens) && (tokens[i].IsPunct(':') || tokens[i].IsPunct('=')) {
		i++
	}
	a.Value = tokens[i:]
	return a
}
