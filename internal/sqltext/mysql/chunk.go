package mysql

import (
	"strings"

	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// chunk follows what stands before another delimiter than a semicolon. The stock client
// sends that as one text, and the server takes it apart at the semicolons that end a
// statement of its own (MySQL Reference Manual, "Multiple Statement Execution Support").
// Where a semicolon may as well stand within a stored program, the chunk stays whole:
// what comes of it is sent as a single statement, which the server refuses if it is two.
type chunk struct {
	scanned int  // so much of the statement has been looked at
	begun   bool // its first words have been seen
	whole   bool
	program bool // it makes a stored program
	blocks  int  // of the program, that are open
	body    bool // a block has been opened
}

// programs are what CREATE and ALTER can make that holds statements.
var programs = wordset.Of("PROCEDURE FUNCTION TRIGGER EVENT")

// compounds begin a statement that holds others (MariaDB, "Using Compound Statements
// Outside of Stored Programs").
var compounds = wordset.Of("IF CASE LOOP REPEAT WHILE FOR DECLARE")

// ends reports whether a semicolon after text, which is all of the statement so far, ends it.
func (c *chunk) ends(text []byte, d sqltext.Dialect) bool {
	if c.whole {
		return false
	}
	tokens, all := sqltext.ScanAll(text[c.scanned:], d)
	c.scanned = len(text)
	if !all {
		c.whole = true // as where it may be a program
		return false
	}
	if !c.begun {
		c.begun = true
		c.begin(tokens, d)
	}
	if c.program {
		c.whole = !c.body && holdsStatements(tokens)
		c.count(tokens)
	}
	return !c.whole && c.blocks == 0
}

func (c *chunk) begin(tokens sqltext.Tokens, d sqltext.Dialect) {
	head := sqltext.HeadOf(tokens, d)
	first := tokens.At(0)
	transaction := first.Is("BEGIN") && (len(tokens) == 1 || tokens.At(1).Is("WORK"))
	c.program = (head.Verb == "CREATE" || head.Verb == "ALTER") && programs[head.Object]
	c.whole = compounds[keyword(first)] || first.Is("BEGIN") && !transaction ||
		tokens.At(1).IsPunct(':') || head.Object == "PACKAGE"
}

// count follows the blocks: END alone ends what BEGIN and CASE have begun, END with
// another word what is not counted.
func (c *chunk) count(tokens sqltext.Tokens) {
	for i, t := range tokens {
		named := tokens.At(i-1).IsPunct('.') || tokens.At(i+1).IsPunct('.')
		switch {
		case named:
		case t.Is("BEGIN"), t.Is("CASE") && !tokens.At(i-1).Is("END"):
			c.blocks++
			c.body = c.body || t.Is("BEGIN")
		case t.Is("END") && !uncounted[keyword(tokens.At(i+1))]:
			c.blocks--
		}
	}
	c.whole = c.whole || c.blocks < 0
}

// uncounted stand after END where it ends something else than a block or a CASE.
var uncounted = wordset.Of("IF LOOP REPEAT WHILE FOR")

// holders are words of a program that holds statements without a block, or declares
// something before it.
var holders = wordset.Of("CASE LOOP REPEAT WHILE IS AS DECLARE")

// keyword is a token as the sets of words have it; empty for one that is no word.
func keyword(t sqltext.Token) string {
	if t.Kind != sqltext.Word {
		return ""
	}
	return strings.ToUpper(string(t.Text))
}

// holdsStatements reports whether a program may hold statements otherwise than in a block
// that is all of it, or declares something before.
func holdsStatements(tokens sqltext.Tokens) bool {
	for i, t := range tokens {
		exists := tokens.At(i+1).Is("EXISTS") || tokens.At(i+1).Is("NOT") && tokens.At(i+2).Is("EXISTS")
		switch {
		case t.Is("BEGIN"):
			return false
		case t.Is("IF") && !exists, holders[keyword(t)], t.Is("FOR") && !tokens.At(i+1).Is("EACH"):
			return true
		}
	}
	return false
}
