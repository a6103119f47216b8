package mysql

import (
	"bytes"
	"slices"

	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
)

// job is one statement for the server that stands for one or more of the
// script: rows joined, a long INSERT cut up, or key definitions folded.
type job struct {
	table    *table
	settings *settings
	text     []byte
	head     int // length of what is repeated before the rows of each part
	parts    []load.Part
	isRows   bool
	bytes    int64 // of the script that it stands for
	rows     int64
	numbered bool // the server gives out numbers for the rows
	borrowed bool // the text is the reader's own, good until it is asked for the next statement
}

// offset is where the job's first statement stands in the script.
func (j *job) offset() int64 { return j.parts[0].Offset }

// alone gives the statement of one part as it stood in the script.
func (j *job) alone(p load.Part) []byte {
	if len(j.parts) == 1 {
		return j.text
	}
	return append(bytes.Clone(j.text[:j.head]), j.text[p.Start:p.End]...)
}

// batcher joins INSERTs of one table.
//
// What makes this safe, and what keeps it from being done:
//   - A row with NULL for a NOT NULL column is an error alone, but becomes the
//     column's implicit default among others when sql_mode is not strict
//     (MySQL Reference Manual, "INSERT Statement"). Such a row stays alone.
//   - AUTO_INCREMENT values are given out alike only when all rows leave them
//     to the server or none does (manual, "AUTO_INCREMENT Handling in InnoDB").
//     A zero may mean either and stays alone.
//   - A table whose engine cannot roll back would keep the rows before a bad
//     one: nothing is joined there.
type batcher struct {
	limit     int // bytes of a joined statement
	maxPacket int
	emit      func(*job) error

	current *job
	given   judge.AutoValues
	row     sqltext.Row // kept for its memory
}

// joinedSize is the size of a joined statement. Larger ones were measured to
// gain nothing, and from 1 MB on to lose a little.
const joinedSize = 256 << 10

func newBatcher(maxPacket int, emit func(*job) error) *batcher {
	limit := joinedSize
	if maxPacket > 0 {
		limit = min(limit, maxPacket/2)
	}
	return &batcher{limit: limit, maxPacket: maxPacket, emit: emit}
}

// rowsOf is what is known of a statement's rows.
type rowsOf struct {
	count   int
	end     int   // of the last one in the text
	ends    []int // of each one in the text, where the statement is too long for the server
	given   judge.AutoValues
	alone   bool // a single row that another one beside it would change
	literal bool
}

// readRows reads the rows of a statement for a table.
func (b *batcher) readRows(v judge.Verdict, t *table) rowsOf {
	notNull, auto, wide := t.list.Of(t.definition, v.Insert)
	scanner := sqltext.NewRowScanner(v.Sent, v.Insert.Body, v.Dialect)
	found := rowsOf{}
	tooLong := b.maxPacket > 0 && len(v.Sent) > b.maxPacket-packetSpare
	row := &b.row
	for scanner.Next(row) {
		given := judge.Explicit
		if auto >= 0 {
			given = judge.AutoValue(row.Value(v.Sent, auto))
		} else if t.hasAuto {
			given = judge.Implicit
		}
		if found.count == 0 {
			found.given = given
		} else if given != found.given {
			found.given = judge.Mixed
		}
		found.alone = row.Nulls&notNull != 0 || row.ManyNulls && wide
		found.count, found.end = found.count+1, row.End
		if tooLong {
			found.ends = append(found.ends, row.End)
		}
	}
	found.alone = found.alone && found.count == 1
	found.literal = scanner.Literal()
	return found
}

// add takes an INSERT.
func (b *batcher) add(v judge.Verdict, r rowsOf, t *table, s *settings) error {
	text := v.Sent[:r.end]
	body := v.Insert.Body
	joinable := !r.alone && r.given != judge.Mixed && t.transactional && len(text) < b.limit
	if b.current != nil {
		j := b.current
		fits := len(j.text)+len(text)-body+1 <= b.limit
		if joinable && fits && j.table == t && j.settings == s && b.given == r.given && bytes.Equal(j.text[:j.head], text[:body]) {
			j.text = append(j.text, ',')
			b.join(v, text[body:], r.count)
			return nil
		}
		if err := b.flush(); err != nil {
			return err
		}
	}
	if b.maxPacket > 0 && len(text) > b.maxPacket-packetSpare {
		return b.split(v, r, t, s)
	}
	b.current = &job{table: t, settings: s, isRows: true, head: body, numbered: r.given != judge.Explicit}
	b.given = r.given
	if len(text) > commitSize { // which a lane commits at once
		b.current.text, b.current.borrowed = text, true
		b.joined(v, body, r.count)
		return b.flush()
	}
	// Room for the rows to come, unless the statement is a large one itself.
	b.current.text = make([]byte, body, max(len(text), min(b.limit, 16*len(text))))
	copy(b.current.text, text[:body])
	b.join(v, text[body:], r.count)
	if !joinable {
		return b.flush()
	}
	return nil
}

// packetSpare is what the protocol needs of a packet beside the statement.
const packetSpare = 1024

// join puts a statement's rows to the current job.
func (b *batcher) join(v judge.Verdict, text []byte, rows int) {
	start := len(b.current.text)
	b.current.text = append(b.current.text, text...)
	b.joined(v, start, rows)
}

// joined notes which statement the current job's text from start on stands for.
func (b *batcher) joined(v judge.Verdict, start, rows int) {
	j := b.current
	j.rows += int64(rows)
	j.parts = append(j.parts, load.Part{Statement: v.WithoutText(), Start: start, End: len(j.text)})
	j.bytes += int64(v.Size)
}

// split cuts an INSERT that is longer than the server takes. Each piece keeps
// two rows or more, because a single row may be judged more strictly.
func (b *batcher) split(v judge.Verdict, r rowsOf, t *table, s *settings) error {
	body := v.Insert.Body
	from := body
	for i := 0; i < len(r.ends); {
		last := i
		for last+1 < len(r.ends) && (r.ends[last+1]-from+body <= b.limit || last == i || last+2 == len(r.ends)) && r.ends[last+1]-from+body < b.maxPacket-packetSpare {
			last++
		}
		piece := slices.Concat(v.Sent[:body], v.Sent[from:r.ends[last]])
		j := &job{table: t, settings: s, isRows: true, head: body, text: piece, bytes: int64(r.ends[last] - from), rows: int64(last + 1 - i), numbered: r.given != judge.Explicit}
		j.parts = []load.Part{{Statement: v.WithoutText(), Start: body, End: len(piece)}}
		if err := b.emit(j); err != nil {
			return err
		}
		i = last + 1
		if i < len(r.ends) {
			from = r.ends[last] + bytes.IndexByte(v.Sent[r.ends[last]:], '(')
		}
	}
	return nil
}

// flush sends what was joined so far.
func (b *batcher) flush() error {
	if b.current == nil {
		return nil
	}
	j := b.current
	b.current = nil
	return b.emit(j)
}
