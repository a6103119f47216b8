package postgres

import (
	"bytes"
	"cmp"
	"context"
	"runtime"
	"slices"
	"strconv"
	"sync"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
)

// pool are the sessions beside the main one that take long runs of rows
// and build keys, where a script is not one transaction. All methods can be
// called on nil, which has no lanes.
type pool struct {
	e    *engine
	most int
	// settings are the statements that set something for the session, in the
	// script so far; each lane sends those it has not sent yet.
	settings []string
	lanes    []*lane
	tables   map[string]*lane // that work on a table, or did last

	mutex  sync.Mutex
	broken error
}

// backlog is how many tasks may wait for one lane.
const backlog = 1024

// lane is one such session.
type lane struct {
	pool    *pool
	session Session
	set     int // of the pool's settings
	waiting sync.WaitGroup
	bytes   int64 // given to it
	work    chan func()
	sending fault.Place
}

func newPool(e *engine) *pool {
	p := &pool{e: e, most: e.options.Lanes, tables: map[string]*lane{}}
	if p.most == 0 {
		const enough = 8
		p.most = min(runtime.NumCPU(), enough)
	}
	return p
}

// failure is what went wrong on a lane, if anything did.
func (p *pool) failure() error {
	if p == nil {
		return nil
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.broken
}

func (p *pool) fail(err error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.broken == nil {
		p.broken = err
	}
}

// set notes a setting of the script's session.
func (p *pool) set(text string) {
	if p != nil {
		p.settings = append(p.settings, text)
	}
}

// wait waits for all lanes.
func (p *pool) wait() error {
	if p == nil {
		return nil
	}
	for _, l := range p.lanes {
		l.waiting.Wait()
	}
	return p.failure()
}

// waitFor waits for what lanes do to a table.
func (p *pool) waitFor(table string) error {
	if p == nil {
		return nil
	}
	if l := p.tables[table]; l != nil {
		l.waiting.Wait()
	}
	return p.failure()
}

// close ends the lanes. err is how the import ended on the main session.
func (p *pool) close(err error) error {
	for _, l := range p.lanes {
		close(l.work)
		l.waiting.Wait()
		l.session.Close()
	}
	p.e.Report.Lanes = len(p.lanes)
	if err == nil {
		err = p.failure()
	}
	return err
}

// lane chooses the lane for a table: its own, a new one while there may be more,
// else the one that was given least; nil where the account may have one connection
// only.
func (p *pool) lane(ctx context.Context, table string) (*lane, error) {
	if l := p.tables[table]; l != nil {
		return l, nil
	}
	if len(p.lanes) < p.most {
		l := &lane{pool: p, work: make(chan func(), backlog)}
		session, err := p.e.Open(ctx, func(message string) { p.e.Warn(0, message, l.sending) })
		switch {
		case err == nil:
			if err := session.Send(ctx, fewerWorkers(p.most), func(int64) {}); err != nil {
				session.Close()
				return nil, err
			}
			l.session = session
			p.lanes = append(p.lanes, l)
			go func() {
				for do := range l.work {
					do()
					l.waiting.Done()
				}
			}()
		case dbms.CauseOf(err) != dbms.TooMany:
			return nil, err
		default: // there may be no more, or not even one beside the main session
			p.most = len(p.lanes)
		}
	}
	if len(p.lanes) == 0 {
		return nil, nil
	}
	least := slices.MinFunc(p.lanes, func(a, b *lane) int { return int(a.bytes - b.bytes) })
	p.tables[table] = least
	return least, nil
}

// fewerWorkers has a lane build its keys by itself, where the lanes have all the cores: the
// server would take two more processes for every key (PostgreSQL, "Resource Consumption",
// max_parallel_maintenance_workers).
func fewerWorkers(lanes int) string {
	spare := strconv.Itoa(max(0, runtime.NumCPU()/max(1, lanes)-1))
	return "SELECT pg_catalog.set_config(name, '" + spare + "', false) FROM pg_catalog.pg_settings WHERE name = 'max_parallel_maintenance_workers' AND setting::pg_catalog.int4 > " + spare
}

// give hands work to a lane, which does it under the settings of this point of
// the script.
func (l *lane) give(ctx context.Context, bytes int64, s sqltext.Statement, do func() error) {
	settings := len(l.pool.settings)
	l.bytes += bytes
	l.waiting.Add(1)
	place := s.Place(l.pool.e.source.Name)
	s.Text = bytesOfHead(s.Text)
	replay := slices.Clone(l.pool.settings[:settings])
	l.work <- func() {
		if l.pool.failure() != nil || ctx.Err() != nil {
			return
		}
		l.sending = place
		var err error
		for ; l.set < len(replay) && err == nil; l.set++ {
			err = l.session.Send(ctx, replay[l.set], func(int64) {})
		}
		if err == nil {
			err = do()
		}
		if err != nil {
			l.pool.fail(l.pool.e.explain(s, err))
		}
	}
}

// bytesOfHead keeps as much of a statement as a message shows.
func bytesOfHead(text []byte) []byte {
	const enough = 4096
	return bytes.Clone(text[:min(len(text), enough)])
}

// key has a lane build an index or a key of a table, after the table's rows.
func (p *pool) key(ctx context.Context, v verdict, table string) error {
	l, err := p.lane(ctx, table)
	if err != nil {
		return err
	}
	text := string(v.text)
	if l == nil {
		p.e.Sent(1, int64(v.Size))
		return p.e.send(ctx, text)
	}
	l.give(ctx, p.e.bytesIn(table), v.Statement, func() error {
		if err := l.session.Send(ctx, text, func(int64) {}); err != nil {
			return err
		}
		p.e.Sent(1, int64(v.Size))
		return nil
	})
	return nil
}

// bytesIn is how many bytes of rows the script has for a table.
func (e *engine) bytesIn(table string) int64 {
	if d := e.survey.Data[table]; d != nil {
		return d.Bytes
	}
	return 0
}

// giveRun hands a long run of rows to a lane that reads it from the file by itself, and goes
// on after it.
func (e *engine) giveRun(ctx context.Context, s sqltext.Statement) (taken bool, err error) {
	r := e.survey.Runs[s.Offset]
	if r == nil || e.pool == nil || e.inTransaction {
		return false, nil
	}
	if err := e.flush(ctx); err != nil {
		return false, err
	}
	if err := e.commitRows(ctx); err != nil {
		return false, err
	}
	h, err := e.handlingOf(ctx, r.Table)
	if err != nil || !h.alone {
		return false, err
	}
	table := e.judge.name(r.Table)
	l, err := e.pool.lane(ctx, table)
	if err != nil || l == nil {
		return false, err
	}
	judge := *e.judge
	judge.inserts, judge.row = sqltext.Inserts{}, sqltext.Row{}
	fresh := e.fresh[table]
	l.give(ctx, r.Bytes, s, func() error { return l.readRun(ctx, r, &judge, table, h, fresh) })
	return true, r.Skip(e.source.Name, e.script, e.script.Content)
}

// begin opens a transaction in which a table of the script's may be filled frozen, which takes
// one that has made or emptied it: where the table holds nothing, emptying it changes nothing.
func (l *lane) begin(ctx context.Context, table sqltext.ObjectName) (frozen bool, err error) {
	if err := l.session.Send(ctx, "BEGIN", func(int64) {}); err != nil {
		return false, err
	}
	held, err := l.session.Query(ctx, "SELECT EXISTS (SELECT FROM "+quotedName(table)+")")
	if err != nil || held[0][0] == "t" {
		return false, err
	}
	return true, l.session.Send(ctx, "TRUNCATE "+quotedName(table), func(int64) {})
}

// readRun reads a run from the file and sends it. fresh says that the script has made the
// table.
func (l *lane) readRun(ctx context.Context, r *load.Run, judge *judge, table string, h handling, fresh bool) error {
	e := l.pool.e
	script, err := read(ctx, e.source)
	if err != nil {
		return err
	}
	defer script.Close()
	sent := &sentRun{lane: l, script: script, judge: judge, table: table, fresh: fresh}
	defer sent.end(ctx)
	err = r.Read(e.source.Name, script, script.Content, func(statement sqltext.Statement) error {
		if err := cmp.Or(ctx.Err(), l.pool.failure()); err != nil {
			return err
		}
		v := judge.look(statement)
		switch {
		case v.class == copyRows && v.objection == nil:
			return sent.copy(ctx, v)
		case v.class == literalRows:
			if _, literal := judge.countRows(v); !literal {
				break
			}
			if sent.join(v, table, h); len(sent.text) >= messageSize {
				return sent.flush(ctx)
			}
			return nil
		}
		return load.Changed(e.source.Name, statement)
	})
	if err == nil {
		err = sent.flush(ctx)
	}
	if err == nil {
		err = sent.commit(ctx)
	}
	return err
}

// sentRun is a run on its way, in transactions of some size.
type sentRun struct {
	message
	*lane
	script *reading
	judge  *judge
	table  string
	fresh  bool // the script has made the table
	begun  bool // a transaction
	size   int  // of what it holds
}

// end has the rows of a transaction go that was not committed: the session is free for who
// looks on.
func (s *sentRun) end(ctx context.Context) {
	if s.begun {
		_ = s.session.Send(context.WithoutCancel(ctx), "ROLLBACK", func(int64) {})
	}
}

func (s *sentRun) commit(ctx context.Context) error {
	if !s.begun {
		return nil
	}
	s.begun, s.size = false, 0
	return s.session.Send(ctx, "COMMIT", func(int64) {})
}

// flush sends what was joined.
func (s *sentRun) flush(ctx context.Context) error {
	defer s.reset()
	if len(s.pieces) == 0 {
		return nil
	}
	if !s.begun {
		if err := s.session.Send(ctx, "BEGIN", func(int64) {}); err != nil {
			return err
		}
		s.begun = true
	}
	s.size += len(s.text)
	if err := s.send(ctx, s.session, &s.pool.e.Ledger); err != nil || s.size < commitSize {
		return err
	}
	return s.commit(ctx)
}

// copy sends a COPY, into a table of the script's own frozen.
func (s *sentRun) copy(ctx context.Context, v verdict) error {
	if err := s.flush(ctx); err != nil {
		return err
	}
	if !s.fresh || !endsInStdin(v.Text) {
		return sendCopy(ctx, s.session, s.script, v, s.table, &s.pool.e.Ledger)
	}
	if err := s.commit(ctx); err != nil {
		return err
	}
	s.begun = true
	frozen, err := s.begin(ctx, v.head.Name)
	if err != nil {
		return err
	}
	if frozen {
		v.text = append(bytes.Clone(v.text), " WITH (FREEZE)"...)
	}
	if err := sendCopy(ctx, s.session, s.script, v, s.table, &s.pool.e.Ledger); err != nil {
		return err
	}
	return s.commit(ctx)
}
