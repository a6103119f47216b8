package discover

import (
	"bytes"
	"cmp"
	"slices"
	"strings"

	"yellowfield/internal/discover/dumps"
	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
)

// askedFor is how the application wants its database: as its scripts or its
// documentation make it, if its code allows that; nil where the usual will do.
func askedFor(t *tree.Tree, c *facts.Code, scripts []*dumps.Script) *facts.Asked {
	asked := saidInScripts(scripts)
	if asked == nil {
		asked = saidInDocuments(t)
	}
	if asked != nil && asked.Charset == "" {
		asked.Charset, _, _ = strings.Cut(asked.Collation, "_")
	}
	if list := c.Collations; list != nil && (asked == nil || !slices.Contains(list.Names, asked.Collation)) {
		if slices.Contains(list.Names, facts.UsualCollation) {
			return nil
		}
		best := slices.IndexFunc(list.Names, func(name string) bool { return strings.HasPrefix(name, "utf8mb4_") })
		asked = &facts.Asked{Collation: list.Names[max(0, best)], Place: list.Place}
		asked.Charset, _, _ = strings.Cut(asked.Collation, "_")
	}
	switch {
	case asked == nil, asked.Collation == facts.UsualCollation, !facts.Askable[asked.Charset], asked.Collation == "" && asked.Charset == "utf8mb4":
		return nil
	case asked.Collation != "" && !strings.HasPrefix(asked.Collation, asked.Charset+"_"):
		return nil // no server has the two together
	case asked.Collation == "" && asked.Charset == "latin1":
		asked.Collation = "latin1_swedish_ci" // its own default
	case asked.Collation == "":
		asked.Collation = asked.Charset + "_general_ci"
	}
	return asked
}

func saidInScripts(scripts []*dumps.Script) *facts.Asked {
	for _, s := range scripts {
		if a := cmp.Or(s.Account, s.MakesOwn); a != nil && s.DBMS != facts.FamilyPostgreSQL && a.Charset+a.Collation != "" {
			return &facts.Asked{Charset: strings.ToLower(a.Charset), Collation: strings.ToLower(a.Collation), Place: facts.Place{File: s.File}}
		}
	}
	return nil
}

func saidInDocuments(t *tree.Tree) *facts.Asked {
	for _, name := range t.Files {
		if !facts.IsDocument(name) {
			continue
		}
		text := t.Read(name, tree.LongestSettings)
		for _, at := range facts.MakesDatabase.FindAllIndex(text, -1) {
			statement := text[at[0]:at[1]]
			asked := facts.Asked{Place: facts.Place{File: name, Line: 1 + bytes.Count(text[:at[0]], []byte("\n"))}}
			if m := dumps.CharsetClause.FindSubmatch(statement); m != nil {
				asked.Charset = strings.ToLower(string(m[1]))
			}
			if m := dumps.CollationClause.FindSubmatch(statement); m != nil {
				asked.Collation = strings.ToLower(string(m[1]))
			}
			if asked.Charset+asked.Collation != "" {
				return &asked
			}
		}
	}
	return nil
}
