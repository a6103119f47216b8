// Package php reads and edits the settings in PHP files without losing a byte:
// constants, variables, arrays in both notations and returned arrays.
//
// The parts: lex.go cuts a file into tokens, find.go gives every value an address, edit.go
// writes one, code.go reads what is no settings file, and trace.go follows what its variables
// hold. Nothing here runs PHP or opens a file, and nothing here knows what the settings are
// for.
package php

import (
	"bytes"
	"strings"
)

type kind int

const (
	inlineHTML   kind = iota // everything outside <?php ... ?>
	openTag                  // <?php or <?=
	closeTag                 // ?> with the line end PHP swallows
	space                    // white space
	comment                  // // # /* */
	variable                 // $name
	word                     // keywords, names, constants, with \ for namespaces
	number                   // integer or float literal
	singleQuoted             // 'literal'
	doubleQuoted             // "literal", interpolated or not
	heredoc                  // heredoc or nowdoc, whole
	backticks                // `command`
	punct                    // one character, or =>, ::, ->, ??
)

type token struct {
	kind       kind
	start, end int
}

// lexError is an input that ends inside a token.
type lexError struct {
	at   int
	what string
}

func (e *lexError) Error() string { return e.what }

// lex cuts src into tokens; joined they are src again. The syntax is that of
// the PHP manual's "Language Reference: Basic syntax" and "Strings".
func lex(src []byte) ([]token, error) {
	const perToken = 5 // bytes, as code has it on average
	l := &lexer{src: src, tokens: make([]token, 0, len(src)/perToken)}
	l.html()
	for l.pos < len(src) && l.err == nil {
		l.php()
	}
	if l.err != nil {
		return nil, l.err
	}
	return l.tokens, nil
}

type lexer struct {
	src    []byte
	pos    int
	tokens []token
	err    error
}

func (l *lexer) emit(k kind, end int) {
	if end > l.pos {
		l.tokens = append(l.tokens, token{k, l.pos, end})
		l.pos = end
	}
}

// html takes inline HTML and the tag that ends it.
func (l *lexer) html() {
	rest := l.src[l.pos:]
	for from := 0; ; {
		i := bytes.Index(rest[from:], []byte("<?"))
		if i < 0 {
			l.emit(inlineHTML, len(l.src))
			return
		}
		at := from + i
		tag := 0
		switch {
		case bytes.HasPrefix(rest[at:], []byte("<?=")):
			tag = 3
		case len(rest) >= at+5 && strings.EqualFold(string(rest[at:at+5]), "<?php") && (len(rest) == at+5 || isSpace(rest[at+5])):
			tag = 5
		}
		if tag > 0 {
			start := l.pos
			l.emit(inlineHTML, start+at)
			l.emit(openTag, start+at+tag)
			return
		}
		from = at + 2
	}
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }
func isDigit(c byte) bool { return c >= '0' && c <= '9' }
func isNameStart(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}
func isName(c byte) bool { return isNameStart(c) || isDigit(c) }

// php takes one token inside PHP code.
func (l *lexer) php() {
	rest := l.src[l.pos:]
	c := rest[0]
	has := func(prefix string) bool { return bytes.HasPrefix(rest, []byte(prefix)) }
	switch {
	case isSpace(c):
		l.emit(space, l.pos+count(rest, isSpace))
	case has("?>"):
		end := 2
		if bytes.HasPrefix(rest[2:], []byte("\r\n")) {
			end = 4
		} else if len(rest) > 2 && rest[2] == '\n' {
			end = 3
		}
		l.emit(closeTag, l.pos+end)
		l.html()
	case has("//"), c == '#' && !has("#["):
		l.emit(comment, l.pos+lineCommentLength(rest))
	case has("/*"):
		i := bytes.Index(rest[2:], []byte("*/"))
		if i < 0 {
			l.err = &lexError{l.pos, "a comment is opened here and never closed"}
			return
		}
		l.emit(comment, l.pos+i+4)
	case c == '$' && len(rest) > 1 && isNameStart(rest[1]):
		l.emit(variable, l.pos+1+count(rest[1:], isName))
	case isNameStart(c), c == '\\' && len(rest) > 1 && isNameStart(rest[1]):
		l.emit(word, l.pos+1+count(rest[1:], func(c byte) bool { return isName(c) || c == '\\' }))
	case isDigit(c), c == '.' && len(rest) > 1 && isDigit(rest[1]):
		l.emit(number, l.pos+numberLength(rest))
	case c == '\'':
		l.quoted(singleQuoted, "a string is opened here and never closed")
	case c == '"':
		l.quoted(doubleQuoted, "a string is opened here and never closed")
	case c == '`':
		l.quoted(backticks, "a command in backticks is opened here and never closed")
	case has("<<<"):
		l.heredoc()
	case has("=>"), has("::"), has("->"), has("??"):
		l.emit(punct, l.pos+2)
	default:
		l.emit(punct, l.pos+1)
	}
}

func count(text []byte, in func(byte) bool) int {
	n := 0
	for n < len(text) && in(text[n]) {
		n++
	}
	return n
}

// lineCommentLength: a one-line comment ends before the line end, or before
// ?>, which leaves PHP even from inside a comment.
func lineCommentLength(text []byte) int {
	end := len(text)
	if i := bytes.IndexAny(text, "\r\n"); i >= 0 {
		end = i
	}
	if i := bytes.Index(text[:end], []byte("?>")); i >= 0 {
		end = i
	}
	return end
}

func numberLength(text []byte) int {
	n := 0
	for n < len(text) {
		c := text[n]
		exponentSign := (c == '+' || c == '-') && n > 0 && (text[n-1] == 'e' || text[n-1] == 'E') &&
			!bytes.HasPrefix(text, []byte("0x")) && !bytes.HasPrefix(text, []byte("0X"))
		if !isName(c) && c != '.' && !exponentSign {
			break
		}
		n++
	}
	return n
}

func (l *lexer) quoted(k kind, unclosed string) {
	quote := l.src[l.pos]
	for i := l.pos + 1; i < len(l.src); i++ {
		switch l.src[i] {
		case '\\':
			i++
		case quote:
			l.emit(k, i+1)
			return
		}
	}
	l.err = &lexError{l.pos, unclosed}
}

// heredoc takes <<<X, <<<"X" or <<<'X' up to and including the closing X,
// which since PHP 7.3 may be indented and followed by more code.
func (l *lexer) heredoc() {
	rest := l.src[l.pos:]
	i := 3 + count(rest[3:], func(c byte) bool { return c == ' ' || c == '\t' })
	quoted := i < len(rest) && (rest[i] == '"' || rest[i] == '\'')
	if quoted {
		i++
	}
	label := string(rest[i : i+count(rest[i:], isName)])
	i += len(label)
	if quoted && i < len(rest) {
		i++
	}
	if label == "" || i >= len(rest) || rest[i] != '\n' && rest[i] != '\r' {
		l.emit(punct, l.pos+1) // a shift operator and a comparison, say
		return
	}
	for i < len(rest) {
		nl := bytes.IndexByte(rest[i:], '\n')
		if nl < 0 {
			break
		}
		i += nl + 1
		j := i + count(rest[i:], func(c byte) bool { return c == ' ' || c == '\t' })
		if bytes.HasPrefix(rest[j:], []byte(label)) && (j+len(label) == len(rest) || !isName(rest[j+len(label)])) {
			l.emit(heredoc, l.pos+j+len(label))
			return
		}
	}
	l.err = &lexError{l.pos, "the heredoc " + label + " is opened here and never closed"}
}
