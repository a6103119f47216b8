// Package ini reads and edits the settings in INI files as PHP reads them
// (PHP manual, "parse_ini_file"), without losing a byte.
//
// It must never know of files on disk or of what the settings are for.
package ini

import (
	"bytes"
	"errors"
	"regexp"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/settings/syntax"
)

// Syntax is INI as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "INI", Parse: parse, Normalise: normalise, Encode: encode,
	Comments: []string{";", "#"}, Append: appendLine,
	Addresses: "write [section] key, or key for one before the first section",
}

// guard is a line of PHP at the head of an INI file: a browser that asks for
// the file gets nothing. Behind a semicolon it is a comment, whatever it does.
var guard = regexp.MustCompile(`(?i)^\s*<\?php\s*/?\*?\s*(?:exit|die)\b|^\s*;\s*<\?php\b`)

// IsGuard reports whether a file's first line says that an INI file hides
// behind it.
func IsGuard(line string) bool { return guard.MatchString(line) }

// parse gives every setting of a file. Comments yield none. A quote that is
// never closed is an error with its place.
func parse(source []byte) ([]syntax.Setting, error) {
	p := &parser{source: source}
	if bytes.HasPrefix(source, []byte(syntax.ByteOrderMark)) {
		p.pos = len(syntax.ByteOrderMark)
	}
	for p.pos < len(source) {
		if err := p.line(); err != nil {
			return nil, err
		}
	}
	return p.found, nil
}

type parser struct {
	source  []byte
	pos     int
	section string
	found   []syntax.Setting
}

// lineEnd is where the line that pos is in ends, before its line end.
func (p *parser) lineEnd() int {
	if i := bytes.IndexAny(p.source[p.pos:], "\r\n"); i >= 0 {
		return p.pos + i
	}
	return len(p.source)
}

func (p *parser) line() error {
	end := p.lineEnd()
	text := string(p.source[p.pos:end])
	trimmed := strings.TrimLeft(text, " \t")
	switch {
	case trimmed == "", trimmed[0] == ';', trimmed[0] == '#', strings.HasPrefix(trimmed, "<?"), strings.HasPrefix(trimmed, "?>"):
	case trimmed[0] == '[':
		if name, _, closed := strings.Cut(trimmed[1:], "]"); closed {
			p.section = strings.TrimSpace(name)
		}
	default:
		if equals := strings.IndexByte(text, '='); equals > 0 {
			key := strings.TrimSpace(text[:equals])
			p.pos += equals + 1
			for p.pos < end && (p.source[p.pos] == ' ' || p.source[p.pos] == '\t') {
				p.pos++
			}
			if err := p.value(address(p.section, key)); err != nil {
				return err
			}
			end = p.lineEnd()
		}
	}
	p.pos = end
	for p.pos < len(p.source) && (p.source[p.pos] == '\r' || p.source[p.pos] == '\n') {
		p.pos++
	}
	return nil
}

func address(section, key string) string {
	if section == "" {
		return key
	}
	return "[" + section + "] " + key
}

// value takes the value that begins at pos.
func (p *parser) value(address string) error {
	start, end := p.pos, p.lineEnd()
	s := syntax.Setting{Address: address, Start: start}
	quote := byte(0)
	if start < end && (p.source[start] == '"' || p.source[start] == '\'') {
		quote = p.source[start]
	}
	if quote == 0 {
		raw := p.source[start:end]
		if i := bytes.IndexByte(raw, ';'); i >= 0 {
			raw = raw[:i]
		}
		s.End = start + len(bytes.TrimRight(raw, " \t"))
		s.Kind, s.Value, s.Refusal = bare(string(p.source[start:s.End]))
		p.found = append(p.found, s)
		return nil
	}
	closing := syntax.ClosingQuote(p.source[start:], quote == '"')
	if closing < 0 {
		return fault.At(fault.Invalid, syntax.PlaceAt(p.source, start), "close it on the same line", "a quote is opened here and never closed")
	}
	s.End = start + closing + 1
	p.pos = s.End
	s.Kind, s.Value = syntax.String, unquote(string(p.source[start:s.End]))
	rest := strings.TrimLeft(string(p.source[s.End:p.lineEnd()]), " \t")
	switch {
	case rest != "" && rest[0] != ';':
		s.End = start + len(strings.TrimRight(string(p.source[start:p.lineEnd()]), " \t"))
		s.Kind, s.Value, s.Refusal = syntax.Expression, string(p.source[start:s.End]), "put together from pieces"
	case quote == '"' && strings.Contains(s.Value, "${"):
		s.Kind, s.Refusal = syntax.Expression, "a string with a variable in it"
	}
	p.found = append(p.found, s)
	return nil
}

// unquote undoes the escapes that PHP undoes: in double quotes a backslash
// before a quote or another backslash goes; any other stays.
func unquote(literal string) string {
	body := literal[1 : len(literal)-1]
	if literal[0] == '\'' {
		return body
	}
	return strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\'`, `'`).Replace(body)
}

var (
	integer = regexp.MustCompile(`^-?[0-9]+$`)
	// plain can stand without quotes and means itself.
	plain = regexp.MustCompile(`^[A-Za-z0-9_./:@-]+$`)
	words = map[string]syntax.Kind{
		"true": syntax.Boolean, "on": syntax.Boolean, "yes": syntax.Boolean,
		"false": syntax.Boolean, "off": syntax.Boolean, "no": syntax.Boolean, "none": syntax.Boolean, "null": syntax.Null,
	}
)

// bare tells what a value without quotes is. Characters that PHP evaluates
// make it an expression.
func bare(text string) (syntax.Kind, string, string) {
	kind, isWord := words[strings.ToLower(text)]
	switch {
	case isWord:
		return kind, text, ""
	case integer.MatchString(text):
		return syntax.Integer, text, ""
	case strings.ContainsAny(text, "|&^~!(){}$\"'"):
		return syntax.Expression, text, "an expression that PHP evaluates"
	}
	return syntax.String, text, ""
}

var addressForm = regexp.MustCompile(`^(?:\[\s*([^\]]+?)\s*\]\s*)?([^\s=\[\];]+(?:\[[^\]]*\])?)$`)

// normalise takes "[ section ]key" for "[section] key".
func normalise(text string) (string, bool) {
	m := addressForm.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return "", false
	}
	return address(m[1], m[2]), true
}

// encode keeps the quoting of the old value where the new one allows it.
func encode(old syntax.Setting, literal, value string) (string, error) {
	_, isWord := words[strings.ToLower(value)]
	single, double := !strings.Contains(value, "'"), !strings.Contains(value, "${") && !strings.HasSuffix(value, "$")
	switch {
	case strings.ContainsAny(value, "\r\n\x00"):
		return "", errors.New("has a line break, which INI cannot hold")
	case isWord && old.Kind == syntax.Boolean, integer.MatchString(value) && old.Kind == syntax.Integer:
		return value, nil
	case plain.MatchString(value) && !isWord && !quoted(literal):
		return value, nil
	case single && (strings.HasPrefix(literal, "'") || !double || strings.Contains(value, `\`)):
		return "'" + value + "'", nil
	case double:
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`, nil
	}
	return "", errors.New("has both a quote and what PHP takes for a variable, which INI cannot hold")
}

func quoted(literal string) bool {
	return strings.HasPrefix(literal, `"`) || strings.HasPrefix(literal, "'")
}

// HasSections reports whether a line of a text opens a section.
func HasSections(text string) bool { return sectionLine.MatchString(text) }

var sectionLine = regexp.MustCompile(`(?m)^\s*\[[^\]\n]+\]\s*$`)

// appendLine puts a key at the end of its section, and makes that where there is none.
func appendLine(f syntax.File, address string) (int, string, error) {
	section, key, inSection := strings.Cut(address, "] ")
	if !inSection {
		return beforeSections(f.Source), address + " = x", nil
	}
	if at, found := endOfSection(f.Source, section+"]"); found {
		return at, key + " = x", nil
	}
	return len(f.Source), f.LineEnd + section + "]" + f.LineEnd + key + " = x", nil
}

// beforeSections is where the first section begins.
func beforeSections(source []byte) int {
	if m := sectionLine.FindIndex(source); m != nil {
		return m[1] - len(bytes.TrimLeft(source[m[0]:m[1]], " \t\r\n"))
	}
	return len(source)
}

// endOfSection is just after the last line of a section that is not blank.
func endOfSection(source []byte, header string) (at int, found bool) {
	inside, offset := false, 0
	for line := range bytes.Lines(source) {
		trimmed := strings.TrimSpace(string(line))
		if strings.HasPrefix(trimmed, "[") {
			inside = strings.HasPrefix(strings.ReplaceAll(trimmed, " ", ""), strings.ReplaceAll(header, " ", ""))
		}
		offset += len(line)
		if inside && trimmed != "" {
			at, found = offset, true
		}
	}
	return at, found
}
