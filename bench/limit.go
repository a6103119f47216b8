package main

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"golang.org/x/sync/errgroup"

	"yellowfield/internal/dbms"
)

// content is what a database holds, ready to be loaded as fast as the server takes it.
type content struct {
	first  []string // what is made before tables
	tables []tableContent
	behind []string // what is made when all rows are there: foreign keys, triggers, views
}

// tableContent is one table.
type tableContent struct {
	name   string
	create string
	rows   []byte   // in the form that LOAD DATA and COPY read
	keys   []string // statements that build them
}

// loader is a session that loads tables.
type loader interface {
	do(ctx context.Context, statement string) error
	load(ctx context.Context, t tableContent) error
	close()
}

// limit is how fast the server itself is with the same rows: a table without its keys, its
// rows by LOAD DATA LOCAL or COPY, its keys then, and as many tables beside each other as
// there are cores. What a script is beside its rows is not in it, nor is any program's start.
func (w *workshop) limit(ctx context.Context) (seconds float64, err error) {
	read, open := w.readContent, w.openLoader
	if w.product == dbms.PostgreSQL {
		read, open = w.readPostgresContent, w.openPostgresLoader
	}
	c, err := read(ctx)
	if err != nil {
		return 0, err
	}
	var loaders []loader
	for range runtime.NumCPU() {
		l, err := open(ctx)
		if err != nil {
			return 0, err
		}
		defer l.close()
		loaders = append(loaders, l)
	}
	if err := w.rest(); err != nil {
		return 0, err
	}
	// The largest first, so that no large table is left for the end.
	slices.SortStableFunc(c.tables, func(a, b tableContent) int { return len(b.rows) - len(a.rows) })
	work := make(chan tableContent, len(c.tables))
	for _, t := range c.tables {
		work <- t
	}
	close(work)
	began := time.Now()
	for _, statement := range c.first {
		if err := loaders[0].do(ctx, statement); err != nil {
			return 0, err
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	for _, l := range loaders {
		group.Go(func() error {
			for t := range work {
				if err := l.load(ctx, t); err != nil {
					return fmt.Errorf("%s: %w", t.name, err)
				}
				for _, statement := range t.keys {
					if err := l.do(ctx, statement); err != nil {
						return fmt.Errorf("%s: %w", t.name, err)
					}
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	for _, statement := range c.behind {
		if err := loaders[0].do(context.WithoutCancel(ctx), statement); err != nil {
			return 0, err
		}
	}
	return time.Since(began).Seconds(), nil
}

// open logs in to MariaDB or MySQL.
func (w *workshop) open(database, user, secret string) (*sql.DB, error) {
	config := driver.NewConfig()
	config.User, config.Passwd, config.DBName = user, secret, database
	config.Net, config.Addr = "unix", w.server.Socket
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// fileLoader loads tables of MariaDB and MySQL.
type fileLoader struct {
	db   *sql.DB
	conn *sql.Conn
}

func (w *workshop) openLoader(ctx context.Context) (loader, error) {
	db, err := w.open("limits", "bench", password)
	if err != nil {
		return nil, err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	l := &fileLoader{db, conn}
	return l, l.do(ctx, "SET foreign_key_checks = 0, sql_mode = 'NO_AUTO_VALUE_ON_ZERO'")
}

func (l *fileLoader) close() { _, _ = l.conn.Close(), l.db.Close() }

func (l *fileLoader) do(ctx context.Context, statement string) error {
	_, err := l.conn.ExecContext(ctx, statement)
	return err
}

func (l *fileLoader) load(ctx context.Context, t tableContent) error {
	if err := l.do(ctx, t.create); err != nil || len(t.rows) == 0 {
		return err
	}
	driver.RegisterReaderHandler(t.name, func() io.Reader { return bytes.NewReader(t.rows) })
	defer driver.DeregisterReaderHandler(t.name)
	return l.do(ctx, "LOAD DATA LOCAL INFILE 'Reader::"+t.name+"' INTO TABLE `"+t.name+"` CHARACTER SET utf8mb4")
}

var (
	laterKey   = regexp.MustCompile(`(?m)^  ((?:UNIQUE |FULLTEXT |SPATIAL )?KEY .*?),?$`)
	foreignKey = regexp.MustCompile(`(?m)^  (CONSTRAINT .* FOREIGN KEY .*?),?$`)
	lastComma  = regexp.MustCompile(`,\n\)`)
)

// readContent takes apart what the stock client has left, and makes room for the same.
func (w *workshop) readContent(ctx context.Context) (*content, error) {
	for _, statement := range []string{"SET GLOBAL local_infile = 1", "DROP DATABASE IF EXISTS limits", "CREATE DATABASE limits CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci", "GRANT ALL ON limits.* TO bench@localhost"} {
		if err := w.execute(statement); err != nil {
			return nil, err
		}
	}
	db, err := w.open("stock", "bench", password)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	c := &content{}
	tables, err := column(ctx, db, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1", 0)
	if err != nil {
		return nil, err
	}
	for _, name := range tables {
		created, err := column(ctx, db, "SHOW CREATE TABLE `"+name+"`", 1)
		if err != nil {
			return nil, err
		}
		t := tableContent{name: name, create: created[0]}
		take := func(form *regexp.Regexp) (adds []string) {
			for _, m := range form.FindAllStringSubmatch(t.create, -1) {
				adds = append(adds, "ADD "+m[1])
			}
			t.create = form.ReplaceAllString(t.create, "")
			return adds
		}
		foreign, keys := take(foreignKey), take(laterKey)
		for strings.Contains(t.create, "\n\n") {
			t.create = strings.ReplaceAll(t.create, "\n\n", "\n")
		}
		t.create = lastComma.ReplaceAllString(t.create, "\n)")
		if len(keys) > 0 {
			t.keys = []string{"ALTER TABLE `" + name + "` " + strings.Join(keys, ", ")}
		}
		if len(foreign) > 0 {
			c.behind = append(c.behind, "ALTER TABLE `"+name+"` "+strings.Join(foreign, ", "))
		}
		if t.rows, err = textOf(ctx, db, name); err != nil {
			return nil, err
		}
		c.tables = append(c.tables, t)
	}
	triggers, err := column(ctx, db, "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()", 0)
	if err != nil {
		return nil, err
	}
	for _, name := range triggers {
		created, err := column(ctx, db, "SHOW CREATE TRIGGER `"+name+"`", 2)
		if err != nil {
			return nil, err
		}
		c.behind = append(c.behind, created[0])
	}
	return c, nil
}

// column gives one column of a query's rows.
func column(ctx context.Context, db *sql.DB, query string, n int) (values []string, err error) {
	err = eachRow(ctx, db, query, func(row []sql.RawBytes) { values = append(values, string(row[n])) })
	return values, err
}

// textOf gives a table's rows as LOAD DATA reads them.
func textOf(ctx context.Context, db *sql.DB, table string) ([]byte, error) {
	escape := strings.NewReplacer("\\", `\\`, "\t", `\t`, "\n", `\n`, "\x00", `\0`)
	var text bytes.Buffer
	err := eachRow(ctx, db, "SELECT * FROM `"+table+"`", func(row []sql.RawBytes) {
		for i, value := range row {
			if i > 0 {
				text.WriteByte('\t')
			}
			if value == nil {
				text.WriteString(`\N`)
			} else {
				_, _ = escape.WriteString(&text, string(value))
			}
		}
		text.WriteByte('\n')
	})
	return text.Bytes(), err
}

func eachRow(ctx context.Context, db *sql.DB, query string, take func([]sql.RawBytes)) error {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	row := make([]sql.RawBytes, len(names))
	into := make([]any, len(names))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		take(row)
	}
	return rows.Err()
}
