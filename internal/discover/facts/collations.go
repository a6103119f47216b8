package facts

import (
	"bytes"
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

// Askable are the character sets that both products have, by all of their names.
var Askable = wordset.Of("utf8mb4 utf8mb3 utf8 latin1 ascii ucs2 utf16 utf32")

// UsualCollation is what a database gets where nothing is said.
const UsualCollation = "utf8mb4_unicode_ci"

var (
	MakesDatabase = regexp.MustCompile(`(?i)\b(?:CREATE|ALTER)\s+DATABASE\b[^;\n]*(?:\n[^;\n]+){0,3}`)
	// collationList is a list in the code that is called one of collations, or that a
	// collation is looked up in.
	collationList = regexp.MustCompile(`(?i)collat\w*['"\]]*\s*(?:=>?|,)\s*(?:array\s*\(|\[)([^)\]$>]*)[)\]]`)
	collationName = regexp.MustCompile(`['"]((?:utf8mb4|utf8mb3|utf8|latin1|ascii|ucs2|utf16|utf32)(?:_[a-z0-9]+)+)['"]`)
)

// documentWords are names of files that tell how to install an application.
var documentWords = wordset.Of("readme install installing installation setup requirements deploy deployment upgrading")

// IsDocument reports whether a file may tell how to install the application.
func IsDocument(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case "", ".md", ".txt", ".rst", ".adoc", ".html", ".htm":
		return IsOwnCode(name) && strings.Count(name, "/") <= 2 &&
			slices.ContainsFunc(settings.Words(strings.TrimSuffix(path.Base(name), path.Ext(name))), func(word string) bool { return documentWords[word] })
	}
	return false
}

// listed are the collations that a list of the code allows.
type listed struct {
	Place
	Names []string
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
