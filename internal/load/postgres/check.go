package postgres

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// longRun is how many bytes a run must have to be read on its own. Tests lower it.
var longRun int64 = load.LongRun

// Check implements load.Importer.
func (i *Importer) Check(ctx context.Context, s script.Source, o load.Options) (*load.Survey, error) {
	script, err := read(ctx, s)
	if err != nil {
		return nil, err
	}
	defer script.Close()
	c := &checker{judge: newJudge(i, s, o), Findings: load.NewFindings(s, i.Target, o), script: script, text: load.NewEncoding(s, script.Content)}
	c.runs = load.NewRuns(script, script.Content, longRun, c.Survey)
	if err := c.Each(ctx, script.Next, c.statement); err != nil {
		return nil, err
	}
	c.runs.Close(true)
	c.Survey.Length = script.BytesRead()
	c.Included(script.Included())
	for _, passed := range script.Passed() {
		c.NoteUsual(passed.Place, "passed over: "+passed.Name+", which is for the stock client")
	}
	c.Close()
	return c.Survey, nil
}

// checker is a first pass at work.
type checker struct {
	*judge
	load.Findings
	script *reading
	text   load.Encoding
	runs   *load.Runs
}

func (c *checker) statement(s sqltext.Statement) error {
	v := c.look(s)
	if at := c.text.BadByte(v.Text); at >= 0 {
		return load.BadText(c.Place(s), s.Text, at)
	}
	switch v.class {
	case literalRows:
		if c.rows(v) {
			return nil
		}
		v = c.lookClosely(v)
	case copyRows:
		if v.objection == nil && v.dropped == "" {
			return c.copied(v)
		}
	}
	c.runs.Close(false)
	switch {
	case v.objection != nil:
		c.Refuse(s, v.objection.What, v.objection.Next)
		return nil
	case v.dropped != "":
		note := func(place fault.Place, what string) { c.Note(place, what, "") }
		if v.dropped == rolesElsewhere || strings.HasSuffix(v.dropped, "is there") {
			note = c.NoteUsual
		}
		note(c.Place(s), "left out: "+v.dropped)
		return nil
	case v.adapted != "":
		c.Note(c.Place(s), v.adapted, "")
	}
	c.text.Foreign = c.foreign
	c.record(v)
	return nil
}

// rows takes in an INSERT of literal rows; literal is false if it is none.
func (c *checker) rows(v verdict) (literal bool) {
	count, _, literal := sqltext.CountRows(v.Text, v.insert.Body, v.Dialect)
	if !literal {
		return false
	}
	c.Survey.Rows += count
	c.fill(v, v.insert.Table, "puts rows into", int64(v.Size))
	return true
}

// copied reads the rows behind a COPY.
func (c *checker) copied(v verdict) error {
	line := v.Line + bytes.Count(v.Text, []byte{'\n'}) + 1
	start := c.script.BytesRead()
	table := v.head.Name
	c.fill(v, table, "puts rows into", 0)
	buffer := make([]byte, script.ReadAhead)
	held := 0 // bytes of a character that was cut
	for {
		n, err := c.script.Data().Read(buffer[held:])
		got := buffer[:held+n]
		if cut := len(got) - wholeCharacters(got); err == nil && cut > 0 {
			got = got[:len(got)-cut]
		}
		if at := c.text.BadByte(got); at >= 0 {
			return load.BadText(fault.Place{File: c.source.Name, Line: line, Column: 1}, got, at)
		}
		lines := bytes.Count(got, []byte{'\n'})
		line += lines
		c.Survey.Rows += int64(lines)
		held = copy(buffer, buffer[len(got):max(len(got), held+n)])
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	bytes := c.script.BytesRead() - start
	c.runs.More(bytes)
	c.Survey.Copied += bytes
	c.Survey.DataOf(c.name(table)).Bytes += bytes
	return nil
}

// wholeCharacters is the length of b without a character that is cut at its
// end.
func wholeCharacters(b []byte) int {
	for back := 1; back < utf8.UTFMax && back <= len(b); back++ {
		if c := b[len(b)-back]; utf8.RuneStart(c) {
			if c >= utf8.RuneSelf && !utf8.FullRune(b[len(b)-back:]) {
				return len(b) - back
			}
			break
		}
	}
	return len(b)
}

// fill takes in rows for a table.
func (c *checker) fill(v verdict, table sqltext.ObjectName, how string, bytes int64) {
	name := c.name(table)
	c.Touches(v.Statement, name, how)
	c.runs.Row(table, bytes)
	c.Survey.DataOf(name).Bytes += bytes
}

// record takes in what a statement makes, and what it does to what was there.
func (c *checker) record(v verdict) {
	name := c.name(v.head.Name)
	tokens := v.tokens
	temporary := tokens.At(1).Is("TEMP") || tokens.At(1).Is("TEMPORARY")
	switch v.head.Verb {
	case "CREATE":
		c.Survey.Defines[v.head.Object]++
		switch {
		case temporary:
			return
		case v.head.Object == "TABLE":
			c.Survey.Tables = append(c.Survey.Tables, name)
			fallthrough
		case v.head.Object == "VIEW", v.head.Object == "SEQUENCE":
			if !tokens.Has("EXISTS") {
				c.Touches(v.Statement, name, "makes")
			}
		case v.head.Object == "INDEX", v.head.Object == "TRIGGER", v.head.Object == "RULE", v.head.Object == "POLICY":
			c.Touches(v.Statement, c.name(v.head.Table), "changes")
			return
		}
		if droppable[v.head.Object] {
			c.Survey.Makes[c.made(v)] = true
		}
	case "ALTER":
		c.Touches(v.Statement, name, "changes")
	case "DROP", "TRUNCATE":
		for _, listed := range c.listed(tokens) {
			switch own := v.head.Verb == "DROP" && dropMade(c.Survey.Makes, v.head.Object, listed); {
			case !own && !c.Survey.Makes[dbms.Object{Kind: v.head.Object, Name: listed}]:
				c.Removes(v.Statement, listed)
			case own:
				c.Survey.Defines[v.head.Object]--
				c.Survey.Tables = slices.DeleteFunc(c.Survey.Tables, func(table string) bool { return table == listed && v.head.Object == "TABLE" })
			}
		}
	case "UPDATE", "DELETE", "INSERT", "MERGE":
		for _, t := range tokens {
			if t.Kind == sqltext.Name || t.Kind == sqltext.Word {
				c.Touches(v.Statement, t.Plain(), "changes")
			}
		}
	}
}

// droppable are the kinds of objects that an undo can remove.
var droppable = wordset.Of("TABLE VIEW SEQUENCE FUNCTION PROCEDURE AGGREGATE TYPE DOMAIN SCHEMA")
