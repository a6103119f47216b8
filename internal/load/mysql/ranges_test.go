package mysql

import (
	"context"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
)

// counting is a session that notes that it had rows.
type counting struct {
	Session
	filled *sync.Map
}

func (c counting) Exec(ctx context.Context, statement string) (int64, error) {
	if strings.HasPrefix(statement, "INSERT") {
		c.filled.Store(c.Session, true)
	}
	return c.Session.Exec(ctx, statement)
}

func (c counting) Load(ctx context.Context, into string, from io.Reader) (int64, int, error) {
	c.filled.Store(c.Session, true)
	return c.Session.Load(ctx, into, from)
}

// TestOneTableOnSeveralLanes: the rows of one large table go over several sessions where it
// makes no difference, by INSERT as well as by LOAD DATA.
func TestOneTableOnSeveralLanes(t *testing.T) {
	const checked = "SET NAMES utf8mb4;"
	rows := many(300, "INSERT INTO t VALUES (#, 'honey number # of the year', 1);")
	test := func(t *testing.T, h *testServer) {
		for name, script := range map[string]struct {
			text     string
			sessions int
		}{
			"numbers of the script":       {lines(checked, "CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, a VARCHAR(60), n INT, KEY (n));", rows), 3},
			"a key of two columns":        {lines(checked, "CREATE TABLE t (id INT, a VARCHAR(60), n INT, PRIMARY KEY (n, id), UNIQUE KEY (a));", rows), 3},
			"a row that fits nowhere":     {lines(checked, "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(60), n INT);", rows+"INSERT INTO t VALUES (1, 'again', 1);", "INSERT INTO t VALUES ('x', 'y', 'z');"), 3},
			"two rows of a key, far away": {lines(checked, "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(60), n INT, UNIQUE KEY (a));", rows+"INSERT INTO t VALUES (1000, 'HONEY number 5 of the year', 1);"), 3},
			"numbers of the server":       {lines(checked, "CREATE TABLE t (n INT AUTO_INCREMENT PRIMARY KEY, a VARCHAR(60), id INT);", many(300, "INSERT INTO t (id, a) VALUES (#, 'honey number # of the year');")), 1},
			"a number of the server":      {lines(checked, "CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, a VARCHAR(60), n INT);", rows+"INSERT INTO t VALUES (NULL, 'the last', 1);"), 1},
			"numbers from later on":       {lines(checked, "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(60), n INT);", "ALTER TABLE t MODIFY id INT AUTO_INCREMENT;", rows), 1},
			"no key":                      {lines(checked, "CREATE TABLE t (id INT, a VARCHAR(60), n INT);", rows), 1},
			"parents among its rows":      {lines(checked, "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(60), n INT, FOREIGN KEY (n) REFERENCES t (id));", rows), 1},
		} {
			h.Fresh(t, "stock", "ours")
			stock := h.Stock(t, "stock", []byte(script.text))
			i := h.target(t, "ours")
			if i.Server.MariaDB {
				i.Server.Version = bulkSince - 1 // else the table is filled in bulk
			}
			open := i.Open
			var filled sync.Map
			i.Open = func(ctx context.Context) (Session, error) {
				s, err := open(ctx)
				return counting{s, &filled}, err
			}
			_, err := loadtest.Import(t, script.text, i, load.Options{Lanes: 3})
			h.sameAs(t, name, stock, err)
			sessions := 0
			filled.Range(func(_, _ any) bool { sessions++; return true })
			assert.Equal(t, script.sessions, sessions, name)
		}
	}
	t.Run("by LOAD DATA", func(t *testing.T) { onEveryServer(t, test, "--local-infile=ON") })
	t.Run("by INSERT", func(t *testing.T) { onEveryServer(t, test, "--local-infile=OFF") })
}
