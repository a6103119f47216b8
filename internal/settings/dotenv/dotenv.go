// Package dotenv reads and edits the settings in files of NAME=value lines,
// as shells and the dotenv libraries of PHP read them, without losing a byte.
//
// It must never know of files on disk or of what the settings are for.
package dotenv

import (
	"bytes"
	"regexp"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/settings/syntax"
)

// Syntax is dotenv as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "dotenv", Parse: parse, Normalise: normalise, Encode: encode,
	Comments: []string{"#"}, Append: syntax.AtEnd("ADDRESS=x"),
	Addresses: "write the NAME before the equals sign",
}

var (
	assignment = regexp.MustCompile(`^[ \t]*(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_.]*)[ \t]*=[ \t]*`)
	name       = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.]*$`)
	variable   = regexp.MustCompile(`(^|[^\\])\$[A-Za-z_{(]`)
	// plain can stand without quotes and means itself, also to a shell.
	plain   = regexp.MustCompile(`^[A-Za-z0-9_./:@%+,-]+$`)
	integer = regexp.MustCompile(`^-?[0-9]+$`)
)

// parse gives every setting of a file; comments yield none. A quote that is
// never closed is an error with its place.
func parse(source []byte) ([]syntax.Setting, error) {
	var found []syntax.Setting
	pos := 0
	if bytes.HasPrefix(source, []byte(syntax.ByteOrderMark)) {
		pos = len(syntax.ByteOrderMark)
	}
	for pos < len(source) {
		end := lineEnd(source, pos)
		if m := assignment.FindSubmatchIndex(source[pos:end]); m != nil {
			s, err := value(source, string(source[pos+m[2]:pos+m[3]]), pos+m[1])
			if err != nil {
				return nil, err
			}
			found = append(found, s)
			end = lineEnd(source, s.End)
		}
		pos = end
		for pos < len(source) && (source[pos] == '\r' || source[pos] == '\n') {
			pos++
		}
	}
	return found, nil
}

func lineEnd(source []byte, pos int) int {
	if i := bytes.IndexAny(source[pos:], "\r\n"); i >= 0 {
		return pos + i
	}
	return len(source)
}

func value(source []byte, address string, start int) (syntax.Setting, error) {
	s := syntax.Setting{Address: address, Kind: syntax.String, Start: start}
	end := lineEnd(source, start)
	if start == end || source[start] != '"' && source[start] != '\'' {
		raw := source[start:end]
		if i := comment(raw); i >= 0 {
			raw = raw[:i]
		}
		s.Value = string(bytes.TrimRight(raw, " \t"))
		s.End = start + len(s.Value)
		if integer.MatchString(s.Value) {
			s.Kind = syntax.Integer
		}
		if variable.MatchString(s.Value) {
			s.Kind, s.Refusal = syntax.Expression, "put together with a variable"
		}
		return s, nil
	}
	quote := source[start]
	length := syntax.ClosingQuote(source[start:], quote == '"')
	if length < 0 {
		return s, fault.At(fault.Invalid, syntax.PlaceAt(source, start), "close it", "a quote is opened here and never closed")
	}
	s.End = start + length + 1
	body := string(source[start+1 : s.End-1])
	s.Value = body
	if quote == '"' {
		s.Value = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\$`, `$`, `\n`, "\n", `\r`, "\r", `\t`, "\t").Replace(body)
		if variable.MatchString(body) {
			s.Kind, s.Value, s.Refusal = syntax.Expression, string(source[start:s.End]), "a string with a variable in it"
		}
	}
	rest := bytes.TrimLeft(source[s.End:lineEnd(source, s.End)], " \t")
	if len(rest) > 0 && rest[0] != '#' {
		s.End = lineEnd(source, s.End)
		s.Kind, s.Value, s.Refusal = syntax.Expression, string(source[start:s.End]), "put together from pieces"
	}
	return s, nil
}

// comment finds where a comment begins: at a # after a blank.
func comment(raw []byte) int {
	if len(raw) > 0 && raw[0] == '#' {
		return 0
	}
	for i := 1; i < len(raw); i++ {
		if raw[i] == '#' && (raw[i-1] == ' ' || raw[i-1] == '\t') {
			return i
		}
	}
	return -1
}

// normalise takes a name as it is.
func normalise(text string) (string, bool) {
	text = strings.TrimSpace(text)
	return text, name.MatchString(text)
}

// encode keeps the quoting of the old value where the new one allows it. In
// single quotes nothing is special; in double quotes a dollar sign is escaped,
// so that nothing is put in for it.
func encode(old syntax.Setting, literal, value string) (string, error) {
	quoted := strings.HasPrefix(literal, `"`) || strings.HasPrefix(literal, "'")
	switch {
	case plain.MatchString(value) && !quoted:
		return value, nil
	case !strings.ContainsAny(value, "'\r\n") && !strings.HasPrefix(literal, `"`):
		return "'" + value + "'", nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(value) + `"`, nil
}
