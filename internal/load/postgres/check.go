package postgres

import (
	"bytes"
	"context"
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

// longRun is how many bytes a run must have to be read on its own: from there on one more
// login was measured to gain more than it costs. Tests lower it.
var longRun int64 = 1 << 20

// Check implements load.Importer.
func (i *Importer) Check(ctx context.Context, s script.Source, o load.Options) (*load.Survey, error) {
	script, err := read(ctx, s)
	if err != nil {
		return nil, err
	}
	defer script.Close()
	c := &checker{judge: newJudge(i, s, o), Findings: load.NewFindings(s, i.Target, o), script: script, text: load.NewEncoding(s, script.Content)}
	c.runs = load.NewRuns(script.Content, longRun, c.Survey)
	if err := c.Each(ctx, script, c.statement, load.Data{Behind: script.Data, Take: c.copied}); err != nil {
		return nil, err
	}
	c.runs.End(script)
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
	copy   *copying // whose rows follow; nil for none that are to be looked at
}

// copying is a COPY while its rows are looked at.
type copying struct {
	table string
	place fault.Place // of what comes next
	cut   []byte      // a character that was cut at the end of a piece
}

func (c *checker) statement(s sqltext.Statement, valid bool) error {
	v := c.look(s)
	if at := c.text.BadByte(v.Text, valid); at >= 0 {
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
			c.fill(v, v.head.Name, "puts rows into", 0)
			c.copy = &copying{table: c.name(v.head.Name), place: c.Place(s)}
			c.copy.place.Line += bytes.Count(v.Text, []byte{'\n'}) + 1
			c.copy.place.Column = 1
			return nil
		}
	}
	c.runs.Close(s)
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
		c.Note(c.Place(s), v.adapted, "{fast} keeps it")
	}
	c.text.Foreign = c.foreign
	c.record(v)
	return nil
}

// rows takes in an INSERT of literal rows; literal is false if it is none.
func (c *checker) rows(v verdict) (literal bool) {
	count, literal := c.countRows(v)
	if !literal {
		return false
	}
	c.Survey.Rows += count
	c.fill(v, v.insert.Table, "puts rows into", int64(v.Size))
	return true
}

// copied looks at rows after a COPY.
func (c *checker) copied(text []byte, size int64, last bool) error {
	to := c.copy
	if to == nil {
		return nil
	}
	if len(to.cut) > 0 {
		text = append(to.cut, text...)
		to.cut = nil
	}
	if whole := wholeCharacters(text); !last {
		text, to.cut = text[:whole], bytes.Clone(text[whole:])
	}
	if at := c.text.BadByte(text, utf8.Valid(text)); at >= 0 {
		return load.BadText(to.place, text, at)
	}
	lines := bytes.Count(text, []byte{'\n'})
	to.place.Line += lines
	c.Survey.Rows += int64(lines)
	c.runs.More(size)
	c.Survey.Copied += size
	c.Survey.DataOf(to.table).Bytes += size
	if last {
		c.copy = nil
	}
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
	c.runs.Row(v.Statement, table, bytes)
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
		v.each(func(t sqltext.Token) {
			if t.Kind == sqltext.Name || t.Kind == sqltext.Word {
				c.Touches(v.Statement, t.Plain(), "changes")
			}
		})
	}
}

// droppable are the kinds of objects that an undo can remove.
var droppable = wordset.Of("TABLE VIEW SEQUENCE FUNCTION PROCEDURE AGGREGATE TYPE DOMAIN SCHEMA")
