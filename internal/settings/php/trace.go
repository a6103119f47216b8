package php

import "strings"

// trace knows what variables hold where statements stand in a row: what is set in a branch is
// not known after it.
type trace struct {
	scopes  []scope
	depth   int             // of braces
	heading map[string]bool // parameters between function and its body; nil elsewhere
}

type scope struct {
	values     map[string]given
	parameters map[string]bool
	depth      int // of braces around it
}

type given struct {
	value   Argument
	depth   int
	unknown bool
}

func newTrace() *trace { return &trace{scopes: []scope{{values: map[string]given{}, depth: -1}}} }

func (t *trace) values() map[string]given { return t.scopes[len(t.scopes)-1].values }

// mark takes a brace, a semicolon or the word function.
func (t *trace) mark(text string) {
	switch text {
	case "function":
		t.heading = map[string]bool{}
	case ";":
		t.heading = nil
	case "{":
		if t.heading != nil {
			t.scopes = append(t.scopes, scope{map[string]given{}, t.heading, t.depth})
		}
		t.heading = nil
		t.depth++
	case "}":
		t.depth--
		if last := len(t.scopes) - 1; last > 0 && t.scopes[last].depth == t.depth {
			t.scopes = t.scopes[:last]
		}
	}
}

// isParameter reports whether an address begins with a parameter of the function around.
func (t *trace) isParameter(address string) bool {
	name := address
	if i := strings.IndexAny(address, "[-:"); i > 0 {
		name = address[:i]
	}
	return t.scopes[len(t.scopes)-1].parameters[name]
}

// set takes an assignment; adds tells that it adds to what is there.
func (t *trace) set(name string, value Argument, adds, inBranch bool) {
	before, known := t.values()[name]
	value = t.resolve(value)
	now := given{value, t.depth, inBranch || len(value.Pieces) == 0 || isLong(value)}
	if known && before.depth < t.depth { // which may not happen
		now.depth, now.unknown = before.depth, now.unknown || adds || before.value.Source != value.Source
	}
	if adds {
		now.value = join(before.value, value)
		now.unknown = now.unknown || !known || before.unknown || isLong(now.value)
	}
	t.values()[name] = now
}

// resolve puts values in place of the variables that hold them.
func (t *trace) resolve(a Argument) Argument {
	if isLong(a) {
		return a
	}
	resolved := Argument{Source: a.Source}
	for _, piece := range a.Pieces {
		if of, known := t.values()[piece.Address]; known && !of.unknown {
			resolved.Source += " " + of.value.Source
			resolved.Pieces = append(resolved.Pieces, of.value.Pieces...)
		} else {
			resolved.Pieces = append(resolved.Pieces, piece)
		}
	}
	if isLong(resolved) {
		return a
	}
	return resolved
}

func join(a, b Argument) Argument {
	return Argument{Source: a.Source + " " + b.Source, Pieces: append(append([]Piece{}, a.Pieces...), b.Pieces...)}
}

// isLong: no path is put together from that much, and values that hold one another
// would grow without end.
func isLong(a Argument) bool {
	const mostPieces, longest = 16, 1 << 10
	return len(a.Pieces) > mostPieces || len(a.Source) > longest
}

// assigned is the assignment to a variable that begins here.
func (f *finder) assigned() (name string, value Argument, adds, inBranch, ok bool) {
	start := f.pos
	defer func() { f.pos = start }()
	n := 1
	if adds = f.is(1, "."); adds {
		n = 2
	}
	if !f.is(n, "=") || f.is(n+1, "=") {
		return "", Argument{}, false, false, false
	}
	inBranch = start > 0 && !f.is(-1, ";") && !f.is(-1, "{") && !f.is(-1, "}") && !f.is(-1, "")
	name = f.text(0)
	f.pos += n + 1
	from := f.pos
	f.skipTo(";", ")", "}", "")
	value = f.argument(from, f.pos)
	for at := from; at < f.pos; at++ {
		if c := f.src[f.tokens[at].start]; c == '?' || c == '[' || c == '{' { // what it holds is not put together from its pieces
			value = Argument{}
		}
	}
	return name, value, adds, inBranch, true
}
