package sqltext

import "strings"

// Tokens are all tokens of one statement.
type Tokens []Token

// MostTokens is how many tokens of a statement are held in memory: each takes as much as
// fifty bytes of text do, and a statement may have one for every byte.
const MostTokens = 500_000

// Scan gives all tokens of a statement, or the first MostTokens of one that has more: whoever
// decides by all of them asks for ScanAll.
func Scan(text []byte, d Dialect) Tokens {
	tokens, _ := ScanAll(text, d)
	return tokens
}

// ScanAll is Scan, and reports whether these are all tokens.
func ScanAll(text []byte, d Dialect) (tokens Tokens, all bool) {
	const usual, most = 4, 512 // bytes of a token; tokens that room is made for
	tokens = make(Tokens, 0, min(len(text)/usual, most))
	s := NewScanner(text, d)
	for t, ok := s.Next(); ok; t, ok = s.Next() {
		if len(tokens) == MostTokens {
			return tokens, false
		}
		tokens = append(tokens, t)
	}
	return tokens, true
}

// EachToken takes every token of a statement: those that were scanned, or where these are not all,
// one after the other from its text.
func EachToken(scanned Tokens, all bool, text []byte, d Dialect, take func(Token)) {
	if all {
		for _, t := range scanned {
			take(t)
		}
		return
	}
	s := NewScanner(text, d)
	for t, ok := s.Next(); ok; t, ok = s.Next() {
		take(t)
	}
}

// noToken stands for what is before or after a statement, and equals nothing.
var noToken = Token{Kind: Punct, Text: []byte{0}}

// At gives a token; before and after the statement one that equals nothing.
func (t Tokens) At(i int) Token {
	if i >= 0 && i < len(t) {
		return t[i]
	}
	return noToken
}

// Begins reports whether the statement begins with the given words and characters,
// in any case.
func (t Tokens) Begins(with ...string) bool {
	if len(t) < len(with) {
		return false
	}
	for i, want := range with {
		if !strings.EqualFold(string(t[i].Text), want) {
			return false
		}
	}
	return true
}

// Has reports whether a keyword stands anywhere in the statement.
func (t Tokens) Has(keyword string) bool {
	for _, token := range t {
		if token.Is(keyword) {
			return true
		}
	}
	return false
}
