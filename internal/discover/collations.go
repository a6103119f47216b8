package discover

import (
	"bytes"
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/settings"
	"yellowfield/internal/wordset"
)

// Asked is how the application wants its database made on MariaDB or MySQL.
type Asked struct {
	Charset   string `json:"charset"`
	Collation string `json:"collation"`
	Place     Place  `json:"place"` // where it says so
}

// askable are the character sets that both products have, by all of their names.
var askable = wordset.Of("utf8mb4 utf8mb3 utf8 latin1 ascii ucs2 utf16 utf32")

// usualCollation is what a database gets where nothing is said.
const usualCollation = "utf8mb4_unicode_ci"

var (
	makesDatabase = regexp.MustCompile(`(?i)\b(?:CREATE|ALTER)\s+DATABASE\b[^;\n]*(?:\n[^;\n]+){0,3}`)
	// collationList is a list in the code that is called one of collations, or that a
	// collation is looked up in.
	collationList = regexp.MustCompile(`(?i)collat\w*['"\]]*\s*(?:=>?|,)\s*(?:array\s*\(|\[)([^)\]$>]*)[)\]]`)
	collationName = regexp.MustCompile(`['"]((?:utf8mb4|utf8mb3|utf8|latin1|ascii|ucs2|utf16|utf32)(?:_[a-z0-9]+)+)['"]`)
)

// documentWords are names of files that tell how to install an application.
var documentWords = wordset.Of("readme install installing installation setup requirements deploy deployment upgrading")

// isDocument reports whether a file may tell how to install the application.
func isDocument(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case "", ".md", ".txt", ".rst", ".adoc", ".html", ".htm":
		return isOwnCode(name) && strings.Count(name, "/") <= 2 &&
			slices.ContainsFunc(settings.Words(strings.TrimSuffix(path.Base(name), path.Ext(name))), func(word string) bool { return documentWords[word] })
	}
	return false
}

// listed are the collations that a list of the code allows.
type listed struct {
	Place
	names []string
}

// collationsIn finds the first list of collations in a file of code.
func collationsIn(source []byte) (line int, names []string) {
	for _, at := range collationList.FindAllSubmatchIndex(source, -1) {
		for _, name := range collationName.FindAllSubmatch(source[at[2]:at[3]], -1) {
			names = append(names, string(name[1]))
		}
		if len(names) > 0 {
			return 1 + bytes.Count(source[:at[0]], []byte("\n")), names
		}
	}
	return 0, nil
}

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
