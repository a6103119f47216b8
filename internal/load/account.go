package load

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/script"
)

// account is what an import keeps of what it does, for its progress and its
// report; sessions side by side share it.
type account struct {
	name      string // of the script
	survey    *Survey
	report    Report
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

func (a *account) open(s script.Source, survey *Survey, o Options, progress func(Progress)) {
	a.name, a.survey, a.began, a.progress = s.Name, survey, time.Now(), progress
	a.report = Report{Made: map[dbms.Object]bool{}, filled: map[string]bool{}, OneByOne: survey.OneByOne}
	if o.OneByOne {
		a.report.OneByOne = "as asked for"
	}
}

// conclude closes the report. err is how the import ended.
func (a *account) conclude(ctx context.Context, err error) (Report, error) {
	if ctx.Err() != nil {
		err = fault.New(fault.Interrupted, "run the command again when it suits", "the import of %s was interrupted after %s of %s bytes",
			a.name, Thousands(a.done.Load()), Thousands(a.survey.Length)).With(ctx.Err())
	}
	a.report.Statements, a.report.Rows = int(a.sent.Load()), a.rows.Load()
	a.report.close(time.Since(a.began))
	if err == nil {
		a.done.Store(a.survey.Length)
	}
	a.tell()
	return a.report, err
}

// made records an object that the script made.
func (a *account) made(o dbms.Object) {
	a.reporting.Lock()
	a.report.Made[o] = true
	a.reporting.Unlock()
}

// filled records a table that got rows.
func (a *account) filled(name string) {
	a.reporting.Lock()
	a.report.filled[name] = true
	a.reporting.Unlock()
}

// remark counts a warning of the server by its kind.
func (a *account) remark(code int, message string, place fault.Place) {
	a.reporting.Lock()
	defer a.reporting.Unlock()
	for i := range a.report.Warnings {
		w := &a.report.Warnings[i]
		if w.Code == code && w.Message == message {
			w.Count++
			return
		}
	}
	const mostKinds = 100
	if len(a.report.Warnings) < mostKinds {
		a.report.Warnings = append(a.report.Warnings, Warning{Code: code, Message: message, Count: 1, Place: place})
	}
}

// tell reports progress; tellSometimes no more often than is of use.
func (a *account) tell() {
	p := Progress{
		Name: a.name, Length: a.survey.Length, BytesRead: a.done.Load(), Statements: int(a.sent.Load()),
		Rows: a.rows.Load(), RowsExpected: a.survey.Rows, Elapsed: time.Since(a.began),
	}
	if at := a.at.Load(); at != nil {
		p.Table = *at
	}
	a.telling.Lock()
	defer a.telling.Unlock()
	a.progress(p)
}

// progressEvery is how often progress is told: often enough for a smooth bar.
const progressEvery = 100 * time.Millisecond

func (a *account) tellSometimes() {
	now, last := int64(time.Since(a.began)), a.told.Load()
	if now-last >= int64(progressEvery) && a.told.CompareAndSwap(last, now) {
		a.tell()
	}
}
