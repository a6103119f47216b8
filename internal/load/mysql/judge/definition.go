package judge

import (
	"bytes"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
)

// Definition builds the statement anew. A hostile script wants the administrator to
// send something else than what was judged: a definer of its own, an object in
// another database, a statement that the server reads differently. So the text is
// read once more the way the application's session reads it now, only the fixed
// forms of these statements are taken, all names are put in by us, and what comes
// out is read again and has to be token by token what was meant.
func (v Verdict) Definition(database, definer, sqlMode, charset string) (mysql.Definition, error) {
	var none mysql.Definition
	refuse := func(why string) (mysql.Definition, error) {
		return none, fault.New(fault.Protected, "remove the statement, or write it in a plainer way", "the statement is not run as administrator: %s", why)
	}
	d := v.Dialect.WithMode(sqlMode).WithCharset(charset)
	switch {
	case d != v.Dialect:
		return refuse("the session does not read it as the script's beginning says")
	case strings.Contains(strings.ToUpper(sqlMode), "ORACLE"):
		return refuse("under the sql_mode ORACLE it is another language")
	case !utf8.Valid(v.Sent) || !d.IsUTF8() && slices.ContainsFunc(v.Sent, func(c byte) bool { return c >= 0x80 }):
		return refuse("its text is not UTF-8")
	case sqltext.Doubt(v.Sent, d) != "":
		return refuse(sqltext.Doubt(v.Sent, d))
	}
	tokens := sqltext.Scan(v.Sent, d)
	for i, token := range tokens {
		if token.Kind == sqltext.Word && token.Text[0] == '_' && i+1 < len(tokens) && tokens[i+1].Kind == sqltext.String && !sqltext.IsReadable(string(token.Text[1:])) {
			return refuse("it holds a literal in the character set " + string(token.Text[1:]))
		}
	}
	f := &form{rest: tokens, database: database}
	def := f.Read()
	if f.failed != "" {
		return refuse(f.failed)
	}
	var out bytes.Buffer
	name := mysql.QuoteName(database) + "." + mysql.QuoteName(def.Name)
	if def.Drop {
		out.WriteString("DROP " + def.Kind + f.ifs + " " + name)
	} else {
		out.WriteString("CREATE " + f.replace + definer + " " + f.aggregate + def.Kind + f.ifs + " " + name)
		if def.Kind == "TRIGGER" {
			out.WriteString(f.moment + " ON " + mysql.QuoteName(database) + "." + mysql.QuoteName(def.Table) + " FOR EACH ROW")
		}
		out.WriteByte(' ')
		end := 0
		for i, token := range f.rest {
			if i > 0 {
				out.Write(between(v.Sent[end:token.Start]))
			}
			out.Write(token.Text)
			end = token.End
		}
	}
	def.Statement = out.String()
	if !readsBack(def.Statement, f.rest, d) {
		return refuse("it cannot be written without its comments")
	}
	body := texts(f.rest)
	def.IsBody = func(text string) bool { return endsWith(body, texts(sqltext.Scan([]byte(text), d))) }
	return def, nil
}

// between is what stands between two tokens, without comments.
func between(gap []byte) []byte {
	switch {
	case len(bytes.TrimSpace(gap)) == 0:
		return gap
	case bytes.IndexByte(gap, '\n') >= 0:
		return []byte("\n")
	}
	return []byte(" ")
}

// readsBack makes sure that a statement ends with the tokens that were meant, with
// nothing but white space between any of its tokens.
func readsBack(statement string, tail sqltext.Tokens, d sqltext.Dialect) bool {
	again := sqltext.Scan([]byte(statement), d)
	end := 0
	for _, token := range again {
		if strings.TrimSpace(statement[end:token.Start]) != "" {
			return false
		}
		end = token.End
	}
	return end == len(strings.TrimRight(statement, " ")) && endsWith(texts(again), texts(tail)) && sqltext.Doubt([]byte(statement), d) == ""
}

func texts(tokens sqltext.Tokens) []string {
	list := make([]string, len(tokens))
	for i, token := range tokens {
		list[i] = string(token.Text)
	}
	return list
}

func endsWith(list, tail []string) bool {
	return len(list) >= len(tail) && slices.Equal(list[len(list)-len(tail):], tail)
}

// form reads the head of a statement that may be run as administrator, in the
// fixed forms that it has (MySQL Reference Manual, "CREATE TRIGGER Statement",
// "CREATE FUNCTION Statement"; MariaDB alike). What it does not know fails.
type form struct {
	rest     sqltext.Tokens
	database string
	failed   string

	replace, aggregate, ifs, moment string // as they are written again
}

func (f *form) fail(why string) {
	if f.failed == "" {
		f.failed = why
	}
}

func (f *form) next() sqltext.Token {
	if len(f.rest) == 0 {
		f.fail("it ends too early")
		return sqltext.Token{Kind: sqltext.Punct, Text: []byte{0}}
	}
	t := f.rest[0]
	f.rest = f.rest[1:]
	return t
}

// takes takes words if they stand here.
func (f *form) takes(words ...string) bool {
	if len(f.rest) < len(words) {
		return false
	}
	for i, word := range words {
		if !f.rest[i].Is(word) {
			return false
		}
	}
	f.rest = f.rest[len(words):]
	return true
}

func (f *form) takesPunct(c byte) bool {
	if len(f.rest) == 0 || !f.rest[0].IsPunct(c) {
		return false
	}
	f.rest = f.rest[1:]
	return true
}

func (f *form) oneOf(words ...string) string {
	for _, word := range words {
		if f.takes(word) {
			return word
		}
	}
	f.fail("it has not the form of such a statement")
	return ""
}

// name takes a name, which may be qualified by the target's database.
func (f *form) name() string {
	part := func() string {
		t := f.next()
		if t.Kind != sqltext.Name && t.Kind != sqltext.Word {
			f.fail("it has no name where one is expected")
		}
		return t.Plain()
	}
	name := part()
	if f.takesPunct('.') {
		if name != f.database {
			f.fail("it reaches into another database, " + name)
		}
		name = part()
	}
	return name
}

// definer passes over the script's own definer.
func (f *form) definer() {
	if !f.takes("DEFINER") {
		return
	}
	if !f.takesPunct('=') {
		f.fail("its DEFINER has no value")
	}
	f.next()
	if f.takesPunct('@') {
		f.next()
	} else if f.takesPunct('(') && !f.takesPunct(')') {
		f.fail("its DEFINER is no account")
	}
}

func (f *form) Read() (d mysql.Definition) {
	d.Drop = f.oneOf("CREATE", "DROP") == "DROP"
	if !d.Drop {
		if f.takes("OR", "REPLACE") {
			f.replace = "OR REPLACE "
		}
		f.definer()
		if f.takes("AGGREGATE") {
			f.aggregate = "AGGREGATE "
		}
	}
	d.Kind = f.oneOf("TRIGGER", "FUNCTION")
	switch {
	case d.Drop && f.takes("IF", "EXISTS"):
		f.ifs = " IF EXISTS"
	case !d.Drop && f.takes("IF", "NOT", "EXISTS"):
		f.ifs = " IF NOT EXISTS"
	}
	d.Name = f.name()
	switch {
	case d.Drop:
		if len(f.rest) > 0 {
			f.fail("something follows the name")
		}
	case d.Kind == "TRIGGER":
		f.moment = " " + f.oneOf("BEFORE", "AFTER") + " " + f.oneOf("INSERT", "UPDATE", "DELETE")
		f.oneOf("ON")
		d.Table = f.name()
		if !f.takes("FOR", "EACH", "ROW") {
			f.fail("it has not the form of such a statement")
		}
	case len(f.rest) == 0 || !f.rest[0].IsPunct('('): // CREATE FUNCTION f RETURNS STRING SONAME loads program code
		f.fail("it has not the form of such a statement")
	}
	return d
}
