package judge

import (
	"regexp"
	"strings"

	"yellowfield/internal/sqltext"
)

// automatic are names that servers give to constraints which have none: MariaDB counts them
// in each table, and MySQL begins them with the table's name.
var automatic = regexp.MustCompile(`(?i)^constraint_\d+$|_chk_\d+$`)

// freeCheckNames takes names from CHECK constraints that MySQL would refuse: it takes one
// once in a database (MySQL Reference Manual, "CHECK Constraints"), and MariaDB once in a
// table. The server gives others.
func (j *Judge) freeCheckNames(head sqltext.Head, tokens sqltext.Tokens) (edits []edit) {
	if j.server.MariaDB || head.Object != "TABLE" || head.Verb != "CREATE" && head.Verb != "ALTER" {
		return nil
	}
	var named []int // places of CONSTRAINT
	unnamed := false
	for i, t := range tokens {
		switch {
		case !t.Is("CHECK") || !tokens.At(i+1).IsPunct('('):
		case tokens.At(i - 2).Is("CONSTRAINT"):
			named = append(named, i-2)
		default:
			unnamed = true // which gets an automatic name, and that may be taken
		}
	}
	table := strings.ToLower(head.Name.Name)
	for _, i := range named {
		name := strings.ToLower(tokens[i+1].Plain())
		of, taken := j.checks[name]
		if taken && of != table || unnamed && automatic.MatchString(name) {
			edits = append(edits, edit{tokens[i].Start, tokens[i+2].Start, ""})
			continue
		}
		j.checks[name] = table
	}
	return edits
}
