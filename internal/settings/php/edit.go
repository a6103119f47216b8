package php

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/settings/syntax"
)

// normalise gives the normal form of an address as a person may write it:
// other quotes, blanks. ok is false when it is no PHP address.
func normalise(address string) (normal string, ok bool) {
	src := []byte("<?php " + address)
	tokens, err := lex(src)
	if err != nil {
		return "", false
	}
	f := &finder{src: src}
	for _, t := range tokens[1:] {
		if t.kind != space {
			f.tokens = append(f.tokens, t)
		}
	}
	switch {
	case f.isKind(0, variable), f.isKind(0, word):
		normal = f.text(0)
	default:
		return "", false
	}
	f.pos++
	if strings.EqualFold(normal, putenv) && f.is(0, "(") && f.isKind(1, word) && f.is(2, ")") && len(f.tokens) == 4 {
		return putenv + "(" + f.text(1) + ")", true
	}
	if l, known := logins[strings.ToLower(normal)]; known && f.is(0, "(") && f.isKind(1, word) && f.is(2, ")") && len(f.tokens) == 4 {
		return l.name + "(" + f.text(1) + ")", true
	}
	if f.is(0, "(") && (f.isKind(1, number) || f.isKind(1, word)) && f.is(2, ")") && len(f.tokens) == 4 {
		return normal + "(" + f.text(1) + ")", true
	}
	if f.is(0, "::") && (f.isKind(1, variable) || f.isKind(1, word)) {
		normal += "::" + f.text(1)
		f.pos += 2
	}
	for f.more() {
		if f.is(0, "->") && f.isKind(1, word) {
			normal += "->" + f.text(1)
			f.pos += 2
			continue
		}
		if f.is(0, "(") && f.is(1, ")") {
			normal += "()"
			f.pos += 2
			if f.isKind(0, variable) { // one of the function's own
				normal += f.text(0)
				f.pos++
			}
			continue
		}
		if f.is(0, "(") && f.isLiteralString(1) && f.is(2, ")") {
			key, _ := decode(f.text(1))
			normal += "(" + quoteSingle(key) + ")"
			f.pos += 3
			continue
		}
		key, length := f.subscript(true)
		if length == 0 {
			return "", false
		}
		normal += key
		f.pos += length
	}
	return normal, true
}

var (
	integerLiteral = regexp.MustCompile(`^-?(0|[1-9][0-9]*)$`)
	floatLiteral   = regexp.MustCompile(`^-?[0-9]+\.[0-9]+$`)
)

// encode writes value as a PHP literal in the style of the old one: the same
// quotes, a bare number for a number, a bare true or false for a boolean. What
// does not fit the old kind becomes a single-quoted string. That of putenv has the name in
// front.
func encode(old syntax.Setting, source, value string) (string, error) {
	if name, is := strings.CutPrefix(old.Address, putenv+"("); is {
		if strings.Contains(value, "\x00") {
			return "", errors.New("has a NUL byte, where a variable of the environment ends")
		}
		value = strings.TrimSuffix(name, ")") + "=" + value
	}
	switch {
	case old.Kind == syntax.Integer && integerLiteral.MatchString(value),
		old.Kind == syntax.Float && (floatLiteral.MatchString(value) || integerLiteral.MatchString(value)),
		old.Kind == syntax.Boolean && (value == "true" || value == "false"):
		return value, nil
	case strings.HasPrefix(source, `"`):
		return quoteDouble(value), nil
	}
	return quoteSingle(value), nil
}

// quoteSingle: only the backslash and the quote are special (PHP manual,
// "Strings: Single quoted").
func quoteSingle(value string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value) + "'"
}

// quoteDouble writes control characters as escapes, so that the literal stays
// on its line, and every $ escaped, so that nothing is interpolated.
func quoteDouble(value string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := 0; i < len(value); i++ {
		switch c := value[i]; {
		case c == '\\' || c == '"' || c == '$':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c == '\r':
			b.WriteString(`\r`)
		case c == '\t':
			b.WriteString(`\t`)
		case c < ' ' || c == 0x7f:
			fmt.Fprintf(&b, `\x%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// decode gives the text of a string literal. ok is false when it holds a
// variable, so that it has no text of its own.
func decode(source string) (text string, ok bool) {
	body := source[1 : len(source)-1]
	if source[0] == '\'' {
		if !strings.Contains(body, `\`) {
			return body, true
		}
		return strings.NewReplacer(`\\`, `\`, `\'`, `'`).Replace(body), true
	}
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		c := body[i]
		switch {
		case c == '$' && i+1 < len(body) && (isNameStart(body[i+1]) || body[i+1] == '{'),
			c == '{' && i+1 < len(body) && body[i+1] == '$':
			return "", false
		case c == '\\' && i+1 < len(body):
			i += decodeEscape(&b, body[i+1:])
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), true
}

var simpleEscapes = map[byte]byte{
	'n': '\n', 't': '\t', 'r': '\r', 'v': '\v', 'e': 0x1b, 'f': '\f', '\\': '\\', '$': '$', '"': '"',
}

// decodeEscape writes the character that the escape after a backslash stands for and gives the
// escape's length (PHP manual, "Strings: Double quoted").
func decodeEscape(b *strings.Builder, rest string) int {
	if c, simple := simpleEscapes[rest[0]]; simple {
		b.WriteByte(c)
		return 1
	}
	digits := func(from, most int, set string) string {
		n := from
		for n < len(rest) && n < from+most && strings.IndexByte(set, rest[n]) >= 0 {
			n++
		}
		return rest[from:n]
	}
	const hex = "0123456789abcdefABCDEF"
	if octal := digits(0, 3, "01234567"); octal != "" {
		n, _ := strconv.ParseUint(octal, 8, 16)
		b.WriteByte(byte(n)) // PHP lets "\400" overflow to "\000"
		return len(octal)
	}
	if rest[0] == 'x' {
		if h := digits(1, 2, hex); h != "" {
			n, _ := strconv.ParseUint(h, 16, 8)
			b.WriteByte(byte(n))
			return 1 + len(h)
		}
	}
	if strings.HasPrefix(rest, "u{") {
		h := digits(2, 8, hex)
		n, err := strconv.ParseUint(h, 16, 32)
		if err == nil && n <= utf8.MaxRune && len(rest) > 2+len(h) && rest[2+len(h)] == '}' {
			b.WriteRune(rune(n))
			return 3 + len(h)
		}
	}
	b.WriteByte('\\')
	return 0
}
