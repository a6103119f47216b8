package mysql

import (
	"bytes"
	"context"
	"errors"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/semaphore"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// engine runs one import. One goroutine, the leader, reads the script and runs
// on the main session whatever is not rows; lanes take rows side by side. A
// statement on the main session waits for the lanes that work on the tables it
// concerns, so that every statement finds the tables as the script left them.
type engine struct {
	load.Ledger
	*Importer
	source  script.Source
	survey  *load.Survey
	options load.Options
	judge   *judge.Judge
	script  *judge.Reading

	main    Session
	pending bool // the main session is in a transaction of ours
	raised  bool // for which unique keys are checked, against what the script says
	batch   *batcher
	folds   []*fold
	lanes   []*lane
	most    int  // lanes
	solo    bool // too few rows for lanes: everything runs on the main session
	waiting sync.WaitGroup

	variables []string  // session variables that decide what becomes of a row
	initial   []string  // their values when a session begins
	settings  *settings // as the script has them now; nil when a SET may have changed them
	last      *settings // as they were known last
	loads     bool      // the server takes LOAD DATA LOCAL
	unchecked bool      // rows came while foreign keys were not checked
	tables    map[string]*table
	triggered map[string]bool // tables that have triggers
	known     judge.Known
	// Tables that foreign keys join are a group, which goes to one lane while
	// foreign keys are checked: rows of a child find those of the parent.
	groups     map[string]string // a table to another of its group, up to the group's name
	groupLanes map[string]*lane

	failing sync.Mutex
	failure error
	failed  atomic.Int64 // offset of the statement that failed; beyond every script while none has

}

// rowVariables are the session variables that decide what becomes of a literal
// row, on either product.
var rowVariables = []string{
	"auto_increment_increment", "auto_increment_offset", "character_set_client", "character_set_connection",
	"character_set_results", "check_constraint_checks", "collation_connection", "explicit_defaults_for_timestamp",
	"foreign_key_checks", "innodb_strict_mode", "old_mode", "sql_mode", "system_versioning_insert_history",
	"time_zone",
}

// memoryLimit is how much text may wait for the lanes, of all imports that are at work.
const memoryLimit = 24 << 20

var memory = semaphore.NewWeighted(memoryLimit)

// smallImport is below how many bytes of rows lanes are not worth their while.
const smallImport = 2 << 20

// Import implements load.Importer.
func (i *Importer) Import(ctx context.Context, s script.Source, survey *load.Survey, o load.Options, progress func(load.Progress)) (load.Report, error) {
	e := &engine{
		Importer: i, source: s, survey: survey, options: o, judge: judge.New(i.subject(), s, o),
		tables: map[string]*table{}, triggered: map[string]bool{}, groups: map[string]string{}, groupLanes: map[string]*lane{},
	}
	e.failed.Store(1 << 62)
	e.Begin(s, survey, o, progress)
	e.batch = newBatcher(i.Server.MaxPacket, func(j *job) error { return e.hand(ctx, j) })
	if err := e.start(ctx); err != nil {
		e.close()
		return e.Conclude(ctx, err)
	}
	e.run(ctx)
	e.endLanes()
	err := e.failure
	if err == nil {
		err = e.checkForeignKeys(ctx)
	}
	e.close()
	e.Report.Lanes = len(e.lanes)
	return e.Conclude(ctx, err)
}

// endLanes lets the lanes finish what they have.
func (e *engine) endLanes() {
	for _, l := range e.lanes {
		close(l.work)
	}
	e.waiting.Wait()
}

func (e *engine) close() {
	if e.main != nil {
		e.main.Close()
	}
	if e.script != nil {
		e.script.Close()
	}
}

func (e *engine) start(ctx context.Context) error {
	var err error
	if e.script, err = e.subject().Read(ctx, e.source); err != nil {
		return err
	}
	if e.main, err = e.Open(ctx); err != nil {
		return err
	}
	there, err := e.main.Query(ctx, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()")
	e.known.Begin(there)
	if err != nil {
		return err
	}
	// Also of tables that the script makes where they do not exist: they may.
	found, err := e.main.Query(ctx, "SELECT DISTINCT EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = DATABASE()")
	if err != nil {
		return err
	}
	for _, row := range found {
		e.triggered[row[0]] = true
	}
	known, err := e.main.Query(ctx, "SHOW SESSION VARIABLES WHERE Variable_name IN ('local_infile', 'log_bin', 'binlog_format', '"+strings.Join(rowVariables, "', '")+"')")
	if err != nil {
		return err
	}
	other := map[string]string{}
	for _, row := range known {
		if slices.Contains(rowVariables, row[0]) {
			e.variables = append(e.variables, row[0])
		} else {
			other[row[0]] = row[1]
		}
	}
	// Where the log holds statements, the server warns of every LOAD DATA.
	e.loads = other["local_infile"] == "ON" && (other["log_bin"] != "ON" || other["binlog_format"] != "STATEMENT")
	now, err := e.readSettings(ctx)
	if err != nil {
		return err
	}
	e.initial, e.settings, e.last = now.values, now, now
	if err := e.reads(ctx); err != nil {
		return err
	}
	var total int64
	for _, d := range e.survey.Data {
		total += d.Bytes
	}
	e.most = e.options.Lanes
	if e.most == 0 {
		const enough = 8
		e.most = min(runtime.NumCPU(), enough)
		e.solo = total < smallImport
	}
	if e.solo || e.Report.OneByOne != "" {
		return nil
	}
	first, err := e.openLane(ctx)
	switch {
	case err == nil:
		e.lanes = []*lane{first}
	case dbms.CauseOf(err) == dbms.TooMany:
		e.solo = true // the account may have one connection only
	default:
		return err
	}
	return nil
}

func (e *engine) readSettings(ctx context.Context) (*settings, error) {
	rows, err := e.main.Query(ctx, "SELECT @@SESSION.unique_checks, @@SESSION."+strings.Join(e.variables, ", @@SESSION."))
	if err != nil {
		return nil, err
	}
	unique, values := rows[0][0], rows[0][1:]
	checks := values[slices.Index(e.variables, "foreign_key_checks")] != "0"
	return &settings{values: values, checks: checks, bulk: !checks && unique == "0"}, nil
}

// run is the leader's loop.
func (e *engine) run(ctx context.Context) {
	offset := int64(0)
	for !e.stopsBefore(offset) {
		statement, err := e.script.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			offset = statement.Offset
			err = ctx.Err()
		}
		if err == nil {
			err = e.take(ctx, statement)
		}
		if err != nil {
			e.fail(offset, e.explain(ctx, statement, err))
			break
		}
	}
	err := e.endFold(ctx)
	if err == nil {
		err = e.batch.flush()
	}
	if err == nil {
		e.barrier()
		err = e.commit(ctx)
	}
	if err != nil {
		e.fail(offset, err)
	}
}

// take deals with one statement.
func (e *engine) take(ctx context.Context, s sqltext.Statement) error {
	oneByOne := e.Report.OneByOne != ""
	if r := e.survey.Runs[s.Offset]; r != nil && !oneByOne && !e.solo {
		if taken, err := e.giveRun(ctx, r, s); taken || err != nil {
			return err
		}
	}
	v := e.judge.Classify(s)
	switch {
	case v.Objection != nil: // the survey has refused it already; this is the last line of defence
		return v.Objection.Protect()
	case v.Dropped != "":
		e.Passed(int64(s.Size))
		return nil
	case v.Kind == judge.Rows && !oneByOne:
		taken, err := e.takeRows(ctx, v)
		if taken || err != nil {
			return err
		}
		v = e.judge.ClassifyTokens(v)
		if v.Objection != nil {
			return v.Objection.Protect()
		}
	case v.Kind == judge.Indexes && !oneByOne:
		return e.takeIndexes(ctx, v)
	}
	return e.takeOther(ctx, v, oneByOne)
}

// takeOther runs a statement on the main session, after all that it depends
// on.
func (e *engine) takeOther(ctx context.Context, v judge.Verdict, oneByOne bool) error {
	if err := e.endFold(ctx); err != nil {
		return err
	}
	if err := e.batch.flush(); err != nil {
		return err
	}
	if !oneByOne && makesTrigger(v) {
		if given, err := e.giveTrigger(ctx, v); given || err != nil {
			return err
		}
	}
	if !oneByOne {
		if v.Kind == judge.TableLock || v.Kind == judge.Transaction || e.known.IsIdle(v) {
			// Nothing else takes part in this import, and what it does is
			// committed as the importer sees fit.
			e.Sent(1, int64(v.Size))
			return nil
		}
		switch {
		case v.Kind == judge.Setting:
			e.settings = nil
		case v.Kind == judge.Definition || v.Kind == judge.KeySwitch:
			e.barrier(e.waitsFor(v)...)
		default:
			e.barrier()
		}
		var err error
		switch v.Kind {
		case judge.Change:
			err = e.begin(ctx)
		case judge.Setting:
			if e.raised {
				err = e.commit(ctx)
			}
		default:
			err = e.commit(ctx)
		}
		if err != nil {
			return err
		}
	}
	if e.stopsBefore(v.Offset) {
		return nil
	}
	return e.sendMain(ctx, v)
}

// waitsFor are the tables whose rows have to be there before a definition. MariaDB takes
// a foreign key on a table that rows go into, unless its keys are still to be built; a
// cluster would give up the transaction that has them.
func (e *engine) waitsFor(v judge.Verdict) []string {
	if v.Table == nil || !e.Server.MariaDB || e.Server.Cluster {
		return v.Tables
	}
	return slices.DeleteFunc(slices.Clone(v.Tables), func(name string) bool {
		t := e.tables[name]
		return t != nil && !t.stale && !t.keysLate && name != v.Table.Name.Name
	})
}

// begin opens a transaction on the main session, so that not every statement
// is committed by itself.
func (e *engine) begin(ctx context.Context) error {
	if err := e.refresh(ctx); err != nil {
		return err
	}
	if e.settings.bulk && !e.raised {
		e.raised = true
		if _, err := e.main.Exec(ctx, noBulk); err != nil {
			return err
		}
	}
	if e.pending {
		return nil
	}
	e.pending = true
	_, err := e.main.Exec(ctx, "START TRANSACTION")
	return err
}

// noBulk keeps MariaDB from loading an empty table in bulk, which it does where neither
// foreign nor unique keys are checked: a bad row is reported at the commit only, a
// statement that fails empties the table, and rows in many statements take longer so.
const noBulk = "SET SESSION unique_checks = 1"

// inBulk allows it.
const inBulk = "SET SESSION unique_checks = 0"

// commit ends a transaction of ours on the main session.
func (e *engine) commit(ctx context.Context) error {
	if !e.pending {
		return nil
	}
	e.pending = false
	_, err := e.main.Exec(ctx, "COMMIT")
	if err == nil && e.raised {
		e.raised = false
		_, err = e.main.Exec(ctx, inBulk)
	}
	return err
}

// sendMain sends a statement on the main session and records it.
func (e *engine) sendMain(ctx context.Context, v judge.Verdict) error {
	changed, err := e.sendOn(ctx, e.main, v)
	if err == nil && (v.SetsReading || compound[v.Lead.Verb]) {
		err = e.reads(ctx)
	}
	if err != nil {
		return err
	}
	e.known.Done(v)
	switch {
	case v.Lead.Verb == "INSERT" || v.Lead.Verb == "REPLACE":
		e.Stored(v.Lead.Name.Name, changed)
	case v.Kind == judge.Definition, v.Kind == judge.KeySwitch:
		for _, name := range v.Tables {
			e.forget(name)
		}
		if makesTrigger(v) {
			e.triggered[v.Lead.Table.Name] = true
		}
	case v.Kind == judge.Anything:
		for name := range e.tables {
			e.forget(name)
		}
	}
	return nil
}

// sendOn sends a statement on a session and records what all sessions record.
func (e *engine) sendOn(ctx context.Context, session Session, v judge.Verdict) (changed int64, err error) {
	changed, replayed, err := e.send(ctx, session, v)
	if v.Lead.Verb == "CREATE" && !v.Temporary && !dbms.IsRefusal(err) && v.Lead.Object != "INDEX" {
		e.Made(dbms.Object{Kind: v.Lead.Object, Name: v.Lead.Name.Name})
	}
	switch {
	case err != nil:
		return 0, err
	case replayed:
		e.Replayed()
	case !e.survey.AsksBack:
		if err := e.warnedOf(ctx, session, v); err != nil {
			return 0, err
		}
	}
	e.Sent(1, int64(v.Size))
	return changed, nil
}

func makesTrigger(v judge.Verdict) bool { return v.Lead.Verb == "CREATE" && v.Lead.Object == "TRIGGER" }

// giveTrigger hands the making of a trigger to the lane that still has rows of its table,
// under the settings that are stored with it; given is false where there is none.
func (e *engine) giveTrigger(ctx context.Context, v judge.Verdict) (given bool, err error) {
	name := v.Lead.Table.Name
	t := e.tables[name]
	if t == nil || t.lane == nil || t.lane.load() == 0 || e.survey.AsksBack {
		return false, nil
	}
	if err := e.beforeRows(ctx); err != nil {
		return false, err
	}
	now := e.settings
	v.Sent, v.Tokens = bytes.Clone(v.Sent), nil
	v.Statement.Text = v.Sent
	e.triggered[name] = true
	e.tables[name] = &table{name: name, lane: t.lane, stale: true}
	t.lane.give(task{at: v.Offset, bytes: int64(v.Size), do: func(ctx context.Context, l *lane) error {
		err := l.under(ctx, now)
		if err == nil {
			err = l.commit(ctx)
		}
		if err == nil {
			_, err = e.sendOn(ctx, l.session, v)
		}
		if err != nil {
			return e.explain(ctx, v.Statement, err)
		}
		return nil
	}})
	return true, nil
}

// compound are the statements that may hold a SET of their own.
var compound = wordset.Of("CALL EXECUTE BEGIN IF CASE LOOP WHILE REPEAT FOR")

// reads makes sure that the server reads what comes next as the script's reader
// does: all that was judged about the script rests on that.
func (e *engine) reads(ctx context.Context) error {
	now, err := e.main.Query(ctx, "SELECT @@SESSION.sql_mode, @@SESSION.character_set_client")
	if err != nil {
		return err
	}
	want := e.script.Behind()
	if want.WithMode(now[0][0]).WithCharset(now[0][1]) == want {
		return nil
	}
	return fault.New(fault.Protected, "set sql_mode and the character set by literals, in statements of their own",
		"after this statement the server reads the script under the sql_mode %q and the character set %s, which could not be told beforehand", now[0][0], now[0][1])
}

// takeRows sends rows to the lane of their table; taken is false when they
// have to go another way.
func (e *engine) takeRows(ctx context.Context, v judge.Verdict) (taken bool, err error) {
	if err := e.endFold(ctx); err != nil {
		return false, err
	}
	t, err := e.table(ctx, v.Insert.Table.Name, v.Dialect)
	if err != nil || !t.plain() {
		return false, err
	}
	r := e.batch.readRows(v, t)
	if !r.literal {
		return false, nil
	}
	if err := e.beforeRows(ctx); err != nil {
		return false, err
	}
	if err := e.batch.add(v, r, t, e.settings); err != nil {
		return false, err
	}
	return true, e.afterRows(ctx, t, v.Offset)
}

// beforeRows makes the main session's work visible to the lanes, and its
// settings known.
func (e *engine) beforeRows(ctx context.Context) error {
	if !e.solo {
		if err := e.commit(ctx); err != nil {
			return err
		}
	}
	return e.refresh(ctx)
}

// refresh asks for the session's settings after a SET.
func (e *engine) refresh(ctx context.Context) error {
	if e.settings != nil {
		return nil
	}
	now, err := e.readSettings(ctx)
	if err != nil {
		return err
	}
	if now.bulk == e.last.bulk && slices.Equal(now.values, e.last.values) {
		e.settings = e.last // the same, so that rows can still be joined
		return nil
	}
	if now.checks != e.last.checks { // whether tables depend on each other is another question now
		if err := e.batch.flush(); err != nil {
			return err
		}
		e.barrier()
	}
	e.settings, e.last = now, now
	if !now.checks {
		e.unchecked = true
	}
	return nil
}

// hand gives a job to the lane of its table.
func (e *engine) hand(ctx context.Context, j *job) error {
	if e.solo {
		return e.runSolo(ctx, j)
	}
	l, err := e.laneFor(ctx, j.table, j.settings)
	if err != nil {
		return err
	}
	// Not under ctx: a lane that gave up still takes tasks and releases their memory.
	if err := memory.Acquire(context.WithoutCancel(ctx), min(memoryLimit, int64(len(j.text)))); err != nil {
		return err
	}
	t := task{job: j, at: j.offset(), bytes: j.bytes}
	if j.borrowed {
		t.done = make(chan struct{})
	}
	l.give(t)
	if j.borrowed {
		<-t.done
	}
	return nil
}

// runSolo sends a job on the main session. A refused one is sent again part by
// part to find the one to blame: the server has taken back the whole of it.
// Where all go well the second time, the refusal stands all the same.
func (e *engine) runSolo(ctx context.Context, j *job) error {
	var err error
	if j.isRows {
		err = e.begin(ctx)
	} else {
		err = e.commit(ctx)
	}
	if err != nil {
		return err
	}
	_, err = e.main.Exec(ctx, load.AsText(j.text))
	switch {
	case err == nil:
		err = e.warned(ctx, e.main, j)
	case dbms.IsRefusal(err) && len(j.parts) == 1:
		return e.explained(j, j.parts[0], j.text, err)
	case dbms.IsRefusal(err):
		for _, p := range j.parts {
			text := j.alone(p)
			if _, err := e.main.Exec(ctx, load.AsText(text)); err != nil {
				return e.explained(j, p, text, err)
			}
		}
		return e.explained(j, j.parts[0], j.alone(j.parts[0]), err)
	}
	if err == nil {
		e.count(j)
	}
	return err
}

// fail keeps the failure that comes first in the script.
func (e *engine) fail(at int64, err error) {
	e.failing.Lock()
	defer e.failing.Unlock()
	if at < e.failed.Load() {
		e.failed.Store(at)
		e.failure = err
	}
}

// stopsBefore reports whether the import ends before this place: a failure earlier in the
// script takes precedence.
func (e *engine) stopsBefore(at int64) bool { return e.failed.Load() <= at }

// count records a job that succeeded.
func (e *engine) count(j *job) {
	if j.isRows {
		e.Stored(j.table.name, j.rows)
	}
	e.Sent(len(j.parts), j.bytes)
}

// send runs one statement as the application's account.
func (i *Importer) send(ctx context.Context, session Session, v judge.Verdict) (rows int64, replayed bool, err error) {
	rows, err = session.Exec(ctx, load.AsText(v.Sent))
	if err == nil || !mysql.IsLoggingRefusal(err) || i.Replay == nil {
		return rows, false, err
	}
	return 0, true, i.define(ctx, session, v)
}

// isTransient reports a refusal that has nothing to do with the statement: a
// deadlock, or a lock held by someone else for too long.
func isTransient(err error) bool {
	code := mysql.Code(err)
	return code == 1213 || code == 1205
}
