// Package load defines what an import is: its options, what reading a script beforehand finds,
// its progress and its report. The packages below send the scripts to each product.
//
// It must never know of estate files, settings files or commands. Texts for a person name what
// these know in braces, {retarget}, and callers replace them with their own words.
package load

import (
	"context"
	"strings"
	"unsafe"

	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// Importer brings scripts into one database.
type Importer interface {
	// Check reads a whole script and runs nothing. What would stop the import half
	// way comes back as an error with its place: a damaged archive, an open quote,
	// a command for the stock client, text that is not valid in its encoding. What
	// must not run is listed in Survey.Refused.
	Check(ctx context.Context, s script.Source, o Options) (*Survey, error)
	// Import sends a script as its survey, which came from Check, allows. It stops at the
	// first statement that the server refuses; the error has the statement's place, its
	// beginning, what the server said and what to do. What was sent before stays: the caller,
	// who knows what was there, has to undo it.
	Import(ctx context.Context, s script.Source, survey *Survey, o Options, progress func(Progress)) (Report, error)
}

// Target is the database that scripts go into.
type Target struct {
	Database string
	Charset  string // of the database
	// Holds are the objects that are there before the import, by name.
	Holds map[string]bool
}

// Options are what the administrator decides about an import.
type Options struct {
	// OneByOne sends every statement as it stands, one after the other.
	OneByOne bool
	// IntoExisting allows a script to touch tables that are there already.
	IntoExisting bool
	// MapCollations replaces collations that the server lacks.
	MapCollations bool
	// ConvertCharset makes the script's tables utf8mb4 and InnoDB.
	ConvertCharset bool
	// Fast gives up the single transaction of a script, on products that would use one, so
	// that several sessions can take part.
	Fast bool
	// EventsDisabled makes events so that they do not run.
	EventsDisabled bool
	// Lanes is the number of sessions that take rows side by side; 0 for one
	// a core, but no more than the tables are worth.
	Lanes int
}

// Objection is why a statement is not run, and what to do about it.
type Objection struct{ What, Next string }

// Refuse makes an objection.
func Refuse(what, next string) *Objection { return &Objection{What: what, Next: next} }

// Protect is the error for a statement against which there is an objection.
func (o *Objection) Protect() error { return fault.New(fault.Protected, o.Next, "%s", o.What) }

// RemoveIt is the next step for a statement that does not belong in an application's script.
const RemoveIt = "remove the statement"

// Part is one statement of the script inside a larger one that is sent.
type Part struct {
	sqltext.Statement     // its place; Text is empty
	Start, End        int // of its rows, in what is sent
}

// Excerpt lays out the beginning of a statement. Its line in the file may
// begin with other text, which is not at hand; blanks stand for it.
func Excerpt(line string, statement sqltext.Statement, place fault.Place) string {
	const widest = 400 // characters of a line that are looked at
	if len(line) > widest {
		line = line[:widest]
	}
	if place.Line == statement.Line {
		const deepest = 40 // columns of indentation that are kept
		if place.Column > deepest {
			place.Column = 1
		}
		line = strings.Repeat(" ", place.Column-1) + line
	}
	return fault.ExcerptLine(strings.ToValidUTF8(strings.TrimRight(line, "\r"), "?"), place)
}

// Located adds the statement's place to an error that did not come from a server.
func Located(name string, s sqltext.Statement, line string, err error) error {
	place := s.Place(name)
	f := fault.As(err)
	located := fault.At(f.Class, place, f.Next, "%s", f.What).With(err)
	located.Excerpt = Excerpt(line, s, place)
	return located
}

// AsText is a text without a copy of it, for as long as nobody changes the bytes: a statement
// may take a large part of the memory that there is.
func AsText(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }
