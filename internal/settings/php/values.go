package php

import (
	"regexp"
	"strconv"
	"strings"

	"yellowfield/internal/settings/syntax"
)

// value takes the value of address up to one of the end marks.
func (f *finder) value(address, where string, ends ...string) {
	start := f.pos
	if f.is(0, "(") && f.is(1, "object") && f.is(2, ")") {
		f.pos += 3
	}
	if f.is(0, "[") || f.is(0, "array") && f.is(1, "(") {
		if f.is(0, "array") {
			f.pos++
		}
		elements := f.pos
		f.skipBracket()
		whole := f.atEnd(ends)
		if f.pos = elements; whole {
			f.array(address, where)
			return
		}
	}
	f.pos = start
	if f.closure(address, where, ends) || f.wrapped(address, where, ends) {
		return
	}
	f.skipTo(ends...)
	f.add(address, where, f.tokens[start:f.pos])
}

// closure takes what a function without a name keeps or returns, as that of address();
// false where there is none, and then the place stays.
func (f *finder) closure(address, where string, ends []string) bool {
	n := 0
	if f.is(0, "static") {
		n = 1
	}
	if !f.is(n, "fn") && !f.is(n, "function") || !f.is(n+1, "(") {
		return false
	}
	f.pos += n + 1
	if f.is(-1, "function") {
		f.body(address + "()")
		f.skipTo(ends...)
		return true
	}
	f.skipTo(append([]string{"=>"}, ends...)...)
	if f.is(0, "=>") {
		f.pos++
		f.value(address+"()", where, ends...)
	}
	return true
}

// mergers are functions whose value has what the arrays among their arguments have, the
// later ones before the others (PHP manual, "Array Functions").
var mergers = regexp.MustCompile(`(?i)^\\?array_(?:merge|replace)(?:_recursive)?$`)

// wrapped takes the arrays that are arguments of one of the mergers, of a method of a class,
// or of what is made by new, as if they were the value itself; false where there is none,
// and then the place stays.
func (f *finder) wrapped(address, where string, ends []string) bool {
	start, open := f.pos, 0
	switch {
	case f.is(0, "new") && f.isKind(1, word) && f.is(2, "("):
		open = 2
	case f.isKind(0, word) && f.is(1, "::") && f.isKind(2, word) && f.is(3, "("):
		open = 3
	case f.isKind(0, word) && mergers.MatchString(f.text(0)) && f.is(1, "("):
		open = 1
	default:
		return false
	}
	f.pos += open
	f.skipBracket()
	if !f.atEnd(ends) {
		f.pos = start
		return false
	}
	end, found := f.pos, len(f.found)
	for f.pos = start + open + 1; f.pos < end; f.pos++ {
		if f.is(0, "[") || f.is(0, "array") && f.is(1, "(") {
			f.value(address, where, ",", ")")
		}
		f.skipTo(",", ")")
	}
	if len(f.found) == found {
		f.pos = start
		return false
	}
	f.pos = end
	return true
}

func (f *finder) atEnd(ends []string) bool {
	for _, mark := range ends {
		if f.is(0, mark) {
			return true
		}
	}
	return !f.more()
}

// array takes the elements of an array literal, nested ones too.
func (f *finder) array(address, where string) {
	if f.is(0, "array") {
		f.pos++
	}
	closer := closers[f.text(0)]
	f.pos++
	next := 0
	for f.more() && !f.is(0, closer) {
		subscript := ""
		if f.keyAhead() {
			key, length := f.key(0)
			if length == 0 {
				f.skipTo(",", closer)
			} else {
				f.pos += length + 1
				subscript = key
				if n, err := strconv.Atoi(strings.Trim(key, "[]")); err == nil && n >= next {
					next = n + 1
				}
			}
		} else {
			subscript = "[" + strconv.Itoa(next) + "]"
			next++
		}
		if subscript != "" {
			f.value(address+subscript, where, ",", closer)
		}
		if f.is(0, ",") {
			f.pos++
		}
	}
	f.pos++
}

// keyAhead reports whether this element is written key => value.
func (f *finder) keyAhead() bool {
	start := f.pos
	defer func() { f.pos = start }()
	f.skipTo("=>", ",", ")", "]", ";")
	return f.is(0, "=>")
}

// add records the value that the tokens make.
func (f *finder) add(address, where string, tokens []token) {
	if len(tokens) == 0 {
		return
	}
	literal, fallback := f.fallback(tokens)
	if fallback {
		tokens = literal
	}
	s := syntax.Setting{
		Fallback: fallback, Address: address, Start: tokens[0].start, End: tokens[len(tokens)-1].end,
		Kind: syntax.Expression,
	}
	source := string(f.src[s.Start:s.End])
	s.Value = source
	sign := len(tokens) == 2 && tokens[1].kind == number && (source[0] == '-' || source[0] == '+')
	switch {
	case len(tokens) == 1 && (tokens[0].kind == singleQuoted || tokens[0].kind == doubleQuoted):
		if text, ok := decode(source); ok {
			s.Kind, s.Value = syntax.String, text
		}
	case len(tokens) == 1 && tokens[0].kind == number || sign:
		s.Kind = syntax.Integer
		if strings.ContainsAny(source, ".eE") && !strings.HasPrefix(strings.ToLower(source), "0x") {
			s.Kind = syntax.Float
		}
	case len(tokens) == 1 && (strings.EqualFold(source, "true") || strings.EqualFold(source, "false")):
		s.Kind = syntax.Boolean
	case len(tokens) == 1 && strings.EqualFold(source, "null"):
		s.Kind = syntax.Null
	}
	switch {
	case where != "":
		s.Refusal, s.Fixed = where, true
	case s.Kind == syntax.Expression:
		s.Refusal = f.describe(tokens)
	}
	f.found = append(f.found, s)
}

// environments are expressions that the environment goes before, a star for a literal.
var environments = map[string]bool{
	"env ( * , * )": true, "env ( * ) ? : *": true, "env ( * ) ?? *": true, "getenv ( * ) ? : *": true, "getenv ( * ) ?? *": true,
	"$_env [ * ] ?? *": true, "$_server [ * ] ?? *": true,
}

// fallback is the last literal of such an expression.
func (f *finder) fallback(tokens []token) (literal []token, ok bool) {
	const shortest, longest = 6, 7
	if len(tokens) < shortest || len(tokens) > longest {
		return nil, false
	}
	var shape []string
	for i, t := range tokens {
		source := string(f.src[t.start:t.end])
		plain := t.kind == singleQuoted || t.kind == number
		if t.kind == doubleQuoted {
			_, plain = decode(source)
		}
		if plain {
			source, literal = "*", tokens[i:i+1]
		}
		shape = append(shape, strings.ToLower(source))
	}
	return literal, environments[strings.Join(shape, " ")]
}

// describe says what kind of expression the tokens are, for a refusal.
func (f *finder) describe(tokens []token) string {
	first := tokens[0]
	text := string(f.src[first.start:first.end])
	for _, t := range tokens {
		mark := string(f.src[t.start:t.end])
		switch {
		case t.kind == punct && (mark == "?" || mark == "??"):
			return "a condition"
		case t.kind == punct && mark == ".":
			return "a concatenation"
		case t.kind == heredoc:
			return "a heredoc"
		}
	}
	switch {
	case len(tokens) == 1 && first.kind == doubleQuoted:
		return "a string with a variable in it"
	case first.kind == variable:
		return "taken from " + text
	case len(tokens) == 1 && first.kind == word:
		return "taken from the constant " + text
	case first.kind == word && len(tokens) > 1 && f.src[tokens[1].start] == '(':
		return "the result of " + text + "()"
	case first.kind == word:
		return "taken from " + text
	}
	return "an expression"
}

// setters are functions and methods by whose names they keep a value under a key, or an
// array.
var setters = regexp.MustCompile(`^(?i:set|write|save|put|assign|config|configure|options?|add|define|merge|load|init|initiali[sz]e|connect|register|create|make|boot)(?:[A-Z_]\w*)?$`)

// setter takes the value of a statement such as Settings::set('key', value), or the array of
// $stores->add([...]), whose beginning has been read as address. The place stays.
func (f *finder) setter(address, where string) {
	start := f.pos
	defer func() { f.pos = start }()
	name := address[strings.LastIndexAny(address, `>\`)+1:]
	for (f.is(0, "::") || f.is(0, "->")) && f.isKind(1, word) {
		name = f.text(1)
		address += f.text(0) + name
		f.pos += 2
	}
	switch {
	case !f.is(0, "(") || !setters.MatchString(name):
	case f.isLiteralString(1) && f.is(2, ","):
		key, _ := decode(f.text(1))
		f.pos += 3
		f.value(address+"("+quoteSingle(key)+")", where, ",", ")")
	case f.is(1, "["), f.is(1, "array") && f.is(2, "("):
		f.pos++
		f.value(address+"()", where, ",", ")")
	}
}
