package sqltext

import (
	"bytes"
	"strings"

	"yellowfield/internal/sqltext/window"
)

// Dialect is how a server reads a statement. The zero value is a MySQL that
// executes every conditional comment.
type Dialect struct {
	MariaDB bool
	// Version is the server's, as conditional comments count it: 101106 for
	// 10.11.6. 0 takes every conditional comment for executed.
	Version int
	// ANSIQuotes makes "x" a name, and NoBackslashEscapes makes a backslash
	// an ordinary character, as the SQL modes of these names do.
	ANSIQuotes, NoBackslashEscapes bool
	// Charset is the character set that the server takes the statement to be in,
	// in small letters (character_set_client); empty for UTF-8.
	Charset string
	// PostgreSQL has dollar quotes, E'...', nested comments, and no comments
	// with #. NoBackslashEscapes is its standard_conforming_strings.
	PostgreSQL bool
}

// WithMode gives the dialect under another sql_mode.
func (d Dialect) WithMode(mode string) Dialect {
	d.ANSIQuotes, d.NoBackslashEscapes = false, false
	for word := range strings.SplitSeq(mode, ",") {
		switch strings.ToUpper(strings.TrimSpace(word)) {
		case "ANSI_QUOTES", "ANSI", "DB2", "MAXDB", "MSSQL", "ORACLE", "POSTGRESQL":
			d.ANSIQuotes = true // the combinations hold ANSI_QUOTES on the servers that know them
		case "NO_BACKSLASH_ESCAPES":
			d.NoBackslashEscapes = true
		}
	}
	return d
}

// Escapes reports whether a backslash escapes inside the given quotes.
func (d Dialect) Escapes(quote byte) bool {
	return quote != '`' && !d.NoBackslashEscapes && (quote != '"' || !d.ANSIQuotes)
}

// executes reports whether a server runs the text of the conditional comment
// that text begins with, and how long its opening is. MariaDB passes over the
// versions 5.07.00 to 9.99.99, which it never had (MariaDB, "Comment Syntax").
// doubtful tells that the number could be read in two ways with different outcomes:
// versions have five digits or six, and MySQL takes a sixth only before white space
// (tried on both).
func (d Dialect) executes(text []byte) (opening int, executed, doubtful bool) {
	opening = bytes.IndexByte(text, '!') + 1
	own := opening > len("/*!")
	digits := 0
	for opening+digits < len(text) && text[opening+digits] >= '0' && text[opening+digits] <= '9' {
		digits++
	}
	number := func(n int) (version int) {
		for _, c := range text[opening : opening+n] {
			version = version*10 + int(c-'0')
		}
		return version
	}
	runs := func(version int) bool {
		switch {
		case d.Version == 0:
			return true
		case own && !d.MariaDB:
			return false
		case d.MariaDB && !own && version >= 50700 && version <= 99999:
			return false
		}
		return version <= d.Version
	}
	switch {
	case digits == 0:
		return opening, runs(0), false
	case digits < 5:
		return opening, runs(0), true
	case digits == 5:
		return opening + 5, runs(number(5)), false
	}
	blank := opening+6 < len(text) && window.IsSpace(text[opening+6])
	doubtful = digits > 6 || !d.MariaDB && !blank
	six, five := runs(number(6)), runs(number(5))
	return opening + 6, six, doubtful && (six || five)
}

// isUTF8 holds the names of UTF-8.
var isUTF8 = map[string]bool{"": true, "utf8": true, "utf8mb3": true, "utf8mb4": true}

// IsUTF8 reports whether the server takes statements to be UTF-8.
func (d Dialect) IsUTF8() bool { return isUTF8[d.Charset] }

// WithCharset gives the dialect for a client of another character set.
func (d Dialect) WithCharset(name string) Dialect {
	d.Charset = strings.ToLower(name)
	if isUTF8[d.Charset] {
		d.Charset = ""
	}
	return d
}

// readable are the character sets in which every byte below 0x80 is the ASCII
// character, wherever it stands (MySQL Reference Manual, "Supported Character Sets
// and Collations"). In the others a quote or a backslash may be the second byte of
// a character, or a letter: what is a literal there cannot be told from here.
var readable = map[string]bool{
	"ascii": true, "binary": true, "latin1": true, "latin2": true, "latin5": true, "latin7": true, "cp1250": true, "cp1251": true, "cp1256": true,
	"cp1257": true, "cp850": true, "cp852": true, "cp866": true, "dec8": true, "hp8": true, "koi8r": true, "koi8u": true, "greek": true,
	"hebrew": true, "macce": true, "macroman": true, "keybcs2": true, "geostd8": true, "armscii8": true, "tis620": true,
	"euckr": true, "ujis": true, "eucjpms": true, "gb2312": true,
}

// IsReadable reports whether statements in a character set can be read byte by byte.
func IsReadable(charset string) bool {
	return isUTF8[strings.ToLower(charset)] || readable[strings.ToLower(charset)]
}
