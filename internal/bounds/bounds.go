// Package bounds protects parsers from hostile files: a few megabytes of brackets or commas
// would exhaust a parser's memory or its stack. It looks at the bytes alone, before any parser
// does, and has large pieces of files held one at a time.
//
// It must never know what a file is for.
package bounds

import (
	"bytes"
	"fmt"
)

// Deepest is how deep the things in a file may be nested.
const Deepest = 100

// Check reports a text of more words and marks than most: as the end of a sentence
// that begins with "the file".
func Check(text []byte, most int) error {
	pieces, inWord := 0, false
	for _, c := range text {
		isWord := c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
		if isWord && !inWord || !isWord && c != ' ' && c != '\t' && c != '\r' {
			pieces++
		}
		inWord = isWord
	}
	if pieces > most {
		return fmt.Errorf("has more than %d words and marks", most)
	}
	return nil
}

// CheckYAML reports YAML whose brackets and dashes are nested too deep. Brackets
// inside of texts are counted, too: hundreds of them that are never closed stand in
// none.
func CheckYAML(text []byte) error {
	tooDeep := fmt.Errorf("is nested deeper than %d", Deepest)
	depth := 0
	for line := range bytes.Lines(text) {
		inLine := 0 // dashes and question marks that open a list or a key each
		for i, c := range line {
			switch c {
			case '[', '{':
				depth++
			case ']', '}':
				depth = max(0, depth-1)
			case '-', '?', ':', '&', '!':
				if i+1 < len(line) && (line[i+1] == ' ' || line[i+1] == '\t') {
					inLine++
				}
			}
			if depth > Deepest || inLine > Deepest && depth == 0 {
				return tooDeep
			}
		}
	}
	return nil
}
