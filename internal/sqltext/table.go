package sqltext

import (
	"slices"
	"strings"
)

// Table is what a CREATE TABLE says, or SHOW CREATE TABLE of what is there.
type Table struct {
	Name    ObjectName
	Columns []Column
	Keys    []Key
	Foreign []ForeignKey
	Options Options
	// Derived tables take columns or rows from elsewhere: LIKE, SELECT.
	Derived bool
}

// Options of a table; empty where nothing was said.
type Options struct {
	Engine, Charset, Collation, RowFormat string
}

// Column is one column.
type Column struct {
	Name      string
	Type      string // the first word in capitals: VARCHAR, INT ...
	Length    int    // of the type's first bracket, 0 for none
	NotNull   bool
	Auto      bool // AUTO_INCREMENT
	Generated bool
	Invisible bool
	Unsigned  bool // as it says itself; ZEROFILL means it, too
	Charset   string
	Collation string
}

// Key is a key other than a foreign one.
type Key struct {
	Kind    string // PRIMARY, UNIQUE, FULLTEXT, SPATIAL, or KEY
	Name    string
	Columns []KeyColumn
	// Start and End of its definition in the statement.
	Start, End int
}

// KeyColumn is a column of a key; an expression has no name.
type KeyColumn struct {
	Name   string
	Length int // of the prefix that is indexed, 0 for all
}

// ForeignKey refers to another table.
type ForeignKey struct {
	Name       string
	Columns    []string
	References ObjectName
}

// Column finds a column by name.
func (t *Table) Column(name string) *Column {
	for i := range t.Columns {
		if strings.EqualFold(t.Columns[i].Name, name) {
			return &t.Columns[i]
		}
	}
	return nil
}

// ParseTable reads a CREATE TABLE statement; ok is false for any other.
func ParseTable(text []byte, d Dialect) (table *Table, ok bool) {
	if head := ParseHead(text, d); head.Verb != "CREATE" || head.Object != "TABLE" {
		return nil, false
	}
	tokens := Scan(text, d)
	return TableOf(HeadOf(tokens, d), tokens)
}

// TableOf is ParseTable for a statement whose head and tokens are known.
func TableOf(head Head, tokens Tokens) (table *Table, ok bool) {
	if head.Verb != "CREATE" || head.Object != "TABLE" {
		return nil, false
	}
	table = &Table{Name: head.Name}
	i := 0
	for i < len(tokens) && !tokens[i].IsPunct('(') {
		if tokens[i].Is("LIKE") || tokens[i].Is("SELECT") || tokens[i].Is("AS") {
			table.Derived = true
			return table, true
		}
		i++
	}
	if i+1 < len(tokens) && (tokens[i+1].Is("LIKE") || tokens[i+1].Is("SELECT")) {
		table.Derived = true
		return table, true
	}
	depth, from := 0, i+1
	for ; i < len(tokens); i++ {
		switch {
		case tokens[i].IsPunct('('):
			depth++
			continue
		case tokens[i].IsPunct(')'):
			depth--
		}
		if depth == 0 || depth == 1 && tokens[i].IsPunct(',') {
			if i > from {
				table.define(tokens[from:i])
			}
			from = i + 1
		}
		if depth == 0 {
			break
		}
	}
	if from <= len(tokens) {
		table.readOptions(tokens[min(from, len(tokens)):])
	}
	return table, true
}

// define reads one entry of the bracket: a column or a key.
func (t *Table) define(tokens []Token) {
	first := tokens[0]
	rest := tokens
	constraint := ""
	if first.Is("CONSTRAINT") {
		rest = rest[1:]
		if len(rest) > 0 && !rest[0].Is("PRIMARY") && !rest[0].Is("UNIQUE") && !rest[0].Is("FOREIGN") && !rest[0].Is("CHECK") {
			constraint = rest[0].Plain()
			rest = rest[1:]
		}
		if len(rest) == 0 {
			return
		}
	}
	kind := ""
	if rest[0].Kind == Word {
		kind = strings.ToUpper(string(rest[0].Text))
	}
	switch kind {
	case "PRIMARY", "UNIQUE", "KEY", "INDEX", "FULLTEXT", "SPATIAL":
		if kind == "INDEX" {
			kind = "KEY"
		}
		key := Key{Kind: kind, Name: constraint, Start: first.Start, End: tokens[len(tokens)-1].End}
		for i, token := range rest[1:] {
			if token.IsPunct('(') {
				key.Columns = keyColumns(rest[1+i:])
				break
			}
			if !token.Is("KEY") && !token.Is("INDEX") && !token.Is("USING") && !token.Is("BTREE") && !token.Is("HASH") && key.Name == "" {
				key.Name = token.Plain()
			}
		}
		t.Keys = append(t.Keys, key)
	case "FOREIGN":
		t.Foreign = append(t.Foreign, foreignKey(constraint, rest))
	case "CHECK", "PERIOD":
	default:
		t.column(tokens)
	}
}

// keyColumns reads a bracket of columns that tokens begin with.
func keyColumns(tokens []Token) []KeyColumn {
	var columns []KeyColumn
	depth := 0
	fresh := false
	for _, token := range tokens {
		switch {
		case token.IsPunct('('):
			depth++
			if depth == 1 {
				fresh = true
			} else if fresh { // an expression
				columns = append(columns, KeyColumn{})
				fresh = false
			}
		case token.IsPunct(')'):
			depth--
			if depth == 0 {
				return columns
			}
		case depth == 1 && token.IsPunct(','):
			fresh = true
		case depth == 1 && fresh:
			columns = append(columns, KeyColumn{Name: token.Plain()})
			fresh = false
		case depth == 2 && len(columns) > 0 && columns[len(columns)-1].Name != "":
			columns[len(columns)-1].Length = number(token)
		}
	}
	return columns
}

func number(t Token) int {
	n := 0
	for _, c := range t.Text {
		if c < '0' || c > '9' || n > 1<<28 {
			return n
		}
		n = n*10 + int(c-'0')
	}
	return n
}

func foreignKey(name string, tokens []Token) ForeignKey {
	f := ForeignKey{Name: name}
	for i, token := range tokens {
		switch {
		case token.IsPunct('(') && f.Columns == nil:
			f.Columns = names(tokens[i:])
		case token.Is("REFERENCES"):
			s := tokens[i+1:]
			if len(s) > 0 {
				f.References = ObjectName{Name: s[0].Plain()}
				if len(s) > 2 && s[1].IsPunct('.') {
					f.References = ObjectName{Schema: s[0].Plain(), Name: s[2].Plain()}
				}
			}
			return f
		}
	}
	return f
}

func names(tokens []Token) []string {
	var found []string
	for _, c := range keyColumns(tokens) {
		found = append(found, c.Name)
	}
	return found
}

func (t *Table) column(tokens []Token) {
	c := Column{Name: tokens[0].Plain()}
	if len(tokens) > 1 {
		c.Type = strings.ToUpper(string(tokens[1].Text))
		if len(tokens) > 3 && tokens[2].IsPunct('(') {
			c.Length = number(tokens[3])
		}
	}
	var key *Key
	for i, token := range tokens {
		if i == 0 || token.Kind != Word {
			continue
		}
		next := func(n int) Token {
			if i+n < len(tokens) {
				return tokens[i+n]
			}
			return Token{Kind: Punct, Text: []byte{0}}
		}
		switch strings.ToUpper(string(token.Text)) {
		case "NOT":
			c.NotNull = c.NotNull || next(1).Is("NULL")
		case "AUTO_INCREMENT":
			c.Auto = true
		case "SERIAL": // BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE
			c.Auto, c.NotNull = true, true
			key = &Key{Kind: "UNIQUE"}
		case "GENERATED", "AS":
			c.Generated = c.Generated || next(1).Is("ALWAYS") || next(1).IsPunct('(')
		case "INVISIBLE":
			c.Invisible = true
		case "UNSIGNED", "ZEROFILL":
			c.Unsigned = true
		case "CHARACTER":
			if next(1).Is("SET") {
				c.Charset = strings.ToLower(next(2).Plain())
			}
		case "CHARSET":
			c.Charset = strings.ToLower(next(1).Plain())
		case "COLLATE":
			c.Collation = strings.ToLower(next(1).Plain())
		case "PRIMARY":
			key = &Key{Kind: "PRIMARY"}
			c.NotNull = true
		case "UNIQUE":
			key = &Key{Kind: "UNIQUE"}
		case "REFERENCES":
			f := foreignKey("", tokens[i:])
			f.Columns = []string{c.Name}
			t.Foreign = append(t.Foreign, f)
		}
	}
	t.Columns = append(t.Columns, c)
	if key != nil {
		key.Columns = []KeyColumn{{Name: c.Name}}
		t.Keys = append(t.Keys, *key)
	}
}

func (t *Table) readOptions(tokens []Token) {
	for i, token := range tokens {
		if token.Kind != Word {
			continue
		}
		value := func() string {
			for j := i + 1; j < len(tokens); j++ {
				if !tokens[j].IsPunct('=') && !tokens[j].Is("SET") {
					return tokens[j].Plain()
				}
			}
			return ""
		}
		switch strings.ToUpper(string(token.Text)) {
		case "ENGINE", "TYPE":
			t.Options.Engine = value()
		case "CHARSET":
			t.Options.Charset = strings.ToLower(value())
		case "CHARACTER":
			t.Options.Charset = strings.ToLower(value())
		case "COLLATE":
			t.Options.Collation = strings.ToLower(value())
		case "ROW_FORMAT":
			t.Options.RowFormat = strings.ToUpper(value())
		case "SELECT":
			t.Derived = true
		}
	}
}

// HasAuto reports whether the server gives out numbers for one of the columns.
func (t *Table) HasAuto() bool {
	return slices.ContainsFunc(t.Columns, func(c Column) bool { return c.Auto })
}

// ForInsert are the positions, for an INSERT with the given columns (nil for all), of the
// columns that take no NULL; Auto is the position of the AUTO_INCREMENT column, or -1.
// Positions after 63 are left out of the set, and wide says that there are such.
func (t *Table) ForInsert(columns []string) (set uint64, auto int, wide bool) {
	auto = -1
	if columns == nil {
		for _, c := range t.Columns {
			if !c.Invisible {
				columns = append(columns, c.Name)
			}
		}
	}
	for i, name := range columns {
		c := t.Column(name)
		switch {
		case c == nil:
		case c.Auto:
			auto = i
		case c.NotNull && i < 64:
			set |= 1 << i
		case c.NotNull:
			wide = true
		}
	}
	return set, auto, wide
}
