// Package window is what the readers of SQL scripts look through: a piece of the
// script that grows as more is needed, with the place of its beginning, and the
// errors that have such a place.
//
// It must never know of any dialect: what a statement or a comment is, its readers say.
package window

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
)

// Window is the part of a script that is looked at: bytes, read on demand, and the place of
// the first one.
type Window struct {
	// Buf is unread input; Buf[:Pos] belongs to the piece being read. Parts of it are
	// valid until Ensure is called again.
	Buf   []byte
	Pos   int
	Err   error  // what the source ended with
	whole []byte // the memory at whose end Buf stands

	// Gap has all that is before Pos forgotten as soon as more is read: it belongs to no
	// statement.
	Gap bool

	Offset       int64 // of Buf[0] in the script
	Line, Column int   // of Buf[0], from 1; columns count characters

	// Token is what the script writes for the prefix of its tables; empty for none.
	Token  []byte
	prefix []byte
	seen   []int // where in Buf the piece being read holds the token

	name    string // of the file, for errors
	src     io.Reader
	longest int          // bytes of a statement, and of what stands between two
	enlarge func() error // asked once before a large piece is held; nil for nobody

	open     func(named string) (*Included, error)
	outer    []outer // the files around the one that is read
	included []*Included
}

// Included is a file that a script has the stock client read in its place.
type Included struct {
	Name string      // for messages
	At   fault.Place // of the command
	// Text is nil for a file that is passed over.
	Text io.Reader
	// Close is called after the last statement of the file.
	Close func()
}

// outer is a file in which another one is read.
type outer struct {
	name         string
	src          io.Reader
	err          error
	rest         []byte
	line, column int
}

// ReadAhead is the size of one read: large enough that the cost of a system call disappears
// after scanning.
const ReadAhead = 256 << 10

// LongestStatement is how many bytes a statement may have, unless LimitStatements
// says otherwise: far more than servers take as one, and little enough to be held in
// memory.
const LongestStatement = 64 << 20

// Errors in a script, for errors.Is.
var (
	ErrTooLong       = errors.New("a statement is too long")
	ErrUnclosed      = errors.New("a literal or comment is never closed")
	ErrClientCommand = errors.New("a command of the stock client")
)

// New looks at src from its beginning; name is the file's, for error messages.
func New(name string, src io.Reader) Window {
	w := Window{name: name, src: src, Line: 1, Column: 1, longest: LongestStatement}
	w.renew(ReadAhead)
	return w
}

// Restart goes on with src, which begins at another place of the same script.
func (r *Window) Restart(src io.Reader, offset int64, line, column int) {
	r.src, r.Err, r.Pos = src, nil, 0
	r.Buf = r.whole[:0]
	r.Offset, r.Line, r.Column = offset, line, column
}

// LimitStatements sets how many bytes a statement may have; 0 leaves it as it is. A
// longer one is an error with its place. It must be called before Next.
func (r *Window) LimitStatements(bytes int) {
	if bytes > 0 {
		r.longest = bytes
	}
}

// AskBefore has someone asked once, before a large piece of the script is held in memory. It must
// be called before Next.
func (r *Window) AskBefore(enlarge func() error) { r.enlarge = enlarge }

// SkipMark passes over a mark of the byte order at the very beginning.
func (r *Window) SkipMark() {
	if r.Ensure(3) && bytes.HasPrefix(r.Buf, []byte("\ufeff")) {
		r.Pos = 3
		r.Consume(3)
		r.Column = 1 // the mark is no character of the first line
	}
}

// Ensure makes at least n bytes available from pos on, if the source has them.
func (r *Window) Ensure(n int) bool {
	for len(r.Buf)-r.Pos < n {
		if r.Err != nil {
			return false
		}
		if r.Gap {
			r.Consume(r.Pos)
		}
		if len(r.Buf) > r.longest {
			r.Err = ErrTooLong
			return false
		}
		if cap(r.Buf)-len(r.Buf) < ReadAhead/2 {
			if r.enlarge != nil && len(r.Buf) > bounds.LargePiece {
				if r.Err = r.enlarge(); r.Err != nil {
					return false
				}
				r.enlarge = nil
			}
			r.makeRoom()
		}
		var got int
		got, r.Err = r.src.Read(r.Buf[len(r.Buf):cap(r.Buf)])
		r.Buf = r.Buf[:len(r.Buf)+got]
	}
	return true
}

// Follow has the files read that the script names; see sqltext.Reader.
func (r *Window) Follow(open func(named string) (*Included, error)) { r.open = open }

// Included are the files of which the script made use so far.
func (r *Window) Included() []*Included { return r.included }

// Follows reports whether files are read in the script's place.
func (r *Window) Follows() bool { return r.open != nil }

// File is the name of the file that is read in the script's place; empty for the
// script itself.
func (r *Window) File() string {
	if len(r.outer) == 0 {
		return ""
	}
	return r.name
}

// Enter goes on in the file that the command at a place of Buf names; the command is
// all that stands before Pos.
func (r *Window) Enter(at int, named string) error {
	place := r.PlaceAt(at)
	file, err := r.open(named)
	if err != nil {
		f := fault.As(err)
		return fault.At(f.Class, place, f.Next, "%s", f.What).With(err)
	}
	file.At = place
	r.included = append(r.included, file)
	r.Consume(r.Pos)
	if file.Text == nil {
		return nil
	}
	r.outer = append(r.outer, outer{r.name, r.src, r.Err, bytes.Clone(r.Buf), r.Line, r.Column})
	r.Restart(file.Text, r.Offset, 1, 1)
	r.name = file.Name
	r.SkipMark()
	return nil
}

// Leave goes back after the command that named the file whose end was reached; false where it
// was the script's own end.
func (r *Window) Leave() bool {
	if len(r.outer) == 0 {
		return false
	}
	for i := len(r.included) - 1; i >= 0; i-- {
		if file := r.included[i]; file.Close != nil {
			file.Close()
			file.Close = nil
			break
		}
	}
	around := r.outer[len(r.outer)-1]
	r.outer = r.outer[:len(r.outer)-1]
	r.Restart(around.src, r.Offset, around.line, around.column)
	r.name, r.Err, r.Buf = around.name, around.err, around.rest
	r.whole = r.Buf[:0]
	return true
}

// Consume forgets the first n bytes and moves the place after them.
func (r *Window) Consume(n int) {
	if n == 0 {
		return
	}
	gone := r.Buf[:n]
	if lines := bytes.Count(gone, []byte{'\n'}); lines > 0 {
		r.Line += lines
		r.Column = 1
		gone = gone[bytes.LastIndexByte(gone, '\n')+1:]
	}
	if len(gone) > 0 {
		r.Column += utf8.RuneCount(gone)
	}
	r.Offset += int64(n)
	r.Pos -= n
	// Slicing keeps the cost of small statements small; see makeRoom.
	r.Buf = r.Buf[n:]
}

// makeRoom moves the input to the front of its memory, or to a larger one where the piece
// being read takes most of it.
func (r *Window) makeRoom() {
	if gone := cap(r.whole) - cap(r.Buf); gone >= len(r.Buf)+ReadAhead/2 {
		r.Buf = append(r.whole[:0], r.Buf...)
		return
	}
	before := r.Buf
	r.renew(min(2*cap(r.Buf), max(r.longest, cap(r.Buf))) + ReadAhead)
	r.Buf = append(r.Buf, before...)
}

func (r *Window) renew(size int) {
	r.whole = make([]byte, 0, size)
	r.Buf = r.whole
}

// PlaceAt is the place of buf[at].
func (r *Window) PlaceAt(at int) fault.Place {
	line, col := r.Line, r.Column
	before := r.Buf[:at]
	if n := bytes.Count(before, []byte{'\n'}); n > 0 {
		line += n
		col = 1
		before = before[bytes.LastIndexByte(before, '\n')+1:]
	}
	return fault.Place{File: r.name, Line: line, Column: col + utf8.RuneCount(before)}
}

// Opening is where a literal or comment opens, and the line up to there and on.
type Opening struct {
	place fault.Place
	line  string
}

// OpeningAt is that of what opens at a place of Buf.
func (r *Window) OpeningAt(at int) Opening {
	const most = 400 // bytes of the line that are looked at
	o := Opening{place: r.PlaceAt(at)}
	start := bytes.LastIndexByte(r.Buf[:at], '\n') + 1
	// The line may have begun in a part already consumed; then the excerpt
	// would not fit the column, and the place alone has to do.
	if start > 0 || r.Column == 1 {
		line, _, _ := bytes.Cut(r.Buf[start:min(len(r.Buf), at+most)], []byte{'\n'})
		o.line = strings.TrimRight(string(line), "\r")
	}
	return o
}

// Ended is the error for an input that ends where it may not, or the source's
// own error when that is why it ended.
func (r *Window) Ended(opened Opening, what, closer string) error {
	if !errors.Is(r.Err, io.EOF) {
		return r.SourceError()
	}
	excerpt := ""
	if opened.line != "" {
		excerpt = fault.ExcerptLine(opened.line, opened.place)
	}
	return &fault.Error{
		Class: fault.Invalid, Place: opened.place, Excerpt: excerpt, Cause: ErrUnclosed,
		What: "the script ends inside " + what + " that opens here",
		Next: "close it with " + closer + ", or get the script again if it was cut off",
	}
}

// SourceError is the error for a source that could not be read to its end.
func (r *Window) SourceError() error {
	if errors.Is(r.Err, context.Canceled) {
		return fault.Stopped(r.Err)
	}
	if errors.Is(r.Err, ErrTooLong) {
		return &fault.Error{
			Class: fault.Invalid, Place: r.PlaceAt(0), Cause: r.Err,
			What: fmt.Sprintf("a statement or comment begins here that is longer than %d MiB", r.longest>>20),
			Next: "is a quote missing? Else raise {longest-statement} as far as there is memory",
		}
	}
	return &fault.Error{
		Class: fault.Invalid, Place: r.PlaceAt(len(r.Buf)), Cause: r.Err,
		What: "the script cannot be read to its end: " + r.Err.Error(),
		Next: "get the file again; nothing after this place was read",
	}
}

// At reports whether text stands at Pos.
func (r *Window) At(text string) bool {
	return r.Ensure(len(text)) && string(r.Buf[r.Pos:r.Pos+len(text)]) == text
}

// SkipGap passes over a comment between statements with skip, and keeps nothing of it.
func (r *Window) SkipGap(skip func() error) error {
	r.Consume(r.Pos)
	r.Gap = true
	err := skip()
	r.Gap = false
	return err
}

// SkipLine moves Pos after the end of the line.
func (r *Window) SkipLine() {
	for r.Ensure(1) {
		if i := bytes.IndexByte(r.Buf[r.Pos:], '\n'); i >= 0 {
			r.Pos += i + 1
			return
		}
		r.Pos = len(r.Buf)
	}
}

// SkipLineOfGap is SkipLine for a comment between statements.
func (r *Window) SkipLineOfGap() { _ = r.SkipGap(func() error { r.SkipLine(); return nil }) }

// BytesRead reports how many bytes of the script have been passed.
func (r *Window) BytesRead() int64 { return r.Offset + int64(r.Pos) }

// IsSpace reports whether a byte is white space to the servers.
func IsSpace(c byte) bool {
	return c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == '\v' || c == '\f'
}

// Marks marks the bytes of a word that equal those of one of two others in their highest
// bits: a byte that equals the wanted one is zero in the difference. Only the lowest mark is
// sure.
func Marks(word, a, b uint64) uint64 {
	const ones, highs = 0x0101010101010101, 0x8080808080808080
	a, b = word^a, word^b
	return ((a-ones)&^a | (b-ones)&^b) & highs
}

// LiteralEnd finds the first quote, or backslash where that escapes; it looks
// at eight bytes at a time.
func LiteralEnd(text []byte, quote byte, escapes bool) int {
	const ones = 0x0101010101010101
	quotes, backslashes := ones*uint64(quote), ones*uint64('\\')
	if !escapes {
		backslashes = quotes
	}
	i := 0
	for ; i+8 <= len(text); i += 8 {
		if found := Marks(binary.LittleEndian.Uint64(text[i:]), quotes, backslashes); found != 0 {
			return i + bits.TrailingZeros64(found)/8
		}
	}
	for ; i < len(text); i++ {
		if text[i] == quote || text[i] == '\\' && escapes {
			break
		}
	}
	return i
}

// ReplacePrefix makes the reader write prefix wherever the script says token,
// outside string literals and comments. It must be called before the first statement.
func (r *Window) ReplacePrefix(token, prefix string) {
	r.Token, r.prefix = []byte(token), []byte(prefix)
}

// AtToken reports whether the prefix token stands at Pos.
func (r *Window) AtToken() bool {
	return len(r.Token) > 0 && r.Ensure(len(r.Token)) && bytes.HasPrefix(r.Buf[r.Pos:], r.Token)
}

// See notes that the prefix token begins at a place of Buf.
func (r *Window) See(at int) { r.seen = append(r.seen, at) }

// Unsee forgets the tokens from a place of Buf on.
func (r *Window) Unsee(from int) {
	for i, at := range r.seen {
		if at >= from {
			r.seen = r.seen[:i]
			return
		}
	}
}

// Cut gives Buf[:end] without the white space at its end, as the stock clients send
// it: as it stands in the script, and with the prefix in place of its token.
func (r *Window) Cut(end int) (raw, text []byte) {
	raw = bytes.TrimRight(r.Buf[:end], " \n\r\t\v\f")
	if len(r.seen) == 0 {
		return raw, raw
	}
	last := 0
	for _, at := range r.seen {
		text = append(append(text, raw[last:at]...), r.prefix...)
		last = at + len(r.Token)
	}
	return raw, append(text, raw[last:]...)
}
