package judge

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// LongRun is how many bytes a run must have to be read on its own. Tests lower it.
var LongRun int64 = 4 << 20

// Check reads a script to its end: what is in it, and what is to be refused.
func (of Subject) Check(ctx context.Context, s script.Source, o load.Options) (*load.Survey, error) {
	script, err := of.Read(ctx, s)
	if err != nil {
		return nil, err
	}
	defer script.Close()
	c := &checker{
		Judge: New(of, s, o), Findings: load.NewFindings(s, of.Target, o), script: script, defined: map[string]*sqltext.Table{}, altered: map[*sqltext.Table]bool{}, unkeyed: map[string]fault.Place{},
		made: map[dbms.Object]bool{}, risky: map[string]bool{}, text: textCheck{Encoding: load.NewEncoding(s, script.Content)},
	}
	c.runs = load.NewRuns(script.Content, LongRun, c.Survey)
	if err := c.Each(ctx, script, c.statement, load.Data{}); err != nil {
		return nil, err
	}
	c.finish()
	return c.Survey, nil
}

// checker is a first pass at work.
type checker struct {
	*Judge
	load.Findings
	script *Reading
	text   textCheck
	// defined are the tables that the script has made so far.
	defined map[string]*sqltext.Table
	altered map[*sqltext.Table]bool // those that are not as they were made
	list    ColumnList
	row     sqltext.Row // kept for its memory
	runs    *load.Runs
	// unkeyed are tables without a primary key so far, and where they are made.
	unkeyed       map[string]fault.Place
	inTransaction bool // in a transaction of the script's own, or with autocommit off
	made          map[dbms.Object]bool
	risky         map[string]bool // tables whose triggers use what joined rows would change
}

func (c *checker) oneByOne(s sqltext.Statement, why string) {
	if c.Survey.OneByOne == "" {
		c.Survey.OneByOne = fmt.Sprintf("%s:%d %s", c.source.Name, s.Line, why)
	}
}

func (c *checker) statement(s sqltext.Statement, valid bool) error {
	mapped := len(c.mapped)
	v := c.Classify(s)
	c.Defined(len(c.mapped) - mapped)
	if at := c.text.badByte(&v, valid, c.defined); at >= 0 {
		return load.BadText(c.Place(s), s.Text, at)
	}
	if v.Kind == Rows && v.Objection == nil {
		if found := c.findRows(&v); found.literal {
			c.rows(&v, found)
			return nil
		}
		v = c.ClassifyTokens(v)
	}
	c.runs.Close(s)
	if v.Objection != nil {
		c.Refuse(s, v.Objection.What, v.Objection.Next)
		return nil
	}
	if v.Dropped != "" {
		c.Note(c.Place(s), "left out: "+v.Dropped, "")
		return nil
	}
	if v.adapted != "" {
		c.Note(c.Place(s), v.adapted, "")
	}
	if v.Lead.HasDefiner() {
		c.NoteUsual(c.Place(s), "DEFINER clauses are left out: the application's account becomes the definer")
	}
	if len(v.Sent) > c.server.MaxPacket && c.server.MaxPacket > 0 {
		c.Refuse(s, fmt.Sprintf("the statement has %s bytes, and the server takes %s", figures.Thousands(len(v.Sent)), figures.Thousands(c.server.MaxPacket)),
			fmt.Sprintf("raise max_allowed_packet to %s, or let {server-variables} do so", figures.Thousands(nextPacket(len(v.Sent)))))
	}
	c.text.observe(v)
	if v.Table != nil {
		c.Defined(len(v.Table.Columns) + len(v.Table.Keys) + len(v.Table.Foreign))
	}
	c.define(v)
	c.touch(v)
	c.sequence(v)
	return nil
}

// nextPacket is the packet size, a power of two, that n bytes and their head
// fit into.
func nextPacket(n int) int64 {
	size := int64(1 << 20)
	for size < int64(n)+1024 {
		size *= 2
	}
	return size
}

// rowsFound is what was found in an INSERT.
type rowsFound struct {
	count    int64
	longest  int // bytes of a row
	literal  bool
	numbered bool // the server may give out numbers for them
}

func (c *checker) findRows(v *Verdict) (found rowsFound) {
	scanner := sqltext.NewRowScanner(v.Sent, v.Insert.Body, v.Dialect)
	auto := -1
	if table := c.defined[v.Insert.Table.Name]; table == nil || c.altered[table] {
		found.numbered = true
	} else {
		_, auto, _ = c.list.Of(table, v.Insert)
		found.numbered = auto < 0 && table.HasAuto()
	}
	row := &c.row
	for scanner.Next(row) {
		found.count++
		found.longest = max(found.longest, row.End-row.Start)
		found.numbered = found.numbered || auto >= 0 && AutoValue(row.Value(v.Sent, auto)) != Explicit
	}
	found.literal = scanner.Literal()
	return found
}

// rows takes in an INSERT of literal rows.
func (c *checker) rows(v *Verdict, found rowsFound) {
	longest := found.longest
	table := v.Insert.Table.Name
	if c.server.MaxPacket > 0 && v.Insert.Body+longest+1 > c.server.MaxPacket {
		c.Refuse(v.Statement, fmt.Sprintf("a row of %s bytes is longer than what the server takes, %s", figures.Thousands(longest), figures.Thousands(c.server.MaxPacket)),
			fmt.Sprintf("raise max_allowed_packet to %s, or let {server-variables} do so", figures.Thousands(nextPacket(v.Insert.Body+longest))))
	}
	if c.risky[table] {
		c.oneByOne(v.Statement, "the table's trigger uses LAST_INSERT_ID() or a user variable")
	}
	if c.text.zeroDates(v) {
		c.Note(c.Place(v.Statement), "zero dates under a strict sql_mode: the server may refuse them", "take NO_ZERO_DATE out of the script's sql_mode, or set one at its beginning")
	}
	c.Survey.Rows += found.count
	d := c.Survey.DataOf(table)
	if d.Bytes == 0 {
		d.First = v.Offset
	}
	d.Last = v.Offset
	d.Bytes += int64(v.Size)
	d.Longest = max(d.Longest, found.longest)
	d.Numbered = d.Numbered || found.numbered
	c.Touches(v.Statement, table, "puts rows into")
	c.runs.Row(v.Statement, sqltext.ObjectName{Name: table}, int64(v.Size))
}

// define takes in what a statement makes, and how it fits this server.
func (c *checker) define(v Verdict) {
	if v.Lead.Verb != "CREATE" || v.Lead.Object == "" {
		return
	}
	name := v.Lead.Name.Name
	if made := (dbms.Object{Kind: v.Lead.Object, Name: name}); !c.made[made] { // dumps make a view twice
		c.made[made] = true
		c.Survey.Defines[v.Lead.Object]++
	}
	switch v.Lead.Object {
	case "TRIGGER":
		if v.usesSession() {
			c.risky[v.Lead.Table.Name] = true
		}
	case "TABLE":
		if v.Temporary {
			return
		}
		c.Survey.Tables = append(c.Survey.Tables, name)
		c.defined[name] = v.Table
		if o := v.Table.Options; o.Charset != "" || o.Collation != "" {
			c.Survey.Charsets[name] = true
		}
		c.fits(v, v.Table)
		if c.server.Cluster {
			c.replicates(v, v.Table)
		}
	}
	if v.Lead.Object != "INDEX" && v.Lead.Object != "DATABASE" && v.Lead.Object != "SCHEMA" {
		c.Survey.Makes[dbms.Object{Kind: v.Lead.Object, Name: name}] = true
	}
}

// touch records what a statement does to objects that were there before.
func (c *checker) touch(v Verdict) {
	if c.target.Holds == nil {
		return
	}
	switch verb := v.Lead.Verb; {
	case verb == "DROP", verb == "TRUNCATE", verb == "CREATE" && v.Lead.Object != "INDEX" && v.Lead.Object != "TRIGGER":
		list := droppedTables(v.Lead, v.Tokens)
		if list == nil {
			list = []string{v.Lead.Name.Name}
		}
		if verb == "TRUNCATE" && len(v.Tokens) > 1 {
			list = []string{v.Tokens[len(v.Tokens)-1].Plain()}
		}
		for _, name := range list {
			switch {
			case c.Survey.Makes[dbms.Object{Kind: "TABLE", Name: name}] && verb != "CREATE", v.Temporary:
			case verb == "DROP" || verb == "TRUNCATE":
				c.Removes(v.Statement, name)
			default:
				c.Touches(v.Statement, name, "makes")
			}
		}
	case verb == "ALTER", verb == "RENAME", v.Kind == Change, v.Wide, v.Kind == Indexes, v.Lead.Object == "INDEX", v.Lead.Object == "TRIGGER":
		v.Each(func(t sqltext.Token) {
			if (t.Kind == sqltext.Name || t.Kind == sqltext.Word) && c.target.Holds[t.Plain()] {
				c.Touches(v.Statement, t.Plain(), "changes")
			}
		})
	}
}

// sequence keeps track of what makes joined rows and side by side sessions
// unsafe.
func (c *checker) sequence(v Verdict) {
	s, tokens := v.Statement, v.Tokens
	switch verb := v.Lead.Verb; {
	case verb == "ROLLBACK" || verb == "SAVEPOINT" || verb == "RELEASE":
		c.oneByOne(s, "the script takes back parts of its own transactions")
	case verb == "CALL":
		c.oneByOne(s, "the script calls a procedure, which may ask for what the statements before it did")
	case verb == "PREPARE" || verb == "EXECUTE":
		c.oneByOne(s, "the script prepares statements")
	case v.Kind == Transaction:
		c.inTransaction = verb == "START" || verb == "BEGIN" || verb == "SET" && !tokens[len(tokens)-1].Is("1") && !tokens[len(tokens)-1].Is("ON")
	case verb == "SET":
		for _, a := range sqltext.SetOf(tokens) {
			if !a.User && perStatement[a.Name] {
				c.oneByOne(s, "SET "+a.Name+" is for the one statement after it")
			}
		}
	}
	if v.Lead.Object != "FUNCTION" && v.Lead.Object != "PROCEDURE" && v.Lead.Object != "EVENT" && v.Lead.Object != "TRIGGER" && v.asksBack() {
		c.Survey.AsksBack = true
		c.oneByOne(s, "the statement asks for the outcome of the one before it")
	}
	if v.Lead.Verb == "ALTER" {
		if v.Kind != KeySwitch {
			c.altered[c.defined[v.Lead.Name.Name]] = true
		}
		if tokens.Has("PRIMARY") {
			delete(c.unkeyed, v.Lead.Name.Name)
		}
	}
	if len(c.Survey.Data) == 0 || v.Kind == KeySwitch || v.Kind == TableLock {
		return
	}
	v.Each(func(t sqltext.Token) {
		if t.Kind == sqltext.Word || t.Kind == sqltext.Name {
			if d := c.Survey.Data[t.Plain()]; d != nil && d.Mention == 0 {
				d.Mention = s.Offset
			}
		}
	})
}

// perStatement are session variables that change what the next row gets.
var perStatement = wordset.Of("insert_id last_insert_id timestamp rand_seed1 rand_seed2 pseudo_thread_id identity")

// asksBack reports whether a statement uses what the one before it left
// behind in the session.
func (v *Verdict) asksBack() (asks bool) {
	v.Each(func(t sqltext.Token) {
		if t.Kind == sqltext.Word && !asks {
			var room [longestWord]byte
			switch string(t.Upper(room[:0])) {
			case "LAST_INSERT_ID", "ROW_COUNT", "FOUND_ROWS", "DIAGNOSTICS", "IDENTITY", "WARNING_COUNT", "ERROR_COUNT", "INSERT_ID":
				asks = true
			}
		}
	})
	return asks
}

// usesSession is asksBack for bodies, where user variables count, too.
func (v *Verdict) usesSession() bool {
	tokens := v.Tokens
	for i, t := range tokens {
		if t.IsPunct('@') && i+1 < len(tokens) && !tokens[i+1].IsPunct('@') && (i == 0 || !tokens[i-1].IsPunct('@')) {
			return true
		}
	}
	return v.asksBack()
}

func (c *checker) finish() {
	c.runs.End(c.script)
	s := c.Survey
	s.Length = c.script.BytesRead()
	c.Included(c.script.Included())
	if c.inTransaction {
		s.OneByOne = c.source.Name + ": the script ends in a transaction it does not commit"
	}
	for _, name := range slices.Sorted(maps.Keys(c.mapped)) {
		what := fmt.Sprintf("this server has no collation %s", name)
		if c.options.MapCollations {
			c.Survey.Notes = append(c.Survey.Notes, load.Finding{Place: c.mapped[name].at, Count: 1,
				What: what + ": " + c.mapped[name].to + " takes its place", Next: "letters and trailing spaces may compare otherwise, so look at unique keys"})
		} else {
			s.Refused = append(s.Refused, load.Finding{Place: c.mapped[name].at, Count: 1, What: what,
				Next: "{map-collations} puts " + c.mapped[name].to + " in its place: letters and trailing spaces may compare otherwise"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.unkeyed)) {
		c.Note(c.unkeyed[name], name+" has no primary key: the cluster cannot delete its rows, and nodes may order them differently", "give it one")
	}
	c.Close()
}
