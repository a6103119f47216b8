// Package wordset keeps lists of words as one string in the source, and as a set in the
// program. It knows of nothing else.
package wordset

import "strings"

// Set is a set of words.
type Set map[string]bool

// Of makes a set of the words of a text.
func Of(words string) Set {
	set := Set{}
	for word := range strings.FieldsSeq(words) {
		set[word] = true
	}
	return set
}
