package sqltext

import "strings"

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
	if t, ok := NewScanner(text, d).Next(); !ok || !t.Is("SET") {
		return nil
	}
	return SetOf(Scan(text, d))
}

// SetOf is ParseSet for a statement whose tokens are known.
func SetOf(tokens Tokens) []Assignment {
	if !tokens.At(0).Is("SET") {
		return nil
	}
	tokens = tokens[1:]
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
