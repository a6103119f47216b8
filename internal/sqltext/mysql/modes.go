package mysql

import (
	"bytes"
	"cmp"
	"maps"
	"regexp"
	"strings"

	"yellowfield/internal/sqltext"
)

// modes follows what a script does to sql_mode and to the client's character set, so that the
// statements after are read as the server will read them.
type modes struct {
	dialect sqltext.Dialect
	now     string   // sql_mode
	begun   struct { // as the session begins
		charset, mode string
	}
	saved map[string]string // user variables whose value is known
}

// untraced says why it is not known how the server reads what comes after a statement.
const (
	untracedMode    = "it sets sql_mode in a way that cannot be followed, and the statements after it could be read in two ways"
	untracedLong    = "it is a SET of more words and marks than are looked at, and the statements after it could be read in two ways"
	untracedCharset = "it sets the client's character set in a way that cannot be followed, and the statements after it could be read in two ways"
)

func unreadable(charset string) string {
	return "in the character set " + charset + " a quote or a backslash may be a part of another character, so that the statements after it could be read in two ways"
}

// save keeps the value of a user variable, or forgets it. The map is another one then: statements
// before keep what it was.
func (m *modes) save(name, value string, known bool) {
	_, had := m.saved[name]
	known = known && (had || len(m.saved) < mostSaved)
	if !had && !known {
		return
	}
	m.saved = maps.Clone(m.saved)
	if m.saved == nil {
		m.saved = map[string]string{}
	}
	if delete(m.saved, name); known {
		m.saved[name] = value
	}
}

// mostSaved is how many user variables are followed: dumps keep a handful of settings in some.
const mostSaved = 200

// mayAssign reports whether a statement may be one that observe has to look at.
func mayAssign(text []byte) bool {
	return len(text) >= 4 && (text[0]|0x20 == 's' || text[0] == '/')
}

// observe looks at one statement for assignments. sets tells that it changes how the
// statements after it are read; untraced says why that cannot be known.
func (m *modes) observe(text []byte) (sets bool, untraced string) {
	if t, ok := sqltext.NewScanner(text, m.dialect).Next(); !ok || !t.Is("SET") {
		return false, ""
	}
	next := m.dialect // what is assigned counts for the statements after
	tokens, all := sqltext.ScanAll(text, m.dialect)
	if !all {
		return true, untracedLong
	}
	for _, a := range sqltext.SetOf(tokens) {
		value, known := m.evaluate(a.Value)
		switch {
		case a.User:
			m.save(a.Name, value, known)
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
			case !sqltext.IsReadable(value):
				return true, unreadable(value)
			}
			next = next.WithCharset(value)
		}
	}
	m.dialect = next
	return sets, ""
}

func isDefault(value []sqltext.Token) bool { return len(value) == 1 && value[0].Is("DEFAULT") }

// modeList is a list of modes by name; a number, which the server takes for a set
// of bits, is none.
var modeList = regexp.MustCompile(`(?i)^( *([a-z][a-z0-9_]*)? *(,|$))*$`)

// evaluate works out what an expression comes to, of the few kinds that scripts
// set modes and character sets by: words and strings, variables whose value is
// known, CONCAT and REPLACE of such, a SELECT around one.
func (m *modes) evaluate(value []sqltext.Token) (result string, known bool) {
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
	rest  []sqltext.Token
}

func (e *expression) take(want string) bool {
	if len(e.rest) == 0 || !strings.EqualFold(string(e.rest[0].Text), want) || e.rest[0].Kind == sqltext.String || e.rest[0].Kind == sqltext.Name {
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
	case first.Kind == sqltext.String && (first.Text[0] == '\'' || first.Text[0] == '"'):
		if bytes.IndexByte(first.Text, '\\') >= 0 || len(e.rest) > 0 && e.rest[0].Kind == sqltext.String { // joined to one by the server
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
	case first.Kind == sqltext.Word && (len(e.rest) == 0 || e.rest[0].IsPunct(',') || e.rest[0].IsPunct(')') || e.rest[0].Is("COLLATE")):
		return string(first.Text), true
	}
	return "", false
}

// variable reads what stands after an @.
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
