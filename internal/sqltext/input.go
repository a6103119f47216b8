package sqltext

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/fault"
)

// input is the part of a script that is looked at: a window of bytes that is
// read on when more is needed, with the place of its beginning.
type input struct {
	name string // of the file, for errors
	src  io.Reader
	err  error // what src ended with

	longest int // bytes of a statement, and of what stands between two

	buf       []byte // unread input; buf[:pos] belongs to the piece being read
	pos       int
	offset    int64 // of buf[0] in the script
	line, col int   // of buf[0]
}

// readAhead is the size of one read: large enough that the cost of a system
// call disappears behind scanning.
const readAhead = 256 << 10

// LongestStatement is how many bytes a statement may have, unless LimitStatements
// says otherwise: far more than servers take as one, and little enough to be held in
// memory.
const LongestStatement = 64 << 20

// What a script can be wrong in, for errors.Is.
var (
	ErrTooLong       = errors.New("a statement is too long")
	ErrUnclosed      = errors.New("a literal or comment is never closed")
	ErrClientCommand = errors.New("a command of the stock client")
)

func newInput(name string, src io.Reader) input {
	return input{name: name, src: src, line: 1, col: 1, longest: LongestStatement, buf: make([]byte, 0, readAhead)}
}

// LimitStatements sets how many bytes a statement may have; 0 leaves it as it is. A
// longer one is an error with its place. It must be called before Next.
func (r *input) LimitStatements(bytes int) {
	if bytes > 0 {
		r.longest = bytes
	}
}

// skipMark passes over a mark of the byte order at the very beginning.
func (r *input) skipMark() {
	if r.ensure(3) && bytes.HasPrefix(r.buf, []byte("\ufeff")) {
		r.pos = 3
		r.consume(3)
		r.col = 1 // the mark is no character of the first line
	}
}

// ensure makes at least n bytes available from pos on, if the source has them.
func (r *input) ensure(n int) bool {
	for len(r.buf)-r.pos < n {
		if r.err != nil {
			return false
		}
		if len(r.buf) > r.longest {
			r.err = ErrTooLong
			return false
		}
		if cap(r.buf)-len(r.buf) < readAhead/2 {
			grown := make([]byte, len(r.buf), min(2*cap(r.buf), max(r.longest, cap(r.buf)))+readAhead)
			copy(grown, r.buf)
			r.buf = grown
		}
		var got int
		got, r.err = r.src.Read(r.buf[len(r.buf):cap(r.buf)])
		r.buf = r.buf[:len(r.buf)+got]
	}
	return true
}

// consume forgets the first n bytes and moves the place behind them.
func (r *input) consume(n int) {
	if n == 0 {
		return
	}
	gone := r.buf[:n]
	if lines := bytes.Count(gone, []byte{'\n'}); lines > 0 {
		r.line += lines
		r.col = 1
		gone = gone[bytes.LastIndexByte(gone, '\n')+1:]
	}
	if len(gone) > 0 {
		r.col += utf8.RuneCount(gone)
	}
	r.offset += int64(n)
	r.pos -= n
	// Slicing keeps the cost of small statements small; the bytes are moved
	// to the front only when the buffer is nearly used up.
	r.buf = r.buf[n:]
	if len(r.buf) == 0 || cap(r.buf) < readAhead/2 {
		fresh := make([]byte, len(r.buf), max(readAhead, 2*len(r.buf)))
		copy(fresh, r.buf)
		r.buf = fresh
	}
}

// placeAt is the place of buf[at].
func (r *input) placeAt(at int) fault.Place {
	line, col := r.line, r.col
	before := r.buf[:at]
	if n := bytes.Count(before, []byte{'\n'}); n > 0 {
		line += n
		col = 1
		before = before[bytes.LastIndexByte(before, '\n')+1:]
	}
	return fault.Place{File: r.name, Line: line, Column: col + utf8.RuneCount(before)}
}

// ended is the error for an input that ends where it may not, or the source's
// own error when that is why it ended.
func (r *input) ended(opened int, what, closer string) error {
	if !errors.Is(r.err, io.EOF) {
		return r.sourceError()
	}
	place := r.placeAt(opened)
	start := bytes.LastIndexByte(r.buf[:opened], '\n') + 1
	line, _, _ := bytes.Cut(r.buf[start:], []byte{'\n'})
	// The line may have begun in a part already consumed; then the excerpt
	// would not fit the column, and the place alone has to do.
	excerpt := ""
	if start > 0 || r.col == 1 {
		excerpt = fault.ExcerptLine(strings.TrimRight(string(line), "\r"), place)
	}
	return &fault.Error{
		Class: fault.Invalid, Place: place, Excerpt: excerpt, Cause: ErrUnclosed,
		What: "the script ends inside " + what + " that opens here",
		Next: "close it with " + closer + ", or get the script again if it was cut off",
	}
}

func (r *input) sourceError() error {
	if errors.Is(r.err, context.Canceled) {
		return fault.Stopped(r.err)
	}
	if errors.Is(r.err, ErrTooLong) {
		return &fault.Error{
			Class: fault.Invalid, Place: r.placeAt(0), Cause: r.err,
			What: fmt.Sprintf("a statement or comment begins here that is longer than %d MiB", r.longest>>20),
			Next: "is a quote missing? Else raise {longest-statement} as far as there is memory",
		}
	}
	return &fault.Error{
		Class: fault.Invalid, Place: r.placeAt(len(r.buf)), Cause: r.err,
		What: "the script cannot be read to its end: " + r.err.Error(),
		Next: "get the file again; nothing behind this place was read",
	}
}

func (r *input) at(text string) bool {
	return r.ensure(len(text)) && string(r.buf[r.pos:r.pos+len(text)]) == text
}

func (r *input) skipLine() {
	for r.ensure(1) {
		if i := bytes.IndexByte(r.buf[r.pos:], '\n'); i >= 0 {
			r.pos += i + 1
			return
		}
		r.pos = len(r.buf)
	}
}

// BytesRead reports how many bytes of the script have been passed.
func (r *input) BytesRead() int64 { return r.offset + int64(r.pos) }

func isSpace(c byte) bool {
	return c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == '\v' || c == '\f'
}
