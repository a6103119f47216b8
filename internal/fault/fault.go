// Package fault holds the one kind of error that Yellowfield shows to a
// person: what happened, where, and what to do next.
//
// Every other package builds its errors here, so that no place in the program has to guess how
// an error will be shown or which exit code it means. It must never know of servers, files'
// contents or terminals: it carries facts, it does not gather or draw them.
package fault

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Class says what an error means for the run as a whole. It decides the exit
// code, so it is chosen where the error is made, by the code that knows
// whether anything was touched.
type Class int

const (
	Failed      Class = iota // something that was begun did not succeed: exit 1
	Invalid                  // wrong use or wrong input, nothing touched: exit 2
	Differs                  // a difference was found and left alone: exit 3
	Protected                // refused, because going on could lose data: exit 4
	Busy                     // somebody else is at work there, nothing touched: exit 75, as sysexits.h has it for another try
	OutOfReach               // a server does not answer: exit 75, too
	Interrupted              // the person stopped it: exit 130
)

// ExitCode is the process exit code for the class.
func (c Class) ExitCode() int {
	switch c {
	case Invalid:
		return 2
	case Differs:
		return 3
	case Protected:
		return 4
	case Busy, OutOfReach:
		return 75
	case Interrupted:
		return 130
	}
	return 1
}

// gravity orders exit codes from harmless to grave.
var gravity = []int{0, 3, 75, 1, 2, 4, 130}

// Graver gives the graver one of two exit codes.
func Graver(a, b int) int {
	if slices.Index(gravity, b) > slices.Index(gravity, a) {
		return b
	}
	return a
}

// Place is a spot in a text file. Line and Column count from 1; 0 means "not
// known", so that a Place may name a whole file or a whole line.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// String gives file:line:column, the form that editors and terminals turn
// into a link.
func (p Place) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Error is an error somebody can act upon.
type Error struct {
	Class   Class
	Place   Place  // zero when the error belongs to no file
	What    string // what happened, as one sentence without the place
	Excerpt string // the source lines around Place, already laid out; may be empty
	Next    string // what to do next; may be empty only where What says it
	Cause   error  // the lower error, kept for errors.Is and errors.As
}

func (e *Error) Error() string {
	text := e.What
	if e.Place.File != "" {
		text = e.Place.String() + ": " + text
	}
	if e.Next != "" {
		text += " (" + e.Next + ")"
	}
	return text
}

func (e *Error) Unwrap() error { return e.Cause }

// New makes an error without a place.
func New(class Class, next, format string, args ...any) *Error {
	return &Error{Class: class, Next: next, What: fmt.Sprintf(format, args...)}
}

// At makes an error with a place.
func At(class Class, place Place, next, format string, args ...any) *Error {
	return &Error{Class: class, Place: place, Next: next, What: fmt.Sprintf(format, args...)}
}

// Stopped is the error of work that a person interrupted.
func Stopped(cause error) *Error {
	return New(Interrupted, "run the command again when it suits", "interrupted").With(cause)
}

// With returns the error with its cause set. The cause's text is not added to the message: the
// wrapping error says it better.
func (e *Error) With(cause error) *Error {
	e.Cause = cause
	return e
}

// WithExcerpt returns the error with the source line its place names, taken
// from source, and a caret below the column.
func (e *Error) WithExcerpt(source []byte) *Error {
	e.Excerpt = Excerpt(source, e.Place)
	return e
}

// As finds the fault inside err. An error that is none becomes one of class
// Failed, so that callers can treat all alike; a nil err gives nil.
func As(err error) *Error {
	if err == nil {
		return nil
	}
	var f *Error
	if errors.As(err, &f) {
		return f
	}
	return &Error{Class: Failed, What: err.Error(), Cause: err}
}

// All flattens err, which may be several errors joined, into its faults in
// their order.
func All(err error) []*Error {
	if err == nil {
		return nil
	}
	switch e := err.(type) {
	case *Error:
		return []*Error{e}
	case interface{ Unwrap() []error }:
		var all []*Error
		for _, part := range e.Unwrap() {
			all = append(all, All(part)...)
		}
		return all
	case interface{ Unwrap() error }:
		if inner := e.Unwrap(); inner != nil {
			var f *Error
			if errors.As(inner, &f) { // else the wrapper says more than what it wraps
				return All(inner)
			}
		}
	}
	return []*Error{As(err)}
}

// excerptWidth is how many characters of a long source line are shown: enough
// to recognise it in 80 columns.
const excerptWidth = 66

// Excerpt lays out the line that place names, with a caret below the column:
//
//	12 |     charset: utf9
//	   |              ^
//
// It is empty when place has no line or source is shorter.
func Excerpt(source []byte, place Place) string {
	if place.Line == 0 {
		return ""
	}
	rest := string(source)
	for n := 1; n < place.Line; n++ {
		_, after, found := strings.Cut(rest, "\n")
		if !found {
			return ""
		}
		rest = after
	}
	line, _, _ := strings.Cut(rest, "\n")
	return ExcerptLine(strings.TrimRight(line, "\r"), place)
}

// ExcerptLine is Excerpt for a caller that holds just the one line.
func ExcerptLine(line string, place Place) string {
	runes := []rune(strings.ReplaceAll(line, "\t", " "))
	column := max(place.Column, 1)
	from := 0
	if column > excerptWidth-6 {
		from = min(column-excerptWidth/2, len(runes))
	}
	to := min(from+excerptWidth, len(runes))
	shown := string(runes[from:to])
	number := fmt.Sprintf("%d", place.Line)
	text := number + " | " + shown
	if place.Column > 0 {
		text += "\n" + strings.Repeat(" ", len(number)) + " | " + strings.Repeat(" ", column-1-from) + "^"
	}
	return text
}

// Nearest returns the known words that could be meant by word, best first and
// at most three: for messages that say "did you mean".
func Nearest(word string, known []string) []string {
	type guess struct {
		word     string
		distance int
	}
	limit := max(2, len(word)/3)
	var guesses []guess
	for _, k := range known {
		d := editDistance(strings.ToLower(word), strings.ToLower(k))
		if d <= limit {
			guesses = append(guesses, guess{k, d})
		}
	}
	for i := 1; i < len(guesses); i++ { // insertion sort keeps equals in the order given
		for j := i; j > 0 && guesses[j].distance < guesses[j-1].distance; j-- {
			guesses[j], guesses[j-1] = guesses[j-1], guesses[j]
		}
	}
	var words []string
	for _, g := range guesses[:min(3, len(guesses))] {
		if g.distance <= guesses[0].distance+1 { // beside a near one, far ones only distract
			words = append(words, g.word)
		}
	}
	return words
}

// DidYouMean is the sentence for Nearest, or otherwise when nothing is near.
func DidYouMean(word string, known []string, otherwise string) string {
	near := Nearest(word, known)
	if len(near) == 0 {
		return otherwise
	}
	return "did you mean " + strings.Join(near, " or ") + "?"
}

// editDistance counts the insertions, deletions, replacements and swaps of
// neighbours that turn a into b (Damerau-Levenshtein, restricted form).
func editDistance(a, b string) int {
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
