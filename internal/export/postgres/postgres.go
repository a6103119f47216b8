// Package postgres exports databases of PostgreSQL, as scripts that psql and the importer
// load.
//
// Owners and rights are left out: what a script makes belongs to whoever loads it. The
// package must never know of estate files, settings files or commands.
package postgres

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/export"
)

// Session is one login on the server, in the database. It is used by one goroutine at a
// time.
type Session interface {
	// Query gives all rows of a query as text, NULL as "".
	Query(ctx context.Context, query string) ([][]string, error)
	// CopyOut sends a COPY ... TO STDOUT, and writes each of its lines by itself.
	CopyOut(ctx context.Context, statement string, out io.Writer) error
	Close()
}

// Exporter exports one database.
type Exporter struct {
	Version int // of the server: 150018
	// Open makes one more session, of a role that may read all of the database.
	Open func(ctx context.Context) (Session, error)
}

var _ export.Exporter = (*Exporter)(nil)

// Look tells what there is.
func (e *Exporter) Look(ctx context.Context, o export.Options) (*export.Survey, error) {
	session, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	c, err := e.look(ctx, session, o)
	if err != nil {
		return nil, err
	}
	return &c.survey, nil
}

// readings are the settings under which values and definitions are written in one way, and
// rows are not left out: a policy that would hide some is an error then (PostgreSQL, "Client
// Connection Defaults").
const readings = `SET search_path = ''; SET row_security = off; SET DateStyle = ISO; SET IntervalStyle = postgres; SET TimeZone = 'UTC';
	SET bytea_output = hex; SET extra_float_digits = 3; SET quote_all_identifiers = off; SET statement_timeout = 0; SET idle_in_transaction_session_timeout = 0; SET xmloption = content`

// open makes a session that shows everything in the same way.
func (e *Exporter) open(ctx context.Context) (Session, error) {
	session, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := session.Query(ctx, readings); err != nil {
		session.Close()
		return nil, err
	}
	return session, nil
}

// Export writes the script: types, functions, sequences and tables; rows; keys; and what
// reads the tables or works on them.
func (e *Exporter) Export(ctx context.Context, out io.Writer, o export.Options, progress func(export.Progress)) (*export.Report, error) {
	first, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	defer first.Close()
	if _, err := first.Query(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY"); err != nil {
		return nil, err
	}
	c, err := e.look(ctx, first, o)
	if err != nil {
		return nil, err
	}
	w := &work{Exporter: e, contents: c, Writing: export.Begin(c.survey, o, out, progress), readers: []Session{first}}
	err = w.write(ctx)
	for _, session := range w.readers[1:] {
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

const head = `SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SET check_function_bodies = off;
SET xmloption = content;
SET client_min_messages = warning;
SET row_security = off;
SELECT pg_catalog.set_config('search_path', '', false);
`

func (w *work) write(ctx context.Context) error {
	if err := w.openReaders(ctx); err != nil {
		return err
	}
	if err := w.Say(head); err != nil {
		return err
	}
	parts := []func() error{
		func() error { return w.sayAll(w.early) },
		func() error { return w.rows(ctx) },
		func() error { return w.sequenceValues(ctx) },
		func() error { return w.sayAll(w.late) },
	}
	for _, part := range parts {
		if err := part(); err != nil {
			return err
		}
	}
	return w.Say("\nRESET ALL;\n-- Complete: " + w.Report.Describe() + ".\n")
}

// openReaders opens the sessions that read, all at the moment of the first, and keeps
// others from changing the tables' definitions.
func (w *work) openReaders(ctx context.Context) error {
	first := w.readers[0]
	var names []string
	for _, t := range w.tables {
		names = append(names, t.identity)
	}
	for some := range slices.Chunk(names, 100) {
		if _, err := first.Query(ctx, "LOCK TABLE ONLY "+strings.Join(some, ", ONLY ")+" IN ACCESS SHARE MODE"); err != nil {
			return err
		}
	}
	lanes := w.LanesFor(len(w.tables), runtime.NumCPU())
	if lanes == 1 {
		return nil
	}
	snapshot, err := first.Query(ctx, "SELECT pg_catalog.pg_export_snapshot()")
	if err != nil {
		return err
	}
	for range lanes - 1 {
		session, err := w.open(ctx)
		if err != nil {
			return err
		}
		w.readers = append(w.readers, session)
		if _, err := session.Query(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY; SET TRANSACTION SNAPSHOT "+postgres.QuoteText(snapshot[0][0])); err != nil {
			return err
		}
	}
	return nil
}

func (w *work) sayAll(definitions []definition) error {
	for _, d := range definitions {
		if w.Report.Sums != nil {
			sum := w.Report.Sums[d.Object]
			sum.Definition += export.SumOf(d.text).Definition // keys and comments of a table are told apart from it
			w.Report.Sums[d.Object] = sum
		}
		if err := w.Say("\n" + d.text + "\n"); err != nil {
			return err
		}
	}
	return nil
}

// rows has the tables read by all sessions, but for those whose rows are in their parts.
func (w *work) rows(ctx context.Context) error {
	filled := slices.DeleteFunc(slices.Clone(w.tables), func(t *table) bool { return t.partitioned })
	return export.InLanes(ctx, w.readers, filled, func(t *table) int64 { return t.bytes }, func(ctx context.Context, session Session, t *table) error {
		r := &rowWriter{work: w, table: t}
		if err := session.CopyOut(ctx, "COPY "+t.identity+t.columns+" TO STDOUT", r); err != nil {
			return fmt.Errorf("%s: %w", t.Name, err)
		}
		return r.end()
	})
}

// rowWriter takes the lines of a COPY, and hands them on in pieces which each are a COPY of
// their own.
type rowWriter struct {
	*work
	*table
	piece []byte
	sum   export.Sum
}

func (r *rowWriter) Write(line []byte) (int, error) {
	if len(r.piece) == 0 {
		r.piece = append(r.Out.Piece(), "\nCOPY "+r.identity+r.columns+" FROM stdin;\n"...)
	}
	r.piece = append(r.piece, line...)
	r.Count(&r.sum, bytes.TrimSuffix(line, []byte("\n")))
	if len(r.piece) < export.PieceSize {
		return len(line), nil
	}
	return len(line), r.end()
}

func (r *rowWriter) end() error {
	if len(r.piece) == 0 {
		return nil
	}
	piece := append(r.piece, "\\.\n"...)
	r.Took(r.Object, len(piece), r.sum)
	r.piece, r.sum = nil, export.Sum{}
	return r.Out.Put(piece)
}

// sequenceValues writes where sequences are, which no moment holds fast.
func (w *work) sequenceValues(ctx context.Context) error {
	for _, s := range w.sequences {
		value, err := w.readers[0].Query(ctx, "SELECT last_value, is_called FROM "+s.identity)
		if err != nil {
			return err
		}
		text := "SELECT pg_catalog.setval(" + postgres.QuoteText(s.identity) + ", " + value[0][0] + ", " + map[string]string{"t": "true", "f": "false"}[value[0][1]] + ");"
		if err := w.sayAll([]definition{{s.Object, text}}); err != nil {
			return err
		}
	}
	return nil
}
