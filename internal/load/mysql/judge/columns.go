package judge

import (
	"bytes"
	"sync"

	"yellowfield/internal/sqltext"
)

// AutoValues says how the rows of a statement fill the AUTO_INCREMENT column.
type AutoValues int

const (
	Explicit AutoValues = iota // every row has a value, or there is no such column
	Implicit                   // no row has one
	Mixed
)

// Of is what ForInsert of the table's definition says for an INSERT; asked for the same
// list of columns again, it has the answer ready.
func (l *ColumnList) Of(definition *sqltext.Table, insert sqltext.Insert) (notNull uint64, auto int, wide bool) {
	l.Lock()
	defer l.Unlock()
	if l.table != definition || len(l.names) != len(insert.Columns) || len(l.names) > 0 && &l.names[0] != &insert.Columns[0] {
		l.table, l.names = definition, insert.Columns
		l.notNull, l.auto, l.wide = definition.ForInsert(insert.Columns)
	}
	return l.notNull, l.auto, l.wide
}

// ColumnList is what is known of the columns of the last INSERT.
type ColumnList struct {
	sync.Mutex
	table   *sqltext.Table
	names   []string
	notNull uint64
	auto    int
	wide    bool
}

// AutoValue tells whether a value is left to the server: NULL is, a whole
// number other than zero is not, and anything else is too unsure to say.
func AutoValue(text []byte) AutoValues {
	if len(text) == len("NULL") && bytes.EqualFold(text, []byte("NULL")) {
		return Implicit
	}
	if number := bytes.Trim(text, "'"); len(number) > 0 && number[0] != '0' && sqltext.Digits(number) == len(number) {
		return Explicit
	}
	return Mixed
}
