// Package export says what an export is: a script of our own that holds all that a
// database holds, in an order in which it loads. How a product is asked for that is for
// the packages below.
//
// It must never know of estate files, settings files or commands.
package export

import (
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yellowfield/internal/dbms"
	"yellowfield/internal/figures"
)

// Exporter writes one database as a script.
type Exporter interface {
	// Look tells what the export would hold, and what it cannot take. It reads no rows.
	Look(ctx context.Context, o Options) (*Survey, error)
	// Export writes the script. All rows are of one moment, but for those that the survey
	// names. Errors are those of the server or of out; what was written until then is useless.
	Export(ctx context.Context, out io.Writer, o Options, progress func(Progress)) (*Report, error)
}

// Options of an export.
type Options struct {
	// Lanes is the number of sessions that read rows side by side; 0 for one a core.
	Lanes int
	// Keep says which tables and other objects are taken, by their name; nil for all.
	Keep func(name string) bool
	// EventsDisabled writes events so that they do not run where they are loaded.
	EventsDisabled bool
	// Sums counts and adds up the rows, so that two databases can be compared.
	Sums bool
}

// Takes reports whether an object is taken.
func (o Options) Takes(name string) bool { return o.Keep == nil || o.Keep(name) }

// LanesFor is how many sessions read so many tables.
func (o Options) LanesFor(tables, cores int) int {
	const most = 8
	lanes := o.Lanes
	if lanes == 0 {
		lanes = min(most, max(2, cores))
	}
	return max(1, min(lanes, tables))
}

// named is an object as a person calls it.
func named(o dbms.Object) string { return strings.ToLower(o.Kind) + " " + o.Name }

// LeftOut is an object that an export does not hold, or holds in part.
type LeftOut struct {
	dbms.Object
	Why string
}

func (l LeftOut) String() string { return named(l.Object) }

// Survey is what an export is to hold.
type Survey struct {
	Counts map[string]int // of objects, by their keyword
	// AboutRows and AboutBytes, of rows, are what the server estimates.
	AboutRows, AboutBytes int64
	// LeftOut is what the export cannot take.
	LeftOut []LeftOut
	// Remarks are what is good to know about the rest.
	Remarks []string
}

// Describe says what there is, as one line of facts.
func (s *Survey) Describe() string { return describe(s.Counts) }

func describe(counts map[string]int) string {
	var facts []string
	for _, kind := range []string{"SCHEMA", "EXTENSION", "TYPE", "DOMAIN", "SEQUENCE", "TABLE", "VIEW", "TRIGGER", "FUNCTION", "PROCEDURE", "EVENT"} {
		if n := counts[kind]; n > 0 {
			noun := strings.ToLower(kind)
			facts = append(facts, figures.Counted(n, noun, noun+"s"))
		}
	}
	if len(facts) == 0 {
		return "nothing"
	}
	return strings.Join(facts, ", ")
}

// Progress is how far an export is.
type Progress struct {
	Rows, RowsExpected int64 // the latter as the server estimates
	Bytes              int64 // of the script so far
	BytesExpected      int64 // as the server estimates the rows
	Table              string
	Elapsed            time.Duration
}

// Report is what an export wrote.
type Report struct {
	Survey
	Rows    int64
	Bytes   int64 // of the script, unpacked
	Lanes   int
	Elapsed time.Duration
	// Sums are those of each object, if they were asked for. They compare within one
	// process.
	Sums map[dbms.Object]Sum
}

// Describe says what was written, as one line of facts.
func (r *Report) Describe() string {
	return describe(r.Counts) + ", " + figures.Counted(r.Rows, "row", "rows")
}

// Sum stands for what an object is: its definition, and the rows of a table in whatever
// order.
type Sum struct {
	Definition uint64
	Rows       int64
	Content    uint64
}

var seed = maphash.MakeSeed() // which nobody who fills a database can know

// SumOf gives the sum of a definition.
func SumOf(definition string) Sum { return Sum{Definition: maphash.String(seed, definition)} }

// Add adds rows.
func (s *Sum) Add(more Sum) {
	s.Rows += more.Rows
	s.Content += more.Content
}

// AddRow adds a row, as it is written.
func (s *Sum) AddRow(row []byte) {
	s.Rows++
	s.Content += maphash.Bytes(seed, row)
}

// Differences names the objects that are not the same in two exports.
func Differences(a, b *Report) []string {
	var found []string
	for o, sum := range a.Sums {
		other, has := b.Sums[o]
		switch {
		case !has:
			found = append(found, named(o)+" is missing")
		case sum.Rows != other.Rows:
			found = append(found, fmt.Sprintf("%s has %s, and not %s", named(o), figures.Counted(other.Rows, "row", "rows"), figures.Thousands(sum.Rows)))
		case sum.Content != other.Content:
			found = append(found, named(o)+" holds other rows")
		case sum != other:
			found = append(found, named(o)+" is defined otherwise")
		}
	}
	for o := range b.Sums {
		if _, has := a.Sums[o]; !has {
			found = append(found, named(o)+" should not be there")
		}
	}
	slices.Sort(found)
	return found
}

// Comparable is the report with what can be the same on another server: on one of another
// product or release definitions are shown otherwise.
func (r *Report) Comparable(sameRelease bool) *Report {
	if sameRelease {
		return r
	}
	c := &Report{Sums: map[dbms.Object]Sum{}}
	for o, sum := range r.Sums {
		sum.Definition = 0
		c.Sums[o] = sum
	}
	return c
}

// Tally counts what lanes do, and tells of it.
type Tally struct {
	mutex    sync.Mutex
	progress func(Progress)
	began    time.Time
	now      Progress
	report   *Report
}

// NewTally begins to count. progress may be nil.
func NewTally(report *Report, progress func(Progress)) *Tally {
	return &Tally{progress: progress, began: time.Now(), report: report, now: Progress{RowsExpected: report.AboutRows, BytesExpected: report.AboutBytes}}
}

// Took counts rows of a table that were read.
func (t *Tally) Took(o dbms.Object, bytes int, rows Sum) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.now.Table, t.now.Rows, t.now.Bytes, t.now.Elapsed = o.Name, t.now.Rows+rows.Rows, t.now.Bytes+int64(bytes), time.Since(t.began)
	t.report.Rows = t.now.Rows
	if sum, has := t.report.Sums[o]; has {
		sum.Add(rows)
		t.report.Sums[o] = sum
	}
	if t.progress != nil {
		t.progress(t.now)
	}
}

// Output takes pieces of a script from several lanes, each as a whole, and writes them
// while these go on.
type Output struct {
	pieces chan []byte
	free   chan []byte
	done   chan struct{}
	mutex  sync.Mutex
	err    error
	bytes  int64
}

const (
	// PieceSize is how long a piece is to become before it is handed on.
	PieceSize = 1 << 20
	waiting   = 4 // pieces at most
)

// NewOutput begins to write to out.
func NewOutput(out io.Writer) *Output {
	o := &Output{pieces: make(chan []byte, waiting), free: make(chan []byte, 2*waiting), done: make(chan struct{})}
	go func() {
		defer close(o.done)
		for piece := range o.pieces {
			if o.failed() == nil {
				if _, err := out.Write(piece); err != nil {
					o.mutex.Lock()
					o.err = err
					o.mutex.Unlock()
				}
				o.bytes += int64(len(piece))
			}
			select {
			case o.free <- piece[:0]:
			default:
			}
		}
	}()
	return o
}

func (o *Output) failed() error {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	return o.err
}

// Piece gives an empty buffer to fill.
func (o *Output) Piece() []byte {
	select {
	case piece := <-o.free:
		return piece
	default:
		return make([]byte, 0, PieceSize+PieceSize/4)
	}
}

// Put hands a piece on; it belongs to the output from then on. The error is that of an
// earlier one.
func (o *Output) Put(piece []byte) error {
	if err := o.failed(); err != nil {
		return err
	}
	o.pieces <- piece
	return nil
}

// Close waits until all is written, and gives the number of bytes.
func (o *Output) Close() (bytes int64, err error) {
	close(o.pieces)
	<-o.done
	return o.bytes, o.err
}

// Writing is an export on its way: what all products have in common.
type Writing struct {
	Options
	Report *Report
	*Tally
	Out   *Output
	began time.Time
}

// Begin begins to write what a survey has found.
func Begin(survey Survey, o Options, out io.Writer, progress func(Progress)) *Writing {
	w := &Writing{Options: o, Report: &Report{Survey: survey}, Out: NewOutput(out), began: time.Now()}
	if o.Sums {
		w.Report.Sums = map[dbms.Object]Sum{}
	}
	w.Tally = NewTally(w.Report, progress)
	return w
}

// Say writes text other than rows.
func (w *Writing) Say(text string) error { return w.Out.Put(append(w.Out.Piece(), text...)) }

// Count counts a row, and adds it up if that was asked for.
func (w *Writing) Count(sum *Sum, row []byte) {
	if w.Sums {
		sum.AddRow(row)
	} else {
		sum.Rows++
	}
}

// End waits until all is written. err is what ended the writing; nil for its end.
func (w *Writing) End(lanes int, err error) (*Report, error) {
	written, failed := w.Out.Close()
	if failed != nil {
		err = failed // which is why the others stopped
	}
	w.Report.Bytes, w.Report.Lanes, w.Report.Elapsed = written, lanes, time.Since(w.began)
	return w.Report, err
}

// InLanes has tables read by several sessions side by side, the largest first.
func InLanes[Session, Table any](ctx context.Context, sessions []Session, tables []Table, bytes func(Table) int64, read func(context.Context, Session, Table) error) error {
	bySize := slices.Clone(tables)
	slices.SortStableFunc(bySize, func(a, b Table) int { return cmp.Compare(bytes(b), bytes(a)) })
	queue := make(chan Table, len(bySize))
	for _, t := range bySize {
		queue <- t
	}
	close(queue)
	group, ctx := errgroup.WithContext(ctx)
	for _, session := range sessions {
		group.Go(func() error {
			for t := range queue {
				if err := read(ctx, session, t); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// Number reads one that a server has written; 0 for what is none.
func Number(text string) int64 {
	n, _ := strconv.ParseInt(text, 10, 64)
	return n
}
