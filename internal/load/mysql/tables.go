package mysql

import (
	"context"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/sqltext"
)

// table is what the importer knows of a table that rows go into.
type table struct {
	name          string
	definition    *sqltext.Table // nil when it is no ordinary table
	created       string         // SHOW CREATE TABLE
	transactional bool
	hasAuto       bool
	triggered     bool
	lane          *lane
	late          *lateKeys // to be built after the rows; nil for none
	keysLate      bool      // there were or are such
	stale         bool      // its definition has changed since it was looked at
	list          judge.ColumnList
}

// plain reports whether rows can go to a lane.
func (t *table) plain() bool { return t.definition != nil && !t.triggered }

// forget drops what is known of a table whose definition may have changed.
func (e *engine) forget(name string) {
	if t := e.tables[name]; t != nil && t.late == nil {
		delete(e.tables, name)
	}
}

// laneFor chooses a lane: that of the table as long as it has work, or of its
// relatives while foreign keys are checked, else the one with the least to do.
func (e *engine) laneFor(ctx context.Context, t *table, s *settings) (*lane, error) {
	var err error
	if !s.checks {
		if t.lane == nil || t.lane.load() == 0 {
			t.lane, err = e.idlest(ctx)
		}
		return t.lane, err
	}
	group := e.group(t.name)
	if e.groupLanes[group] == nil {
		if e.groupLanes[group], err = e.idlest(ctx); err != nil {
			return nil, err
		}
	}
	t.lane = e.groupLanes[group]
	return t.lane, nil
}

// idlest gives the lane with the least to do, a new one while there may be
// more.
func (e *engine) idlest(ctx context.Context) (*lane, error) {
	least := e.lanes[0]
	for _, l := range e.lanes {
		if l.load() < least.load() {
			least = l
		}
	}
	if least.load() > 0 && len(e.lanes) < e.most {
		opened, err := e.addLane(ctx)
		if err != nil {
			return nil, err
		}
		if opened {
			least = e.lanes[len(e.lanes)-1]
		}
	}
	return least, nil
}

// addLane opens one more lane; opened is false, and no more are asked for, where the account
// may have no more sessions.
func (e *engine) addLane(ctx context.Context) (opened bool, err error) {
	l, err := e.openLane(ctx)
	switch {
	case err == nil:
		e.lanes = append(e.lanes, l)
		return true, nil
	case dbms.CauseOf(err) == dbms.TooMany:
		e.most = len(e.lanes)
		return false, nil
	}
	return false, err
}

// barrier waits until the lanes have done and committed all that concerns the
// given tables, or everything when none is given.
func (e *engine) barrier(tables ...string) {
	if len(tables) == 0 {
		for _, l := range e.lanes {
			l.drain()
		}
		return
	}
	for _, name := range tables {
		if t := e.tables[name]; t != nil && t.lane != nil {
			t.lane.drain()
		}
	}
}

// table finds out about the table that rows go into. One that does not exist
// is no plain table: the server's own error is the best.
func (e *engine) table(ctx context.Context, name string, d sqltext.Dialect) (*table, error) {
	old := e.tables[name]
	if old != nil && !old.stale {
		return old, nil
	}
	t := &table{name: name, triggered: e.triggered[name]}
	if old != nil && old.lane != nil {
		old.lane.drain()
	}
	e.tables[name] = t
	if err := e.batch.flush(); err != nil {
		return nil, err
	}
	if err := e.describe(ctx, t, d); err != nil || t.definition == nil {
		return t, err
	}
	for _, f := range t.definition.Foreign {
		e.join(name, f.References.Name)
	}
	return t, e.planKeys(ctx, t, d)
}

func (e *engine) describe(ctx context.Context, t *table, d sqltext.Dialect) error {
	shown, err := e.main.Query(ctx, "SHOW CREATE TABLE "+mysql.QuoteName(t.name))
	if dbms.IsRefusal(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if len(shown) == 0 || len(shown[0]) < 2 {
		return nil
	}
	t.created = shown[0][1]
	definition, ok := sqltext.ParseTable([]byte(t.created), d)
	if !ok || strings.HasPrefix(t.created, "CREATE TEMPORARY") { // a view, a sequence; a table that only this session sees
		return nil
	}
	t.definition = definition
	t.transactional = strings.EqualFold(definition.Options.Engine, "InnoDB")
	t.hasAuto = definition.HasAuto()
	return nil
}

// join puts two tables into one group.
func (e *engine) join(a, b string) {
	if b == "" || a == b {
		return
	}
	from, to := e.group(a), e.group(b)
	if from == to {
		return
	}
	if x, y := e.groupLanes[from], e.groupLanes[to]; x != nil && y != nil && x != y {
		x.drain()
		y.drain()
	} else if y == nil {
		e.groupLanes[to] = x
	}
	e.groups[from] = to
}

func (e *engine) group(name string) string {
	for e.groups[name] != "" {
		name = e.groups[name]
	}
	return name
}
