// Package keyvalue reads and edits the settings in plain files of "Key=value"
// or "Key value" lines, in which a value is everything up to the end of its
// line, quotes and all. Keys that are not set often stand there as comments.
//
// It must never know of files on disk or of what the settings are for.
package keyvalue

import (
	"bytes"
	"errors"
	"regexp"
	"strings"

	"yellowfield/internal/settings/syntax"
)

// Syntax is such a file as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "key and value", Parse: parse, Normalise: normalise, Encode: encode,
	Comments: []string{"#", ";"}, IsProse: isProse, Append: appendLine,
	Addresses: "write the key that the line begins with",
}

var (
	line    = regexp.MustCompile(`^[ \t]*([A-Za-z_][A-Za-z0-9_.-]*)([ \t]*=[ \t]*|[ \t]+|[ \t]*$)`)
	key     = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)
	integer = regexp.MustCompile(`^-?[0-9]+$`)
)

// parse gives every setting of a file; lines that begin with # or ; yield none. It never
// fails: every line can be read as something.
func parse(source []byte) ([]syntax.Setting, error) {
	var found []syntax.Setting
	pos := 0
	if bytes.HasPrefix(source, []byte(syntax.ByteOrderMark)) {
		pos = len(syntax.ByteOrderMark)
	}
	for pos < len(source) {
		end := len(source)
		if i := bytes.IndexAny(source[pos:], "\r\n"); i >= 0 {
			end = pos + i
		}
		if m := line.FindSubmatchIndex(source[pos:end]); m != nil {
			start := pos + m[1]
			value := strings.TrimRight(string(source[start:end]), " \t")
			s := syntax.Setting{
				Address: string(source[pos+m[2] : pos+m[3]]), Kind: syntax.String, Value: value,
				Start: start, End: start + len(value),
			}
			if integer.MatchString(value) {
				s.Kind = syntax.Integer
			}
			found = append(found, s)
		}
		pos = end + 1
	}
	return found, nil
}

// Is reports whether a text is made of such lines alone, and comments.
func Is(text string) bool {
	found := false
	for l := range strings.Lines(text) {
		l = strings.TrimSpace(l)
		if l == "" || l[0] == '#' || l[0] == ';' {
			continue
		}
		if !line.MatchString(l) || strings.ContainsAny(l, "{}<>") {
			return false
		}
		found = true
	}
	return found
}

// normalise takes a key as it is.
func normalise(text string) (string, bool) {
	text = strings.TrimSpace(text)
	return text, key.MatchString(text)
}

// encode writes the value as it is: there are no quotes in such a file.
func encode(_ syntax.Setting, _, value string) (string, error) {
	switch {
	case strings.ContainsAny(value, "\r\n\x00"):
		return "", errors.New("has a line break, which such a file cannot hold")
	case value != strings.Trim(value, " \t"):
		return "", errors.New("begins or ends with a blank, which is lost in such a file")
	case strings.HasPrefix(value, "="):
		return "", errors.New("begins with an equals sign, which is taken for the one after the key")
	}
	return value, nil
}

// byEquals reports whether a file has equals signs between keys and values.
func byEquals(f syntax.File) bool {
	return len(f.Settings) == 0 || bytes.Contains(f.Source[:f.Settings[0].Start], []byte("="))
}

// isProse tells plain words in a comment from a key and its value.
func isProse(f syntax.File, body string) bool {
	if byEquals(f) {
		return !strings.Contains(body, "=")
	}
	const keyAndValue = 2
	return len(strings.Fields(body)) != keyAndValue
}

func appendLine(f syntax.File, address string) (int, string, error) {
	if byEquals(f) {
		return len(f.Source), address + "=x", nil
	}
	return len(f.Source), address + " x", nil
}
