package mysql

import (
	"context"
	"errors"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
)

// pieceSize is how many bytes of a script go into one transaction by LOAD DATA, so that
// little has to be sent again when the server finds fault with a row. Tests lower it.
var pieceSize int64 = 64 << 20

// bulkSince is the first version of MariaDB, as conditional comments count it, that fills
// an empty table in bulk with its keys in place, and that this was tried on (MariaDB,
// "InnoDB Bulk Insert"): the rows of each key are sorted and written at the end of the
// statement, which is faster than adding the keys afterwards.
const bulkSince = 101100

// loadFormFor is how LOAD DATA gets the rows that a run of INSERTs has for a table; nil
// where INSERTs do it. The server has to allow it. Other nodes of a cluster would get all
// rows at once.
func (e *engine) loadFormFor(t *table, r *load.Run, columns []string) *loadForm {
	if !e.loads || e.Server.Cluster || !t.transactional || strings.Contains(t.created, "PARTITION BY") || strings.Contains(t.created, "SYSTEM VERSIONING") {
		return nil
	}
	f := newLoadForm(t, columns, e.setting)
	if f == nil {
		return nil
	}
	data := e.survey.Data[t.name]
	f.bulk = data != nil && data.First >= r.From.Offset && data.Last < r.End && (len(t.definition.Foreign) == 0 || !e.settings.checks) && e.fillsInBulk(t)
	return f
}

// longestInBulk is how long a row may be, as it is written, in a table that is filled in
// bulk: so long that it fits into a page in any character set. Values that do not are
// written without a look at how full the redo log is then, and a server whose log is smaller
// than the value comes to no end.
const longestInBulk = 4000

// fillsInBulk reports whether the server can fill a table of the script in bulk.
func (e *engine) fillsInBulk(t *table) bool {
	d := e.survey.Data[t.name]
	return d != nil && d.Longest <= longestInBulk && e.Server.MariaDB && e.Server.Version >= bulkSince && !e.Server.Cluster && t.transactional && e.HasMade(dbms.Object{Kind: "TABLE", Name: t.name}) &&
		!slices.ContainsFunc(t.definition.Keys, func(k sqltext.Key) bool { return k.Kind == "FULLTEXT" || k.Kind == "SPATIAL" }) &&
		!slices.ContainsFunc(t.definition.Columns, func(c sqltext.Column) bool { return c.Generated })
}

// setting is the value of one of rowVariables at this point of the script.
func (e *engine) setting(name string) string {
	if i := slices.Index(e.variables, name); i >= 0 {
		return e.settings.values[i]
	}
	return ""
}

// loadRun sends a run by LOAD DATA, and gives what is left of it for INSERTs: nil for
// nothing, all of it where the server finds fault with a row before the first commit.
func (l *lane) loadRun(ctx context.Context, p laneRun, script *judge.Reading) (rest *load.Run, err error) {
	if err := l.under(ctx, p.settings); err != nil {
		return nil, err
	}
	if err := l.commit(ctx); err != nil {
		return nil, err
	}
	l.begun = true // also what is asked of the table begins a transaction
	limit := pieceSize
	if p.form.bulk {
		if p.form.bulk, err = l.readyForBulk(ctx, p.table.name); err != nil {
			return nil, err
		}
	}
	if p.form.bulk {
		limit = math.MaxInt64 // only the first statement finds the table empty
		if _, err := l.session.Exec(ctx, inBulk+", SESSION foreign_key_checks = 0"); err != nil {
			return nil, err
		}
		defer func() {
			if _, back := l.session.Exec(ctx, noBulk+", SESSION foreign_key_checks = "+l.now[slices.Index(l.e.variables, "foreign_key_checks")]); err == nil {
				err = back
			}
		}()
	} else if err := l.takeOff(ctx, p); err != nil {
		return nil, err
	}
	source := &rowSource{ctx: ctx, lane: l, passage: p, script: script, from: p.run.From}
	if source.next, err = p.run.Open(l.e.source.Name, script, script.Content); err != nil {
		return nil, err
	}
	for !source.ended {
		source.begin(limit)
		err := l.loadPiece(ctx, source)
		switch {
		case err == nil:
			p.divided.stored(source.statements, source.bytes, source.rows)
			continue
		case ctx.Err() != nil, errors.Is(err, errStopped), !errors.Is(err, errByInsert) && !dbms.IsRefusal(err):
			l.drop(ctx)
			source.takeBack()
			return nil, err
		}
		l.drop(ctx)
		source.takeBack()
		left := *p.run
		left.From = source.from
		return &left, nil
	}
	return nil, nil
}

// readyForBulk reports whether a table is empty, and leaves it ready for being filled in
// bulk, with its lane in no transaction. Of a table that was just made the server would try
// to gather statistics all the while that it is filled in bulk, over and over, which takes a
// core; so it has them beforehand. Those that the optimizer keeps beside InnoDB's would say
// for good that it is empty, and are left alone.
func (l *lane) readyForBulk(ctx context.Context, table string) (bool, error) {
	if empty, err := l.isEmpty(ctx, table); err != nil || !empty {
		return false, err
	}
	_, err := l.session.Query(ctx, "SET STATEMENT use_stat_tables = 'never' FOR ANALYZE LOCAL TABLE "+mysql.QuoteName(table))
	return err == nil, ignoreRefusal(err)
}

// isEmpty reports whether a table has no rows. The lane is in no transaction then.
func (l *lane) isEmpty(ctx context.Context, table string) (bool, error) {
	l.begun = true
	filled, err := l.session.Query(ctx, "SELECT 1 FROM "+mysql.QuoteName(table)+" LIMIT 1")
	if err != nil {
		return false, err
	}
	return len(filled) == 0, l.commit(ctx)
}

// ignoreRefusal leaves what is more than a refusal.
func ignoreRefusal(err error) error {
	if dbms.IsRefusal(err) {
		return nil
	}
	return err
}

// errByInsert says that rows have to go by INSERT.
var errByInsert = errors.New("not by LOAD DATA")

// loadPiece sends what a source has up to its limit, and makes sure that the server has
// stored every row of it as it was given. Filled in bulk, the table is counted: of a key
// that two rows have the server may say that it stored both.
func (l *lane) loadPiece(ctx context.Context, source *rowSource) error {
	l.begun = true
	stored, warnings, err := l.session.Load(ctx, source.passage.form.statement, source)
	if err != nil {
		return err
	}
	if warnings > 0 || stored != source.rows {
		return errByInsert
	}
	if source.passage.form.bulk {
		counted, err := l.session.Query(ctx, "SELECT COUNT(*) FROM "+mysql.QuoteName(source.passage.table.name)+" USE INDEX ()") // what it has to look at is in the rows themselves, not in the keys
		if err != nil {
			return err
		}
		if counted[0][0] != strconv.FormatInt(source.rows, 10) {
			return errByInsert
		}
	}
	// A refused commit takes all of it back, and l.commit knows of no statement to send again.
	if _, err := l.session.Exec(ctx, "COMMIT"); err != nil {
		return err
	}
	l.begun = false
	return nil
}

// rowSource gives the rows of a run as LOAD DATA reads them.
type rowSource struct {
	ctx     context.Context
	lane    *lane
	passage laneRun
	script  *judge.Reading
	next    func() (sqltext.Statement, error)

	from       sqltext.Mark // where what is not committed begins
	limit      int64        // bytes of the script that may go into it
	bytes      int64        // that went into it
	rows       int64
	statements int
	text       []byte      // the rows of one statement
	unread     []byte      // of it
	row        sqltext.Row // kept for its memory
	ended      bool        // there are no more statements
}

// begin begins another piece.
func (s *rowSource) begin(limit int64) {
	s.limit, s.bytes, s.rows, s.statements, s.unread = limit, 0, 0, 0, nil
}

// takeBack takes what is not committed off the account.
func (s *rowSource) takeBack() {
	s.lane.e.Stored(s.passage.table.name, -s.rows)
	s.lane.e.Sent(-s.statements, -s.bytes)
}

// Read implements io.Reader.
func (s *rowSource) Read(into []byte) (int, error) {
	for len(s.unread) == 0 {
		if s.bytes >= s.limit {
			return 0, io.EOF
		}
		if err := s.fill(); err != nil {
			return 0, err
		}
	}
	n := copy(into, s.unread)
	s.unread = s.unread[n:]
	return n, nil
}

// fill reads one more statement.
func (s *rowSource) fill() error {
	e := s.lane.e
	statement, err := s.next()
	if err != nil {
		s.ended = errors.Is(err, io.EOF)
		return err
	}
	if s.ctx.Err() != nil || e.stopsBefore(statement.Offset) || s.passage.divided.stops() {
		return errStopped
	}
	if s.bytes == 0 {
		s.from = statement.Mark()
	}
	v := s.passage.judge.Classify(statement)
	if v.Kind != judge.Rows || v.Objection != nil || v.Insert.Table.Name != s.passage.table.name {
		return load.Changed(e.source.Name, statement)
	}
	text, n, ok := s.passage.form.appendRows(s.text[:0], v, &s.row)
	if !ok {
		return errByInsert
	}
	s.text, s.unread = text, text
	s.rows, s.bytes, s.statements = s.rows+n, s.bytes+int64(statement.Size), s.statements+1
	e.Stored(s.passage.table.name, n)
	e.Sent(1, int64(statement.Size))
	return nil
}
