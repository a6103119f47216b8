package facts

import (
	"regexp"
	"strings"
	"unicode"

	"yellowfield/internal/settings/php"
	"yellowfield/internal/wordset"
)

// Lacking is a table that is used, and that nothing here makes.
type Lacking struct {
	Table string `json:"table"`
	Place Place  `json:"place"` // of one use
}

// TablesInCode are the tables that the SQL in the application's code uses and makes.
type TablesInCode struct {
	Uses  map[string]Place
	Makes map[string]bool
	// Others says that the code makes tables whose names it puts together.
	Others bool
}

var (
	// sqlInCode is SQL in capitals, as words for people never are.
	sqlInCode  = regexp.MustCompile(`^\s*(?:SELECT\b(?s:.*)\bFROM|INSERT\b|REPLACE\s+INTO|UPDATE\b(?s:.*)\bSET|DELETE\s+FROM)\b`)
	tableInSQL = regexp.MustCompile("\\b(?:FROM|JOIN|INTO|UPDATE)\\s+[`\"]?([A-Za-z_]\\w*)[`\"]?(?:[\\s,;)(]|$)")
	tableMade  = regexp.MustCompile("(?i)\\bcreate\\s+(?:temporary\\s+)?table\\s+(?:if\\s+not\\s+exists\\s+)?[`\"]?([A-Za-z_]\\w*)?[`\"]?")
	noTables   = wordset.Of("dual information_schema select lateral unnest generate_series")
)

// Take takes a literal of the code.
func (u *TablesInCode) Take(place Place, literal php.Literal) {
	text := literal.Text
	for _, m := range tableMade.FindAllStringSubmatch(text, -1) {
		u.Makes[strings.ToLower(m[1])] = true
		u.Others = u.Others || m[1] == "" && !makesAnyTable.MatchString(text)
	}
	if literal.Gaps || !sqlInCode.MatchString(text) {
		return
	}
	if literal.Begins { // with a name that may go on
		text = strings.TrimRightFunc(text, func(c rune) bool { return c == '_' || unicode.IsLetter(c) || unicode.IsDigit(c) })
	}
	for _, m := range tableInSQL.FindAllStringSubmatch(text, -1) {
		name := strings.ToLower(m[1])
		if _, known := u.Uses[name]; !known && !noTables[name] && !strings.HasPrefix(name, "pg_") && !strings.HasPrefix(name, "sqlite_") {
			u.Uses[name] = place
		}
	}
}
