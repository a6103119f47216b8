package sqltext

import (
	"bytes"
	"strings"

	"yellowfield/internal/sqltext/window"
)

// TokenKind says what a token of a statement is.
type TokenKind int

const (
	Word   TokenKind = iota // a keyword, an unquoted name or a number
	Name                    // a name in backquotes
	String                  // a string in single or double quotes
	Punct                   // one other character
)

// Token is a piece of a statement; Text is the source, quotes included.
type Token struct {
	Kind       TokenKind
	Start, End int
	Text       []byte
}

// Is reports whether the token is the given keyword, in any case.
func (t Token) Is(keyword string) bool {
	return t.Kind == Word && strings.EqualFold(string(t.Text), keyword)
}

// IsPunct reports whether the token is the given character.
func (t Token) IsPunct(c byte) bool { return t.Kind == Punct && t.Text[0] == c }

// Plain is the name or string without its quotes. Doubled quotes are undone;
// backslashes stay, since names know none.
func (t Token) Plain() string {
	if t.Kind != Name && t.Kind != String {
		return string(t.Text)
	}
	switch t.Text[0] {
	case '$': // PostgreSQL's dollar quotes
		tag := t.Text[:bytes.IndexByte(t.Text[1:], '$')+2]
		if inside, ends := bytes.CutSuffix(t.Text[len(tag):], tag); ends {
			return string(inside)
		}
		return string(t.Text)
	case 'e', 'E':
		return Token{Kind: String, Text: t.Text[1:]}.Plain()
	}
	if len(t.Text) < 2 {
		return string(t.Text)
	}
	inside := string(t.Text[1 : len(t.Text)-1])
	if strings.IndexByte(inside, t.Text[0]) < 0 {
		return inside
	}
	quote := string(t.Text[:1])
	return strings.ReplaceAll(inside, quote+quote, quote)
}

// Upper is a word in capitals. It takes room if that is long enough, so that looking at all
// words of a script makes no garbage.
func (t Token) Upper(room []byte) []byte {
	for _, c := range t.Text {
		if c >= 'a' && c <= 'z' {
			c -= 'a' - 'A'
		}
		room = append(room, c)
	}
	return room
}

// Scanner gives the tokens of one statement as Reader returned it. Comments
// are passed over, also conditional ones that the dialect's server does not
// execute; the content of the others is given as if it stood there openly.
type Scanner struct {
	text          []byte
	pos           int
	dialect       Dialect
	inConditional bool // in a conditional comment that the server executes
	doubt         string
	// scanned are the tokens to give, where they are known already.
	scanned   Tokens
	isScanned bool
}

// Doubt says why a statement could be read in another way by a server than by
// Scanner; empty when it cannot. Where comments nest, where a comment's version is
// no version, and in some characters, servers follow rules of their own (tried on
// MariaDB 10.11 and MySQL 9.7).
func Doubt(text []byte, d Dialect) string {
	if d.PostgreSQL || !bytes.ContainsAny(text, "/\x00\x7f") && !bytes.Contains(text, []byte("*/")) && (d.IsUTF8() || isASCII(text)) {
		return ""
	}
	s := NewScanner(text, d)
	for t, ok := s.Next(); ok; t, ok = s.Next() {
		switch {
		case t.Kind == Punct && (t.Text[0] == 0 || t.Text[0] == 0x7f):
			s.doubt = "a control character stands outside of quotes"
		case t.Kind == Word && !d.IsUTF8() && !isASCII(t.Text):
			s.doubt = "a word outside of quotes has letters that mean others in the character set " + d.Charset
		}
	}
	if s.inConditional && s.doubt == "" {
		s.doubt = "a conditional comment is not closed"
	}
	return s.doubt
}

func isASCII(text []byte) bool {
	for _, c := range text {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// NewScanner scans text.
func NewScanner(text []byte, d Dialect) *Scanner { return &Scanner{text: text, dialect: d} }

// Next gives the next token; ok is false at the end.
func (s *Scanner) Next() (token Token, ok bool) {
	if s.isScanned {
		if len(s.scanned) == 0 {
			return Token{}, false
		}
		token, s.scanned = s.scanned[0], s.scanned[1:]
		return token, true
	}
	for s.pos < len(s.text) {
		rest := s.text[s.pos:]
		c := rest[0]
		switch {
		case window.IsSpace(c):
			s.pos++
		case c == '#' && !s.dialect.PostgreSQL, bytes.HasPrefix(rest, []byte("--")) && (len(rest) == 2 || rest[2] <= ' ' || s.dialect.PostgreSQL):
			s.skipPast("\n")
		case s.dialect.PostgreSQL && bytes.HasPrefix(rest, []byte("/*")):
			s.pos += skippedComment(rest) // with those inside it
		case s.dialect.PostgreSQL && c == '$':
			n := dollarsLength(rest)
			if rest[n-1] == '$' && n > 1 {
				return s.take(n, String), true
			}
			return s.take(n, Word), true // a parameter
		case s.dialect.PostgreSQL && c|0x20 == 'e' && len(rest) > 1 && rest[1] == '\'':
			return s.take(1+quotedLength(rest[1:], true), String), true
		case bytes.HasPrefix(rest, []byte("/*!")), bytes.HasPrefix(rest, []byte("/*M!")):
			s.conditional(rest)
		case bytes.HasPrefix(rest, []byte("/*")):
			s.pos += 2
			s.skipPast("*/")
		case bytes.HasPrefix(rest, []byte("*/")): // the end of a conditional comment
			if !s.inConditional {
				s.doubt = "the end of a comment stands outside of one"
			}
			s.inConditional = false
			s.pos += 2
		case c == '\'' || c == '"' || c == '`' && !s.dialect.PostgreSQL:
			return s.take(quotedLength(rest, s.dialect.Escapes(c)), s.dialect.kindOfQuote(c)), true
		case isWordByte(c):
			n := 1
			for n < len(rest) && isWordByte(rest[n]) {
				n++
			}
			return s.take(n, Word), true
		default:
			return s.take(1, Punct), true
		}
	}
	return Token{}, false
}

// conditional enters a conditional comment that the server executes, and passes
// over another.
func (s *Scanner) conditional(rest []byte) {
	opening, executed, doubtful := s.dialect.executes(rest)
	switch {
	case s.inConditional:
		s.doubt = "a conditional comment stands inside another"
	case doubtful:
		s.doubt = "the version of a conditional comment has neither five digits nor six"
	}
	if executed {
		s.inConditional = true
		s.pos += opening
		return
	}
	n := skippedComment(rest)
	if comment := rest[2:n]; bytes.Contains(comment, []byte("/*")) || !bytes.HasSuffix(comment, []byte("*/")) {
		s.doubt = "a comment stands inside a conditional comment that this server passes over"
	}
	s.pos += n
}

func (s *Scanner) take(n int, kind TokenKind) Token {
	t := Token{Kind: kind, Start: s.pos, End: s.pos + n, Text: s.text[s.pos : s.pos+n]}
	s.pos += n
	return t
}

func (s *Scanner) skipPast(closer string) {
	i := bytes.Index(s.text[s.pos:], []byte(closer))
	end := len(s.text)
	if i >= 0 {
		end = s.pos + i + len(closer)
	} else if closer == "*/" {
		s.doubt = "a comment is not closed"
	}
	if bytes.IndexByte(s.text[s.pos:end], 0) >= 0 {
		s.doubt = "a control character stands in a comment"
	}
	s.pos = end
}

// skippedComment is the length of a conditional comment that is not executed;
// comments inside it are comments of their own.
func skippedComment(text []byte) int {
	depth := 0
	for i := 0; i+1 < len(text); i++ {
		switch {
		case text[i] == '/' && text[i+1] == '*':
			depth++
			i++
		case text[i] == '*' && text[i+1] == '/':
			depth--
			i++
			if depth == 0 {
				return i + 1
			}
		}
	}
	return len(text)
}

func (d Dialect) kindOfQuote(c byte) TokenKind {
	if c == '`' || c == '"' && d.ANSIQuotes {
		return Name
	}
	return String
}

// quotedLength is the length of the literal or quoted name that text begins
// with. Reader has made sure that it is closed.
func quotedLength(text []byte, escapes bool) int {
	quote := text[0]
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && escapes:
			i++
		case text[i] == quote:
			if i+1 < len(text) && text[i+1] == quote {
				i++
				continue
			}
			return i + 1
		}
	}
	return len(text)
}

// dollarsLength is the length of a literal in dollar quotes, or of a parameter
// ($1), or of a dollar alone.
func dollarsLength(text []byte) int {
	n := 1
	for n < len(text) && isWordByte(text[n]) && text[n] != '$' {
		n++
	}
	if n == len(text) || text[n] != '$' || n > 1 && text[1] >= '0' && text[1] <= '9' {
		return n
	}
	tag := text[:n+1]
	if i := bytes.Index(text[n+1:], tag); i >= 0 {
		return n + 1 + i + len(tag)
	}
	return len(text)
}

func isWordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c >= 0x80
}

// Head is what the beginning of a statement tells.
type Head struct {
	Verb   string // the first keyword in capitals: CREATE, INSERT, SET ...
	Object string // for CREATE, DROP and ALTER: TABLE, VIEW, TRIGGER, FUNCTION ...
	Name   ObjectName
	// Table is the table a trigger belongs to; on PostgreSQL that of an index,
	// a rule or a policy, too.
	Table ObjectName

	definerFrom      int // the DEFINER clause, empty when there is none
	definerTo        int
	loadableFunction bool
	dialect          Dialect
}

// ObjectName is a name that may be qualified by a database.
type ObjectName struct{ Schema, Name string }

// IsLoadableFunction reports a CREATE FUNCTION ... SONAME, which loads code
// into the server and has no body.
func (h Head) IsLoadableFunction() bool { return h.loadableFunction }

// objects are the words after CREATE, ALTER or DROP that name a kind.
var objects = map[string]bool{
	"TABLE": true, "VIEW": true, "TRIGGER": true, "FUNCTION": true, "PROCEDURE": true, "EVENT": true,
	"DATABASE": true, "SCHEMA": true, "INDEX": true, "USER": true, "ROLE": true, "SEQUENCE": true,
	"SERVER": true, "TABLESPACE": true, "PACKAGE": true, "LOGFILE": true, "RESOURCE": true,
}

// ParseHead reads the head of a statement. It never fails: what it cannot
// tell stays empty.
func ParseHead(text []byte, d Dialect) Head { return readHead(NewScanner(text, d)) }

// HeadOf is ParseHead for a statement whose tokens are known.
func HeadOf(tokens Tokens, d Dialect) Head {
	return readHead(&Scanner{scanned: tokens, isScanned: true, dialect: d})
}

func readHead(s *Scanner) Head {
	d := s.dialect
	first, ok := s.Next()
	if !ok || first.Kind != Word {
		return Head{}
	}
	head := Head{Verb: strings.ToUpper(string(first.Text)), dialect: d}
	if d.PostgreSQL {
		switch head.Verb {
		case "CREATE", "ALTER", "DROP", "TRUNCATE":
			head.readPostgresHead(s)
			return head
		}
	}
	switch head.Verb {
	case "CREATE", "ALTER", "DROP":
		head.readObject(s)
	case "INSERT", "REPLACE":
		head.readTarget(s, "LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "IGNORE", "INTO")
	case "COPY":
		head.readTarget(s, "BINARY")
	}
	return head
}

func (h *Head) readTarget(s *Scanner, skipped ...string) {
	for {
		t, ok := s.Next()
		if !ok {
			return
		}
		skip := false
		for _, word := range skipped {
			skip = skip || t.Is(word)
		}
		if !skip {
			h.Name, _ = readName(s, t)
			return
		}
	}
}

// readObject reads on after CREATE, ALTER or DROP to the object's name. A CREATE may hold
// a good many words before the kind: OR REPLACE, a DEFINER clause, SQL SECURITY, ALGORITHM,
// UNIQUE, TEMPORARY, AGGREGATE.
func (h *Head) readObject(s *Scanner) {
	t, ok := s.Next()
	for ok {
		switch {
		case t.Is("DEFINER"):
			from := t.Start
			t, ok = s.Next()
			if !ok || !t.IsPunct('=') {
				continue
			}
			t, _ = s.Next() // the user, or CURRENT_USER
			h.definerFrom, h.definerTo = from, t.End
			t, ok = s.Next()
			if ok && (t.IsPunct('@') || t.IsPunct('(')) { // its host, or the brackets of CURRENT_USER()
				t, _ = s.Next()
				h.definerTo = t.End
				t, ok = s.Next()
			}
			continue
		case t.Kind == Word && objects[strings.ToUpper(string(t.Text))]:
			h.Object = strings.ToUpper(string(t.Text))
			h.readObjectName(s)
			return
		case t.Kind != Word && !t.IsPunct('='):
			return
		}
		t, ok = s.Next()
	}
}

func (h *Head) readObjectName(s *Scanner) {
	t, ok := s.Next()
	for ok && (t.Is("IF") || t.Is("NOT") || t.Is("EXISTS")) {
		t, ok = s.Next()
	}
	if !ok {
		return
	}
	var next Token
	h.Name, next = readName(s, t)
	switch h.Object {
	case "TRIGGER":
		for ok := true; ok && !next.Is("ON"); next, ok = s.Next() {
		}
		if t, ok := s.Next(); ok {
			h.Table, _ = readName(s, t)
		}
	case "FUNCTION":
		for ok, n := true, 0; ok && n < 3; next, ok = s.Next() {
			h.loadableFunction = h.loadableFunction || next.Is("SONAME")
			n++
		}
	}
}

// readName reads a name that begins with first, and gives the token behind.
func readName(s *Scanner, first Token) (ObjectName, Token) {
	if first.Kind == Punct {
		return ObjectName{}, first
	}
	name := ObjectName{Name: s.folded(first)}
	next, ok := s.Next()
	if ok && next.IsPunct('.') {
		if second, ok := s.Next(); ok {
			name = ObjectName{Schema: name.Name, Name: s.folded(second)}
			next, _ = s.Next()
		}
	}
	return name, next
}

// HasDefiner reports whether the statement names a definer.
func (h Head) HasDefiner() bool { return h.definerTo > h.definerFrom }

// WithoutDefiner gives the statement that h was parsed from without its
// DEFINER clause; the server then makes the connected account the definer. It
// also works where the clause stands in a conditional comment, which stays
// behind empty.
func (h Head) WithoutDefiner(text []byte) []byte {
	if !h.HasDefiner() {
		return text
	}
	return append(bytes.Clone(text[:h.definerFrom]), text[h.definerTo:]...)
}
