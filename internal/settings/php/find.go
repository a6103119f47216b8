package php

import (
	"errors"
	"strconv"
	"strings"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings/syntax"
)

// Syntax is PHP as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "PHP", Parse: parse, Normalise: normalise,
	Encode:   encode,
	Comments: []string{"//", "#"}, Append: appendLine, Element: lastElement, Beside: beside,
	Addresses: "write NAME for a constant, $name['key'] for a variable, return['key'] for a returned array, Class::$name or $object->name for a property, link()$name for a variable of a function, mysqli_connect(password) for the argument of a login",
}

// parse gives every setting of a PHP file in the order of the file. Commented
// code yields none. A value inside a function or a branch, or one that has to
// be evaluated, is given with its Refusal. A file that does not parse is an
// error with its place.
func parse(src []byte) ([]syntax.Setting, error) {
	tokens, err := lex(src)
	if err != nil {
		var open *lexError
		errors.As(err, &open)
		return nil, parseError(src, open.at, open.what)
	}
	f := &finder{src: src}
	for _, t := range tokens {
		switch t.kind {
		case space, comment, openTag, inlineHTML:
		case closeTag:
			// PHP takes ?> for the end of a statement.
			f.tokens = append(f.tokens, token{punct, t.start, t.start})
		default:
			f.tokens = append(f.tokens, t)
		}
	}
	if err := f.balanced(); err != nil {
		return nil, err
	}
	for f.more() {
		f.statement("")
	}
	f.calls()
	return f.found, nil
}

func parseError(src []byte, at int, what string) error {
	place := syntax.PlaceAt(src, at)
	return fault.At(fault.Invalid, place, "correct the file; `php -l` shows what PHP makes of it", "%s", what)
}

// finder walks over the significant tokens. It understands the statements
// that can hold settings and steps over all others by their brackets.
type finder struct {
	src    []byte
	tokens []token
	pos    int
	found  []syntax.Setting
	// undefined is the constant that is only defined here if it is not yet: the value is
	// as good as without that question.
	undefined string
	// inside is the function around, as function() or Class::method(); empty elsewhere.
	inside string
	// steps are those taken, and most how many may be, 0 for as many as there are: code
	// within code within code is read again for each.
	steps, most int
}

func (f *finder) more() bool {
	f.steps++
	return f.pos < len(f.tokens) && (f.most == 0 || f.steps < f.most)
}

// text of the token n places ahead; "" after the end and for the ?> that stands for a
// semicolon.
func (f *finder) text(n int) string {
	if f.pos+n >= len(f.tokens) {
		return ""
	}
	t := f.tokens[f.pos+n]
	return string(f.src[t.start:t.end])
}

func (f *finder) isKind(n int, k kind) bool {
	return f.pos+n < len(f.tokens) && f.tokens[f.pos+n].kind == k
}

// is compares a token with a keyword or mark; keywords have no case in PHP.
// Strings are never equal to a mark, whatever they hold.
func (f *finder) is(n int, text string) bool {
	return (f.isKind(n, word) || f.isKind(n, punct)) && strings.EqualFold(f.text(n), text)
}

func (f *finder) endOfStatement() bool { return !f.more() || f.is(0, ";") || f.is(0, "") }

var closers = map[string]string{"(": ")", "[": "]", "{": "}"}

// balanced checks the brackets of the whole file once, so that nothing below
// has to fear running past an end.
func (f *finder) balanced() error {
	var open []token
	for _, t := range f.tokens {
		if t.kind != punct || t.end == t.start {
			continue
		}
		switch c := string(f.src[t.start:t.end]); c {
		case "(", "[", "{":
			if open = append(open, t); len(open) > bounds.Deepest {
				return parseError(f.src, t.start, "brackets are nested too deep here")
			}
		case ")", "]", "}":
			if len(open) == 0 || closers[string(f.src[open[len(open)-1].start])] != c {
				return parseError(f.src, t.start, "this "+c+" closes nothing")
			}
			open = open[:len(open)-1]
		}
	}
	if len(open) > 0 {
		last := open[len(open)-1]
		return parseError(f.src, last.start, "this "+string(f.src[last.start])+" is never closed")
	}
	return nil
}

// skipBracket steps over a bracket and all it holds.
func (f *finder) skipBracket() {
	depth := 0
	for f.more() {
		if f.isKind(0, punct) {
			switch f.text(0) {
			case "(", "[", "{":
				depth++
			case ")", "]", "}":
				depth--
			}
		}
		f.pos++
		if depth == 0 {
			return
		}
	}
}

// skipTo steps to one of the marks at this level of brackets.
func (f *finder) skipTo(marks ...string) {
	for f.more() {
		for _, mark := range marks {
			if f.is(0, mark) {
				return
			}
		}
		if f.is(0, "(") || f.is(0, "[") || f.is(0, "{") {
			f.skipBracket()
		} else {
			f.pos++
		}
	}
}

func (f *finder) skipStatement() {
	f.skipTo(";", "")
	f.pos++
}

const (
	inFunction = "inside a function"
	inBranch   = "inside a branch, so it may or may not be in force"
)

// statement takes one statement. where says why settings in it cannot be
// written; it is empty at the top of the file.
func (f *finder) statement(where string) {
	switch {
	case f.is(0, "{"):
		f.block(where)
	case f.isKind(0, variable):
		f.assignment(f.inside, where)
	case f.is(0, "#"): // an attribute #[...]
		f.pos++
		f.skipBracket()
	case f.isKind(0, word):
		f.keyword(strings.ToLower(f.text(0)), where)
	default:
		f.expressionStatement(where)
	}
}

func (f *finder) keyword(name, where string) {
	if name == "static" && f.isKind(1, variable) { // of a function that keeps it
		f.pos++
		f.assignment(f.inside, where)
		return
	}
	switch name {
	case "define", `\define`:
		f.pos++
		f.define(where)
		f.skipStatement()
	case "const":
		f.pos++
		f.constants("", where)
	case "return":
		f.pos++
		f.result(where)
		f.skipStatement()
	case "function":
		f.function("")
	case putenv:
		f.variableOfEnvironment(where)
		f.expressionStatement(where)
	case "namespace":
		f.skipTo("{", ";", "")
		f.blockOrNothing(where)
	case "class", "interface", "trait", "enum", "abstract", "final", "readonly":
		f.class()
	case "try":
		f.pos++
		f.blockOrNothing(where)
	case "if", "elseif", "else", "for", "foreach", "while", "do", "switch", "catch", "finally":
		f.pos++
		f.branch(name, where)
	default:
		if f.is(1, "::") && f.isKind(2, variable) {
			f.pos += 2
			f.assignment(f.text(-2)+"::", where)
			return
		}
		f.pos++
		f.setter(f.text(-1), where)
		f.pos--
		f.expressionStatement(where)
	}
}

func (f *finder) block(where string) {
	f.pos++
	for f.more() && !f.is(0, "}") {
		f.statement(where)
	}
	f.pos++
}

func (f *finder) blockOrNothing(where string) {
	if f.is(0, "{") {
		f.block(where)
	} else {
		f.pos++
	}
}

// function takes what a function keeps in variables of its own, as function()$name, what
// it returns, as function(), and the defaults of its parameters. What it sets otherwise is
// refused.
func (f *finder) function(class string) {
	f.pos++
	if f.is(0, "&") {
		f.pos++
	}
	name := ""
	if f.isKind(0, word) {
		name = class + f.text(0) + "()"
		f.pos++
	}
	f.body(name)
}

// body takes a function from its parameters on.
func (f *finder) body(name string) {
	defer func(before string) { f.inside = before }(f.inside)
	f.inside = name
	if f.is(0, "(") {
		f.parameters()
	}
	f.skipTo("{", ";", "")
	f.blockOrNothing(inFunction)
}

// own is the reason for which a value of the function around cannot be written: none
// where its address says the function.
func (f *finder) own(where string) string {
	if f.inside != "" && where == inFunction {
		return ""
	}
	return where
}

// result takes what the file returns, or the function around if it is no mere
// expression.
func (f *finder) result(where string) {
	if f.endOfStatement() {
		return
	}
	if f.inside == "" {
		f.value("return", where, ";", "")
		return
	}
	found := len(f.found)
	f.value(f.inside, f.own(where), ";", "")
	if len(f.found) == found+1 && f.found[found].Address == f.inside && f.found[found].Kind == syntax.Expression {
		f.found = f.found[:found]
	}
}

// parameters takes the defaults of the parameters of a function, which are in force where
// its caller gives nothing.
func (f *finder) parameters() {
	end, found := f.pos, len(f.found)
	f.skipBracket()
	end, f.pos = f.pos, end+1
	for f.pos < end && !f.is(0, ")") {
		for f.more() && !f.isKind(0, variable) && !f.is(0, ",") && !f.is(0, ")") { // a type, an attribute
			f.pos++
		}
		if name := f.text(0); f.isKind(0, variable) && f.is(1, "=") {
			f.pos += 2
			f.value(f.inside+name, "", ",", ")")
		}
		f.skipTo(",", ")")
		if f.is(0, ",") {
			f.pos++
		}
	}
	f.pos = end
	for i := found; i < len(f.found); i++ {
		f.found[i].Fallback = true
	}
}

// class takes the constants and properties of a class with plain values, as
// Class::NAME and Class::$name, and what its methods keep.
func (f *finder) class() {
	name := ""
	for f.more() && !f.is(0, "{") && !f.is(0, ";") {
		if f.isKind(0, word) && name == "" && f.afterClassKeyword() {
			name = f.text(0)
		}
		f.pos++
	}
	if !f.is(0, "{") {
		f.pos++
		return
	}
	f.pos++
	for f.more() && !f.is(0, "}") {
		f.member(name)
	}
	f.pos++
}

func (f *finder) afterClassKeyword() bool {
	if f.pos == 0 {
		return false
	}
	switch strings.ToLower(f.text(-1)) {
	case "class", "interface", "trait", "enum":
		return true
	}
	return false
}

// member takes one constant, property or method.
func (f *finder) member(class string) {
	for f.more() && !f.is(0, "}") {
		switch {
		case f.is(0, "const"):
			f.pos++
			f.constants(class+"::", "")
			return
		case f.is(0, "function"):
			f.function(class + "::")
			return
		case f.isKind(0, variable):
			for !f.endOfStatement() && !f.is(0, "{") {
				name := f.text(0)
				f.pos++
				if f.is(0, "=") {
					f.pos++
					f.value(class+"::"+name, "", ",", ";", "")
				}
				f.skipTo(",", ";", "", "{")
				if f.is(0, ",") {
					f.pos++
				}
			}
			if f.is(0, "{") { // the hooks of a property
				f.skipBracket()
			} else {
				f.pos++
			}
			return
		case f.is(0, ";"):
			f.pos++
			return
		case f.is(0, "(") || f.is(0, "[") || f.is(0, "{"):
			f.skipBracket()
		default:
			f.pos++ // a modifier, a type, an attribute
		}
	}
}

// branch takes what a control structure governs: a block, the alternative
// notation with a colon, or a single statement.
func (f *finder) branch(name, where string) {
	if f.is(0, "if") && name == "else" {
		f.pos++
	}
	defer func(before string) { f.undefined = before }(f.undefined)
	f.undefined = ""
	if name == "if" && where == "" && f.is(0, "(") && f.is(1, "!") && f.is(2, "defined") && f.isLiteralString(4) && f.is(6, ")") {
		f.undefined, _ = decode(f.text(4))
	}
	if f.is(0, "(") {
		f.skipBracket()
	}
	switch {
	case f.is(0, "{"):
		f.block(inBranch)
	case f.is(0, ":"):
		f.pos++
		for f.more() {
			switch strings.ToLower(f.text(0)) {
			case "endif", "endfor", "endforeach", "endwhile", "endswitch":
				f.pos++
				return
			case "else", "elseif": // goes on with the same end
				return
			}
			f.statement(inBranch)
		}
	case f.endOfStatement():
		f.pos++
	default:
		f.statement(inBranch)
	}
}

// expressionStatement steps over a statement that holds no setting, but finds
// the define() in it: "defined('X') || define('X', 'y')".
func (f *finder) expressionStatement(where string) {
	if where == "" && f.is(0, "defined") && f.is(1, "(") && f.isLiteralString(2) && (f.is(4, "or") || f.is(4, "|")) {
		defer func(before string) { f.undefined = before }(f.undefined)
		f.undefined, _ = decode(f.text(2))
	}
	for !f.endOfStatement() {
		switch {
		case f.is(0, "define") && f.is(1, "("):
			f.pos++
			f.define(inBranch)
		case f.is(0, "(") || f.is(0, "[") || f.is(0, "{"):
			f.skipBracket()
		default:
			f.pos++
		}
	}
	f.pos++
}

// define takes ('NAME', value ...) and leaves the place after it.
func (f *finder) define(where string) {
	start := f.pos
	if f.is(0, "(") && f.isLiteralString(1) && f.is(2, ",") {
		name, _ := decode(f.text(1))
		if name == f.undefined && where == inBranch {
			where = ""
		}
		f.pos += 3
		f.value(name, where, ",", ")")
	}
	f.pos = start
	f.skipBracket()
}

// constants takes NAME = value, ... after const; class is the beginning of their addresses.
func (f *finder) constants(class, where string) {
	for !f.endOfStatement() {
		// "const string NAME =" is PHP 8.3; the name is the word before "=".
		for f.isKind(0, word) && !f.is(1, "=") {
			f.pos++
		}
		name := f.text(0)
		f.pos++
		if f.is(0, "=") {
			f.pos++
			f.value(class+name, where, ",", ";", "")
		}
		f.skipTo(",", ";", "")
		if f.is(0, ",") {
			f.pos++
		}
	}
	f.pos++
}

// assignment takes $name['key']->property... = value, begin in front of its address.
// Anything else that begins with a variable is stepped over.
func (f *finder) assignment(begin, where string) {
	address := begin + f.text(0)
	if begin == f.inside {
		where = f.own(where)
	}
	f.pos++
	for f.is(0, "[") || f.is(0, "->") {
		if f.is(0, "->") && f.isKind(1, word) {
			address += "->" + f.text(1)
			f.pos += 2
			continue
		}
		key, length := f.subscript(where == "")
		if length == 0 {
			f.expressionStatement(where)
			return
		}
		address += key
		f.pos += length
	}
	switch {
	case f.is(0, "(") && strings.Contains(address, "->"):
		f.setter(address, where)
	case f.is(0, "="):
		f.pos++
		f.value(address, where, ";", "")
	case !f.endOfStatement() && f.is(1, "="): // .= += ??= and so on
		f.pos += 2
		f.value(address, "a change of an earlier value ("+f.text(-2)+"=)", ";", "")
	}
	f.expressionStatement(where)
}

// subscript gives the subscript at this place in normal form, and how many
// tokens it takes; 0 when it is none. Open ones, [] and [$i], mean another
// element each time the line runs, so that two of them with one name are as
// ambiguous as a key that is set twice.
func (f *finder) subscript(open bool) (subscript string, length int) {
	switch {
	case !f.is(0, "["):
		return "", 0
	case open && f.is(1, "]"):
		return "[]", 2
	case open && f.isKind(1, variable) && f.is(2, "]"):
		return "[" + f.text(1) + "]", 3
	}
	if key, length := f.key(1); length > 0 && f.is(1+length, "]") {
		return key, length + 2
	}
	return "", 0
}

func (f *finder) isLiteralString(n int) bool {
	if f.isKind(n, singleQuoted) {
		return true
	}
	if !f.isKind(n, doubleQuoted) {
		return false
	}
	_, ok := decode(f.text(n))
	return ok
}

// key gives the subscript for the literal, or the name of a class, n tokens ahead in normal
// form, and how many tokens it takes; 0 when it is none.
func (f *finder) key(n int) (subscript string, length int) {
	switch {
	case f.isLiteralString(n):
		text, _ := decode(f.text(n))
		return subscriptOf(text), 1
	case f.isKind(n, number):
		return "[" + f.text(n) + "]", 1
	case f.isKind(n, word) && f.is(n+1, "::") && f.is(n+2, "class"):
		return "[" + f.text(n) + "::class]", 3
	}
	return "", 0
}

// subscriptOf writes an array key as PHP keeps it: a decimal string is the
// integer (PHP manual, "Arrays", key casts).
func subscriptOf(key string) string {
	if n, err := strconv.Atoi(key); err == nil && strconv.Itoa(n) == key {
		return "[" + key + "]"
	}
	return "[" + quoteSingle(key) + "]"
}
