package load

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
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

// idle are notes that say nothing about the data: that a table to be dropped
// was not there, that a notation is old (MySQL Reference Manual, "Server Error
// Message Reference").
var idle = map[int]bool{1051: true, 1305: true, 1360: true, 1031: true, 1287: true, 1681: true, 1064: true, 4166: true, 3719: true, 3778: true, 1007: true}

var atRow = regexp.MustCompile(`(?:at|for) row (\d+)$`)

// warned collects what the server remarks about a job.
func (e *engine) warned(ctx context.Context, session Session, j *job) error {
	if !session.Warned() {
		return nil
	}
	remarks, err := session.Query(ctx, "SHOW WARNINGS")
	if err != nil {
		return err
	}
	for _, remark := range remarks {
		place := j.parts[0].Statement
		if m := atRow.FindStringSubmatch(remark[2]); m != nil {
			n, _ := strconv.Atoi(m[1])
			place = j.statementOfRow(n)
		}
		e.remark(remark, place)
	}
	return nil
}

// statementOfRow finds the statement that gave the n-th row of a job of joined
// single rows, roughly for one of longer statements.
func (j *job) statementOfRow(n int) sqltext.Statement {
	if int64(len(j.parts)) == j.rows && n >= 1 && n <= len(j.parts) {
		return j.parts[n-1].Statement
	}
	return j.parts[0].Statement
}

func (e *engine) warnedMain(ctx context.Context, v verdict) error {
	if !e.main.Warned() {
		return nil
	}
	remarks, err := e.main.Query(ctx, "SHOW WARNINGS")
	if err != nil {
		return err
	}
	for _, remark := range remarks {
		e.remark(remark, v.Statement)
	}
	return nil
}

func (e *engine) remark(remark []string, at sqltext.Statement) {
	code, _ := strconv.Atoi(remark[1])
	if !idle[code] {
		e.account.remark(code, strings.TrimSpace(atRow.ReplaceAllString(remark[2], "")), fault.Place{File: e.source.Name, Line: at.Line, Column: at.Column})
	}
}

// explained is explain for a part of a job.
func (e *engine) explained(j *job, p part, text []byte, err error) error {
	s := p.Statement
	s.Text = text
	return located(e.source.Name, s, err)
}

// explain gives what went wrong at a statement its place.
func (e *engine) explain(ctx context.Context, s sqltext.Statement, err error) error {
	var known *fault.Error
	if errors.As(err, &known) && known.Place.File != "" {
		return err
	}
	if ctx.Err() != nil || s.Line == 0 {
		return err // Import says so, or the script could not be read
	}
	return located(e.source.Name, s, err)
}

var atLine = regexp.MustCompile(` at line (\d+)$`)

// located gives a refused statement its place. The server counts lines from
// the statement's first one, and only in messages about syntax.
func located(name string, statement sqltext.Statement, err error) error {
	place := fault.Place{File: name, Line: statement.Line, Column: statement.Column}
	const widest = 64 << 10 // bytes of a statement that are looked at
	lines := strings.Split(string(statement.Text[:min(widest, len(statement.Text))]), "\n")
	line := lines[0]
	var spoken *dbms.ServerError
	if !errors.As(err, &spoken) {
		f := fault.As(err)
		explained := fault.At(f.Class, place, f.Next, "%s", f.What).With(err)
		explained.Excerpt = excerpt(line, statement, place)
		return explained
	}
	message := spoken.Message
	if m := atLine.FindStringSubmatch(message); m != nil {
		if n, _ := strconv.Atoi(m[1]); n > 1 && n <= len(lines) {
			place.Line += n - 1
			place.Column = 1
			line = lines[n-1]
			message = strings.TrimSuffix(message, m[0])
		}
	} else if m := atRow.FindStringSubmatch(message); m != nil {
		if n, _ := strconv.Atoi(m[1]); n > 1 {
			place, line = placeOfRow(statement, n, place, line)
		}
	}
	next := mysql.Explain(spoken)
	if next == "" {
		next = "correct the statement and run the command again"
	}
	explained := fault.At(fault.Failed, place, next, "%s (server error %d)", message, spoken.Code).With(spoken)
	explained.Excerpt = excerpt(line, statement, place)
	return explained
}

// placeOfRow finds the n-th row of an INSERT of several.
func placeOfRow(s sqltext.Statement, n int, otherwise fault.Place, line string) (fault.Place, string) {
	insert, ok := sqltext.ParseInsert(s.Text, s.Dialect)
	if !ok {
		return otherwise, line
	}
	scanner := sqltext.NewRowScanner(s.Text, insert.Body, s.Dialect)
	var row sqltext.Row
	for i := 1; scanner.Next(&row); i++ {
		if i < n {
			continue
		}
		before := s.Text[:row.Start]
		newlines := bytes.Count(before, []byte{'\n'})
		if newlines == 0 {
			return otherwise, line
		}
		place := otherwise
		place.Line += newlines
		start := bytes.LastIndexByte(before, '\n') + 1
		place.Column = row.Start - start + 1
		found, _, _ := bytes.Cut(s.Text[start:], []byte{'\n'})
		return place, string(found)
	}
	return otherwise, line
}

// excerpt lays out the beginning of a statement. Its line in the file may
// begin with other text, which is not at hand; blanks stand for it.
func excerpt(line string, statement sqltext.Statement, place fault.Place) string {
	const widest = 400 // characters of a line that are looked at
	if len(line) > widest {
		line = line[:widest]
	}
	if place.Line == statement.Line {
		const deepest = 40 // columns of indentation that are kept
		if place.Column > deepest {
			place.Column = 1
		}
		line = strings.Repeat(" ", place.Column-1) + line
	}
	return fault.ExcerptLine(strings.ToValidUTF8(strings.TrimRight(line, "\r"), "?"), place)
}

// Describe says what an import did, as one line of facts.
func (r Report) Describe() string {
	var facts []string
	for _, kind := range []string{"table", "view", "trigger", "function", "procedure", "event", "sequence", "type"} {
		if n := r.count(kind); n > 0 {
			facts = append(facts, plural(int64(n), kind))
		}
	}
	if r.Rows > 0 {
		facts = append(facts, fmt.Sprintf("%s into %s", plural(r.Rows, "row"), plural(int64(len(r.Filled)), "table")))
	}
	if len(facts) == 0 {
		facts = append(facts, plural(int64(r.Statements), "statement"))
	}
	return strings.Join(facts, ", ")
}

// plural writes a number with thousands separators and its noun.
func plural(n int64, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return Thousands(n) + " " + noun
}

// Thousands writes a number with separators: 12,480.
func Thousands(n int64) string {
	digits := strconv.FormatInt(n, 10)
	for i := len(digits) - 3; i > 0 && digits[i-1] != '-'; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// Size writes a number of bytes in binary units.
func Size(bytes int64) string {
	const unit = 1024
	if bytes < unit {
		return fmt.Sprintf("%d B", bytes)
	}
	value, prefix := float64(bytes)/unit, 0
	for value >= unit && prefix < 3 {
		value /= unit
		prefix++
	}
	return fmt.Sprintf("%.1f %ciB", value, "KMGT"[prefix])
}
