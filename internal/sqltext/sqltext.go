// Package sqltext reads SQL: each statement of a script as a row of tokens (Scanner)
// from which its head, its rows or its table can be told. The packages below it split
// a script into statements where the servers' stock clients do: mysql that of MariaDB
// and MySQL, postgres that of PostgreSQL.
//
// It must never know of servers, connections or settings files: what a statement
// would do is for internal/load to judge.
package sqltext

import (
	"cmp"
	"io"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext/window"
)

// Statement is one statement of a script, without its delimiter.
type Statement struct {
	// Text is the statement with prefix tokens replaced. It is valid until
	// the next call of Reader.Next.
	Text []byte
	// Offset is the byte offset of the first character in the script, after
	// decompression, and Size the bytes it takes there.
	Offset int64
	Size   int
	// Line and Column of the first character, from 1; columns count
	// characters, not bytes.
	Line, Column int
	// File is the name of the file that the statement stands in, where the script
	// has the stock client read it in its place; empty for the script itself.
	File string
	// Dialect is how the server reads this statement, given the sql_mode that
	// the script has set before it.
	Dialect Dialect
	// SetsReading tells that the statement changes how the server reads those after it, and
	// Untraced says why it cannot be told in which way.
	SetsReading bool
	Untraced    string
	// State is the reader's own: what the script has said to it before this
	// statement. It is nil where the script cannot be read on from here.
	State any
}

// Mark is the place from which the script can be read on with this statement, if it has
// a State.
func (s Statement) Mark() Mark {
	return Mark{Offset: s.Offset, Line: s.Line, Column: s.Column, State: s.State}
}

// Head tells what the beginning of the statement says.
func (s Statement) Head() Head { return ParseHead(s.Text, s.Dialect) }

// Place is where the statement stands; name is the script's.
func (s Statement) Place(name string) fault.Place {
	return fault.Place{File: cmp.Or(s.File, name), Line: s.Line, Column: s.Column}
}

// WithoutText is the statement's place alone, to be kept when the text is no longer
// valid.
func (s Statement) WithoutText() Statement {
	s.Text = nil
	return s
}

// Reader gives the statements of a script one by one. Its memory is that of the
// longest statement, whatever the length of the script.
type Reader interface {
	// Next gives the next statement, or io.EOF after the last one.
	Next() (Statement, error)
	// Resume reads on at a mark of a statement that a reader of the same kind gave;
	// src begins at its offset.
	Resume(src io.Reader, m Mark)
	// BytesRead is how many bytes of the script have been passed.
	BytesRead() int64
	// LimitStatements sets how many bytes a statement may have; 0 leaves it at
	// window.LongestStatement. It must be called before Next.
	LimitStatements(bytes int)
	// AskBefore has someone asked once, before a large piece of the script is held in memory.
	// It must be called before Next.
	AskBefore(enlarge func() error)
	// ReplacePrefix writes prefix wherever the script says token, outside string
	// literals and comments. It must be called before Next.
	ReplacePrefix(token, prefix string)
	// Follow has the reader go on in the files that a script has the stock client
	// read in its place. It must be called before Next; without it such a command
	// is refused like the others. Offsets count on through those files, so that
	// statements have no State from the first of them on.
	Follow(open func(named string) (*window.Included, error))
	// Included are the files that were read so far in a script's place, or passed
	// over.
	Included() []*window.Included
}

// Mark is a place in a script from which it can be read on: where a statement
// begins, with all that the script has said to its reader before.
type Mark struct {
	Offset       int64
	Line, Column int
	// State is the reader's own.
	State any
}
