package load

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
)

// Progress is how far an import is.
type Progress struct {
	Name         string // of the script
	Length       int64  // of the unpacked script in bytes
	BytesRead    int64  // of these, what is done
	Statements   int
	Rows         int64
	RowsExpected int64  // literal rows in the script
	Table        string // that got rows last
	Elapsed      time.Duration
}

// Report is what an import did.
type Report struct {
	Statements int
	Rows       int64
	Filled     []string // tables that got rows, sorted
	// Made are the objects that the script made, by their keyword and name,
	// each once, also when dumps make a view twice. One whose making was
	// interrupted is among them: it may have come about.
	Made map[dbms.Object]bool
	// Replayed counts the triggers and functions that an administrator had
	// to define.
	Replayed int
	// OneByOne says why no statements were joined; empty if they were.
	OneByOne string
	// Lanes is how many sessions took rows side by side.
	Lanes    int
	Warnings []Warning
	Orphans  []Orphans
	Elapsed  time.Duration

	filled map[string]bool
}

// Warning is one kind of warning that the server gave.
type Warning struct {
	Code    int
	Message string      // of the first one
	Place   fault.Place // of the first one
	Count   int
}

func (r *Report) close(elapsed time.Duration) {
	r.Elapsed = elapsed
	r.Filled = slices.Sorted(maps.Keys(r.filled))
	slices.SortFunc(r.Warnings, func(a, b Warning) int { return b.Count - a.Count })
}

// count tells how many objects of a kind were made.
func (r Report) count(kind string) int {
	n := 0
	for object := range r.Made {
		if strings.EqualFold(object.Kind, kind) {
			n++
		}
	}
	return n
}

// Describe says what an import did, as one line of facts.
func (r Report) Describe() string {
	var facts []string
	for _, kind := range []string{"table", "view", "trigger", "function", "procedure", "event", "sequence", "type"} {
		if n := r.count(kind); n > 0 {
			facts = append(facts, figures.Counted(n, kind, kind+"s"))
		}
	}
	if r.Rows > 0 {
		facts = append(facts, fmt.Sprintf("%s into %s", figures.Counted(r.Rows, "row", "rows"), figures.Counted(len(r.Filled), "table", "tables")))
	}
	if len(facts) == 0 {
		facts = append(facts, figures.Counted(r.Statements, "statement", "statements"))
	}
	return strings.Join(facts, ", ")
}

// Orphans is a foreign key with rows that refer to nothing.
type Orphans struct {
	Table, Key, References string
}
