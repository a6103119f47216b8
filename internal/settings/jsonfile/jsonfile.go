// Package jsonfile reads and edits the settings in JSON files (RFC 8259)
// without losing a byte: values are spliced, nothing is laid out anew.
//
// It must never know of files on disk or of what the settings are for.
package jsonfile

import (
	"encoding/json"
	"errors"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings/syntax"
)

// Syntax is JSON as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "JSON", Parse: parse, Normalise: Normalise, Encode: encode,
	Append: noPlace, Element: Element, Beside: beside,
	Addresses: "write the keys joined by dots: main.server, servers.0.name",
}

// parse gives every value that is no object or array. Anything that is not
// JSON is an error with its place.
func parse(source []byte) ([]syntax.Setting, error) {
	p := &parser{source: source}
	if strings.HasPrefix(string(source), syntax.ByteOrderMark) {
		p.pos = len(syntax.ByteOrderMark)
	}
	p.value("")
	p.space()
	if p.err == nil && p.pos < len(source) {
		p.fail("nothing may follow the value")
	}
	if p.err != nil {
		return nil, p.err
	}
	return p.found, nil
}

type parser struct {
	source []byte
	pos    int
	depth  int
	found  []syntax.Setting
	err    error
}

func (p *parser) fail(what string) {
	if p.err == nil {
		p.err = fault.At(fault.Invalid, syntax.PlaceAt(p.source, min(p.pos, len(p.source))), "correct the file", "this is not JSON: %s", what)
	}
}

func (p *parser) space() {
	for p.pos < len(p.source) && strings.IndexByte(" \t\r\n", p.source[p.pos]) >= 0 {
		p.pos++
	}
}

// at steps over white space and reports whether c follows.
func (p *parser) at(c byte) bool {
	p.space()
	return p.pos < len(p.source) && p.source[p.pos] == c
}

// Join adds a key to an address; a dot inside the key is written \.
func Join(address, key string) string {
	key = strings.NewReplacer(`\`, `\\`, `.`, `\.`).Replace(key)
	if address == "" {
		return key
	}
	return address + "." + key
}

func (p *parser) value(address string) {
	p.depth++
	defer func() { p.depth-- }()
	switch {
	case p.err != nil:
	case p.depth > bounds.Deepest:
		p.fail("it is nested too deep")
	case p.at('{'):
		p.members(address, '}', true)
	case p.at('['):
		p.members(address, ']', false)
	default:
		p.scalar(address)
	}
}

// members takes what stands in an object or an array.
func (p *parser) members(address string, closer byte, object bool) {
	p.pos++
	if p.at(closer) {
		p.pos++
		return
	}
	for n := 0; p.err == nil; n++ {
		key := strconv.Itoa(n)
		if object {
			p.space()
			literal := p.literal()
			if p.err != nil || !strings.HasPrefix(literal, `"`) || json.Unmarshal([]byte(literal), &key) != nil {
				p.fail("a key in double quotes is missing")
				return
			}
			if !p.at(':') {
				p.fail("a colon is missing")
				return
			}
			p.pos++
		}
		p.value(Join(address, key))
		switch {
		case p.err != nil:
		case p.at(','):
			p.pos++
			continue
		case p.at(closer):
			p.pos++
		default:
			p.fail("a comma or " + string(closer) + " is missing")
		}
		return
	}
}

// literal takes a string, a number or a word.
func (p *parser) literal() string {
	start := p.pos
	if p.pos < len(p.source) && p.source[p.pos] == '"' {
		for p.pos++; p.pos < len(p.source); p.pos++ {
			switch p.source[p.pos] {
			case '\\':
				p.pos++
			case '"':
				p.pos++
				return string(p.source[start:p.pos])
			}
		}
		p.pos = start
		p.fail("a quote is opened here and never closed")
		return ""
	}
	for p.pos < len(p.source) && strings.IndexByte(" \t\r\n,:[]{}\"", p.source[p.pos]) < 0 {
		p.pos++
	}
	return string(p.source[start:p.pos])
}

func (p *parser) scalar(address string) {
	start := p.pos
	literal := p.literal()
	if p.err != nil {
		return
	}
	if !json.Valid([]byte(literal)) {
		p.pos = start
		p.fail("a value is missing or not written as JSON wants it")
		return
	}
	s := syntax.Setting{Address: address, Value: literal, Start: start, End: p.pos}
	switch literal[0] {
	case '"':
		s.Kind = syntax.String
		_ = json.Unmarshal([]byte(literal), &s.Value)
	case 't', 'f':
		s.Kind = syntax.Boolean
	case 'n':
		s.Kind = syntax.Null
	default:
		s.Kind = syntax.Integer
		if strings.ContainsAny(literal, ".eE") {
			s.Kind = syntax.Float
		}
	}
	p.found = append(p.found, s)
}

// Normalise takes an address as it is; a dot inside a key is written \.
func Normalise(address string) (string, bool) {
	address = strings.TrimSpace(address)
	return address, address != "" && !strings.HasPrefix(address, ".") && !strings.HasSuffix(address, "..")
}

var number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)

// encode keeps a number or a boolean what it is where the value allows it.
func encode(old syntax.Setting, _, value string) (string, error) {
	switch {
	case !utf8.ValidString(value):
		return "", errors.New("is not valid UTF-8, which JSON cannot hold")
	case (old.Kind == syntax.Integer || old.Kind == syntax.Float) && number.MatchString(value),
		old.Kind == syntax.Boolean && (value == "true" || value == "false"):
		return value, nil
	}
	var text strings.Builder
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(value)
	return strings.TrimSuffix(text.String(), "\n"), err
}

func noPlace(syntax.File, string) (int, string, error) {
	return 0, "", errors.New("the file has nothing beside it, and JSON no other place for it that can be told")
}

var lastKey = regexp.MustCompile(`^(?:(.*)\.)?([A-Za-z0-9_-]+)$`)

// Element cuts an address before its last key.
func Element(address string) (parent, key string, ok bool) {
	m := lastKey.FindStringSubmatch(address)
	if m == nil {
		return "", "", false
	}
	return m[1], m[2], true
}

func beside(f syntax.File, s syntax.Sibling, key string) (int, string, bool) {
	return s.End, s.Separator(f, s.Alone(",{[(")) + `"` + key + `": ""`, true
}
