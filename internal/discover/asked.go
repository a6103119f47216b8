package discover

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
)

// askedFor is how the application wants its database: as its scripts or its
// documentation make it, if its code allows that; nil where the usual will do.
func askedFor(t *tree, c *code, scripts []*Script) *Asked {
	asked := saidInScripts(scripts)
	if asked == nil {
		asked = saidInDocuments(t)
	}
	if asked != nil && asked.Charset == "" {
		asked.Charset, _, _ = strings.Cut(asked.Collation, "_")
	}
	if list := c.collations; list != nil && (asked == nil || !slices.Contains(list.names, asked.Collation)) {
		if slices.Contains(list.names, usualCollation) {
			return nil
		}
		best := slices.IndexFunc(list.names, func(name string) bool { return strings.HasPrefix(name, "utf8mb4_") })
		asked = &Asked{Collation: list.names[max(0, best)], Place: list.Place}
		asked.Charset, _, _ = strings.Cut(asked.Collation, "_")
	}
	switch {
	case asked == nil, asked.Collation == usualCollation, !askable[asked.Charset], asked.Collation == "" && asked.Charset == "utf8mb4":
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

func saidInScripts(scripts []*Script) *Asked {
	for _, s := range scripts {
		if a := cmp.Or(s.Account, s.makesOwn); a != nil && s.DBMS != familyPostgreSQL && a.Charset+a.Collation != "" {
			return &Asked{Charset: strings.ToLower(a.Charset), Collation: strings.ToLower(a.Collation), Place: Place{File: s.File}}
		}
	}
	return nil
}

func saidInDocuments(t *tree) *Asked {
	for _, name := range t.files {
		if !isDocument(name) {
			continue
		}
		text := t.read(name, longestSettings)
		for _, at := range makesDatabase.FindAllIndex(text, -1) {
			statement := text[at[0]:at[1]]
			asked := Asked{Place: Place{name, 1 + bytes.Count(text[:at[0]], []byte("\n"))}}
			if m := charsetClause.FindSubmatch(statement); m != nil {
				asked.Charset = strings.ToLower(string(m[1]))
			}
			if m := collationClause.FindSubmatch(statement); m != nil {
				asked.Collation = strings.ToLower(string(m[1]))
			}
			if asked.Charset+asked.Collation != "" {
				return &asked
			}
		}
	}
	return nil
}
