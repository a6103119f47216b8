package main

import (
	"fmt"
	"io"
	"strings"

	"yellowfield/internal/dbms"
)

// postgresShapes are kinds of dumps for PostgreSQL.
var postgresShapes = []shape{
	{"single rows", "one table, an INSERT a row", postgresRows},
	{"INSERTs", "40 tables with keys behind, foreign keys and sequences, an INSERT a row, as the dump program writes them on request", postgresInserts},
	{"COPY", "four indexed tables, rows as COPY, keys behind, as the dump program writes them", postgresCopy},
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
