// Package inspect reports on a server that is to host applications: facts, and findings with
// their evidence, why each matters, and what to do about it. The packages below it look at the
// products.
//
// It must never change anything, and knows nothing of journals or of how its report is drawn.
package inspect

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
)

// Report is what was found on a server.
type Report struct {
	Facts    []Fact    `json:"facts"`
	Findings []Finding `json:"findings"`
	// Unseen says what could not be looked at, and why.
	Unseen []string `json:"unseen"`
}

// Fact is something that the server says of itself.
type Fact struct {
	Name string `json:"name"`
	Text string `json:"text"`
	// Number is there for what is measured, and Unit says in what.
	Number *int64 `json:"number,omitempty"`
	Unit   string `json:"unit,omitempty"`
}

// Finding is something that somebody should know of or fix.
type Finding struct {
	Kind     Kind            `json:"kind"`
	Severity estate.Severity `json:"severity"`
	// On is the account, database or setting that it is about.
	On string `json:"on"`
	// App is the app of the estate file that it concerns; empty for none.
	App      string `json:"app,omitempty"`
	Evidence string `json:"evidence"`
	Why      string `json:"why"`
	// Remedy says in words, or as a command of this program, what to do; SQL are the
	// statements that do it.
	Remedy string           `json:"remedy"`
	SQL    []dbms.Statement `json:"-"`
	// Shown is SQL as it may be shown; Add sees to it.
	Shown []string `json:"sql,omitempty"`
	// Back are the statements that take SQL back; none where that cannot be said.
	Back []dbms.Statement `json:"-"`
	// Lowered is the account that SQL takes something from, which its open sessions would
	// keep.
	Lowered *dbms.Account `json:"-"`
	// Lock is a lock on the server that is held while SQL is sent; empty for none.
	Lock string `json:"-"`
}

// Subject is whom the report is about, and what the estate file says of it.
type Subject struct {
	// Apps are those of the estate file on this server.
	Apps []*estate.App
}

// SubjectOf is a server of an estate file.
func SubjectOf(e *estate.Estate, server string) (s Subject) {
	for _, name := range estate.Names(e.Apps) {
		if e.Apps[name].Server == server {
			s.Apps = append(s.Apps, e.Apps[name])
		}
	}
	return s
}

// AppOf names the app that a database belongs to; empty for none.
func (s Subject) AppOf(database string) string {
	for _, app := range s.Apps {
		if slices.ContainsFunc(app.All(), func(d *estate.Database) bool { return d.Name == database }) {
			return app.Name
		}
	}
	return ""
}

// AppWith names the app that an account belongs to; empty for none.
func (s Subject) AppWith(user string) string {
	for _, app := range s.Apps {
		if slices.ContainsFunc(app.Accounts, func(a *estate.Account) bool { return a.Name == user }) {
			return app.Name
		}
	}
	return ""
}

// Look is a query that is sent where the server refuses every change: its rows as text, NULL
// as "".
type Look func(ctx context.Context, query string) ([][]string, error)

// Fact adds one.
func (r *Report) Fact(name, text string) {
	if text != "" {
		r.Facts = append(r.Facts, Fact{Name: name, Text: text})
	}
}

// Size adds one that is a number of bytes; after it stands what more is to be said.
func (r *Report) Size(name string, bytes int64, more string) {
	r.Facts = append(r.Facts, Fact{name, figures.Size(bytes) + more, &bytes, "bytes"})
}

// RunningFor adds since when the server has been running.
func (r *Report) RunningFor(seconds int64) {
	since := time.Now().Add(-time.Duration(seconds) * time.Second).UTC()
	r.Facts = append(r.Facts, Fact{"running since", since.Format("2006-01-02 15:04 UTC"), &seconds, "seconds"})
}

// Connections adds how many it takes at once.
func (r *Report) Connections(most string) {
	if n, err := strconv.ParseInt(most, 10, 64); err == nil {
		r.Facts = append(r.Facts, Fact{"connections at most", most, &n, "connections"})
	}
}

// Add adds a finding with the usual severity of its kind.
func (r *Report) Add(f Finding) {
	about := kinds[f.Kind]
	if f.Severity == "" {
		f.Severity = about.severity
	}
	f.Why = about.why
	for _, statement := range f.SQL {
		f.Shown = append(f.Shown, statement.String())
	}
	r.Findings = append(r.Findings, f)
}

// Sort puts the gravest findings first, those of a kind together.
func (r *Report) Sort() {
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
		rank := func(f Finding) int { return slices.Index(estate.Severities, string(f.Severity)) }
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		if d := strings.Compare(string(a.Kind), string(b.Kind)); d != 0 {
			return d
		}
		return strings.Compare(a.On, b.On)
	})
}

// Part names what a finding is on where an account has several of a kind: each has a name of
// its own, by which it is chosen, and found again in the journal.
func Part(account, of string) string { return account + part + of }

const part = " on "

// IsOn reports whether a finding is on something, or on a part of it.
func (f Finding) IsOn(name string) bool { return f.On == name || strings.HasPrefix(f.On, name+part) }

// Some names the first few of many.
func Some(names []string) string {
	const most = 3
	if len(names) > most {
		return strings.Join(names[:most], ", ") + ", ..."
	}
	return strings.Join(names, ", ")
}
