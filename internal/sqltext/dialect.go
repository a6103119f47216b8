package sqltext

import (
	"bytes"
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
func (d Dialect) executes(text []byte) (opening int, executed bool) {
	opening = bytes.IndexByte(text, '!') + 1
	own := opening > len("/*!")
	version, digits := 0, 0
	for opening+digits < len(text) && digits < 6 && text[opening+digits] >= '0' && text[opening+digits] <= '9' {
		version = version*10 + int(text[opening+digits]-'0')
		digits++
	}
	if digits < 5 {
		version, digits = 0, 0
	}
	opening += digits
	switch {
	case d.Version == 0:
		return opening, true
	case own && !d.MariaDB:
		return opening, false
	case d.MariaDB && !own && version >= 50700 && version <= 99999:
		return opening, false
	}
	return opening, version <= d.Version
}

// modes follows what a script does to sql_mode, so that the statements behind
// are read as the server will read them.
type modes struct {
	dialect Dialect
	now     string
	saved   map[string]string // user variables that hold a mode
}

// longestSet is how long a SET statement may be to be looked into: those that
// dumps and installers write are far shorter.
const longestSet = 4096

// observe looks at one statement; anything but a SET is over at once.
func (m *modes) observe(text []byte) {
	if len(text) < 4 || len(text) > longestSet {
		return
	}
	if c := text[0] | 0x20; c != 's' && text[0] != '/' {
		return
	}
	for _, a := range ParseSet(text, m.dialect) {
		mode := m.evaluate(a.Value)
		switch {
		case a.User:
			if m.saved == nil {
				m.saved = map[string]string{}
			}
			m.saved[a.Name] = mode
		case a.Name == "sql_mode" && !a.Global:
			m.now = mode
			m.dialect = m.dialect.WithMode(mode)
		}
	}
}

// evaluate works out what a mode expression comes to, well enough for the two
// modes that matter here: strings and known variables in it are joined, and
// REPLACE takes its second argument away.
func (m *modes) evaluate(value []Token) string {
	var parts []string
	replacing := false
	for i, t := range value {
		switch {
		case t.Kind == String:
			parts = append(parts, t.Plain())
		case t.Is("REPLACE"):
			replacing = true
		case t.Kind == Word && strings.EqualFold(string(t.Text), "sql_mode"):
			parts = append(parts, m.now)
		case t.Kind == Word && i > 0 && value[i-1].IsPunct('@') && (i < 2 || !value[i-2].IsPunct('@')):
			parts = append(parts, m.saved[strings.ToLower(string(t.Text))])
		}
	}
	if replacing && len(parts) >= 2 {
		return strings.ReplaceAll(strings.ToUpper(parts[0]), strings.ToUpper(parts[1]), strings.Join(parts[2:], ""))
	}
	return strings.Join(parts, ",")
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
