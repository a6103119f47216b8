// Package load imports SQL scripts: it reads the whole script once to find
// what can be known beforehand, then sends it statement by statement, and says
// how far it is and what arrived.
//
// It knows of scripts and statements. It must never know of estate files or
// terminals, and it speaks to a server only through a Target.
package load

import (
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
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

// Source is one script.
type Source struct {
	Path        string
	Name        string // for messages, shorter than Path
	PrefixToken string // what stands for the table prefix in the script; may be empty
	Prefix      string
	Length      int64 // of the unpacked script in bytes, as Check found it; 0 if unknown
}

// script is an opened source.
type script struct {
	*sqltext.Reader
	file *os.File
}

const fileBuffer = 128 << 10

// open reads plain and gzip files, told apart by their first bytes.
func (s Source) open() (*script, error) {
	place := fault.Place{File: s.Path}
	file, err := os.Open(s.Path)
	if err != nil {
		var pathError *os.PathError
		errors.As(err, &pathError)
		return nil, fault.At(fault.Invalid, place, "check the path and its permissions", "the script cannot be read: %v", pathError.Err).With(err)
	}
	info, err := file.Stat()
	if err == nil && info.IsDir() {
		err = errors.New("it is a folder")
	}
	if err != nil {
		_ = file.Close()
		return nil, fault.At(fault.Invalid, place, "name a file", "the script cannot be read: %v", err).With(err)
	}
	opened := &script{file: file}
	buffered := bufio.NewReaderSize(file, fileBuffer)
	var content io.Reader = buffered
	if magic, _ := buffered.Peek(2); string(magic) == "\x1f\x8b" {
		unpacked, err := gzip.NewReader(buffered)
		if err != nil {
			_ = file.Close()
			return nil, fault.At(fault.Invalid, place, "get the file again", "this is no whole gzip file: %v", err).With(err)
		}
		content = unpacked
	}
	opened.Reader = sqltext.NewReader(s.Name, content)
	if s.PrefixToken != "" {
		opened.ReplacePrefix(s.PrefixToken, s.Prefix)
	}
	return opened, nil
}

// Summary is what reading a script tells without running it.
type Summary struct {
	Length     int64 // of the unpacked script in bytes
	Statements int
	Tables     []string // made by the script, in its order
	Triggers   int
	Functions  int
}

// Check reads a whole script and runs nothing. It finds what would stop the
// import half-way: a file cut off, an open quote, a command for the stock
// client.
func Check(ctx context.Context, s Source) (Summary, error) {
	script, err := s.open()
	if err != nil {
		return Summary{}, err
	}
	defer script.file.Close()
	var summary Summary
	for {
		statement, err := script.Next()
		switch {
		case errors.Is(err, io.EOF):
			if summary.Statements == 0 {
				return summary, fault.At(fault.Invalid, fault.Place{File: s.Path}, "is it the right file?", "the script holds no statement")
			}
			summary.Length = script.Read()
			return summary, nil
		case err != nil:
			return summary, err
		case ctx.Err() != nil:
			return summary, fault.Stopped(ctx.Err())
		}
		summary.Statements++
		head := sqltext.ParseHead(statement.Text)
		if head.Verb != "CREATE" {
			continue
		}
		switch head.Object {
		case "TABLE":
			summary.Tables = append(summary.Tables, head.Name.Name)
		case "TRIGGER":
			summary.Triggers++
		case "FUNCTION":
			summary.Functions++
		}
	}
}

// Progress is how far an import is.
type Progress struct {
	Source     Source
	BytesRead  int64 // of the unpacked script
	Statements int
	Rows       int64
	Elapsed    time.Duration
}

// Target is where a script goes.
type Target struct {
	// Database is the one that the script is for.
	Database string
	// Exec sends one statement and returns how many rows it changed. What
	// the server refuses comes back as a *dbms.ServerError.
	Exec func(ctx context.Context, statement string) (rows int64, err error)
	// Replay runs a trigger or function that binary logging refuses to the
	// application's account, as an administrator; nil when there is none.
	Replay func(ctx context.Context, statement string) error
	// Definer is the clause that makes the application's account the definer.
	Definer string
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
	Elapsed  time.Duration
}

// progressEvery is how often progress is told: often enough for a smooth bar.
const progressEvery = 100 * time.Millisecond

// Import sends a script to its target. It stops at the first statement that
// the server refuses; the error has the statement's place, its beginning, what
// the server said and what to do. What was sent before stays: undoing it is
// for the caller, who knows what was there.
func Import(ctx context.Context, s Source, target Target, progress func(Progress)) (Report, error) {
	report := Report{Made: map[dbms.Object]bool{}}
	script, err := s.open()
	if err != nil {
		return report, err
	}
	defer script.file.Close()
	began := time.Now()
	told := began
	filled := map[string]bool{}
	tell := func() {
		report.Elapsed = time.Since(began)
		progress(Progress{Source: s, BytesRead: script.Read(),
			Statements: report.Statements, Rows: report.Rows, Elapsed: report.Elapsed})
	}
	for {
		statement, err := script.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return report, err
		}
		head := sqltext.ParseHead(statement.Text)
		rows, replayed, err := target.send(ctx, statement, head)
		if refused := (*dbms.ServerError)(nil); head.Verb == "CREATE" && !errors.As(err, &refused) {
			report.Made[dbms.Object{Kind: head.Object, Name: head.Name.Name}] = true
		}
		if err != nil {
			return report, explain(ctx, s, statement, err)
		}
		report.Statements++
		if head.Verb == "INSERT" || head.Verb == "REPLACE" {
			report.Rows += rows
			filled[head.Name.Name] = true
		}
		if replayed {
			report.Replayed++
		}
		if now := time.Now(); now.Sub(told) >= progressEvery {
			told = now
			tell()
		}
	}
	for table := range filled {
		report.Filled = append(report.Filled, table)
	}
	slices.Sort(report.Filled)
	tell()
	return report, nil
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

// send runs one statement as the application's account, without its definer.
func (t Target) send(ctx context.Context, statement sqltext.Statement, head sqltext.Head) (rows int64, replayed bool, err error) {
	text := string(head.WithoutDefiner(statement.Text))
	rows, err = t.Exec(ctx, text)
	if err == nil || !mysql.IsLoggingRefusal(err) || t.Replay == nil {
		return rows, false, err
	}
	if err := t.mayReplay(head); err != nil {
		return 0, false, err
	}
	if head.Verb == "CREATE" {
		text = string(head.WithDefiner(statement.Text, t.Definer))
	}
	return 0, true, t.Replay(ctx, text)
}

// mayReplay makes sure that a statement which an administrator is to run
// stays inside the database: the server would obey a qualified name.
func (t Target) mayReplay(head sqltext.Head) error {
	kind := head.Object == "TRIGGER" || head.Object == "FUNCTION" && !head.IsLoadableFunction()
	inside := func(n sqltext.ObjectName) bool { return n.Schema == "" || n.Schema == t.Database }
	if (head.Verb == "CREATE" || head.Verb == "DROP") && kind && inside(head.Name) && inside(head.Table) {
		return nil
	}
	return fault.New(fault.Protected, "remove the statement, or take the database's name out of it",
		"the statement reaches outside the database %s and is not run as administrator", t.Database)
}

var atLine = regexp.MustCompile(` at line (\d+)$`)

// explain gives a refused statement its place. The server counts lines from
// the statement's first one, and only in messages about syntax.
func explain(ctx context.Context, s Source, statement sqltext.Statement, err error) error {
	if ctx.Err() != nil {
		return fault.New(fault.Interrupted, "run the command again when it suits", "the import of %s was interrupted at line %d", s.Name, statement.Line).With(err)
	}
	place := fault.Place{File: s.Name, Line: statement.Line, Column: statement.Column}
	lines := strings.Split(string(statement.Text), "\n")
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
	}
	next := mysql.Explain(spoken)
	if next == "" {
		next = "correct the statement and run the command again"
	}
	explained := fault.At(fault.Failed, place, next, "%s (server error %d)", message, spoken.Code).With(spoken)
	explained.Excerpt = excerpt(line, statement, place)
	return explained
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
	for _, kind := range []string{"table", "view", "trigger", "function", "procedure", "event"} {
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
