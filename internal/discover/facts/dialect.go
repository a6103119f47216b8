package facts

import (
	"bytes"
	"regexp"
	"unicode/utf8"

	"yellowfield/internal/sqltext"
)

var (
	mysqlSigns      = regexp.MustCompile("(?i)\\bengine\\s*=|\\bauto_increment\\b|`\\w+`|\\bunsigned\\b|\\btinyint\\b|\\bmediumtext\\b|\\bdelimiter\\b|(?m:^source[ \\t]+\\S+\\.sql)")
	postgreSQLSigns = regexp.MustCompile(`(?i)\b(?:big)?serial\b|\bbytea\b|\bnextval\s*\(|\bcharacter varying\b|\btimestamp with(?:out)? time zone\b|\bset search_path\b|\$\$|\bowner to\b|(?m:^copy .* from stdin)|(?m:^\\ir?[ \t])|::\w+|\bplpgsql\b|\btimestamptz\b|\bjsonb\b|\bcreate (?:type|domain|extension)\b`)
	otherSigns      = regexp.MustCompile(`(?i)\bautoincrement\b|\bpragma\b|\bvarchar2\b|\bnvarchar\b|\bidentity\s*\(\s*1|^go\s*$|\bnumber\s*\(\s*\d+\s*\)`)
)

// DialectOf tells for which servers SQL is written by words that only they have;
// empty when it could be for any.
func DialectOf(text []byte) string {
	text = withoutComments.ReplaceAll(text, nil)
	counts := map[string]int{
		FamilyMySQL: len(mysqlSigns.FindAllIndex(text, 50)), FamilyPostgreSQL: len(postgreSQLSigns.FindAllIndex(text, 50)), FamilyOther: len(otherSigns.FindAllIndex(text, 50)),
	}
	best := ""
	for _, family := range []string{FamilyMySQL, FamilyPostgreSQL, FamilyOther} {
		if counts[family] > 0 && counts[family] > counts[best] {
			best = family
		}
	}
	return best
}

var withoutComments = regexp.MustCompile(`(?m)^\s*--.*$`)

// Letters guesses the encoding of a script.
type Letters struct{ foreign, binary, said bool }

var (
	saysEncoding = regexp.MustCompile(`(?i)^(?:/\*!\d+\s*)?SET\s+(?:NAMES|CHARACTER\s+SET|client_encoding)\W+(\w+)`)
	makesTable   = regexp.MustCompile(`(?i)^CREATE\s`)
	binaryType   = regexp.MustCompile(`(?i)\b(?:var)?binary\b|blob\b|\bbytea\b`)
)

func (l *Letters) Take(statement sqltext.Statement) {
	if m := saysEncoding.FindSubmatch(statement.Text); m != nil && !bytes.HasPrefix(bytes.ToLower(m[1]), []byte("utf8")) {
		l.said = true
	}
	l.binary = l.binary || makesTable.Match(statement.Text) && binaryType.Match(statement.Text)
	if !utf8.Valid(statement.Text) {
		l.foreign = true
		l.binary = l.binary || bytes.Contains(statement.Text, []byte("_binary")) ||
			bytes.ContainsFunc(statement.Text, func(r rune) bool { return r < ' ' && r != '\t' && r != '\n' && r != '\r' })
	}
}

// Encoding is what most scripts have that are no UTF-8, hold nothing but text, and do not
// say what they are; empty for another one.
func (l *Letters) Encoding() string {
	if l.foreign && !l.binary && !l.said {
		return "windows-1252"
	}
	return ""
}
