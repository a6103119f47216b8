package mysql

import (
	"bytes"
	"context"
	"errors"
	"regexp"
	"strconv"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
)

// idle are notes that say nothing about the data: that a table to be dropped
// was not there, that a notation is old, or what was refused before an administrator
// defined it (MySQL Reference Manual, "Server Error
// Message Reference").
var idle = map[int]bool{1051: true, 1305: true, 1360: true, 1031: true, 1287: true, 1681: true, 1064: true, 4166: true, 3719: true, 3778: true, 1007: true, 1419: true}

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

// warnedOf collects what the server remarks about a statement as it stood in the script.
func (e *engine) warnedOf(ctx context.Context, session Session, v judge.Verdict) error {
	if !session.Warned() {
		return nil
	}
	remarks, err := session.Query(ctx, "SHOW WARNINGS")
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
		e.Warn(code, strings.TrimSpace(atRow.ReplaceAllString(remark[2], "")), at.Place(e.source.Name))
	}
}

// explained is explain for a part of a job.
func (e *engine) explained(j *job, p load.Part, text []byte, err error) error {
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
	place := statement.Place(name)
	const widest = 64 << 10 // bytes of a statement that are looked at
	lines := strings.Split(string(statement.Text[:min(widest, len(statement.Text))]), "\n")
	line := lines[0]
	var spoken *dbms.ServerError
	if !errors.As(err, &spoken) {
		return load.Located(name, statement, line, err)
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
	switch {
	case spoken.Cause == dbms.NoRoom:
		next = dbms.MakeRoom
	case next == "":
		next = "correct the statement and run the command again"
	}
	explained := fault.At(fault.Failed, place, next, "%s (server error %d)", message, spoken.Code).With(spoken)
	explained.Excerpt = load.Excerpt(line, statement, place)
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
