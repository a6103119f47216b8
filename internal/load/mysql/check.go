package mysql

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

// longRun is how many bytes a run must have to be read on its own. Tests lower it.
var longRun int64 = 4 << 20

// Check implements load.Importer.
func (i *Importer) Check(ctx context.Context, s script.Source, o load.Options) (*load.Survey, error) {
	script, err := i.read(ctx, s)
	if err != nil {
		return nil, err
	}
	defer script.Close()
	c := &checker{
		judge: newJudge(i, s, o), Findings: load.NewFindings(s, i.Target, o), script: script, defined: map[string]*sqltext.Table{}, altered: map[*sqltext.Table]bool{}, unkeyed: map[string]fault.Place{},
		made: map[dbms.Object]bool{}, risky: map[string]bool{}, text: textCheck{Encoding: load.NewEncoding(s, script.Content)},
	}
	c.runs = load.NewRuns(script.Content, longRun, c.Survey)
	if err := c.Each(ctx, script, c.statement, load.Data{}); err != nil {
		return nil, err
	}
	c.finish()
	return c.Survey, nil
}

// checker is a first pass at work.
type checker struct {
	*judge
	load.Findings
	script *reading
	text   textCheck
	// defined are the tables that the script has made so far.
	defined map[string]*sqltext.Table
	altered map[*sqltext.Table]bool // those that are not as they were made
	list    columnList
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
	v := c.look(s)
	if at := c.text.badByte(&v, valid, c.defined); at >= 0 {
		return load.BadText(c.Place(s), s.Text, at)
	}
	if v.kind == rows && v.objection == nil {
		if found := c.findRows(&v); found.literal {
			c.rows(&v, found)
			return nil
		}
		v = c.lookClosely(v)
	}
	c.runs.Close(s)
	if v.objection != nil {
		c.Refuse(s, v.objection.What, v.objection.Next)
		return nil
	}
	if v.dropped != "" {
		c.Note(c.Place(s), "left out: "+v.dropped, "")
		return nil
	}
	if v.adapted != "" {
		c.Note(c.Place(s), v.adapted, "")
	}
	if v.head.HasDefiner() {
		c.NoteUsual(c.Place(s), "DEFINER clauses are left out: the application's account becomes the definer")
	}
	if len(v.text) > c.server.MaxPacket && c.server.MaxPacket > 0 {
		c.Refuse(s, fmt.Sprintf("the statement has %s bytes, and the server takes %s", figures.Thousands(len(v.text)), figures.Thousands(c.server.MaxPacket)),
			fmt.Sprintf("raise max_allowed_packet to %s, or let {server-variables} do so", figures.Thousands(nextPacket(len(v.text)))))
	}
	c.text.observe(v)
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

func (c *checker) findRows(v *verdict) (found rowsFound) {
	scanner := sqltext.NewRowScanner(v.text, v.insert.Body, v.Dialect)
	auto := -1
	if table := c.defined[v.insert.Table.Name]; table == nil || c.altered[table] {
		found.numbered = true
	} else {
		_, auto, _ = c.list.of(table, v.insert)
		found.numbered = auto < 0 && table.HasAuto()
	}
	row := &c.row
	for scanner.Next(row) {
		found.count++
		found.longest = max(found.longest, row.End-row.Start)
		found.numbered = found.numbered || auto >= 0 && autoValue(row.Value(v.text, auto)) != explicit
	}
	found.literal = scanner.Literal()
	return found
}

// rows takes in an INSERT of literal rows.
func (c *checker) rows(v *verdict, found rowsFound) {
	longest := found.longest
	table := v.insert.Table.Name
	if c.server.MaxPacket > 0 && v.insert.Body+longest+1 > c.server.MaxPacket {
		c.Refuse(v.Statement, fmt.Sprintf("a row of %s bytes is longer than what the server takes, %s", figures.Thousands(longest), figures.Thousands(c.server.MaxPacket)),
			fmt.Sprintf("raise max_allowed_packet to %s, or let {server-variables} do so", figures.Thousands(nextPacket(v.insert.Body+longest))))
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
func (c *checker) define(v verdict) {
	if v.head.Verb != "CREATE" || v.head.Object == "" {
		return
	}
	name := v.head.Name.Name
	if made := (dbms.Object{Kind: v.head.Object, Name: name}); !c.made[made] { // dumps make a view twice
		c.made[made] = true
		c.Survey.Defines[v.head.Object]++
	}
	switch v.head.Object {
	case "TRIGGER":
		if usesSession(v.tokens) {
			c.risky[v.head.Table.Name] = true
		}
	case "TABLE":
		if v.temporary {
			return
		}
		c.Survey.Tables = append(c.Survey.Tables, name)
		c.defined[name] = v.table
		if o := v.table.Options; o.Charset != "" || o.Collation != "" {
			c.Survey.Charsets[name] = true
		}
		c.fits(v, v.table)
		if c.server.Cluster {
			c.replicates(v, v.table)
		}
	}
	if v.head.Object != "INDEX" && v.head.Object != "DATABASE" && v.head.Object != "SCHEMA" {
		c.Survey.Makes[dbms.Object{Kind: v.head.Object, Name: name}] = true
	}
}

// touch records what a statement does to objects that were there before.
func (c *checker) touch(v verdict) {
	if c.target.Holds == nil {
		return
	}
	switch verb := v.head.Verb; {
	case verb == "DROP", verb == "TRUNCATE", verb == "CREATE" && v.head.Object != "INDEX" && v.head.Object != "TRIGGER":
		list := droppedTables(v.head, v.tokens)
		if list == nil {
			list = []string{v.head.Name.Name}
		}
		if verb == "TRUNCATE" && len(v.tokens) > 1 {
			list = []string{v.tokens[len(v.tokens)-1].Plain()}
		}
		for _, name := range list {
			switch {
			case c.Survey.Makes[dbms.Object{Kind: "TABLE", Name: name}] && verb != "CREATE", v.temporary:
			case verb == "DROP" || verb == "TRUNCATE":
				c.Removes(v.Statement, name)
			default:
				c.Touches(v.Statement, name, "makes")
			}
		}
	case verb == "ALTER", verb == "RENAME", v.kind == change, v.kind == indexes, v.head.Object == "INDEX", v.head.Object == "TRIGGER":
		for _, t := range v.tokens {
			if (t.Kind == sqltext.Name || t.Kind == sqltext.Word) && c.target.Holds[t.Plain()] {
				c.Touches(v.Statement, t.Plain(), "changes")
			}
		}
	}
}

// sequence keeps track of what makes joined rows and side by side sessions
// unsafe.
func (c *checker) sequence(v verdict) {
	s, tokens := v.Statement, v.tokens
	switch verb := v.head.Verb; {
	case verb == "ROLLBACK" || verb == "SAVEPOINT" || verb == "RELEASE":
		c.oneByOne(s, "the script takes back parts of its own transactions")
	case verb == "CALL":
		c.oneByOne(s, "the script calls a procedure, which may ask for what the statements before it did")
	case verb == "PREPARE" || verb == "EXECUTE":
		c.oneByOne(s, "the script prepares statements")
	case v.kind == transaction:
		c.inTransaction = verb == "START" || verb == "BEGIN" || verb == "SET" && !tokens[len(tokens)-1].Is("1") && !tokens[len(tokens)-1].Is("ON")
	case verb == "SET":
		for _, a := range sqltext.SetOf(tokens) {
			if !a.User && perStatement[a.Name] {
				c.oneByOne(s, "SET "+a.Name+" is for the one statement after it")
			}
		}
	}
	if v.head.Object != "FUNCTION" && v.head.Object != "PROCEDURE" && v.head.Object != "EVENT" && v.head.Object != "TRIGGER" && asksBack(tokens) {
		c.Survey.AsksBack = true
		c.oneByOne(s, "the statement asks for the outcome of the one before it")
	}
	if v.head.Verb == "ALTER" {
		if v.kind != keySwitch {
			c.altered[c.defined[v.head.Name.Name]] = true
		}
		if tokens.Has("PRIMARY") {
			delete(c.unkeyed, v.head.Name.Name)
		}
	}
	for _, t := range tokens {
		if len(c.Survey.Data) > 0 && (t.Kind == sqltext.Word || t.Kind == sqltext.Name) {
			if d := c.Survey.Data[t.Plain()]; d != nil && d.Mention == 0 && v.kind != keySwitch && v.kind != tableLock {
				d.Mention = s.Offset
			}
		}
	}
}

// perStatement are session variables that change what the next row gets.
var perStatement = wordset.Of("insert_id last_insert_id timestamp rand_seed1 rand_seed2 pseudo_thread_id identity")

// asksBack reports whether a statement uses what the one before it left
// behind in the session.
func asksBack(tokens sqltext.Tokens) bool {
	for _, t := range tokens {
		if t.Kind == sqltext.Word {
			var room [longestWord]byte
			switch string(t.Upper(room[:0])) {
			case "LAST_INSERT_ID", "ROW_COUNT", "FOUND_ROWS", "DIAGNOSTICS", "IDENTITY", "WARNING_COUNT", "ERROR_COUNT", "INSERT_ID":
				return true
			}
		}
	}
	return false
}

// usesSession is asksBack for bodies, where user variables count, too.
func usesSession(tokens sqltext.Tokens) bool {
	for i, t := range tokens {
		if t.IsPunct('@') && i+1 < len(tokens) && !tokens[i+1].IsPunct('@') && (i == 0 || !tokens[i-1].IsPunct('@')) {
			return true
		}
	}
	return asksBack(tokens)
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
