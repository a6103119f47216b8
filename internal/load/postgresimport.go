package load

import (
	"bytes"
	"context"
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
)

// postgresEngine runs one import into PostgreSQL: in one transaction on one
// session, so that a failure leaves nothing, unless Options.Fast gives that up
// for lanes.
//
// INSERTs of literal rows into one table are joined. Each row of a joined
// statement is coerced to its columns by itself, as if it stood alone
// (PostgreSQL source, transformInsertStmt), so only what fires once a statement
// can tell the difference: triggers, rules, and foreign keys of a table to
// itself, which are checked at a statement's end. Tables with one of these get
// their rows one by one, several statements to a message.
type postgresEngine struct {
	source  Source
	target  Target
	options Options
	judge   *postgresJudge
	script  *postgresScript

	main    PostgresSession
	message message
	tables  map[string]tableNature // forgotten when a definition changes
	inside  bool                   // in a transaction that the script has begun
	pool    *postgresPool          // of lanes; nil in one transaction

	sending fault.Place // that warnings are about
	account
}

// message is what is sent to the server at once: pieces of SQL, each of one
// statement of the script or of several that were joined.
type message struct {
	text   []byte
	pieces []piece
}

type piece struct {
	start, end int // in the message
	table      string
	parts      []part // of the script
	// For joined rows: what the statements begin with, and what is known of the
	// table.
	head    []byte
	insert  sqltext.Insert
	dialect sqltext.Dialect
	columns []column
}

// messageSize is from what size on a message is sent. Larger ones were measured
// to gain nothing.
const messageSize = 256 << 10

// importPostgres is Import for PostgreSQL.
func importPostgres(ctx context.Context, s Source, survey *Survey, target Target, o Options, progress func(Progress)) (Report, error) {
	e := &postgresEngine{source: s, target: target, options: o, judge: newPostgresJudge(s, target, o), tables: map[string]tableNature{}}
	e.open(s, survey, o, progress)
	err := e.run(ctx)
	if e.main != nil {
		e.main.Close() // which takes back what is not committed
	}
	if e.script != nil {
		e.script.close()
	}
	if err != nil && !o.Fast {
		e.report.Made = map[dbms.Object]bool{}
	}
	return e.conclude(ctx, err)
}

// run reads the script and sends it.
func (e *postgresEngine) run(ctx context.Context) (err error) {
	if e.script, err = e.source.postgresScript(); err != nil {
		return err
	}
	if e.main, err = e.target.OpenPostgres(ctx, e.warned); err != nil {
		return err
	}
	switch {
	case !e.options.Fast:
		err = e.send(ctx, "BEGIN")
	case e.report.OneByOne == "":
		e.pool = newPostgresPool(e)
		defer func() { err = e.pool.close(err) }()
	}
	if err == nil {
		err = e.read(ctx)
	}
	if err == nil {
		err = e.pool.wait()
	}
	if err != nil || e.options.Fast {
		return err
	}
	err = e.send(ctx, "COMMIT")
	var spoken *dbms.ServerError
	if errors.As(err, &spoken) {
		return fault.At(fault.Failed, fault.Place{File: e.source.Name}, "correct the script; deferred constraints are checked at its end", "%s, at the end of the script", spoken.Error()).With(spoken)
	}
	return err
}

// read sends statement after statement.
func (e *postgresEngine) read(ctx context.Context) error {
	for {
		statement, err := e.script.Next()
		if errors.Is(err, io.EOF) {
			return e.flush(ctx)
		}
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			err = e.pool.failure()
		}
		if err != nil {
			return err
		}
		if err := e.take(ctx, statement); err != nil {
			return e.explain(statement, err)
		}
	}
}

// take deals with one statement.
func (e *postgresEngine) take(ctx context.Context, s sqltext.Statement) error {
	oneByOne := e.report.OneByOne != ""
	if taken, err := e.giveRun(ctx, s); taken || err != nil {
		return err
	}
	v := e.judge.look(s)
	if v.class == literalRows {
		if taken, err := e.takeRows(ctx, v); taken || err != nil {
			return err
		}
		v = e.judge.lookClosely(v)
	}
	switch {
	case v.objection != nil: // the survey has let nothing through; this is the last line
		return fault.New(fault.Protected, v.objection.next, "%s", v.objection.what)
	case v.dropped != "":
		e.done.Add(int64(s.Size))
		return nil
	case v.class == copyRows:
		return e.copy(ctx, v)
	case v.class == otherRows && !oneByOne && e.pool == nil:
		e.message.add(v, e.tableOf(v))
		return e.flushIfFull(ctx)
	}
	if err := e.flush(ctx); err != nil {
		return err
	}
	if v.class == keyOf && e.pool != nil && !e.inside {
		return e.pool.key(ctx, v, e.judge.name(v.head.Table))
	}
	text := e.nested(v)
	if text == "" {
		e.done.Add(int64(s.Size))
		return nil
	}
	if v.class == sessionSetting {
		e.pool.set(text)
	} else if err := e.pool.wait(); err != nil {
		return err
	}
	clear(e.tables)
	e.sending = fault.Place{File: e.source.Name, Line: s.Line, Column: s.Column}
	if err := e.main.Send(ctx, text, func(rows int64) { e.rows.Add(rows) }); err != nil {
		return err
	}
	if v.head.Verb == "CREATE" && v.head.Object != "" {
		e.made(e.judge.made(v))
	}
	if v.head.Verb == "DROP" {
		for _, name := range e.judge.listed(sqltext.Tokens(v.Text, v.Dialect)) {
			dropMade(e.report.Made, v.head.Object, name)
		}
	}
	if table := e.tableOf(v); table != "" {
		e.filled(table)
	}
	e.countStatements(1, int64(s.Size))
	return nil
}

// countStatements keeps the account of statements that went well.
func (a *account) countStatements(n int, bytes int64) {
	a.sent.Add(int64(n))
	a.done.Add(bytes)
	a.tellSometimes()
}

// nested turns what the script says of its own transactions into savepoints of
// the one transaction; empty where there is nothing to send.
func (e *postgresEngine) nested(v postgresVerdict) string {
	const own = "yellowfield_script"
	was := e.inside
	if e.options.Fast {
		e.inside = v.class == beginning || was && v.class != ending && v.class != takingBack
		return string(v.text)
	}
	switch v.class {
	case beginning:
		e.inside = true
		if !was {
			return "SAVEPOINT " + own
		}
	case ending:
		e.inside = false
		if was {
			return "RELEASE SAVEPOINT " + own
		}
	case takingBack:
		e.inside = false
		if was {
			return "ROLLBACK TO SAVEPOINT " + own + "; RELEASE SAVEPOINT " + own
		}
	default:
		return string(v.text)
	}
	return ""
}

// takeRows joins rows with those before; taken is false when they have to go
// another way.
func (e *postgresEngine) takeRows(ctx context.Context, v postgresVerdict) (taken bool, err error) {
	if e.report.OneByOne != "" || !isLiteral(v) {
		return false, nil
	}
	nature, err := e.nature(ctx, v.insert.Table)
	if err != nil || !nature.joins {
		return false, err
	}
	e.message.join(v, e.judge.name(v.insert.Table), nature)
	return true, e.flushIfFull(ctx)
}

// isLiteral reports whether all rows are.
func isLiteral(v postgresVerdict) bool {
	scanner := sqltext.NewRowScanner(v.Text, v.insert.Body, v.Dialect)
	var row sqltext.Row
	for scanner.Next(&row) {
	}
	return scanner.Literal()
}

// tableNature says what may be done with the rows of a table.
type tableNature struct {
	joins bool // several INSERTs may be sent as one
	alone bool // no other table has a say, so that its rows can go to a lane
	// columns are for COPY in place of INSERT; nil where that is not done.
	columns []column
}

func (e *postgresEngine) nature(ctx context.Context, table sqltext.ObjectName) (tableNature, error) {
	name := e.judge.name(table)
	if known, is := e.tables[name]; is {
		return known, nil
	}
	found, err := e.main.Query(ctx, `SELECT NOT EXISTS (SELECT FROM pg_catalog.pg_trigger WHERE tgrelid = c.oid AND NOT tgisinternal)
		AND NOT EXISTS (SELECT FROM pg_catalog.pg_constraint WHERE conrelid = c.oid AND confrelid = c.oid),
		NOT EXISTS (SELECT FROM pg_catalog.pg_trigger WHERE tgrelid = c.oid)
		FROM pg_catalog.pg_class c WHERE c.oid = pg_catalog.to_regclass(`+quotedText(quotedName(table))+`)
		AND c.relkind = 'r' AND NOT c.relhasrules AND NOT EXISTS (SELECT FROM pg_catalog.pg_inherits WHERE inhparent = c.oid OR inhrelid = c.oid)`)
	n := tableNature{}
	if err == nil && len(found) > 0 {
		n = tableNature{joins: found[0][0] == "t", alone: found[0][0] == "t" && found[0][1] == "t"}
		if n.joins && !e.judge.foreign {
			n.columns, err = readColumns(ctx, e.main, table)
		}
		e.tables[name] = n
	}
	return n, err
}

func quotedName(n sqltext.ObjectName) string {
	quote := func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
	if n.Schema != "" {
		return quote(n.Schema) + "." + quote(n.Name)
	}
	return quote(n.Name)
}

func quotedText(text string) string {
	return "E'" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(text) + "'"
}

// tableOf is the table that an INSERT or COPY puts rows into; empty for another
// statement.
func (e *postgresEngine) tableOf(v postgresVerdict) string {
	if v.head.Verb != "INSERT" && v.head.Verb != "COPY" {
		return ""
	}
	return e.judge.name(v.head.Name)
}

// add puts a statement of the script behind those in the message.
func (m *message) add(v postgresVerdict, table string) {
	m.separate()
	p := part{Statement: placeOf(v.Statement), start: len(m.text)}
	m.text = append(m.text, v.text...)
	p.end = len(m.text)
	m.pieces = append(m.pieces, piece{start: p.start, end: p.end, table: table, parts: []part{p}})
}

// join puts rows behind those of the statement before, if that was for the same
// columns of the same table.
func (m *message) join(v postgresVerdict, table string, nature tableNature) {
	head, body, p := v.Text[:v.insert.Body], v.Text[v.insert.Body:], part{Statement: placeOf(v.Statement)}
	if n := len(m.pieces); n > 0 && bytes.Equal(m.pieces[n-1].head, head) {
		m.text = append(m.text, ",\n"...)
	} else {
		m.separate()
		m.pieces = append(m.pieces, piece{start: len(m.text), head: bytes.Clone(head), table: table, insert: v.insert, dialect: v.Dialect, columns: nature.columns})
		m.text = append(m.text, head...)
	}
	p.start = len(m.text)
	m.text = append(m.text, body...)
	p.end = len(m.text)
	last := &m.pieces[len(m.pieces)-1]
	last.end = p.end
	last.parts = append(last.parts, p)
}

// separate ends the statement before, whose text may end in a comment to the end
// of the line.
func (m *message) separate() {
	if len(m.pieces) > 0 {
		m.text = append(m.text, "\n;"...)
	}
}

func (m *message) reset() { m.text, m.pieces = m.text[:0], m.pieces[:0] }

func (e *postgresEngine) flushIfFull(ctx context.Context) error {
	if len(e.message.text) < messageSize {
		return nil
	}
	return e.flush(ctx)
}

// flush sends the message.
func (e *postgresEngine) flush(ctx context.Context) error {
	if len(e.message.pieces) == 0 {
		return nil
	}
	defer e.message.reset()
	if err := e.pool.wait(); err != nil { // lanes may be at work on what these rows refer to
		return err
	}
	first := e.message.pieces[0].parts[0]
	e.sending = fault.Place{File: e.source.Name, Line: first.Line, Column: first.Column}
	frame := within
	if e.options.Fast && !e.inside {
		frame = byItself
	}
	return e.message.send(ctx, e.main, frame, &e.account)
}

// countPiece keeps the account of a piece of a message.
func (a *account) countPiece(p piece, rows int64) {
	bytes := int64(0)
	for _, part := range p.parts {
		bytes += int64(part.Size)
	}
	a.rows.Add(rows)
	if p.table != "" {
		a.filled(p.table)
		a.at.Store(&p.table)
	}
	a.countStatements(len(p.parts), bytes)
}

// send sends a message as a whole: within a transaction, or as one. The rows of
// a piece that is refused are sent again one by one, to find the one to blame.
func (m *message) send(ctx context.Context, session PostgresSession, frame frame, a *account) error {
	if sent, err := m.sendCopies(ctx, session, frame, a); sent || err != nil {
		return err
	}
	before := frame.before + ";"
	at := -1 // the first result is that of before
	err := session.Send(ctx, before+string(m.text)+"\n;"+frame.behind, func(rows int64) {
		if at >= 0 && at < len(m.pieces) {
			a.countPiece(m.pieces[at], rows)
		}
		at++
	})
	var refused *dbms.ServerError
	if !errors.As(err, &refused) {
		return err
	}
	if refused.Position > 0 {
		return m.blame(a.name, refused, byteOf(m.text, refused.Position-1-len(before)))
	}
	if at < 0 || at >= len(m.pieces) { // constraints that are deferred
		return m.locate(a.name, m.pieces[0], m.pieces[0].parts[0], refused, -1)
	}
	guilty := m.pieces[at]
	ignore := func(int64) {}
	if len(guilty.parts) > 1 && session.Send(ctx, frame.again, ignore) == nil {
		for _, p := range m.pieces[:at] {
			if session.Send(ctx, string(m.text[p.start:p.end]), ignore) != nil {
				break
			}
		}
		for _, p := range guilty.parts {
			if err := session.Send(ctx, string(guilty.head)+string(m.text[p.start:p.end]), ignore); err != nil {
				return m.locate(a.name, guilty, p, err, -1)
			}
		}
	}
	return m.locate(a.name, guilty, guilty.parts[0], refused, -1)
}

// blame finds the statement of the script for a place in the message where the
// server says that it is wrong.
func (m *message) blame(script string, refused *dbms.ServerError, at int) error {
	for i, p := range m.pieces {
		for j, part := range p.parts {
			if at > part.end && (i < len(m.pieces)-1 || j < len(p.parts)-1) {
				continue
			}
			offset := at - part.start + len(p.head)
			if j == 0 {
				offset = at - p.start // which may be in the head
			}
			return m.locate(script, p, part, refused, max(0, offset))
		}
	}
	return refused
}

// byteOf is where the n-th character of text begins, n from 0.
func byteOf(text []byte, n int) int {
	at := 0
	for ; n > 0 && at < len(text); n-- {
		_, size := utf8.DecodeRune(text[at:])
		at += size
	}
	return at
}

// locate gives a refusal its place: the statement of the script, and the line of
// it if the server points behind its beginning. offset is where in the statement
// it points; negative where that is left to the error.
func (m *message) locate(script string, p piece, which part, err error, offset int) error {
	s := which.Statement
	s.Text = append(bytes.Clone(p.head), m.text[which.start:which.end]...)
	return locatedPostgres(script, s, err, offset)
}

// copyLine is how the server names a line of COPY.
var copyLine = regexp.MustCompile(`^COPY .*, line (\d+)`)

// locatedPostgres gives what the server refused its place. offset is where in
// the statement's text the server points; negative where the statement was sent
// by itself, so that the error says it.
func locatedPostgres(name string, s sqltext.Statement, err error, offset int) error {
	place := fault.Place{File: name, Line: s.Line, Column: s.Column}
	var spoken *dbms.ServerError
	if !errors.As(err, &spoken) {
		f := fault.As(err)
		explained := fault.At(f.Class, place, f.Next, "%s", f.What).With(err)
		explained.Excerpt = excerpt(firstLine(s.Text), s, place)
		return explained
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
	next := explainPostgres(spoken)
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
	return excerpt(line, s, place)
}

// explainPostgres gives the next step for an error that a script met
// (PostgreSQL, "Error Codes").
func explainPostgres(err *dbms.ServerError) string {
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
	case "25001":
		return "--fast sends the statements without the one transaction, in which this one cannot run"
	case "55P04":
		return "--fast commits the new value first; then it can be used"
	}
	if err.Hint != "" {
		return err.Hint
	}
	return "correct the statement and run the command again"
}

// copy sends a COPY and the rows behind it.
func (e *postgresEngine) copy(ctx context.Context, v postgresVerdict) error {
	if err := e.flush(ctx); err != nil {
		return err
	}
	nature, err := e.nature(ctx, v.head.Name)
	if err != nil {
		return err
	}
	if nature.alone {
		err = e.pool.waitFor(e.tableOf(v))
	} else {
		err = e.pool.wait()
	}
	if err != nil {
		return err
	}
	e.sending = fault.Place{File: e.source.Name, Line: v.Line, Column: v.Column}
	return e.copyRows(ctx, e.main, e.script, v, e.tableOf(v))
}

// copyRows sends a COPY and its rows on a session.
func (a *account) copyRows(ctx context.Context, session PostgresSession, script *postgresScript, v postgresVerdict, table string) error {
	v.Text = bytes.Clone(v.Text) // which reading the rows makes invalid
	a.at.Store(&table)
	data := &countedRows{from: script.Data(), passed: func(n int) { a.done.Add(int64(n)); a.tellSometimes() }}
	rows, err := session.Copy(ctx, string(v.Text), data)
	if data.err != nil {
		return data.err // the script cannot be read on
	}
	if err != nil {
		return locatedPostgres(a.name, v.Statement, err, -1)
	}
	a.rows.Add(rows)
	a.filled(table)
	a.countStatements(1, int64(v.Size))
	return nil
}

// countedRows tells how far the rows of a COPY are, and keeps the error of their
// source apart from the server's.
type countedRows struct {
	from   io.Reader
	passed func(int)
	err    error
}

func (c *countedRows) Read(into []byte) (int, error) {
	n, err := c.from.Read(into)
	if n > 0 {
		c.passed(n)
	}
	if err != nil && !errors.Is(err, io.EOF) {
		c.err = err
	}
	return n, err
}

// send sends a statement of ours.
func (e *postgresEngine) send(ctx context.Context, statement string) error {
	return e.main.Send(ctx, statement, func(int64) {})
}

// explain gives what went wrong at a statement its place, if it has none yet.
func (e *postgresEngine) explain(s sqltext.Statement, err error) error {
	var known *fault.Error
	if errors.As(err, &known) && known.Place.File != "" {
		return err
	}
	return locatedPostgres(e.source.Name, s, err, -1)
}

// warned keeps a warning of the server.
func (e *postgresEngine) warned(message string) { e.remark(0, message, e.sending) }
