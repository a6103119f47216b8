package load

import (
	"errors"
	"io"
	"math"
	"slices"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// Run is a series of rows for one table with nothing else between, long enough for a
// session to read it from the file by itself.
type Run struct {
	Table    sqltext.ObjectName
	From, To sqltext.Mark // To has no meaning for the last one
	End      int64        // where it ends in the script
	Last     bool         // nothing stands after it
	Bytes    int64
	// Marks are places at which it can be divided, about as far apart as a run is long
	// at least.
	Marks []sqltext.Mark
}

// Runs finds the runs of a script while it is read.
type Runs struct {
	least   int64 // bytes of a run
	found   map[int64]*Run
	current *Run
	marked  int64 // where the last of its marks stands
}

// Divide gives the parts of a run, so many at most and about as long as each other.
func (r *Run) Divide(most int) []*Run {
	var parts []*Run
	rest := *r
	for n := most; n > 1; n-- {
		wanted := rest.From.Offset + (r.End-rest.From.Offset)/int64(n)
		i := slices.IndexFunc(r.Marks, func(m sqltext.Mark) bool { return m.Offset >= wanted })
		if i < 0 {
			break
		}
		part := rest
		part.To, part.End, part.Last = r.Marks[i], r.Marks[i].Offset, false
		part.Bytes = part.End - part.From.Offset
		rest.From, rest.Bytes = r.Marks[i], rest.Bytes-part.Bytes
		parts = append(parts, &part)
	}
	return append(parts, &rest)
}

// NewRuns finds the runs of a script, of at least so many bytes, for its survey. Of a
// script that can be read from its beginning only there are none.
func NewRuns(content *script.Content, least int64, survey *Survey) *Runs {
	if content.Plain == nil {
		least = math.MaxInt64
	}
	return &Runs{least: least, found: survey.Runs}
}

// Row takes a statement, which gives a table rows of so many bytes.
func (r *Runs) Row(s sqltext.Statement, table sqltext.ObjectName, bytes int64) {
	if r.current == nil || r.current.Table != table || s.State == nil {
		r.Close(s)
		r.current = &Run{Table: table, From: s.Mark()}
		r.marked = s.Offset
	}
	if s.Offset-r.marked >= r.least {
		r.current.Marks = append(r.current.Marks, s.Mark())
		r.marked = s.Offset
	}
	r.current.Bytes += bytes
}

// More adds bytes of rows that the statement before brings.
func (r *Runs) More(bytes int64) { r.current.Bytes += bytes }

// Close ends the run before a statement.
func (r *Runs) Close(s sqltext.Statement) {
	if r.current != nil && s.State != nil {
		r.current.To, r.current.End = s.Mark(), s.Offset
		r.record()
	}
	r.current = nil
}

// End ends the run at the end of the script that a reader has read.
func (r *Runs) End(reader sqltext.Reader) {
	if r.current != nil && len(reader.Included()) == 0 {
		r.current.Last, r.current.End = true, reader.BytesRead()
		r.record()
	}
}

func (r *Runs) record() {
	if r.current.Bytes >= r.least {
		r.found[r.current.From.Offset] = r.current
	}
}

// Skip has the script's reader go on after the run.
func (r *Run) Skip(name string, reader sqltext.Reader, content *script.Content) error {
	if r.Last {
		reader.Resume(strings.NewReader(""), r.From)
		return nil
	}
	return resume(name, reader, content, r.To)
}

// Open gives the run's statements one by one, with a reader of the same script; io.EOF after
// the last.
func (r *Run) Open(name string, reader sqltext.Reader, content *script.Content) (next func() (sqltext.Statement, error), err error) {
	if err := resume(name, reader, content, r.From); err != nil {
		return nil, err
	}
	return func() (sqltext.Statement, error) {
		statement, err := reader.Next()
		if err == nil && statement.Offset >= r.End {
			return statement, io.EOF
		}
		return statement, err
	}, nil
}

// Read is Open for one who takes statement by statement.
func (r *Run) Read(name string, reader sqltext.Reader, content *script.Content, take func(sqltext.Statement) error) error {
	next, err := r.Open(name, reader, content)
	for err == nil {
		var statement sqltext.Statement
		if statement, err = next(); err == nil {
			err = take(statement)
		}
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func resume(name string, reader sqltext.Reader, content *script.Content, at sqltext.Mark) error {
	if _, err := content.Plain.Seek(at.Offset, io.SeekStart); err != nil {
		return fault.New(fault.Failed, "check the disk", "%s cannot be read again: %v", name, err).With(err)
	}
	reader.Resume(content.Plain, at)
	return nil
}

// Changed is the error for a statement of a run that is not what it was in the first
// pass.
func Changed(name string, s sqltext.Statement) error {
	return fault.At(fault.Failed, s.Place(name), "run the import again", "the script has changed while it was read")
}
