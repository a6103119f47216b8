package load

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
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// postgresRun is a series of rows for one table with nothing else between, long
// enough for a session to read it from the file by itself.
type postgresRun struct {
	table    sqltext.ObjectName
	from, to sqltext.PostgresMark
	end      int64 // where it ends in the script
	last     bool  // nothing stands behind it
	bytes    int64
}

// checkPostgres is Check for PostgreSQL.
func checkPostgres(ctx context.Context, s script.Source, target Target, o Options) (*Survey, error) {
	script, err := readPostgres(ctx, s)
	if err != nil {
		return nil, err
	}
	defer script.Close()
	c := &postgresChecker{postgresJudge: newPostgresJudge(s, target, o), findings: newFindings(s), target: target, script: script,
		text: postgresText{raw: s.IsBinary(), converted: script.Plain == nil && s.Encoding != ""}}
	c.survey.postgresRuns = map[int64]*postgresRun{}
	if err := c.each(ctx, s, script.Next, c.statement); err != nil {
		return nil, err
	}
	c.endRun(true)
	c.survey.Length = script.BytesRead()
	for _, passed := range script.Passed() {
		what := "passed over: " + passed.Name + ", which is for the stock client"
		c.note(passed.Place, what, "")
		c.notes[what].Usual = true
	}
	c.close()
	return c.survey, nil
}

// postgresChecker is a first pass at work.
type postgresChecker struct {
	*postgresJudge
	findings
	target Target
	script *postgresReading
	text   postgresText
	run    *postgresRun
}

func (c *postgresChecker) statement(s sqltext.Statement) error {
	v := c.look(s)
	if at := c.text.badByte(v.Text); at >= 0 {
		return badText(s, at, c.place(s))
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
	c.endRun(false)
	switch {
	case v.objection != nil:
		c.refuse(s, v.objection.what, v.objection.next)
		return nil
	case v.dropped != "":
		what := "left out: " + v.dropped
		c.note(c.place(s), what, "")
		c.notes[what].Usual = v.dropped == rolesElsewhere || strings.HasSuffix(v.dropped, "is there")
		return nil
	case v.adapted != "":
		c.note(c.place(s), v.adapted, "")
	}
	c.text.foreign = c.foreign
	c.record(v)
	return nil
}

// rows takes in an INSERT of literal rows; literal is false if it is none.
func (c *postgresChecker) rows(v postgresVerdict) (literal bool) {
	scanner := sqltext.NewRowScanner(v.Text, v.insert.Body, v.Dialect)
	var row sqltext.Row
	count := int64(0)
	for scanner.Next(&row) {
		count++
	}
	if !scanner.Literal() {
		return false
	}
	c.survey.Rows += count
	c.fill(v, v.insert.Table, "puts rows into", int64(v.Size))
	return true
}

// copied reads the rows behind a COPY.
func (c *postgresChecker) copied(v postgresVerdict) error {
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
		if at := c.text.badByte(got); at >= 0 {
			before := got[:at]
			place := fault.Place{File: c.source.Name, Line: line + bytes.Count(before, []byte{'\n'})}
			place.Column = utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1
			return badText(sqltext.Statement{}, 0, place)
		}
		lines := bytes.Count(got, []byte{'\n'})
		line += lines
		c.survey.Rows += int64(lines)
		held = copy(buffer, buffer[len(got):max(len(got), held+n)])
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	c.run.bytes += c.script.BytesRead() - start
	c.addBytes(table, c.script.BytesRead()-start)
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
func (c *postgresChecker) fill(v postgresVerdict, table sqltext.ObjectName, how string, bytes int64) {
	c.touches(v.Statement, c.target, c.postgresJudge.name(table), how, c.options)
	if c.run == nil || c.run.table != table {
		c.endRun(false)
		c.run = &postgresRun{table: table, from: c.script.Mark()}
	}
	c.run.bytes += bytes
	c.addBytes(table, bytes)
}

func (c *postgresChecker) addBytes(table sqltext.ObjectName, bytes int64) {
	name := c.postgresJudge.name(table)
	if c.survey.data[name] == nil {
		c.survey.data[name] = &tableData{}
	}
	c.survey.data[name].bytes += bytes
}

// endRun closes the series of rows before the current statement, or before the
// end of the script.
func (c *postgresChecker) endRun(last bool) {
	if c.run != nil && c.run.bytes >= longRun && c.script.Plain != nil {
		c.run.last = last
		c.run.end = c.script.BytesRead()
		if !last {
			c.run.to = c.script.Mark()
			c.run.end = c.run.to.Offset
		}
		c.survey.postgresRuns[c.run.from.Offset] = c.run
	}
	c.run = nil
}

// record takes in what a statement makes, and what it does to what was there.
func (c *postgresChecker) record(v postgresVerdict) {
	name := c.postgresJudge.name(v.head.Name)
	tokens := sqltext.Tokens(v.Text, v.Dialect)
	temporary := second(tokens, "TEMP") || second(tokens, "TEMPORARY")
	switch v.head.Verb {
	case "CREATE":
		c.survey.Defines[v.head.Object]++
		switch {
		case temporary:
			return
		case v.head.Object == "TABLE":
			c.survey.Tables = append(c.survey.Tables, name)
			fallthrough
		case v.head.Object == "VIEW", v.head.Object == "SEQUENCE":
			if !has(tokens, "EXISTS") {
				c.touches(v.Statement, c.target, name, "makes", c.options)
			}
		case v.head.Object == "INDEX", v.head.Object == "TRIGGER", v.head.Object == "RULE", v.head.Object == "POLICY":
			c.touches(v.Statement, c.target, c.postgresJudge.name(v.head.Table), "changes", c.options)
			return
		}
		if droppable[v.head.Object] {
			c.survey.Makes[c.made(v)] = true
		}
	case "ALTER":
		c.touches(v.Statement, c.target, name, "changes", c.options)
	case "DROP", "TRUNCATE":
		for _, listed := range c.listed(tokens) {
			switch own := v.head.Verb == "DROP" && dropMade(c.survey.Makes, v.head.Object, listed); {
			case !own && !c.survey.Makes[dbms.Object{Kind: v.head.Object, Name: listed}]:
				c.removes(v.Statement, c.target, listed)
			case own:
				c.survey.Defines[v.head.Object]--
				c.survey.Tables = slices.DeleteFunc(c.survey.Tables, func(table string) bool { return table == listed && v.head.Object == "TABLE" })
			}
		}
	case "UPDATE", "DELETE", "INSERT", "MERGE":
		for _, t := range tokens {
			if t.Kind == sqltext.Name || t.Kind == sqltext.Word {
				c.touches(v.Statement, c.target, t.Plain(), "changes", c.options)
			}
		}
	}
}

// droppable are the kinds of objects that an undo can remove.
var droppable = set("TABLE VIEW SEQUENCE FUNCTION PROCEDURE AGGREGATE TYPE DOMAIN SCHEMA")
