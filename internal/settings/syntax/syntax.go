// Package syntax holds what all syntaxes of configuration files have in
// common: a file is bytes, and a setting is an address in the file's own
// notation with the byte range of its value.
//
// It must never know of any one syntax, of files on disk or of databases.
package syntax

import "yellowfield/internal/fault"

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
	Place      fault.Place // of the value; File is filled in by whoever knows it
	// Refusal says why the value must not be written, as the end of a
	// sentence that begins with "it is"; empty when it may be.
	Refusal string
}
