package php

import (
	"strings"
)

// Use is a place where code hands something to a function, a constructor, or
// include and require.
type Use struct {
	// Function is its name in small letters, without a namespace: "mysqli",
	// "include", "getenv". A method has "->" in front.
	Function  string
	New       bool // after new, or a class that calls its parent's constructor
	Line      int
	Arguments []Argument
}

// Argument is one argument as the code writes it.
type Argument struct {
	// Pieces are its literal texts and the variables, constants and elements
	// between them, in their order.
	Pieces []Piece
	Source string
	// Traced is the argument with values in place of the variables that were given them
	// in a row of statements before; nil where none was.
	Traced *Argument
	// Parameter says that it is a parameter of the function around, or of its value.
	Parameter bool
}

// Piece is a literal text or an address.
type Piece struct {
	Text    string // of a literal; with variables in it, the source between the quotes
	Address string // in normal form; empty for a literal
}

// Literal is the text of an argument that is one literal.
func (a Argument) Literal() (string, bool) {
	if len(a.Pieces) == 1 && a.Pieces[0].Address == "" && strings.ContainsRune(`'"`, rune(a.Source[0])) && a.Source[0] == a.Source[len(a.Source)-1] {
		return a.Pieces[0].Text, true
	}
	return "", false
}

// Code is what reading PHP code, without running it, tells about what it uses.
type Code struct {
	Uses []Use
	// Literals are all string literals, those in the arguments of Uses too. In a
	// heredoc, and in a string with variables in it, these stand as the source
	// has them; literals joined by dots are one more literal, in which other
	// operands leave nothing.
	Literals []Literal
	// Defines are the names of functions, methods and classes that the code makes
	// itself, in small letters.
	Defines []string
	// Declares are what stands for a value: constants after const, and, as NAME(), functions
	// without parameters that do nothing but return one.
	Declares []Declared
	// Parameters are the names of parameters of the functions that it makes, and Signatures
	// those of each by its name in small letters, a constructor's by its class.
	Parameters map[string]bool
	Signatures map[string][]string
	// Aliases are the addresses of the elements that variables hold which are assigned
	// once: $login for $all['db']['login'].
	Aliases map[string]string
}

// Declared is a name with its value.
type Declared struct {
	Name  string
	Value Argument
}

// Literal is a string literal with its line.
type Literal struct {
	Text string
	Line int
	// Begins says that more is joined to it by dots, and Gaps that it is what was joined
	// so, and that other operands were left out of it.
	Begins, Gaps bool
}

// ReadCode reads code. wanted chooses the functions whose uses are kept, by
// their names as in Use. Code that cannot be cut into tokens gives nothing, and code made
// to be read for ever what comes before that shows.
func ReadCode(src []byte, wanted func(function string) bool) Code {
	tokens, err := lex(src)
	if err != nil {
		return Code{}
	}
	r := newCodeReader(src, tokens, wanted)
	for r.pos = 0; r.more(); r.pos++ {
		r.take()
	}
	return r.code
}

// codeReader reads code token by token.
type codeReader struct {
	*finder
	wanted        func(function string) bool
	lines         []int // of the tokens
	code          Code
	assigned      map[string]bool // variables, so far
	variables     *trace
	class, parent string // the one around, and what it extends
}

func newCodeReader(src []byte, tokens []token, wanted func(function string) bool) *codeReader {
	f := &finder{src: src}
	line, at := 1, 0
	var lines []int
	for _, t := range tokens {
		line += strings.Count(string(src[at:t.start]), "\n")
		at = t.start
		switch t.kind {
		case space, comment, openTag, inlineHTML:
		case closeTag: // the end of a statement
			f.tokens, lines = append(f.tokens, token{punct, t.start, t.start}), append(lines, line)
		default:
			f.tokens = append(f.tokens, t)
			lines = append(lines, line)
		}
	}
	const perToken, atLeast = 20, 10_000
	f.most = perToken*len(f.tokens) + atLeast
	return &codeReader{
		finder: f, wanted: wanted, lines: lines, assigned: map[string]bool{}, variables: newTrace(),
		code: Code{Parameters: map[string]bool{}, Signatures: map[string][]string{}, Aliases: map[string]string{}},
	}
}

// take takes in what begins with the token at hand.
func (r *codeReader) take() {
	switch {
	case r.isKind(0, punct):
		r.variables.mark(r.text(0))
	case r.isKind(0, variable):
		r.takeVariable()
	case r.isKind(0, singleQuoted), r.isKind(0, doubleQuoted):
		joined, gaps := r.concatenation()
		r.literal(Literal{Text: loosely(r.text(0)), Begins: joined != ""})
		if joined != "" {
			r.literal(Literal{Text: joined, Gaps: gaps})
		}
	case r.isKind(0, heredoc):
		r.literal(Literal{Text: strings.ReplaceAll(heredocBody(r.text(0)), `\$`, "$")})
	case r.isKind(0, word):
		r.takeWord()
	}
}

func (r *codeReader) literal(l Literal) {
	l.Line = r.lines[r.pos]
	r.code.Literals = append(r.code.Literals, l)
}

func (r *codeReader) takeVariable() {
	if r.variables.heading != nil {
		r.variables.heading[r.text(0)] = true
		r.code.Parameters[r.text(0)] = true
	}
	if r.is(1, "=") && !r.is(2, "=") {
		name := r.text(0)
		if r.code.Aliases[name] = ""; !r.assigned[name] {
			r.code.Aliases[name] = r.element(2)
		}
		r.assigned[name] = true
	}
	if name, value, adds, inBranch, ok := r.finder.assigned(); ok {
		r.variables.set(name, value, adds, inBranch)
	}
}

func (r *codeReader) takeWord() {
	name := strings.ToLower(r.text(0))
	name = name[strings.LastIndexByte(name, '\\')+1:]
	if r.pos > 0 && r.is(-1, "->") {
		name = "->" + name
	}
	if name == "extends" {
		r.parent = strings.ToLower(r.text(1)[strings.LastIndexByte(r.text(1), '\\')+1:])
	}
	isParent := name == "__construct" && r.pos > 1 && r.is(-1, "::") && r.is(-2, "parent")
	if isParent {
		name = r.parent
	}
	if definers[name] {
		r.takeDefinition(name)
		return
	}
	if name == "const" {
		r.code.Declares = append(r.code.Declares, r.constant()...)
		return
	}
	includes := name == "include" || name == "include_once" || name == "require" || name == "require_once"
	if !includes && !r.is(1, "(") || r.pos > 0 && r.is(-1, "function") || !r.wanted(name) {
		return
	}
	r.takeUse(Use{Function: name, New: isParent || r.pos > 0 && r.is(-1, "new"), Line: r.lines[r.pos]}, includes)
}

// takeDefinition takes in what a definer makes.
func (r *codeReader) takeDefinition(definer string) {
	r.variables.mark(definer)
	defined := r.defined()
	switch {
	case len(defined) == 0:
	case definer == "class":
		r.class = defined[0]
	case definer == "function" && defined[0] == "__construct":
		r.code.Signatures[r.class] = r.signature()
	case definer == "function":
		r.code.Signatures[defined[0]] = r.signature()
	}
	r.code.Defines = append(r.code.Defines, defined...)
	r.code.Declares = append(r.code.Declares, r.returned()...)
}

// takeUse takes in the use of a function, or the reading of another file.
func (r *codeReader) takeUse(use Use, includes bool) {
	start := r.pos
	r.pos++
	if includes {
		from := r.pos
		r.skipTo(";", "")
		use.Arguments = []Argument{r.argument(from, r.pos)}
	} else {
		use.Arguments = r.arguments()
	}
	for i, a := range use.Arguments {
		use.Arguments[i].Parameter = len(a.Pieces) == 1 && r.variables.isParameter(a.Pieces[0].Address)
		if traced := r.variables.resolve(a); traced.Source != a.Source {
			use.Arguments[i].Traced = &traced
		}
	}
	r.code.Uses = append(r.code.Uses, use)
	r.pos = start // calls inside the arguments count, too
}

// definers are the words after which the name of something stands that the code makes.
var definers = map[string]bool{"function": true, "class": true, "interface": true, "trait": true}

// defined is the name after one of the definers; none for a closure.
func (f *finder) defined() []string {
	n := 1
	if f.is(n, "&") {
		n++
	}
	if !f.isKind(n, word) {
		return nil
	}
	return []string{strings.ToLower(f.text(n))}
}

// signature are the names of the parameters of the function that begins here.
func (f *finder) signature() (names []string) {
	start := f.pos
	defer func() { f.pos = start }()
	f.skipTo("(", "{", ";", "")
	from := f.pos
	f.skipBracket()
	end := f.pos
	for f.pos = from; f.pos < end; f.pos++ {
		if f.isKind(0, variable) {
			names = append(names, f.text(0)[1:])
		}
	}
	return names
}

// returned is the value of a function without parameters whose body is one return, or
// puts together what it returns in statements in a row.
func (f *finder) returned() []Declared {
	start := f.pos
	defer func() { f.pos = start }()
	f.pos++
	if !f.isKind(0, word) || !f.is(1, "(") || !f.is(2, ")") {
		return nil
	}
	name := f.text(0) + "()"
	f.pos += 3
	if f.is(0, ":") { // its type
		f.skipTo("{", ";")
	}
	if !f.is(0, "{") {
		return nil
	}
	f.pos++
	variables := newTrace()
	for f.isKind(0, variable) {
		set, value, adds, inBranch, ok := f.assigned()
		if !ok {
			return nil
		}
		variables.set(set, value, adds, inBranch)
		f.skipStatement()
	}
	if !f.is(0, "return") {
		return nil
	}
	f.pos++
	from := f.pos
	f.skipTo(";", "}")
	value := variables.resolve(f.argument(from, f.pos))
	for _, piece := range value.Pieces {
		if strings.HasPrefix(piece.Address, "$") && !strings.HasPrefix(piece.Address, "$this->") {
			return nil
		}
	}
	return []Declared{{name, value}}
}

// constant is what stands after const: a name, or a type and a name, and a value.
func (f *finder) constant() []Declared {
	start := f.pos
	defer func() { f.pos = start }()
	f.pos++
	for range 2 {
		if !f.isKind(0, word) {
			return nil
		}
		if f.is(1, "=") {
			name := f.text(0)
			f.pos += 2
			from := f.pos
			f.skipTo(";", ",")
			return []Declared{{name, f.argument(from, f.pos)}}
		}
		f.pos++
	}
	return nil
}

// element is the address, n tokens ahead, of an element that is all that a variable gets;
// empty where it gets something else.
func (f *finder) element(n int) string {
	start := f.pos
	defer func() { f.pos = start }()
	if f.pos += n; !f.isKind(0, variable) || !f.is(1, "[") {
		return ""
	}
	address := f.text(0)
	f.pos++
	for f.more() && f.is(0, "[") {
		key, length := f.subscript(false)
		if length == 0 {
			return ""
		}
		address += key
		f.pos += length
	}
	if !f.endOfStatement() {
		return ""
	}
	return address
}

// arguments takes the arguments of a call from its bracket on.
func (f *finder) arguments() []Argument {
	var all []Argument
	f.pos++
	for f.more() && !f.is(0, ")") {
		from := f.pos
		f.skipTo(",", ")", ";", "]", "}")
		all = append(all, f.argument(from, f.pos))
		if !f.is(0, ",") {
			break
		}
		f.pos++
	}
	return all
}

// argument reads the tokens from one place to another.
func (f *finder) argument(from, to int) Argument {
	if to <= from || to > len(f.tokens) {
		return Argument{}
	}
	a := Argument{Source: string(f.src[f.tokens[from].start:f.tokens[to-1].end])}
	back := f.pos
	defer func() { f.pos = back }()
	for f.pos = from; f.pos < to; f.pos++ {
		switch {
		case f.isKind(0, singleQuoted), f.isKind(0, doubleQuoted):
			text, ok := decode(f.text(0))
			if !ok {
				text = f.text(0)[1 : len(f.text(0))-1]
			}
			a.Pieces = append(a.Pieces, Piece{Text: text})
		case f.isCast():
		case f.isKind(0, variable), f.isKind(0, word) && (!f.is(1, "(") || f.is(2, ")")):
			address := f.text(0)
			f.pos++
			for f.pos < to {
				if (f.is(0, "->") || f.is(0, "::")) && (f.isKind(1, word) || f.isKind(1, variable)) {
					address += f.text(0) + f.text(1)
					f.pos += 2
					continue
				}
				subscript, length := f.subscript(true)
				if length == 0 {
					break
				}
				address += subscript
				f.pos += length
			}
			if f.pos+1 < to && f.is(0, "(") && f.is(1, ")") {
				address += "()"
				f.pos += 2
			}
			f.pos--
			a.Pieces = append(a.Pieces, Piece{Address: address})
		}
	}
	return a
}

// isCast reports whether the word at this place is a type in brackets, before a value (PHP
// manual, "Type Juggling").
func (f *finder) isCast() bool {
	return f.pos > 0 && f.is(-1, "(") && f.is(1, ")") && casts[strings.ToLower(f.text(0))]
}

var casts = map[string]bool{"int": true, "integer": true, "string": true, "bool": true, "float": true}

// loosely is the text of a literal with the variables in it left as they are.
func loosely(literal string) string {
	if text, ok := decode(literal); ok {
		return text
	}
	return strings.NewReplacer(`\$`, "$", `\"`, `"`, `\n`, "\n", `\t`, "\t", `\\`, `\`).Replace(literal[1 : len(literal)-1])
}

// concatenation joins the literals of a chain of dots that begins here; empty
// where none does. gaps tells that other operands stand between them.
func (f *finder) concatenation() (joined string, gaps bool) {
	if f.pos > 0 && f.is(-1, ".") || !f.is(1, ".") {
		return "", false
	}
	start := f.pos
	defer func() { f.pos = start }()
	var b strings.Builder
	for !f.endOfStatement() && !f.is(0, ",") && !f.is(0, ")") && !f.is(0, "]") && !f.is(0, "}") {
		if f.isKind(0, singleQuoted) || f.isKind(0, doubleQuoted) {
			b.WriteString(loosely(f.text(0)))
		} else if !f.is(0, ".") {
			gaps = true
		}
		if f.is(0, "(") || f.is(0, "[") || f.is(0, "{") {
			f.skipBracket()
		} else {
			f.pos++
		}
	}
	return b.String(), gaps
}

// heredocBody is a heredoc without its first and its last line.
func heredocBody(source string) string {
	_, body, _ := strings.Cut(source, "\n")
	return body[:max(0, strings.LastIndexByte(body, '\n'))]
}
