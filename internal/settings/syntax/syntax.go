// Package syntax holds what all syntaxes of configuration files have in
// common: a file is bytes, and a setting is an address in the file's own
// notation with the byte range of its value.
//
// It must never know of any one syntax, of files on disk or of databases.
package syntax

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/fault"
)

// Syntax is one notation of configuration files.
type Syntax struct {
	Name string // for messages: "PHP"
	// Parse gives every setting of a file in its order. A file that does not
	// parse is an error with line and column.
	Parse func(source []byte) ([]Setting, error)
	// Normalise gives the normal form of an address as a person may write it;
	// ok is false when it is no address of this syntax.
	Normalise func(address string) (normal string, ok bool)
	// Encode writes a value in the style of the one it replaces, whose
	// literal is given. The error says, as the end of a sentence that begins
	// with "it", why this syntax cannot hold the value.
	Encode func(old Setting, literal, value string) (string, error)
	// Addresses says how addresses are written, for a person who got one wrong.
	Addresses string

	// Comments are what comments of one line begin with, and CommentEnd is what they
	// end with; empty for the end of the line.
	Comments   []string
	CommentEnd string
	// IsProse tells words in a comment from a setting that was commented out; nil where
	// a look at the line as a setting is enough.
	IsProse func(f File, body string) bool
	// Append is where a setting goes that has nothing beside it, and the line that sets
	// it to any value. The error says, as the end of a sentence, why there is no place.
	Append func(f File, address string) (offset int, line string, err error)
	// Element cuts an address before its last element; ok is false where it has none.
	// Nil where a file has no elements inside others.
	Element func(address string) (parent, key string, ok bool)
	// Beside is where an element goes after another one of the same parent, and as what text;
	// ok is false where it cannot go there.
	Beside func(f File, s Sibling, key string) (offset int, text string, ok bool)
}

// File is a file as far as adding a setting to it has to know.
type File struct {
	Source   []byte
	Settings []Setting
	LineEnd  string
}

// Sibling is a setting beside which another is to go.
type Sibling struct {
	Setting
	Parent string // of both
	Line   []byte // of the file, before the value
	Indent string
}

// Alone reports whether nothing stands before it on its line that one of these
// characters ends.
func (s Sibling) Alone(marks string) bool { return !bytes.ContainsAny(s.Line, marks) }

// Separator is what stands between it and one after it, on a line of its own or not.
func (s Sibling) Separator(f File, alone bool) string {
	if alone {
		return "," + f.LineEnd + s.Indent
	}
	return ", "
}

// AtEnd puts a line at the end of a file.
func AtEnd(format string) func(f File, address string) (int, string, error) {
	return func(f File, address string) (int, string, error) {
		return len(f.Source), strings.ReplaceAll(format, "ADDRESS", address), nil
	}
}

// PlaceAt is the line and column of a byte of a file.
func PlaceAt(source []byte, at int) fault.Place { return NewPlaces(source).At(at) }

// Places tells lines and columns of bytes of a file. Asked in the order of the bytes
// it reads the file once, however often it is asked.
type Places struct {
	source           []byte
	at, line, column int
}

// NewPlaces begins at the file's first byte.
func NewPlaces(source []byte) *Places { return &Places{source: source, line: 1, column: 1} }

// At is the line and column of a byte.
func (p *Places) At(at int) fault.Place {
	at = min(at, len(p.source))
	if at < p.at {
		p.at, p.line, p.column = 0, 1, 1
	}
	passed := p.source[p.at:at]
	if lines := bytes.Count(passed, []byte{'\n'}); lines > 0 {
		p.line, p.column = p.line+lines, 1
		passed = passed[bytes.LastIndexByte(passed, '\n')+1:]
	}
	p.column += utf8.RuneCount(passed)
	p.at = at
	return fault.Place{Line: p.line, Column: p.column}
}

// ClosingQuote finds the quote that closes the one at the beginning of text, -1
// when there is none. With escapes a backslash takes the next character's
// meaning.
func ClosingQuote(text []byte, escapes bool) int {
	for i := 1; i < len(text); i++ {
		switch {
		case escapes && text[i] == '\\':
			i++
		case text[i] == text[0]:
			return i
		}
	}
	return -1
}

// ByteOrderMark is what some editors put before the first character.
const ByteOrderMark = "\ufeff"

// Kind is what a value is in its file.
type Kind string

// The kinds of a value. All but Expression can be written.
const (
	String     Kind = "string"
	Integer    Kind = "integer"
	Float      Kind = "float"
	Boolean    Kind = "boolean"
	Null       Kind = "null"
	Expression Kind = "expression" // anything that has to be evaluated
)

// Setting is one value in a file.
type Setting struct {
	Address string // in the file's own notation, in its normal form
	Kind    Kind
	Value   string // decoded; the source text for an Expression
	// Start and End are the byte range of the value as it is written in the
	// file, quotes included.
	Start, End int
	Place      fault.Place // of Start; filled in for all settings of a file at once
	// Refusal says why the value must not be written, as the end of a
	// sentence that begins with "it is"; empty when it may be.
	Refusal string
	// Fixed says that the refusal is about the place where the value stands,
	// so that even a plain value must not be written there.
	Fixed bool
	// Fallback says that the value is in force only where the environment has none.
	Fallback bool
	// Part is the part of a data source name that Value is, empty when it is
	// the whole value; Whole is then the value that holds it.
	Part, Whole string
}
