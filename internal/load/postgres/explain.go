package postgres

import (
	"bytes"
	"errors"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// copyLine is how the server names a line of COPY.
var copyLine = regexp.MustCompile(`^COPY .*, line (\d+)`)

// located gives what the server refused its place. offset is where in
// the statement's text the server points; negative where the statement was sent
// by itself, so that the error says it.
func located(name string, s sqltext.Statement, err error, offset int) error {
	place := s.Place(name)
	var spoken *dbms.ServerError
	if !errors.As(err, &spoken) {
		return load.Located(name, s, firstLine(s.Text), err)
	}
	if offset < 0 {
		offset = byteOf(s.Text, max(0, spoken.Position-1))
	}
	line := firstLine(s.Text)
	before := s.Text[:min(offset, len(s.Text))]
	if n := bytes.Count(before, []byte{'\n'}); n > 0 {
		start := bytes.LastIndexByte(before, '\n') + 1
		place.Line += n
		place.Column = utf8.RuneCount(before[start:]) + 1
		line = firstLine(s.Text[start:])
	} else {
		place.Column += utf8.RuneCount(before)
	}
	context := ""
	if found := copyLine.FindStringSubmatch(spoken.Context); found != nil {
		n, _ := strconv.Atoi(found[1])
		place.Line += bytes.Count(s.Text, []byte{'\n'}) + n
		place.Column = 1
		line = ""
		_, context, _ = strings.Cut(firstLine([]byte(spoken.Context)), ", line "+found[1])
		context = strings.TrimPrefix(context, ", ")
		if after, is := strings.CutPrefix(context, ": "); is {
			context = after
		}
	}
	next := nextStep(spoken)
	what := spoken.Error()
	if context != "" {
		what += ": " + dbms.Shorten(context)
	}
	explained := fault.At(fault.Failed, place, next, "%s", what).With(spoken)
	if line != "" {
		explained.Excerpt = excerptAt(line, s, place)
	}
	return explained
}

func firstLine(text []byte) string {
	line, _, _ := bytes.Cut(text, []byte{'\n'})
	return string(line)
}

// excerptAt is excerpt for a place inside the statement's first line.
func excerptAt(line string, s sqltext.Statement, place fault.Place) string {
	if place.Line == s.Line && place.Column > s.Column {
		const widest = 60 // columns of a line before the place that are shown
		at := place.Column - s.Column
		if runes := []rune(line); at > widest && at <= len(runes) {
			line = "... " + string(runes[at-widest:])
			at = widest + len("... ")
		}
		shown := []rune(line)
		const longest = 120
		return fault.ExcerptLine(string(shown[:min(longest, len(shown))]), fault.Place{Line: place.Line, Column: at + 1})
	}
	return load.Excerpt(line, s, place)
}

// nextStep gives the next step for an error that a script met
// (PostgreSQL, "Error Codes").
func nextStep(err *dbms.ServerError) string {
	switch err.SQLState {
	case "42P07", "42710", "42723", "42701", "42P06":
		return "the script makes it twice, or it was there before; correct the script and run the command again"
	case "42501":
		return "the script needs a right that the application's role does not have; remove the statement, or run it as the administrator"
	case "42601":
		return "the server does not understand the statement; was the script made for another product or version?"
	case "42P01", "42883", "3F000", "42704":
		return "it does not exist at this point of the script: are the files in the right order?"
	case "23505":
		return "two rows have the same key; correct the script"
	case "23503":
		return "the row refers to one that is not there: are the files in the right order?"
	case "22P04", "22P02", "22001", "22003", "22007", "22008", "23502", "23514", "22021", "22P05":
		return "the value does not fit the column; correct the row"
	case "25001", "55006":
		return "{fast} sends the statements without the one transaction, in which this one cannot run"
	case "55P04":
		return "{fast} commits the new value first; then it can be used"
	}
	switch {
	case err.Cause == dbms.NoRoom:
		return dbms.MakeRoom
	case err.Hint != "":
		return err.Hint
	}
	return "correct the statement and run the command again"
}
