package postgres

import (
	"bytes"
	"context"
	"errors"
	"unicode/utf8"

	"yellowfield/internal/dbms"
	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// message is what is sent to the server at once: pieces of SQL, each of one
// statement of the script or of several that were joined.
type message struct {
	text   []byte
	pieces []piece
}

type piece struct {
	start, end int // in the message
	table      string
	parts      []load.Part // of the script
	// For joined rows: what the statements begin with, and what is known of the
	// table.
	head    []byte
	insert  sqltext.Insert
	dialect sqltext.Dialect
	columns []column
}

// count records that a piece went well.
func (p piece) count(l *load.Ledger, rows int64) {
	bytes := int64(0)
	for _, part := range p.parts {
		bytes += int64(part.Size)
	}
	if p.table == "" {
		l.Changed(rows)
	} else {
		l.Stored(p.table, rows)
	}
	l.Sent(len(p.parts), bytes)
}

// messageSize is from what size on a message is sent. Larger ones were measured
// to gain nothing.
const messageSize = 256 << 10

// add puts a statement of the script after those in the message.
func (m *message) add(v verdict, table string) {
	m.separate()
	m.makeRoom(len(v.text))
	p := load.Part{Statement: v.WithoutText(), Start: len(m.text)}
	m.text = append(m.text, v.text...)
	p.End = len(m.text)
	m.pieces = append(m.pieces, piece{start: p.Start, end: p.End, table: table, parts: []load.Part{p}})
}

// join puts rows after those of the statement before, if that was for the same columns of the
// same table.
func (m *message) join(v verdict, table string, h handling) {
	head, body, p := v.Text[:v.insert.Body], v.Text[v.insert.Body:], load.Part{Statement: v.WithoutText()}
	if n := len(m.pieces); n > 0 && bytes.Equal(m.pieces[n-1].head, head) {
		m.text = append(m.text, ",\n"...)
	} else {
		m.separate()
		m.makeRoom(len(v.Text))
		m.pieces = append(m.pieces, piece{start: len(m.text), head: bytes.Clone(head), table: table, insert: v.insert, dialect: v.Dialect, columns: h.columns})
		m.text = append(m.text, head...)
	}
	p.Start = len(m.text)
	m.text = append(m.text, body...)
	p.End = len(m.text)
	last := &m.pieces[len(m.pieces)-1]
	last.end = p.End
	last.parts = append(last.parts, p)
}

// separate ends the statement before, whose text may end in a comment to the end
// of the line. Before the first one stands the beginning of the message.
func (m *message) separate() {
	if len(m.pieces) > 0 {
		m.text = append(m.text, "\n;"...)
	} else {
		m.text = append(m.text[:0], beginMessage+";"...)
	}
}

// makeRoom makes room for a long text and for the end of the message, and for no more: a
// message can be as long as a statement may be.
func (m *message) makeRoom(more int) {
	if wanted := len(m.text) + more + len(endOfMessage); more > messageSize && cap(m.text) < wanted {
		m.text = append(make([]byte, 0, wanted), m.text...)
	}
}

func (m *message) reset() {
	if m.text, m.pieces = m.text[:0], m.pieces[:0]; cap(m.text) > 8*messageSize {
		m.text = nil
	}
}

// send sends a message as a whole, within a transaction. The rows of
// a piece that is refused are sent again one by one, to find the one to blame.
func (m *message) send(ctx context.Context, session Session, l *load.Ledger) error {
	if sent, err := m.sendCopies(ctx, session, l); sent || err != nil {
		return err
	}
	at := -1 // the first result is that of the message's beginning
	whole := append(m.text, endOfMessage...)
	err := session.Send(ctx, load.AsText(whole), func(rows int64) {
		if at >= 0 && at < len(m.pieces) {
			m.pieces[at].count(l, rows)
		}
		at++
	})
	var refused *dbms.ServerError
	if !errors.As(err, &refused) {
		return err
	}
	if refused.Position > 0 {
		return m.blame(l.Script, refused, byteOf(whole, refused.Position-1))
	}
	if at < 0 || at >= len(m.pieces) { // constraints that are deferred
		return m.locate(l.Script, m.pieces[0], m.pieces[0].parts[0], refused, -1)
	}
	guilty := m.pieces[at]
	ignore := func(int64) {}
	if len(guilty.parts) > 1 && session.Send(ctx, beginAgain, ignore) == nil {
		for _, p := range m.pieces[:at] {
			if session.Send(ctx, string(m.text[p.start:p.end]), ignore) != nil {
				break
			}
		}
		for _, p := range guilty.parts {
			if err := session.Send(ctx, string(guilty.head)+string(m.text[p.Start:p.End]), ignore); err != nil {
				return m.locate(l.Script, guilty, p, err, -1)
			}
		}
	}
	return m.locate(l.Script, guilty, guilty.parts[0], refused, -1)
}

// blame finds the statement of the script for a place in the message where the
// server says that it is wrong.
func (m *message) blame(script string, refused *dbms.ServerError, at int) error {
	for i, p := range m.pieces {
		for j, part := range p.parts {
			if at > part.End && (i < len(m.pieces)-1 || j < len(p.parts)-1) {
				continue
			}
			offset := at - part.Start + len(p.head)
			if j == 0 {
				offset = at - p.start // which may be in the head
			}
			return m.locate(script, p, part, refused, max(0, offset))
		}
	}
	return refused
}

// byteOf is where the n-th character of text begins, n from 0.
func byteOf(text []byte, n int) int {
	at := 0
	for ; n > 0 && at < len(text); n-- {
		_, size := utf8.DecodeRune(text[at:])
		at += size
	}
	return at
}

// locate gives a refusal its place: the statement of the script, and the line of it if the
// server points after its beginning. offset is where in the statement it points; negative
// where that is left to the error.
func (m *message) locate(script string, p piece, which load.Part, err error, offset int) error {
	s := which.Statement
	s.Text = m.text[which.Start:which.End]
	if len(p.head) > 0 {
		s.Text = append(bytes.Clone(p.head), s.Text...)
	}
	return located(script, s, err, offset)
}
