package load

import (
	"context"
	"errors"
	"io"
	"sync"
	"unicode/utf8"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
)

// A first pass reads a script ahead of what looks at it, in blocks: each of the two would
// else wait for the other at every statement.
const (
	blockText       = 128 << 10 // bytes from which on a block is full
	blockStatements = 512
	blocks          = 3
	longestCopied   = 2 << 20 // bytes of a statement; one that is longer stays the reader's
)

// block is a part of a script.
type block struct {
	parts []part
	text  []byte // of the parts
	lent  bool   // its only part is the reader's, who waits
	err   error  // what the reader met after the parts; io.EOF is the end
}

// part is a statement, or data after one.
type part struct {
	sqltext.Statement
	valid bool // UTF-8
	data  bool
	size  int64 // of data, in the script
	last  bool  // of the data after the statement
}

// Data are rows that stand after a statement.
type Data struct {
	// Behind gives those of the statement that was read last; nil for none.
	Behind func() io.Reader
	// Take takes in a piece of them, which takes size bytes in the script; the last one is
	// empty.
	Take func(text []byte, size int64, last bool) error
}

// Each reads a script to its end and takes in every statement, of which it says whether it is
// UTF-8. The text of what is taken stays until take returns. With an empty Data there are no
// rows after statements.
func (f *Findings) Each(ctx context.Context, reader sqltext.Reader, take func(s sqltext.Statement, valid bool) error, data Data) error {
	a := ahead{reader: reader, data: data, full: make(chan *block), free: make(chan *block, blocks), back: make(chan struct{}), ended: make(chan struct{})}
	for range blocks {
		a.free <- &block{}
	}
	var reading sync.WaitGroup
	reading.Go(a.read)
	defer reading.Wait()
	defer close(a.ended)
	for {
		b := <-a.full
		for _, p := range b.parts {
			if ctx.Err() != nil {
				return fault.Stopped(ctx.Err())
			}
			if p.data {
				if err := data.Take(p.Text, p.size, p.last); err != nil {
					return err
				}
				continue
			}
			f.Survey.Statements++
			f.Survey.Longest = max(f.Survey.Longest, p.Size)
			if err := take(p.Statement, p.valid); err != nil {
				return err
			}
			if err := f.isTooMuch(p.Statement); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(b.err, io.EOF) && f.Survey.Statements == 0:
			return fault.At(fault.Invalid, fault.Place{File: f.path}, "is it the right file?", "the script holds no statement")
		case errors.Is(b.err, io.EOF):
			return nil
		case b.err != nil:
			return b.err
		}
		if b.lent {
			a.back <- struct{}{}
		}
		a.free <- b
	}
}

// ahead reads a script.
type ahead struct {
	reader sqltext.Reader
	data   Data
	full   chan *block
	free   chan *block
	back   chan struct{} // what was lent is no longer looked at
	ended  chan struct{} // nobody looks any more

	b *block
}

// read fills blocks until the script or its reader ends.
func (a *ahead) read() {
	a.b = <-a.free
	for {
		s, err := a.reader.Next()
		if err == nil && !a.add(part{Statement: s, valid: utf8.Valid(s.Text)}) {
			return
		}
		if err == nil && a.data.Behind != nil {
			err = a.readData(s)
		}
		if err != nil {
			a.b.err = err
			a.hand()
			return
		}
	}
}

// errNobody ends a reading.
var errNobody = errors.New("nobody looks any more")

// readData reads what stands after a statement.
func (a *ahead) readData(s sqltext.Statement) error {
	from := a.data.Behind()
	if from == nil {
		return nil
	}
	passed := a.reader.BytesRead()
	for {
		if len(a.b.parts) > 0 && !a.hand() {
			return errNobody
		}
		if cap(a.b.text) < blockText {
			a.b.text = make([]byte, 0, blockText)
		}
		n, err := from.Read(a.b.text[:cap(a.b.text)])
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		a.b.text = a.b.text[:n]
		p := part{Statement: s, data: true, size: a.reader.BytesRead() - passed, last: err != nil}
		p.Text = a.b.text
		passed += p.size
		a.b.parts = append(a.b.parts, p)
		if err != nil {
			return nil
		}
	}
}

// add puts a part into the block, and hands the block over when it is full; false when
// nobody looks any more.
func (a *ahead) add(p part) bool {
	n := len(p.Text)
	if fits := len(a.b.text)+n <= cap(a.b.text); !fits && len(a.b.parts) > 0 && !a.hand() {
		return false
	}
	if n > longestCopied {
		a.b.parts, a.b.lent = append(a.b.parts, p), true
		return a.hand()
	}
	if cap(a.b.text) < n {
		a.b.text = make([]byte, 0, max(n, blockText))
	}
	begin := len(a.b.text)
	a.b.text = append(a.b.text, p.Text...)
	p.Text = a.b.text[begin:]
	a.b.parts = append(a.b.parts, p)
	return len(a.b.text) < blockText && len(a.b.parts) < blockStatements || a.hand()
}

// hand hands the block over, and takes another; false when nobody looks any more.
func (a *ahead) hand() bool {
	lent := a.b.lent
	select {
	case a.full <- a.b:
	case <-a.ended:
		return false
	}
	if lent {
		select {
		case <-a.back:
		case <-a.ended:
			return false
		}
	}
	select {
	case a.b = <-a.free:
		a.b.parts, a.b.text, a.b.lent = a.b.parts[:0], a.b.text[:0], false
		return true
	case <-a.ended:
		return false
	}
}
