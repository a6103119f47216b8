package postgres

import (
	"bytes"
	"context"
	"errors"
	"io"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// engine runs one import into PostgreSQL: in one transaction on one
// session, so that a failure leaves nothing; by lanes where Options.Fast gives that up, or
// where the database held nothing before, so that whoever takes a failed import back leaves
// nothing either.
//
// INSERTs of literal rows into one table are joined. Each row of a joined
// statement is coerced to its columns by itself, as if it stood alone
// (PostgreSQL source, transformInsertStmt), so only what fires once a statement
// can tell the difference: triggers, rules, and foreign keys of a table to
// itself, which are checked at a statement's end. Tables with one of these get
// their rows one by one, several statements to a message.
type engine struct {
	load.Ledger
	*Importer
	source  script.Source
	survey  *load.Survey
	options load.Options
	judge   *judge
	script  *reading

	main          Session
	message       message
	tables        map[string]handling // forgotten when a definition changes
	inTransaction bool                // in a transaction that the script has begun
	fresh         map[string]bool     // tables that this transaction has made itself
	pool          *pool               // of lanes; nil in one transaction

	// rowsOpen and rowsSize are the transaction in which rows are collected where the
	// script is not one: a commit for each message would cost more than the rows.
	rowsOpen bool
	rowsSize int

	sending fault.Place // that warnings are about
}

// Import implements load.Importer.
func (i *Importer) Import(ctx context.Context, s script.Source, survey *load.Survey, o load.Options, progress func(load.Progress)) (load.Report, error) {
	e := &engine{Importer: i, source: s, survey: survey, options: o, judge: newJudge(i, s, o), tables: map[string]handling{}, fresh: map[string]bool{}}
	e.options.Fast = o.Fast || len(i.Target.Holds) == 0 && isWorthLanes(survey)
	e.Begin(s, survey, o, progress)
	err := e.run(ctx)
	if e.main != nil {
		e.main.Close() // which takes back what is not committed
	}
	if e.script != nil {
		e.script.Close()
	}
	if err != nil && !e.options.Fast {
		e.Report.Made = map[dbms.Object]bool{}
	}
	return e.Conclude(ctx, err)
}

// isWorthLanes reports whether a script holds long COPYs, most of all. Rows of INSERTs keep the
// leader as busy as the server, and gain nothing.
func isWorthLanes(survey *load.Survey) bool {
	var total int64
	for _, d := range survey.Data {
		total += d.Bytes
	}
	return len(survey.Runs) > 0 && 2*survey.Copied > total
}

// run reads the script and sends it.
func (e *engine) run(ctx context.Context) (err error) {
	if e.script, err = read(ctx, e.source); err != nil {
		return err
	}
	if e.main, err = e.Open(ctx, e.warned); err != nil {
		return err
	}
	switch {
	case !e.options.Fast:
		err = e.send(ctx, "BEGIN")
	case e.Report.OneByOne == "":
		e.pool = newPool(e)
		defer func() { err = e.pool.close(err) }()
	}
	if err == nil {
		err = e.read(ctx)
	}
	if err == nil {
		err = e.commitRows(ctx)
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
func (e *engine) read(ctx context.Context) error {
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
func (e *engine) take(ctx context.Context, s sqltext.Statement) error {
	oneByOne := e.Report.OneByOne != ""
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
	case v.objection != nil: // the survey has refused it already; this is the last line of defence
		return v.objection.Protect()
	case v.dropped != "":
		e.Passed(int64(s.Size))
		return nil
	case v.class == copyRows:
		return e.copy(ctx, v)
	case v.class == otherRows && !oneByOne:
		e.message.add(v, e.tableOf(v))
		return e.flushIfFull(ctx)
	}
	if err := e.flush(ctx); err != nil {
		return err
	}
	if err := e.commitRows(ctx); err != nil { // lanes, and what cannot run in a transaction, come after
		return err
	}
	if v.class == keyOf && e.pool != nil && !e.inTransaction {
		return e.pool.key(ctx, v, e.judge.name(v.head.Table))
	}
	text := e.nested(v)
	if text == "" {
		e.Passed(int64(s.Size))
		return nil
	}
	if v.class == sessionSetting {
		e.pool.set(text)
	} else if err := e.pool.wait(); err != nil {
		return err
	}
	clear(e.tables)
	e.sending = s.Place(e.source.Name)
	if err := e.main.Send(ctx, text, e.Changed); err != nil {
		return err
	}
	e.noteFresh(v)
	if v.head.Verb == "CREATE" && v.head.Object != "" {
		e.Made(e.judge.made(v))
	}
	if v.head.Verb == "DROP" {
		for _, name := range e.judge.listed(v.tokens) {
			dropMade(e.Report.Made, v.head.Object, name)
		}
	}
	if table := e.tableOf(v); table != "" {
		e.Stored(table, 0)
	}
	e.Sent(1, int64(s.Size))
	return nil
}

// nested turns what the script says of its own transactions into savepoints of
// the one transaction; empty where there is nothing to send.
func (e *engine) nested(v verdict) string {
	const own = "yellowfield_script"
	was := e.inTransaction
	if e.options.Fast {
		e.inTransaction = v.class == beginning || was && v.class != ending && v.class != takingBack
		return string(v.text)
	}
	switch v.class {
	case beginning:
		e.inTransaction = true
		if !was {
			return "SAVEPOINT " + own
		}
	case ending:
		e.inTransaction = false
		if was {
			return "RELEASE SAVEPOINT " + own
		}
	case takingBack:
		e.inTransaction = false
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
func (e *engine) takeRows(ctx context.Context, v verdict) (taken bool, err error) {
	if e.Report.OneByOne != "" {
		return false, nil
	}
	if _, literal := e.judge.countRows(v); !literal {
		return false, nil
	}
	h, err := e.handlingOf(ctx, v.insert.Table)
	if err != nil || !h.joins {
		return false, err
	}
	e.message.join(v, e.judge.name(v.insert.Table), h)
	return true, e.flushIfFull(ctx)
}

// handling says what may be done with the rows of a table.
type handling struct {
	joins bool // several INSERTs may be sent as one
	alone bool // no other table has a say, so that its rows can go to a lane
	// columns are for COPY in place of INSERT; nil where that is not done.
	columns []column
}

func (e *engine) handlingOf(ctx context.Context, table sqltext.ObjectName) (handling, error) {
	name := e.judge.name(table)
	if known, is := e.tables[name]; is {
		return known, nil
	}
	found, err := e.main.Query(ctx, `SELECT NOT EXISTS (SELECT FROM pg_catalog.pg_trigger WHERE tgrelid = c.oid AND NOT tgisinternal)
		AND NOT EXISTS (SELECT FROM pg_catalog.pg_constraint WHERE conrelid = c.oid AND confrelid = c.oid),
		NOT EXISTS (SELECT FROM pg_catalog.pg_trigger WHERE tgrelid = c.oid)
		FROM pg_catalog.pg_class c WHERE c.oid = pg_catalog.to_regclass(`+postgres.QuoteText(quotedName(table))+`)
		AND c.relkind = 'r' AND NOT c.relhasrules AND NOT EXISTS (SELECT FROM pg_catalog.pg_inherits WHERE inhparent = c.oid OR inhrelid = c.oid)`)
	n := handling{}
	if err == nil && len(found) > 0 {
		n = handling{joins: found[0][0] == "t", alone: found[0][0] == "t" && found[0][1] == "t"}
		if n.joins && !e.judge.foreign {
			n.columns, err = readColumns(ctx, e.main, table)
		}
		e.tables[name] = n
	}
	return n, err
}

func quotedName(n sqltext.ObjectName) string {
	if n.Schema != "" {
		return postgres.QuoteName(n.Schema) + "." + postgres.QuoteName(n.Name)
	}
	return postgres.QuoteName(n.Name)
}

// tableOf is the table that an INSERT or COPY puts rows into; empty for another
// statement.
func (e *engine) tableOf(v verdict) string {
	if v.head.Verb != "INSERT" && v.head.Verb != "COPY" {
		return ""
	}
	return e.judge.name(v.head.Name)
}

func (e *engine) flushIfFull(ctx context.Context) error {
	if len(e.message.text) < messageSize {
		return nil
	}
	return e.flush(ctx)
}

// flush sends the message.
func (e *engine) flush(ctx context.Context) error {
	if len(e.message.pieces) == 0 {
		return nil
	}
	defer e.message.reset()
	if err := e.pool.wait(); err != nil { // lanes may be at work on what these rows refer to
		return err
	}
	first := e.message.pieces[0].parts[0]
	e.sending = first.Place(e.source.Name)
	if e.options.Fast && !e.inTransaction && !e.rowsOpen {
		if err := e.send(ctx, "BEGIN"); err != nil {
			return err
		}
		e.rowsOpen = true
	}
	e.rowsSize += len(e.message.text)
	if err := e.message.send(ctx, e.main, &e.Ledger); err != nil || e.rowsSize < commitSize {
		return err
	}
	return e.commitRows(ctx)
}

// commitSize is how many bytes of rows a transaction collects where the script is not
// one: enough that commits cost nothing, little enough that a failure loses little.
const commitSize = 8 << 20

// commitRows ends the transaction in which rows were collected.
func (e *engine) commitRows(ctx context.Context) error {
	e.rowsSize = 0
	if !e.rowsOpen {
		return nil
	}
	e.rowsOpen = false
	return e.send(ctx, "COMMIT")
}

// copy sends a COPY and the rows after it.
func (e *engine) copy(ctx context.Context, v verdict) error {
	if err := e.flush(ctx); err != nil {
		return err
	}
	h, err := e.handlingOf(ctx, v.head.Name)
	if err != nil {
		return err
	}
	if h.alone {
		err = e.pool.waitFor(e.tableOf(v))
	} else {
		err = e.pool.wait()
	}
	if err != nil {
		return err
	}
	if h.joins && !e.options.Fast && !e.inTransaction && e.fresh[e.tableOf(v)] && endsInStdin(v.Text) {
		// Nobody else has seen the table: its rows need no mark of this
		// transaction, which building its keys would have to look up.
		v.text = append(bytes.Clone(v.text), " WITH (FREEZE)"...)
	}
	e.sending = v.Place(e.source.Name)
	return sendCopy(ctx, e.main, e.script, v, e.tableOf(v), &e.Ledger)
}

// noteFresh remembers the tables that can be filled frozen: made by this very
// transaction, by none inside it, and with no cursor open (PostgreSQL, "COPY"). A lane makes
// its transaction one that could have made the table.
func (e *engine) noteFresh(v verdict) {
	switch {
	case e.inTransaction || e.Report.OneByOne != "":
	case v.head.Verb == "DECLARE" || v.head.Verb == "SAVEPOINT" || e.fresh == nil:
		e.fresh = nil // and none from here on
	case v.head.Verb == "CREATE" && v.head.Object == "TABLE":
		if v.tokens.Has("PARTITION") || v.tokens.Has("EXISTS") { // which may have been there
			return
		}
		e.fresh[e.judge.name(v.head.Name)] = true
	case v.head.Verb == "ALTER" && v.head.Object == "TABLE":
		// A table that was there before may have the name now.
		if v.tokens.Has("PARTITION") || v.tokens.Has("RENAME") || v.tokens.Has("SCHEMA") {
			clear(e.fresh)
		}
	}
}

// endsInStdin reports whether a COPY has no options.
func endsInStdin(text []byte) bool {
	const word = "stdin"
	return len(text) > len(word) && bytes.EqualFold(text[len(text)-len(word):], []byte(word))
}

// sendCopy sends a COPY and its rows on a session.
func sendCopy(ctx context.Context, session Session, script *reading, v verdict, table string, l *load.Ledger) error {
	v.Text, v.text = bytes.Clone(v.Text), bytes.Clone(v.text) // which reading the rows makes invalid
	l.AtTable(table)
	data := &countedRows{from: script.Data(), passed: l.Passed}
	rows, err := session.Copy(ctx, string(v.text), data)
	if data.err != nil {
		return data.err // the script cannot be read on
	}
	if err != nil {
		return located(l.Script, v.Statement, err, -1)
	}
	l.Stored(table, rows)
	l.Sent(1, int64(v.Size))
	return nil
}

// countedRows tells how far the rows of a COPY are, and keeps the error of their
// source apart from the server's.
type countedRows struct {
	from   io.Reader
	passed func(bytes int64)
	err    error
}

func (c *countedRows) Read(into []byte) (int, error) {
	n, err := c.from.Read(into)
	if n > 0 {
		c.passed(int64(n))
	}
	if err != nil && !errors.Is(err, io.EOF) {
		c.err = err
	}
	return n, err
}

// send sends a statement of ours.
func (e *engine) send(ctx context.Context, statement string) error {
	return e.main.Send(ctx, statement, func(int64) {})
}

// explain gives what went wrong at a statement its place, if it has none yet.
func (e *engine) explain(s sqltext.Statement, err error) error {
	var known *fault.Error
	if errors.As(err, &known) && known.Place.File != "" {
		return err
	}
	return located(e.source.Name, s, err, -1)
}

// warned keeps a warning of the server.
func (e *engine) warned(message string) { e.Warn(0, message, e.sending) }
