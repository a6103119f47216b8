package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// postgresShapes are kinds of dumps for PostgreSQL.
var postgresShapes = []shape{
	{name: "single rows", about: "one table, an INSERT a row", write: postgresRows},
	{name: "INSERTs", about: "40 tables with keys at the end, foreign keys and sequences, an INSERT a row, as the dump program writes them on request", write: postgresInserts},
	{name: "COPY", about: "four indexed tables, rows as COPY, keys at the end, as the dump program writes them", write: postgresCopy},
	{name: "dumped", about: "the tables of INSERTs and of COPY, a third as large, as the dump program of the server writes them", write: postgresBoth, dumped: true},
}

// contest is a way to use the stock client, and ours to set against it.
type contest struct {
	name  string
	stock []string // options of the stock client
	ours  []string // options of ours
}

// contests of a product; MariaDB's and MySQL's clients have one way only.
func contests(product dbms.Product) []contest {
	if product != dbms.PostgreSQL {
		return []contest{{}}
	}
	return []contest{
		{name: ", psql", stock: nil},
		{name: ", psql -1", stock: []string{"-1"}},
		{name: ", psql -1, --fast", stock: []string{"-1"}, ours: []string{"--fast"}},
	}
}

const postgresHead = "SET statement_timeout = 0;\nSET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSELECT pg_catalog.set_config('search_path', '', false);\nSET check_function_bodies = false;\nSET row_security = off;\n\n"

// plain is text without what needs care in a literal.
func (d *dump) plain(n int) string { return strings.ReplaceAll(d.text(n), `\'`, "''") }

func postgresRows(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say("CREATE TABLE weighings (id integer PRIMARY KEY, hive integer NOT NULL, taken timestamp NOT NULL, kilograms numeric(6,2), remark varchar(200));\nCREATE INDEX hive ON weighings (hive);\n")
	for i := range int(20000 * size) {
		d.say("INSERT INTO weighings (id, hive, taken, kilograms, remark) VALUES (%d, %d, '%s', %d.%02d, '%s');\n",
			i+1, d.random.IntN(400), d.date(), d.random.IntN(80), d.random.IntN(100), d.plain(4))
	}
}

func postgresInserts(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say(postgresHead)
	const tables = 40
	for t := range tables {
		d.say("CREATE TABLE public.area_%02d (\n    id integer NOT NULL,\n    parent integer,\n    name character varying(190) DEFAULT ''::character varying NOT NULL,\n    state smallint DEFAULT 1 NOT NULL,\n    made timestamp without time zone,\n    weight numeric(9,3),\n    body text,\n    more jsonb\n);\n\nCREATE SEQUENCE public.area_%02[1]d_id_seq AS integer START WITH 1 INCREMENT BY 1 NO MINVALUE NO MAXVALUE CACHE 1;\nALTER SEQUENCE public.area_%02[1]d_id_seq OWNED BY public.area_%02[1]d.id;\nALTER TABLE ONLY public.area_%02[1]d ALTER COLUMN id SET DEFAULT nextval('public.area_%02[1]d_id_seq'::regclass);\n\n", t)
	}
	rows := int(60000 * size / tables)
	for t := range tables {
		for i := range rows {
			parent := "NULL"
			if i%2 == 0 {
				parent = fmt.Sprint(d.random.IntN(rows) + 1)
			}
			d.say("INSERT INTO public.area_%02d VALUES (%d, %s, '%s %d', %d, '%s', %d.%03d, '%s', '{\"frames\": %d}');\n", t, i+1, parent, d.plain(2), i, i%3, d.date(), d.random.IntN(900), d.random.IntN(1000), d.plain(8), d.random.IntN(11))
		}
	}
	for t := range tables {
		d.say("SELECT pg_catalog.setval('public.area_%02d_id_seq', %d, true);\n", t, max(1, rows))
	}
	for t := range tables {
		d.say("ALTER TABLE ONLY public.area_%02d\n    ADD CONSTRAINT area_%02[1]d_pkey PRIMARY KEY (id);\nCREATE INDEX area_%02[1]d_made ON public.area_%02[1]d USING btree (made);\n", t)
	}
	for t := 1; t < tables; t += 3 {
		d.say("ALTER TABLE ONLY public.area_%02d ADD CONSTRAINT area_%02[1]d_parent FOREIGN KEY (parent) REFERENCES public.area_%02d(id);\n", t, t-1)
	}
}

// postgresBoth is what is loaded, and dumped again.
func postgresBoth(w io.Writer, size float64) {
	const third = 3
	postgresInserts(w, size/third)
	postgresCopy(w, size/third)
}

func postgresCopy(w io.Writer, size float64) {
	d := newDump(w)
	defer d.Flush()
	d.say(postgresHead)
	const tables = 4
	for t := range tables {
		d.say("CREATE TABLE public.readings_%d (\n    id integer NOT NULL,\n    hive integer NOT NULL,\n    sensor character varying(40) NOT NULL,\n    taken timestamp without time zone NOT NULL,\n    value double precision,\n    note text\n);\n\n", t)
	}
	for t := range tables {
		d.say("COPY public.readings_%d (id, hive, sensor, taken, value, note) FROM stdin;\n", t)
		id := 0
		for written := 0; written < int(100*size*(1<<20))/tables; {
			id++
			n, _ := fmt.Fprintf(d, "%d\t%d\t%s-%04d\t%s\t%g\t%s\n", id, d.random.IntN(5000), words[d.random.IntN(10)], d.random.IntN(3000), d.date(), float64(d.random.IntN(100000))/100, strings.ReplaceAll(d.text(5), `\'`, "'"))
			written += n
		}
		d.say("\\.\n\n\n")
	}
	for t := range tables {
		d.say("ALTER TABLE ONLY public.readings_%d\n    ADD CONSTRAINT readings_%[1]d_pkey PRIMARY KEY (id);\nCREATE INDEX readings_%[1]d_hive ON public.readings_%[1]d USING btree (hive, taken);\nCREATE INDEX readings_%[1]d_sensor ON public.readings_%[1]d USING btree (sensor, value);\n", t)
	}
}

// readPostgresContent takes apart what the stock client has left: definitions as the dump
// program writes them, rows as COPY gives them.
func (w *workshop) readPostgresContent(ctx context.Context) (*content, error) {
	for _, statement := range []string{"DROP DATABASE IF EXISTS limits", "CREATE DATABASE limits OWNER bench TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"} {
		if err := w.execute(statement); err != nil {
			return nil, err
		}
	}
	conn, err := w.connect(ctx, "stock")
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	c := &content{}
	if c.first, err = w.definitions("pre-data"); err != nil {
		return nil, err
	}
	later, err := w.definitions("post-data")
	if err != nil {
		return nil, err
	}
	rows, err := conn.Query(ctx, "SELECT tablename FROM pg_catalog.pg_tables WHERE schemaname = 'public' ORDER BY 1")
	if err != nil {
		return nil, err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		t := tableContent{name: name}
		var text bytes.Buffer
		if _, err := conn.PgConn().CopyTo(ctx, &text, "COPY public."+name+" TO STDOUT"); err != nil {
			return nil, err
		}
		t.rows = text.Bytes()
		for _, statement := range later {
			if strings.Contains(statement, " public."+name+"\n") || strings.Contains(statement, " public."+name+" ") {
				if !strings.Contains(statement, "FOREIGN KEY") {
					t.keys = append(t.keys, statement)
				} else if strings.Contains(statement, "ALTER TABLE ONLY public."+name+"\n") {
					c.behind = append(c.behind, statement)
				}
			}
		}
		c.tables = append(c.tables, t)
	}
	return c, nil
}

// definitions are a section of what the dump program writes, as statements.
func (w *workshop) definitions(section string) (statements []string, err error) {
	command := exec.Command(throwaway.PostgresProgram("", "pg_dump"), "-h", filepath.Dir(w.server.Socket), "-U", "bench", "--section="+section, "stock")
	command.Env = append(os.Environ(), "PGPASSWORD="+password)
	text, err := command.Output()
	if err != nil {
		return nil, err
	}
	var lines []string
	for line := range strings.Lines(string(text)) {
		if !strings.HasPrefix(line, "--") && !strings.HasPrefix(line, `\`) {
			lines = append(lines, line)
		}
	}
	for _, statement := range strings.Split(strings.Join(lines, ""), ";\n") {
		if statement = strings.TrimSpace(statement); statement != "" && !strings.Contains(statement, "search_path") {
			statements = append(statements, statement)
		}
	}
	return statements, nil
}

// copyLoader loads tables of PostgreSQL.
type copyLoader struct{ conn *pgx.Conn }

func (w *workshop) connect(ctx context.Context, database string) (*pgx.Conn, error) {
	return pgx.Connect(ctx, fmt.Sprintf("host=%s user=bench password=%s dbname=%s", filepath.Dir(w.server.Socket), password, database))
}

func (w *workshop) openPostgresLoader(ctx context.Context) (loader, error) {
	conn, err := w.connect(ctx, "limits")
	if err != nil {
		return nil, err
	}
	l := &copyLoader{conn}
	return l, l.do(ctx, "SET max_parallel_maintenance_workers = 0")
}

func (l *copyLoader) close() { _ = l.conn.Close(context.Background()) }

func (l *copyLoader) do(ctx context.Context, statement string) error {
	_, err := l.conn.Exec(ctx, statement, pgx.QueryExecModeSimpleProtocol)
	return err
}

func (l *copyLoader) load(ctx context.Context, t tableContent) error {
	for _, statement := range []string{"BEGIN", "TRUNCATE public." + t.name} {
		if err := l.do(ctx, statement); err != nil {
			return err
		}
	}
	if _, err := l.conn.PgConn().CopyFrom(ctx, bytes.NewReader(t.rows), "COPY public."+t.name+" FROM STDIN WITH (FREEZE)"); err != nil {
		return err
	}
	return l.do(ctx, "COMMIT")
}
