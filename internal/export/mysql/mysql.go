// Package mysql exports databases of MariaDB and MySQL, as scripts that the servers'
// stock clients and the importer load.
//
// Definers are left out: whoever loads a script is the definer of what it makes. The
// package must never know of estate files, settings files or commands.
package mysql

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/export"
)

// Session is one login on the server, in the database. It is used by one goroutine at a
// time.
type Session interface {
	// Exec sends one statement. What the server refuses comes back as a *dbms.ServerError.
	Exec(ctx context.Context, statement string) (rows int64, err error)
	// Query gives all rows of a query as text, NULL as "".
	Query(ctx context.Context, query string) ([][]string, error)
	// Rows gives the rows of a query one by one, their values as text, nil for NULL; they
	// are valid until take returns.
	Rows(ctx context.Context, query string, take func([][]byte) error) error
	Close()
}

// Exporter exports one database.
type Exporter struct {
	MariaDB  bool
	Database string
	// Open makes one more session, of an account that may read all of the database.
	Open func(ctx context.Context) (Session, error)
	// Routine gives the definition of a routine that this account may not see, from the
	// server's catalogue; nil where nobody can.
	Routine func(ctx context.Context, kind, name string) ([]string, error)
}

var _ export.Exporter = (*Exporter)(nil)

// contents are what the database holds.
type contents struct {
	survey    export.Survey
	tables    []*table
	views     map[string]string // their definitions
	sequences []string
	triggers  []string
	routines  []dbms.Object
	events    []string
	// outside says that some tables do not keep a consistent view for readers.
	outside bool
}

// table is a base table.
type table struct {
	name   string
	bytes  int64
	merged bool // it has no rows of its own
	*columns
}

// engines are those that store rows, and whether each keeps a consistent view for readers.
var engines = map[string]bool{"INNODB": true, "ROCKSDB": true, "MYISAM": false, "ARIA": false, "MEMORY": false, "CSV": false, "ARCHIVE": false}

// merge is the engine of tables that are several others.
const merge = "MRG_MYISAM"

// Look tells what there is.
func (e *Exporter) Look(ctx context.Context, o export.Options) (*export.Survey, error) {
	session, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	found, err := e.look(ctx, session, o)
	if err != nil {
		return nil, err
	}
	return &found.survey, nil
}

// open makes a session that shows everything in the same way, whatever the server is set to.
func (e *Exporter) open(ctx context.Context) (Session, error) {
	session, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	// What is stored in UTC is read so. A client that writes to a slow disk is not sent away.
	for _, statement := range []string{
		"SET SESSION sql_mode = '', time_zone = '+00:00', sql_quote_show_create = 1, net_write_timeout = 3600",
		map[bool]string{true: "SET SESSION max_statement_time = 0", false: "SET SESSION max_execution_time = 0"}[e.MariaDB],
	} {
		if _, err := session.Exec(ctx, statement); err != nil {
			session.Close()
			return nil, err
		}
	}
	return session, nil
}

func (e *Exporter) look(ctx context.Context, session Session, o export.Options) (*contents, error) {
	c := &contents{survey: export.Survey{Counts: map[string]int{}}, views: map[string]string{}}
	leave := func(kind, name, why string) {
		c.survey.LeftOut = append(c.survey.LeftOut, export.LeftOut{Object: dbms.Object{Kind: kind, Name: name}, Why: why})
	}
	rows, err := session.Query(ctx, `SELECT TABLE_NAME, TABLE_TYPE, UPPER(COALESCE(ENGINE, '')), COALESCE(TABLE_ROWS, 0), COALESCE(DATA_LENGTH, 0), COALESCE(TABLE_COMMENT, '')
		FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME`)
	if err != nil {
		return nil, err
	}
	var unsafe []string
	for _, row := range rows {
		name, kind, engine := row[0], row[1], row[2]
		if !o.Takes(name) || strings.HasPrefix(kind, "TEMPORARY") {
			continue
		}
		keeps, known := engines[engine]
		switch {
		case strings.HasSuffix(kind, "VIEW"):
			if row[5] != "VIEW" && row[5] != "" {
				leave("VIEW", name, "it reads what is not there, and could not be loaded: "+row[5])
				continue
			}
			shown, err := one(session.Query(ctx, "SHOW CREATE VIEW "+mysql.QuoteName(name)))
			if err != nil {
				return nil, err
			}
			definition, err := e.anonymous(shown[1], "")
			if err != nil {
				return nil, err
			}
			if other := e.readsElsewhere(definition); other != "" {
				leave("VIEW", name, "it reads the database "+other)
				continue
			}
			c.views[name] = definition
			c.survey.Counts["VIEW"]++
			continue
		case kind == "SEQUENCE":
			c.sequences = append(c.sequences, name)
			c.survey.Counts["SEQUENCE"]++
			continue
		case engine == "":
			leave("TABLE", name, "the server cannot open it: "+row[5])
			continue
		case engine == merge:
		case !known:
			leave("TABLE", name, "its rows lie elsewhere, or cannot be read in the usual way (engine "+engine+")")
			continue
		case !keeps:
			unsafe = append(unsafe, name)
		}
		if kind == "SYSTEM VERSIONED" {
			leave("TABLE", name, "the history of its rows is not taken, its rows as they are now are")
		}
		c.tables = append(c.tables, &table{name: name, bytes: export.Number(row[4]), merged: engine == merge})
		c.survey.Counts["TABLE"]++
		c.survey.AboutRows += export.Number(row[3])
		c.survey.AboutBytes += export.Number(row[4])
	}
	if c.outside = len(unsafe) > 0; c.outside {
		c.survey.Remarks = append(c.survey.Remarks, "nobody can write to any table until these have been read, which do not keep the state of a moment: "+strings.Join(unsafe, ", "))
	}
	return c, e.lookAtPrograms(ctx, session, o, c, leave)
}

// lookAtPrograms lists triggers, routines and events.
func (e *Exporter) lookAtPrograms(ctx context.Context, session Session, o export.Options, c *contents, leave func(kind, name, why string)) error {
	rows, err := session.Query(ctx, `SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = DATABASE()
		ORDER BY EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER`)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if slices.ContainsFunc(c.tables, func(t *table) bool { return t.name == row[1] }) {
			c.triggers = append(c.triggers, row[0])
			c.survey.Counts["TRIGGER"]++
		}
	}
	if rows, err = session.Query(ctx, `SELECT ROUTINE_TYPE, ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() ORDER BY ROUTINE_TYPE, ROUTINE_NAME`); err != nil {
		return err
	}
	for _, row := range rows {
		switch {
		case !o.Takes(row[1]):
		case row[0] == "FUNCTION", row[0] == "PROCEDURE":
			c.routines = append(c.routines, dbms.Object{Kind: row[0], Name: row[1]})
			c.survey.Counts[row[0]]++
		default:
			leave(row[0], row[1], "routines of this kind are not taken")
		}
	}
	if rows, err = session.Query(ctx, `SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE() ORDER BY EVENT_NAME`); err != nil {
		return err
	}
	for _, row := range rows {
		if o.Takes(row[0]) {
			c.events = append(c.events, row[0])
			c.survey.Counts["EVENT"]++
		}
	}
	return nil
}

// Export writes the script: sequences and tables, their rows, and what works on them.
func (e *Exporter) Export(ctx context.Context, out io.Writer, o export.Options, progress func(export.Progress)) (*export.Report, error) {
	first, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	defer first.Close()
	found, err := e.look(ctx, first, o)
	if err != nil {
		return nil, err
	}
	w := &work{Exporter: e, contents: found, Writing: export.Begin(found.survey, o, out, progress)}
	err = w.write(ctx, first)
	for _, session := range w.readers {
		session.Close()
	}
	return w.End(len(w.readers), err)
}

// work is one export on its way.
type work struct {
	*Exporter
	*contents
	*export.Writing
	readers []Session // each with the same snapshot
}

const head = `SET NAMES utf8mb4;
SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', time_zone = '+00:00', foreign_key_checks = 0;
`

const tail = `SET SESSION sql_mode = DEFAULT, time_zone = DEFAULT, foreign_key_checks = DEFAULT;
`

func (w *work) write(ctx context.Context, first Session) error {
	held, err := w.openReaders(ctx, first)
	if err != nil {
		return err
	}
	reader := w.readers[0]
	if err := w.Say(head); err != nil {
		return err
	}
	for _, name := range w.sequences {
		if err := w.sequence(ctx, reader, name); err != nil {
			return err
		}
	}
	for _, t := range w.tables {
		if err := w.define(ctx, reader, t); err != nil {
			return err
		}
	}
	if held && !w.outside {
		if _, err := first.Exec(ctx, "UNLOCK TABLES"); err != nil {
			return err
		}
	}
	if err := w.rows(ctx); err != nil {
		return err
	}
	if held && w.outside {
		if _, err := first.Exec(ctx, "UNLOCK TABLES"); err != nil {
			return err
		}
	}
	if err := w.programs(ctx, reader); err != nil {
		return err
	}
	return w.Say(tail + "-- Complete: " + w.Report.Describe() + ".\n")
}

// openReaders opens the reading sessions with one snapshot: nobody writes while they begin.
// held says that the tables are locked against writing. Without the right to lock, a single
// session has to suffice.
func (w *work) openReaders(ctx context.Context, first Session) (held bool, err error) {
	lanes := w.LanesFor(len(w.tables), runtime.NumCPU())
	if len(w.tables) > 0 {
		var names []string
		for _, t := range w.tables {
			names = append(names, mysql.QuoteName(t.name)+" READ")
		}
		_, err := first.Exec(ctx, "LOCK TABLES "+strings.Join(names, ", "))
		var spoken *dbms.ServerError
		switch {
		case err == nil:
			held = true
		case errors.As(err, &spoken) && (spoken.Code == 1044 || spoken.Code == 1142):
			lanes = 1
		default:
			return false, err
		}
	}
	for range lanes {
		session, err := w.open(ctx)
		if err != nil {
			return held, err
		}
		w.readers = append(w.readers, session)
		for _, statement := range []string{"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"} {
			if _, err := session.Exec(ctx, statement); err != nil {
				return held, err
			}
		}
	}
	return held, nil
}

// sum keeps what an object is.
func (w *work) sum(kind, name, definition string) {
	if w.Report.Sums != nil {
		w.Report.Sums[dbms.Object{Kind: kind, Name: name}] = export.SumOf(definition)
	}
}

func (w *work) sequence(ctx context.Context, session Session, name string) error {
	shown, err := one(session.Query(ctx, "SHOW CREATE SEQUENCE "+mysql.QuoteName(name)))
	if err != nil {
		return err
	}
	value, err := one(session.Query(ctx, "SELECT next_not_cached_value FROM "+mysql.QuoteName(name)))
	if err != nil {
		return err
	}
	definition := shown[1] + ";\nDO SETVAL(" + mysql.QuoteName(name) + ", " + value[0] + ", 0);\n"
	w.sum("SEQUENCE", name, definition)
	return w.Say(definition)
}

// define writes a table's definition. Having read from it once keeps others from changing
// that until the export is through.
func (w *work) define(ctx context.Context, session Session, t *table) error {
	if !t.merged {
		if _, err := session.Query(ctx, "SELECT 1 FROM "+mysql.QuoteName(t.name)+" LIMIT 0"); err != nil {
			return err
		}
	}
	shown, err := one(session.Query(ctx, "SHOW CREATE TABLE "+mysql.QuoteName(t.name)))
	if err != nil {
		return err
	}
	if t.columns, err = w.columnsOf(ctx, session, t.name); err != nil {
		return err
	}
	definition := w.localSequences(shown[1])
	w.sum("TABLE", t.name, impliedCharset.ReplaceAllString(definition, " COLLATE "))
	return w.Say("\n" + definition + ";\n")
}

// impliedCharset is shown by MySQL or not, depending on how a column was written once.
var impliedCharset = regexp.MustCompile(` CHARACTER SET \w+ COLLATE `)

// rows has the tables read by all sessions.
func (w *work) rows(ctx context.Context) error {
	filled := slices.DeleteFunc(slices.Clone(w.tables), func(t *table) bool { return t.merged || len(t.names) == 0 })
	return export.InLanes(ctx, w.readers, filled, func(t *table) int64 { return t.bytes }, w.rowsOf)
}

// one takes the only row of an answer.
func one(rows [][]string, err error) ([]string, error) {
	if err == nil && len(rows) != 1 {
		err = fmt.Errorf("the server gave %d rows where there is one", len(rows))
	}
	if err != nil {
		return nil, err
	}
	return rows[0], nil
}
