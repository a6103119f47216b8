package load

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/script"
)

// Ledger is what an import keeps of what it does, for its progress and its
// report; sessions side by side share it.
type Ledger struct {
	Script string // its name
	Report Report // read and changed by the leading session alone, but for what methods do

	survey    *Survey
	reporting sync.Mutex
	done      atomic.Int64 // bytes of the script
	rows      atomic.Int64
	sent      atomic.Int64 // statements
	at        atomic.Pointer[string]
	began     time.Time
	told      atomic.Int64
	telling   sync.Mutex
	progress  func(Progress)
}

// Begin opens the ledger of one import.
func (l *Ledger) Begin(s script.Source, survey *Survey, o Options, progress func(Progress)) {
	l.Script, l.survey, l.began, l.progress = s.Name, survey, time.Now(), progress
	l.Report = Report{Made: map[dbms.Object]bool{}, filled: map[string]bool{}, OneByOne: survey.OneByOne}
	if o.OneByOne {
		l.Report.OneByOne = "as asked for"
	}
}

// Conclude closes the report. err is how the import ended.
func (l *Ledger) Conclude(ctx context.Context, err error) (Report, error) {
	far := figures.Thousands(l.done.Load()) + " of " + figures.Thousands(l.survey.Length) + " bytes"
	switch {
	case ctx.Err() != nil:
		err = fault.New(fault.Interrupted, "run the command again when it suits", "the import of %s was interrupted after %s", l.Script, far).With(ctx.Err())
	case dbms.IsLost(err):
		lost := *fault.As(err)
		lost.What += "; the import of " + l.Script + " had sent " + far + ", in " + time.Since(l.began).Round(time.Second).String()
		err = &lost
	default:
		err = dbms.Explained(err)
	}
	l.Report.Statements, l.Report.Rows = int(l.sent.Load()), l.rows.Load()
	l.Report.close(time.Since(l.began))
	if err == nil {
		l.done.Store(l.survey.Length)
	}
	l.tell()
	return l.Report, err
}

// Made records an object that the script made.
func (l *Ledger) Made(o dbms.Object) {
	l.reporting.Lock()
	l.Report.Made[o] = true
	l.reporting.Unlock()
}

// HasMade reports whether the script has made an object.
func (l *Ledger) HasMade(o dbms.Object) bool {
	l.reporting.Lock()
	defer l.reporting.Unlock()
	return l.Report.Made[o]
}

// Stored records rows that went into a table.
func (l *Ledger) Stored(table string, rows int64) {
	l.rows.Add(rows)
	l.reporting.Lock()
	l.Report.filled[table] = true
	l.reporting.Unlock()
	l.AtTable(table)
}

// HasFilled reports whether a table got rows.
func (l *Ledger) HasFilled(table string) bool {
	l.reporting.Lock()
	defer l.reporting.Unlock()
	return l.Report.filled[table]
}

// AtTable says which table gets rows now, for progress.
func (l *Ledger) AtTable(name string) { l.at.Store(&name) }

// Changed records rows that a statement changed, whose table is not known.
func (l *Ledger) Changed(rows int64) { l.rows.Add(rows) }

// Replayed records a definition that an administrator had to run.
func (l *Ledger) Replayed() {
	l.reporting.Lock()
	l.Report.Replayed++
	l.reporting.Unlock()
}

// Sent records statements that went well, of so many bytes of the script.
func (l *Ledger) Sent(statements int, bytes int64) {
	l.sent.Add(int64(statements))
	l.Passed(bytes)
}

// Passed records bytes of the script that are done with.
func (l *Ledger) Passed(bytes int64) {
	l.done.Add(bytes)
	l.tellSometimes()
}

// Warn counts a warning of the server by its kind.
func (l *Ledger) Warn(code int, message string, place fault.Place) {
	l.reporting.Lock()
	defer l.reporting.Unlock()
	for i := range l.Report.Warnings {
		w := &l.Report.Warnings[i]
		if w.Code == code && w.Message == message {
			w.Count++
			return
		}
	}
	const mostKinds = 100
	if len(l.Report.Warnings) < mostKinds {
		l.Report.Warnings = append(l.Report.Warnings, Warning{Code: code, Message: message, Count: 1, Place: place})
	}
}

// tell reports progress; tellSometimes no more often than is of use.
func (l *Ledger) tell() {
	p := Progress{
		Name: l.Script, Length: l.survey.Length, BytesRead: l.done.Load(), Statements: int(l.sent.Load()),
		Rows: l.rows.Load(), RowsExpected: l.survey.Rows, Elapsed: time.Since(l.began),
	}
	if at := l.at.Load(); at != nil {
		p.Table = *at
	}
	l.telling.Lock()
	defer l.telling.Unlock()
	l.progress(p)
}

// progressEvery is how often progress is told: often enough for a smooth bar.
const progressEvery = 100 * time.Millisecond

func (l *Ledger) tellSometimes() {
	now, last := int64(time.Since(l.began)), l.told.Load()
	if now-last >= int64(progressEvery) && l.told.CompareAndSwap(last, now) {
		l.tell()
	}
}
