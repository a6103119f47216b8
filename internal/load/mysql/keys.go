package mysql

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
)

// deferFrom is how many bytes of rows a table must get for its keys to be
// built afterwards: below, dropping and adding them costs more than it saves. Tests lower it.
var deferFrom int64 = 4 << 20

// lateKeys are secondary keys of a table that is about to get many rows: they are taken
// off it, and built at once when all rows are there.
type lateKeys struct {
	drops, adds []string
	off         bool // they have been taken off
}

// planKeys finds the late keys of a table, and takes them off. A table that is to be
// filled in bulk keeps them: its lane takes them off where that comes to nothing.
//
// What keeps a key: being the primary or a unique one (a double row must be found where it
// stands), FULLTEXT or SPATIAL; starting with the AUTO_INCREMENT column, which needs a key;
// serving a foreign key on either side; holding a generated column. And since a server lists
// keys in the order they were added, a key that stays must not stand after one that goes.
func (e *engine) planKeys(ctx context.Context, t *table, d sqltext.Dialect) error {
	data := e.survey.Data[t.name]
	if e.solo || data == nil || data.Bytes < deferFrom || !data.Undisturbed() || !t.transactional || d.ANSIQuotes || !e.HasMade(dbms.Object{Kind: "TABLE", Name: t.name}) {
		return nil
	}
	referred, err := e.main.Query(ctx, "SELECT REFERENCED_COLUMN_NAME FROM information_schema.KEY_COLUMN_USAGE WHERE REFERENCED_TABLE_SCHEMA = DATABASE() AND REFERENCED_TABLE_NAME = "+literalOf(t.name))
	if err != nil {
		return err
	}
	stays := map[string]bool{}
	for _, row := range referred {
		stays[strings.ToLower(row[0])] = true
	}
	for _, f := range t.definition.Foreign {
		for _, name := range f.Columns {
			stays[strings.ToLower(name)] = true
		}
	}
	var deferred []sqltext.Key
	for _, key := range t.definition.Keys {
		switch {
		case key.Kind == "KEY" && mayGo(t.definition, key, stays):
			deferred = append(deferred, key)
		case key.Kind == "KEY":
			deferred = nil // the order would change
		}
	}
	if len(deferred) == 0 {
		return nil
	}
	filled, err := e.main.Query(ctx, "SELECT 1 FROM "+mysql.QuoteName(t.name)+" LIMIT 1")
	if err != nil {
		return err
	}
	if len(filled) > 0 {
		return nil
	}
	t.late, t.keysLate = &lateKeys{}, true
	for _, key := range deferred {
		t.late.drops = append(t.late.drops, "DROP KEY "+mysql.QuoteName(key.Name))
		t.late.adds = append(t.late.adds, "ADD "+t.created[key.Start:key.End])
	}
	if r := e.survey.Runs[data.First]; r != nil {
		if f := e.loadFormFor(t, r, nil); f != nil && f.bulk {
			return nil
		}
	}
	return t.late.takeOff(ctx, e.main, t.name)
}

// takeOff drops the keys. Where the server refuses that for a reason that is not known
// here, they stay.
func (k *lateKeys) takeOff(ctx context.Context, session Session, table string) error {
	_, err := session.Exec(ctx, "ALTER TABLE "+mysql.QuoteName(table)+" "+strings.Join(k.drops, ", "))
	if dbms.IsRefusal(err) {
		return nil
	}
	k.off = err == nil
	return err
}

// takeOff takes the late keys off a run's table, when they are still on it.
func (l *lane) takeOff(ctx context.Context, p laneRun) error {
	if p.late == nil || p.late.off {
		return nil
	}
	if err := l.commit(ctx); err != nil {
		return err
	}
	return p.late.takeOff(ctx, l.session, p.table.name)
}

func mayGo(t *sqltext.Table, key sqltext.Key, stays map[string]bool) bool {
	for i, part := range key.Columns {
		column := t.Column(part.Name)
		if column == nil || column.Generated || i == 0 && column.Auto || stays[strings.ToLower(part.Name)] {
			return false
		}
	}
	return len(key.Columns) > 0
}

// afterRows builds a table's deferred keys once the script has no more rows
// for it.
func (e *engine) afterRows(ctx context.Context, t *table, at int64) error {
	if t.late == nil || at < e.survey.Data[t.name].Last {
		return nil
	}
	if err := e.batch.flush(); err != nil {
		return err
	}
	l, err := e.laneFor(ctx, t, e.settings)
	if err != nil {
		return err
	}
	late, created := t.late, t.created
	t.late = nil
	l.give(task{at: at, do: func(ctx context.Context, l *lane) error {
		if !late.off {
			return nil
		}
		return l.buildKeys(ctx, t.name, late.adds, created)
	}})
	return nil
}

var counter = regexp.MustCompile(` AUTO_INCREMENT=\d+`)

// buildKeys adds the keys and makes sure that the table is again what the
// script defined.
func (l *lane) buildKeys(ctx context.Context, table string, deferred []string, created string) error {
	if err := l.commit(ctx); err != nil {
		return err
	}
	l.begun = true // looking at the table below opens a transaction
	if _, err := l.session.Exec(ctx, "ALTER TABLE "+mysql.QuoteName(table)+" "+strings.Join(deferred, ", ")); err != nil {
		return fault.New(fault.Failed, "run the import with {one-by-one}", "the keys of the table %s cannot be built after its rows: %v", table, err).With(err)
	}
	shown, err := l.session.Query(ctx, "SHOW CREATE TABLE "+mysql.QuoteName(table))
	if err != nil {
		return err
	}
	if was, is := counter.ReplaceAllString(created, ""), counter.ReplaceAllString(shown[0][1], ""); was != is {
		return fault.New(fault.Failed, "run the import with {one-by-one}, and report this", "the table %s did not come out as the script defines it", table)
	}
	return nil
}

// takeIndexes folds statements that add keys to a table into one, and lets the
// table's lane run it.
func (e *engine) takeIndexes(ctx context.Context, v judge.Verdict) error {
	tokens := v.Tokens
	clauses, ok := judge.IndexClauses(v.Lead, tokens, v.Sent)
	name := v.Tables[0]
	t, err := e.table(ctx, name, v.Dialect)
	if err != nil {
		return err
	}
	if !ok || t.definition == nil || !t.transactional {
		return e.takeOther(ctx, v, false)
	}
	if err := e.beforeRows(ctx); err != nil {
		return err
	}
	if err := e.batch.flush(); err != nil {
		return err
	}
	// Columns change in a statement of their own kind: two changes of one
	// column do not go together.
	changesColumns := tokens.Has("MODIFY")
	at := slices.IndexFunc(e.folds, func(f *fold) bool { return f.table == t })
	if at >= 0 && (e.folds[at].changesColumns || e.folds[at].settings != e.settings) {
		if err := e.endFold(ctx); err != nil {
			return err
		}
		return e.takeIndexes(ctx, v)
	}
	if at < 0 {
		head := "ALTER TABLE " + mysql.QuoteName(name) + " "
		e.folds = append(e.folds, &fold{job: job{table: t, settings: e.settings, text: []byte(head), head: len(head)}})
		at = len(e.folds) - 1
	} else {
		e.folds[at].text = append(e.folds[at].text, ", "...)
	}
	f := e.folds[at]
	f.changesColumns = changesColumns
	start := len(f.text)
	f.text = append(f.text, clauses...)
	f.parts = append(f.parts, load.Part{Statement: v.WithoutText(), Start: start, End: len(f.text)})
	f.bytes += int64(v.Size)
	return nil
}

// fold is a job that collects changes of one table. Those of different tables
// do not depend on each other, so several are collected at a time.
type fold struct {
	job
	changesColumns bool
}

// endFold sends what was collected.
func (e *engine) endFold(ctx context.Context) error {
	folds := e.folds
	e.folds = nil
	for _, f := range folds {
		name := f.table.name
		if err := e.hand(ctx, &f.job); err != nil {
			return err
		}
		// Whoever asks for the table next finds its lane, and looks again.
		e.tables[name] = &table{name: name, lane: f.table.lane, stale: true}
	}
	return nil
}

// checkForeignKeys looks for rows whose parent is missing, in tables that got
// rows while the script had the checks switched off. The stock client would
// leave them unnoticed, too; here they are named.
func (e *engine) checkForeignKeys(ctx context.Context) error {
	if !e.unchecked {
		return nil
	}
	rows, err := e.main.Query(ctx, `SELECT TABLE_NAME, CONSTRAINT_NAME, COLUMN_NAME, REFERENCED_TABLE_NAME, REFERENCED_COLUMN_NAME
		FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = DATABASE() AND REFERENCED_TABLE_NAME IS NOT NULL AND REFERENCED_TABLE_SCHEMA = DATABASE()
		ORDER BY TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION`)
	if err != nil {
		return err
	}
	for len(rows) > 0 {
		first := rows[0]
		n := slices.IndexFunc(rows, func(r []string) bool { return r[0] != first[0] || r[1] != first[1] })
		if n < 0 {
			n = len(rows)
		}
		var joined, filled []string
		for _, r := range rows[:n] {
			joined = append(joined, fmt.Sprintf("p.%s = c.%s", mysql.QuoteName(r[4]), mysql.QuoteName(r[2])))
			filled = append(filled, fmt.Sprintf("c.%s IS NOT NULL", mysql.QuoteName(r[2])))
		}
		rows = rows[n:]
		if !e.HasFilled(first[0]) {
			continue
		}
		orphan, err := e.main.Query(ctx, fmt.Sprintf("SELECT 1 FROM %s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p WHERE %s) LIMIT 1",
			mysql.QuoteName(first[0]), strings.Join(filled, " AND "), mysql.QuoteName(first[3]), strings.Join(joined, " AND ")))
		if err != nil {
			return err
		}
		if len(orphan) > 0 {
			e.Report.Orphans = append(e.Report.Orphans, load.Orphans{Table: first[0], Key: first[1], References: first[3]})
		}
	}
	return nil
}
