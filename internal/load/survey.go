package load

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// Finding is something about a script that is worth knowing before it runs.
type Finding struct {
	Place fault.Place
	What  string
	Next  string
	Count int // how often it occurs; the place is the first one's
	// Usual says that nearly every dump has it, so that it is of interest
	// beforehand only.
	Usual bool
}

// Survey is what reading a script from beginning to end tells without running
// anything.
type Survey struct {
	Length     int64 // of the unpacked script in bytes
	Statements int
	Rows       int64 // in INSERT statements of literal rows
	// Defines counts what the script makes by its keyword: TABLE, VIEW,
	// TRIGGER, FUNCTION, PROCEDURE, EVENT, INDEX.
	Defines map[string]int
	Tables  []string // made by the script, in its order
	// Makes are all objects that the script makes.
	Makes map[dbms.Object]bool
	// Refused is what the guard and the server's limits forbid; an import
	// with such entries does not begin.
	Refused []Finding
	// Notes are differences between the script and this server, and what is
	// left out or changed on the way.
	Notes []Finding
	// Touches are objects that were there before and that the script changes.
	Touches map[dbms.Object]bool
	// OneByOne says why the script is sent statement by statement; empty if
	// rows may be joined and sent side by side.
	OneByOne string

	// asksBack says that the script looks at what the statement before did,
	// so that nothing may be asked of the session in between.
	asksBack bool

	data map[string]*tableData
	runs map[int64]*run // by where they begin

	postgresRuns map[int64]*postgresRun
}

// tableData is what a script does with the rows of one table.
type tableData struct {
	bytes       int64
	first, last int64 // offsets of the first and last INSERT
	mention     int64 // of the first other statement behind first that names the table; 0 for none
}

// undisturbed reports whether nothing but INSERTs concerns the table between
// its first and its last row.
func (d *tableData) undisturbed() bool { return d.mention == 0 || d.mention > d.last }

// run is a series of INSERTs into one table with nothing else between, long
// enough for a session to read it from the file by itself.
type run struct {
	table    string
	from, to sqltext.Mark
	end      int64 // where it ends in the script
	bytes    int64
}

// longRun is how many bytes a run must have to be read on its own. Tests lower it.
var longRun int64 = 4 << 20

// Routines counts the definitions that binary logging may refuse.
func (s *Survey) Routines() int { return s.Defines["TRIGGER"] + s.Defines["FUNCTION"] }

// Check reads a whole script and runs nothing. What would stop the import half
// way comes back as an error with its place: a damaged archive, an open quote,
// a command for the stock client, text that is not valid in its encoding. What
// must not run is listed in Survey.Refused.
func Check(ctx context.Context, s script.Source, target Target, o Options) (*Survey, error) {
	if target.Server.Dialect.PostgreSQL {
		return checkPostgres(ctx, s, target, o)
	}
	script, err := read(ctx, s, target.Server)
	if err != nil {
		return nil, err
	}
	defer script.Close()
	c := &checker{
		judge: newJudge(s, target, o), target: target, script: script, defined: map[string]*sqltext.Table{}, findings: newFindings(s),
		text: textCheck{raw: s.IsBinary(), converted: script.Plain == nil && s.Encoding != ""},
	}
	if err := c.each(ctx, s, script.Next, c.statement); err != nil {
		return nil, err
	}
	c.finish()
	return c.survey, nil
}

// checker is a first pass at work.
type checker struct {
	*judge
	findings
	target Target
	script *reading
	text   textCheck
	// defined are the tables that the script has made so far.
	defined map[string]*sqltext.Table
	run     *run
	// unkeyed are tables without a primary key so far, and where they are made.
	unkeyed map[string]fault.Place
	open    bool            // in a transaction of the script's own, or with autocommit off
	risky   map[string]bool // tables whose triggers use what joined rows would change
}

func (c *checker) oneByOne(s sqltext.Statement, why string) {
	if c.survey.OneByOne == "" {
		c.survey.OneByOne = fmt.Sprintf("%s:%d %s", c.source.Name, s.Line, why)
	}
}

func (c *checker) statement(s sqltext.Statement) error {
	v := c.look(s)
	if at := c.text.badByte(v, c.defined[v.insert.Table.Name]); at >= 0 {
		return badText(s, at, c.place(s))
	}
	if v.kind == rows && v.objection == nil {
		if literal := c.rows(v); literal {
			return nil
		}
		v = c.lookClosely(v)
	}
	c.endRun(true)
	if v.objection != nil {
		c.refuse(s, v.objection.what, v.objection.next)
		return nil
	}
	if v.dropped != "" {
		c.note(c.place(s), "left out: "+v.dropped, "")
		return nil
	}
	if v.adapted != "" {
		c.note(c.place(s), v.adapted, "")
	}
	if v.head.HasDefiner() {
		const what = "DEFINER clauses are left out: the application's account becomes the definer"
		c.note(c.place(s), what, "")
		c.notes[what].Usual = true
	}
	if len(v.text) > c.server.MaxPacket && c.server.MaxPacket > 0 {
		c.refuse(s, fmt.Sprintf("the statement has %s bytes, and the server takes %s", Thousands(int64(len(v.text))), Thousands(int64(c.server.MaxPacket))),
			fmt.Sprintf("raise max_allowed_packet to %s, or let {server-variables} do so", Thousands(nextPacket(len(v.text)))))
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

// rows takes in an INSERT of literal rows; literal is false if it is none.
func (c *checker) rows(v verdict) (literal bool) {
	scanner := sqltext.NewRowScanner(v.text, v.insert.Body, v.Dialect)
	var row sqltext.Row
	var count int64
	longest := 0
	for scanner.Next(&row) {
		count++
		longest = max(longest, row.End-row.Start)
	}
	if !scanner.Literal() {
		return false
	}
	table := v.insert.Table.Name
	if c.server.MaxPacket > 0 && v.insert.Body+longest+1 > c.server.MaxPacket {
		c.refuse(v.Statement, fmt.Sprintf("a row of %s bytes is longer than what the server takes, %s", Thousands(int64(longest)), Thousands(int64(c.server.MaxPacket))),
			fmt.Sprintf("raise max_allowed_packet to %s, or let {server-variables} do so", Thousands(nextPacket(v.insert.Body+longest))))
	}
	if c.risky[table] {
		c.oneByOne(v.Statement, "the table's trigger uses LAST_INSERT_ID() or a user variable")
	}
	if c.text.zeroDates(v) {
		c.note(c.place(v.Statement), "zero dates under a strict sql_mode: the server may refuse them", "take NO_ZERO_DATE out of the script's sql_mode, or set one at its beginning")
	}
	c.survey.Rows += count
	d := c.survey.data[table]
	if d == nil {
		d = &tableData{first: v.Offset}
		c.survey.data[table] = d
	}
	d.last = v.Offset
	d.bytes += int64(v.Size)
	c.touchTable(v, table, "puts rows into")
	if c.run == nil || c.run.table != table {
		c.endRun(true)
		c.run = &run{table: table, from: c.script.Mark()}
	}
	c.run.bytes += int64(v.Size)
	return true
}

// endRun closes the series of INSERTs before the current statement.
func (c *checker) endRun(more bool) {
	if c.run != nil && c.run.bytes >= longRun && c.script.Plain != nil {
		c.run.end = c.script.BytesRead()
		if more {
			c.run.to = c.script.Mark()
			c.run.end = c.run.to.Offset
		}
		c.survey.runs[c.run.from.Offset] = c.run
	}
	c.run = nil
}

// define takes in what a statement makes, and how it fits this server.
func (c *checker) define(v verdict) {
	if v.head.Verb != "CREATE" || v.head.Object == "" {
		return
	}
	c.survey.Defines[v.head.Object]++
	name := v.head.Name.Name
	switch v.head.Object {
	case "TRIGGER":
		if usesConnection(sqltext.Tokens(v.text, v.Dialect)) {
			if c.risky == nil {
				c.risky = map[string]bool{}
			}
			c.risky[v.head.Table.Name] = true
		}
	case "TABLE":
		if v.temporary {
			return
		}
		c.survey.Tables = append(c.survey.Tables, name)
		if table, ok := sqltext.ParseTable(v.text, v.Dialect); ok {
			c.defined[name] = table
			c.fits(v, table)
			if c.server.Cluster {
				c.replicates(v, table)
			}
		}
	}
	if v.head.Object != "INDEX" && v.head.Object != "DATABASE" && v.head.Object != "SCHEMA" {
		c.survey.Makes[dbms.Object{Kind: v.head.Object, Name: name}] = true
	}
}

// touch records what a statement does to objects that were there before.
func (c *checker) touch(v verdict) {
	if c.target.Holds == nil {
		return
	}
	verb := v.head.Verb
	switch {
	case verb == "DROP", verb == "TRUNCATE", verb == "CREATE" && v.head.Object != "INDEX" && v.head.Object != "TRIGGER":
		tokens := sqltext.Tokens(v.text, v.Dialect)
		list := dropped(v.head, tokens)
		if list == nil {
			list = []string{v.head.Name.Name}
		}
		if verb == "TRUNCATE" && len(tokens) > 1 {
			list = []string{tokens[len(tokens)-1].Plain()}
		}
		for _, name := range list {
			switch {
			case c.survey.Makes[dbms.Object{Kind: "TABLE", Name: name}] && verb != "CREATE", v.temporary:
			case verb == "DROP" || verb == "TRUNCATE":
				c.removes(v.Statement, c.target, name)
			default:
				c.touchTable(v, name, "makes")
			}
		}
	case verb == "ALTER", verb == "RENAME", v.kind == change, v.kind == indexes, v.head.Object == "INDEX", v.head.Object == "TRIGGER":
		for _, t := range sqltext.Tokens(v.text, v.Dialect) {
			if (t.Kind == sqltext.Name || t.Kind == sqltext.Word) && c.target.Holds[t.Plain()] {
				c.touchTable(v, t.Plain(), "changes")
			}
		}
	}
}

func (c *checker) touchTable(v verdict, name, how string) {
	c.touches(v.Statement, c.target, name, how, c.options)
}

// sequence keeps track of what makes joined rows and side by side sessions
// unsafe.
func (c *checker) sequence(v verdict) {
	s := v.Statement
	tokens := sqltext.Tokens(v.text, v.Dialect)
	switch verb := v.head.Verb; {
	case verb == "ROLLBACK" || verb == "SAVEPOINT" || verb == "RELEASE":
		c.oneByOne(s, "the script takes back parts of its own transactions")
	case verb == "CALL":
		c.oneByOne(s, "the script calls a procedure, which may ask for what the statements before it did")
	case verb == "PREPARE" || verb == "EXECUTE":
		c.oneByOne(s, "the script prepares statements")
	case v.kind == transaction:
		c.open = verb == "START" || verb == "BEGIN" || verb == "SET" && !tokens[len(tokens)-1].Is("1") && !tokens[len(tokens)-1].Is("ON")
	case verb == "SET":
		for _, a := range sqltext.ParseSet(v.text, v.Dialect) {
			if !a.User && perStatement[a.Name] {
				c.oneByOne(s, "SET "+a.Name+" is for the one statement behind it")
			}
		}
	}
	if v.head.Object != "FUNCTION" && v.head.Object != "PROCEDURE" && v.head.Object != "EVENT" && v.head.Object != "TRIGGER" && asksBack(tokens) {
		c.survey.asksBack = true
		c.oneByOne(s, "the statement asks for the outcome of the one before it")
	}
	if v.head.Verb == "ALTER" && slices.ContainsFunc(tokens, func(t sqltext.Token) bool { return t.Is("PRIMARY") }) {
		delete(c.unkeyed, v.head.Name.Name)
	}
	for _, t := range tokens {
		if t.Kind == sqltext.Word || t.Kind == sqltext.Name {
			if d := c.survey.data[t.Plain()]; d != nil && d.mention == 0 && v.kind != keySwitch && v.kind != tableLock {
				d.mention = s.Offset
			}
		}
	}
}

// perStatement are session variables that change what the next row gets.
var perStatement = set("insert_id last_insert_id timestamp rand_seed1 rand_seed2 pseudo_thread_id identity")

// asksBack reports whether a statement uses what the one before it left
// behind in the session.
func asksBack(tokens []sqltext.Token) bool {
	for _, t := range tokens {
		if t.Kind == sqltext.Word {
			switch strings.ToUpper(string(t.Text)) {
			case "LAST_INSERT_ID", "ROW_COUNT", "FOUND_ROWS", "DIAGNOSTICS", "IDENTITY", "WARNING_COUNT", "ERROR_COUNT", "INSERT_ID":
				return true
			}
		}
	}
	return false
}

// usesConnection is asksBack for bodies, where user variables count, too.
func usesConnection(tokens []sqltext.Token) bool {
	for i, t := range tokens {
		if t.IsPunct('@') && i+1 < len(tokens) && !tokens[i+1].IsPunct('@') && (i == 0 || !tokens[i-1].IsPunct('@')) {
			return true
		}
	}
	return asksBack(tokens)
}

func (c *checker) finish() {
	c.endRun(false)
	s := c.survey
	s.Length = c.script.BytesRead()
	if c.open {
		s.OneByOne = c.source.Name + ": the script ends in a transaction it does not commit"
	}
	for _, name := range slices.Sorted(maps.Keys(c.mapped)) {
		what := fmt.Sprintf("this server has no collation %s", name)
		if c.options.MapCollations {
			c.survey.Notes = append(c.survey.Notes, Finding{Place: c.mapped[name].at, Count: 1,
				What: what + ": " + c.mapped[name].to + " takes its place", Next: "letters and trailing spaces may compare otherwise, so look at unique keys"})
		} else {
			s.Refused = append(s.Refused, Finding{Place: c.mapped[name].at, Count: 1, What: what,
				Next: "{map-collations} puts " + c.mapped[name].to + " in its place: letters and trailing spaces may compare otherwise"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.unkeyed)) {
		c.note(c.unkeyed[name], name+" has no primary key: the cluster cannot delete its rows, and nodes may order them differently", "give it one")
	}
	c.close()
}
