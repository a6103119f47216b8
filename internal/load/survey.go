package load

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
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
func Check(ctx context.Context, s Source, target Target, o Options) (*Survey, error) {
	if target.Server.Dialect.PostgreSQL {
		return checkPostgres(ctx, s, target, o)
	}
	script, err := s.script(target.Server)
	if err != nil {
		return nil, err
	}
	defer script.close()
	c := &checker{
		judge: newJudge(s, target, o), target: target, script: script, defined: map[string]*sqltext.Table{}, findings: newFindings(s),
		text: textCheck{raw: strings.EqualFold(s.Encoding, BinaryEncoding), converted: script.plain == nil && s.Encoding != ""},
	}
	for {
		statement, err := script.Next()
		switch {
		case errors.Is(err, io.EOF):
			if c.survey.Statements == 0 {
				return nil, noStatement(s)
			}
			c.finish()
			return c.survey, nil
		case err != nil:
			return nil, err
		case ctx.Err() != nil:
			return nil, fault.Stopped(ctx.Err())
		}
		c.survey.Statements++
		if err := c.statement(statement); err != nil {
			return nil, err
		}
	}
}

// checker is a first pass at work.
type checker struct {
	*judge
	findings
	target Target
	script *script
	text   textCheck
	// defined are the tables that the script has made so far.
	defined map[string]*sqltext.Table
	run     *run
	// unkeyed are tables without a primary key so far, and where they are made.
	unkeyed map[string]fault.Place
	open    bool            // in a transaction of the script's own, or with autocommit off
	risky   map[string]bool // tables whose triggers use what joined rows would change
}

// findings gather what a first pass has to say.
type findings struct {
	name   string // of the script
	survey *Survey
	notes  map[string]*Finding
	order  []string // of the notes
}

func newFindings(s Source) findings {
	return findings{name: s.Name, notes: map[string]*Finding{}, survey: &Survey{
		Defines: map[string]int{}, Makes: map[dbms.Object]bool{}, Touches: map[dbms.Object]bool{},
		data: map[string]*tableData{}, runs: map[int64]*run{},
	}}
}

func noStatement(s Source) error {
	return fault.At(fault.Invalid, fault.Place{File: s.Path}, "is it the right file?", "the script holds no statement")
}

func (f *findings) place(s sqltext.Statement) fault.Place {
	return fault.Place{File: f.name, Line: s.Line, Column: s.Column}
}

// note counts a finding of one kind.
func (f *findings) note(place fault.Place, what, next string) {
	if f.notes[what] == nil {
		f.notes[what] = &Finding{Place: place, What: what, Next: next}
		f.order = append(f.order, what)
	}
	f.notes[what].Count++
}

// touches records that a statement does something to a table that was there
// before.
func (f *findings) touches(s sqltext.Statement, target Target, name, how string, o Options) {
	if !target.Holds[name] {
		return
	}
	object := dbms.Object{Kind: "TABLE", Name: name}
	if !f.survey.Touches[object] && !o.IntoExisting {
		f.refuse(s, "the script "+how+" "+name+", which is in the database already", "use --into-existing if that is meant; else import into an empty database")
	}
	f.survey.Touches[object] = true
}

// removes refuses to remove or empty what was there before.
func (f *findings) removes(s sqltext.Statement, target Target, name string) {
	if target.Holds[name] {
		f.refuse(s, "the script removes or empties "+name+", which was there before", "export and remove it yourself if it is not needed, or import into an empty database")
	}
}

// close hands the notes on.
func (f *findings) close() {
	for _, what := range f.order {
		f.survey.Notes = append(f.survey.Notes, *f.notes[what])
	}
}

// mostRefusals are listed; the rest of a script made for another purpose adds
// nothing.
const mostRefusals = 20

func (f *findings) refuse(s sqltext.Statement, what, next string) {
	if len(f.survey.Refused) < mostRefusals {
		f.survey.Refused = append(f.survey.Refused, Finding{Place: f.place(s), What: what, Next: next, Count: 1})
	}
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
			fmt.Sprintf("raise max_allowed_packet to %s, or let server_during_import do so", Thousands(nextPacket(len(v.text)))))
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
			fmt.Sprintf("raise max_allowed_packet to %s, or let server_during_import do so", Thousands(nextPacket(v.insert.Body+longest))))
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
	if c.run != nil && c.run.bytes >= longRun && c.script.plain != nil {
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

// replicates notes what of a table a Galera cluster does not take to its other
// nodes (MariaDB, "MariaDB Galera Cluster - Known Limitations").
func (c *checker) replicates(v verdict, t *sqltext.Table) {
	engine := t.Options.Engine
	if engine == "" {
		engine = c.server.DefaultEngine
	}
	if !strings.EqualFold(engine, "InnoDB") && !c.options.ConvertCharset {
		c.note(c.place(v.Statement), "the rows of "+t.Name.Name+" ("+engine+") stay on this node: the cluster replicates InnoDB", "write ENGINE=InnoDB, or use --convert-charset")
	}
	if !slices.ContainsFunc(t.Keys, func(k sqltext.Key) bool { return k.Kind == "PRIMARY" }) {
		if c.unkeyed == nil {
			c.unkeyed = map[string]fault.Place{}
		}
		c.unkeyed[t.Name.Name] = c.place(v.Statement)
	}
}

// fits notes what this server lacks of what a table asks for.
func (c *checker) fits(v verdict, t *sqltext.Table) {
	charset := t.Options.Charset
	if charset == "" && t.Options.Collation != "" {
		charset = charsetOf(t.Options.Collation)
	}
	s := v.Statement
	modern := strings.HasPrefix(c.charset, "utf8mb4")
	for _, name := range append([]string{charset}, columnCharsets(t)...) {
		switch {
		case name == "":
		case !c.server.hasCharset(name):
			c.refuse(s, "this server has no character set "+name, "use one that SHOW CHARACTER SET lists")
		case modern && (name == "utf8" || name == "utf8mb3"):
			c.note(c.place(s), "utf8 means three bytes a character here: emoji and rare signs are refused or cut", "--convert-charset makes it utf8mb4")
		case modern && name == "latin1":
			c.note(c.place(s), "tables or columns in latin1 in a utf8mb4 database", "--convert-charset makes them utf8mb4")
		}
	}
	engine := strings.ToLower(t.Options.Engine)
	switch {
	case engine != "" && len(c.server.Engines) > 0 && !c.server.Engines[engine]:
		c.note(c.place(s), "this server has no storage engine "+t.Options.Engine+": it takes "+c.server.DefaultEngine+" or refuses the table, depending on sql_mode", "write ENGINE=InnoDB")
	case engine == "myisam" || engine == "aria":
		c.note(c.place(s), "tables of the engine "+t.Options.Engine+" do not roll back and are not crash-safe as InnoDB is", "--convert-charset makes them InnoDB")
	}
	c.keyLengths(v, t, charset)
}

func columnCharsets(t *sqltext.Table) []string {
	var list []string
	for _, column := range t.Columns {
		list = append(list, column.Charset)
	}
	return list
}

// keyLengths notes keys that are longer than the row format allows (MySQL
// Reference Manual, "InnoDB Limits"): 767 bytes a column in the old row
// formats, else 3072; 1000 bytes a key on MyISAM.
func (c *checker) keyLengths(v verdict, t *sqltext.Table, charset string) {
	if charset == "" {
		charset = c.charset
	}
	limit := 3072
	engine := strings.ToLower(t.Options.Engine)
	switch {
	case engine == "myisam":
		limit = 1000
	case t.Options.RowFormat == "COMPACT" || t.Options.RowFormat == "REDUNDANT":
		limit = 767
	}
	for _, key := range t.Keys {
		if key.Kind == "FULLTEXT" || key.Kind == "SPATIAL" {
			continue
		}
		total := 0
		for _, part := range key.Columns {
			column := t.Column(part.Name)
			if column == nil || column.Type != "VARCHAR" && column.Type != "CHAR" && !strings.HasSuffix(column.Type, "TEXT") {
				continue
			}
			length := column.Length
			if part.Length > 0 && (part.Length < length || length == 0) {
				length = part.Length
			}
			own := column.Charset
			if own == "" {
				own = charset
			}
			total += length * bytesOf(own)
		}
		if total > limit {
			c.note(c.place(v.Statement), fmt.Sprintf("the key %s of the table %s takes %s bytes, and %s are allowed: the server refuses or shortens it", orPrimary(key), t.Name.Name, Thousands(int64(total)), Thousands(int64(limit))),
				"shorten the key, or give the table ROW_FORMAT=DYNAMIC")
		}
	}
}

func orPrimary(k sqltext.Key) string {
	if k.Name == "" {
		return strings.ToLower(k.Kind)
	}
	return k.Name
}

// bytesOf is the longest character of a character set in bytes.
func bytesOf(charset string) int {
	switch charset {
	case "utf8mb4", "utf16", "utf32", "gb18030", "utf16le":
		return 4
	case "utf8", "utf8mb3", "eucjpms", "ujis":
		return 3
	case "ucs2", "gbk", "big5", "sjis", "cp932", "euckr", "gb2312":
		return 2
	}
	return 1
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
			c.survey.Notes = append(c.survey.Notes, Finding{Place: fault.Place{File: c.source.Name}, Count: 1,
				What: what + ": " + c.mapped[name] + " takes its place", Next: "letters and trailing spaces may compare otherwise, so look at unique keys"})
		} else {
			s.Refused = append(s.Refused, Finding{Place: fault.Place{File: c.source.Name}, Count: 1, What: what,
				Next: "--map-collations puts " + c.mapped[name] + " in its place: letters and trailing spaces may compare otherwise"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.unkeyed)) {
		c.note(c.unkeyed[name], name+" has no primary key: the cluster cannot delete its rows, and nodes may order them differently", "give it one")
	}
	c.close()
}

// textCheck makes sure that a script is text of its encoding.
type textCheck struct {
	raw       bool // nothing is known of the bytes
	converted bool // from another encoding: what could not be is U+FFFD
	foreign   bool // the script says that its bytes are in another character set
	strict    bool
}

// badByte finds the first byte that is no text; -1 for none. Binary values are
// none of its business: literals marked _binary, and values of binary columns.
func (t *textCheck) badByte(v verdict, table *sqltext.Table) int {
	switch {
	case t.raw || t.foreign:
		return -1
	case t.converted:
		return bytes.Index(v.Text, []byte("\ufffd"))
	case utf8.Valid(v.Text):
		return -1
	case v.kind == rows:
		return badValue(v, table)
	}
	scanner := sqltext.NewScanner(v.Text, v.Dialect)
	binary := false
	for token, ok := scanner.Next(); ok; token, ok = scanner.Next() {
		if !utf8.Valid(token.Text) && (!binary || token.Kind != sqltext.String) {
			return token.Start + firstInvalid(token.Text)
		}
		binary = token.Is("_binary")
	}
	return -1
}

// badValue looks at the values of rows. Those of a table that the script has
// not made are left to the server.
func badValue(v verdict, table *sqltext.Table) int {
	if table == nil {
		return -1
	}
	columns := v.insert.Columns
	if columns == nil {
		for _, c := range table.Columns {
			columns = append(columns, c.Name)
		}
	}
	found := -1
	scanner := sqltext.NewRowScanner(v.Text, v.insert.Body, v.Dialect)
	var row sqltext.Row
	scanner.Each = func(position int, value []byte) {
		if found >= 0 || value[0] == '_' || utf8.Valid(value) {
			return
		}
		if position < len(columns) {
			if c := table.Column(columns[position]); c != nil && isBinary(c) {
				return
			}
		}
		found = cap(v.Text) - cap(value) + firstInvalid(value) // both are slices of one text
	}
	for found < 0 && scanner.Next(&row) {
	}
	return found
}

// isBinary reports whether a column holds bytes and no text.
func isBinary(c *sqltext.Column) bool {
	switch c.Type {
	case "BIT", "GEOMETRY", "POINT", "LINESTRING", "POLYGON", "MULTIPOINT", "MULTILINESTRING", "MULTIPOLYGON", "GEOMETRYCOLLECTION":
		return true
	}
	return strings.HasSuffix(c.Type, "BLOB") || strings.HasSuffix(c.Type, "BINARY") || c.Charset == "binary"
}

func firstInvalid(text []byte) int {
	at := 0
	for at < len(text) {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size == 1 {
			break
		}
		at += size
	}
	return at
}

func badText(s sqltext.Statement, at int, place fault.Place) error {
	before := s.Text[:at]
	if n := bytes.Count(before, []byte{'\n'}); n > 0 {
		place.Line += n
		place.Column = utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1
	} else {
		place.Column += utf8.RuneCount(before)
	}
	return fault.At(fault.Invalid, place, "name the script's encoding (encoding: windows-1252 and the like), or encoding: binary if it holds binary values as they are",
		"the text is not valid in its encoding here")
}

// observe follows SET NAMES and sql_mode.
func (t *textCheck) observe(v verdict) {
	if v.head.Verb != "SET" {
		return
	}
	for _, a := range sqltext.ParseSet(v.text, v.Dialect) {
		if len(a.Value) == 0 || a.User {
			continue
		}
		value := strings.ToLower(a.Value[0].Plain())
		switch a.Name {
		case "names", "character set", "character_set_client":
			if a.Value[0].Kind != sqltext.Punct { // not another variable's
				t.foreign = !strings.HasPrefix(value, "utf8")
			}
		case "sql_mode":
			t.strict = strings.Contains(value, "strict") && strings.Contains(value, "no_zero_date")
		}
	}
}

func (t *textCheck) zeroDates(v verdict) bool {
	return t.strict && bytes.Contains(v.text, []byte("'0000-00-00"))
}
