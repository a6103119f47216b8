package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/oracle"
	"yellowfield/internal/secret"
	"yellowfield/internal/throwaway"
)

// TestMain makes lanes worth their while on a few rows.
func TestMain(m *testing.M) {
	longRun = 2000
	os.Exit(m.Run())
}

// postgresTarget is a fresh database on a private server.
func postgresTarget(t *testing.T, server *throwaway.Server, name string) *Importer {
	t.Helper()
	admin, err := postgres.Connect(t.Context(), server.Login())
	require.NoError(t, err)
	defer admin.Close()
	require.NoError(t, admin.Exec(t.Context(), dbms.Statement{Text: "CREATE DATABASE " + name + " TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"}))
	require.NoError(t, admin.Exec(t.Context(), dbms.Statement{Text: "CREATE ROLE " + name + "_app LOGIN PASSWORD 'app-77c0ffee1d'"},
		dbms.Statement{Text: "ALTER DATABASE " + name + " OWNER TO " + name + "_app"}))
	login := server.Login()
	login.Database, login.User, login.Password, login.AsApplication = name, name+"_app", secret.NewPassword("app-77c0ffee1d"), true
	app, err := postgres.Connect(t.Context(), login)
	require.NoError(t, err)
	t.Cleanup(app.Close)
	return &Importer{Target: load.Target{Database: name},
		Open: func(ctx context.Context, warned func(string)) (Session, error) {
			return app.OpenSingle(ctx, warned)
		}}
}

func startPostgres(t *testing.T) *throwaway.Server {
	t.Helper()
	if throwaway.PostgresPrograms("") == "" {
		t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL})
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	return server
}

// TestJoinedRowsStoreWhatSingleOnesDo sends odd literals into columns of every
// type, joined, through COPY or over lanes, and one by one.
func TestJoinedRowsStoreWhatSingleOnesDo(t *testing.T) {
	server := startPostgres(t)
	random := rand.New(rand.NewPCG(8, 15))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	texts := []string{`'plain'`, `''`, `'it''s'`, `'back\slash'`, `'\N'`, `'\.'`, "'two\nlines'", "'a\tb\r'", `'Пчела 🐝'`, `'  x  '`, `E'e\tx\\'`, `'x'::text`, `$q$a'b$q$`, `12`, `007`, `1.50`, `-3`, `TRUE`, `NULL`, `DEFAULT`, `'a' || 'b'`}
	numbers := []string{`1`, `-2`, `+3`, `'4'`, `' 5 '`, `007`, `1.5`, `2.5`, `'6'::text::integer`, `NULL`, `DEFAULT`, `1e2`, `length('abc')`}
	decimals := []string{`1`, `1.005`, `'1.005'`, `.5`, `5.`, `1e2`, `-1.25e-1`, `'NaN'`, `2147483648`, `-0`, `NULL`}
	columns := []struct {
		kind   string
		values []string
	}{
		{"integer", numbers}, {"bigint", append(numbers, `9223372036854775807`)}, {"smallint DEFAULT 7", numbers},
		{"numeric(14,2)", decimals}, {"numeric", decimals}, {"real", decimals}, {"double precision", decimals},
		{"text", texts}, {"varchar(30)", texts}, {"char(20) DEFAULT 'd'", texts},
		{"boolean", []string{`TRUE`, `false`, `'t'`, `'yes'`, `'off'`, `NULL`}},
		{"bytea", []string{`'\x00ff'`, `'abc'`, `'\001\\'`, `NULL`}},
		{"jsonb", []string{`'{"a": "b\\c"}'`, `'[1, 2]'::jsonb`, `NULL`}}, {"json", []string{`'{"a" :  1}'`, `'"x"'`}},
		{"date", []string{`'2026-02-28'`, `'28 Feb 2026'`, `'2026-02-28'::date`, `NULL`}}, {"timestamp(0)", []string{`'2026-02-28 10:00:00.6'`, `'infinity'`, `NULL`}},
		{"timestamptz", []string{`'2026-02-28 10:00:00+02'`, `NULL`}}, {"time", []string{`'10:11:12.5'`}}, {"uuid", []string{`'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'`, `NULL`}},
		{"inet", []string{`'10.0.0.1/8'`}}, {"interval", []string{`'1 day 2 hours'`, `NULL`}}, {"integer[]", []string{`'{1,2}'`, `ARRAY[3]`}}, {"mood", []string{`'calm'`, `NULL`}}, {"short", []string{`'abc'`, `NULL`}},
	}
	var b strings.Builder
	b.WriteString("CREATE TYPE mood AS ENUM ('calm');\nCREATE DOMAIN short AS varchar(5) CHECK (value <> 'no');\n")
	for n, c := range columns {
		fmt.Fprintf(&b, "CREATE TABLE t%d (id serial PRIMARY KEY, v %s, \"Odd Name\" text DEFAULT 'o');\n", n, c.kind)
		for i := range 60 {
			values := pick(c.values...)
			if i%20 < 14 { // a run of plain ones, which go through COPY
				values = pick(c.values[:min(3, len(c.values))]...)
			}
			switch n % 3 {
			case 0:
				fmt.Fprintf(&b, "INSERT INTO t%d (v) VALUES (%s);\n", n, values)
			case 1:
				fmt.Fprintf(&b, "INSERT INTO T%d (\"Odd Name\", V) VALUES (%s, %s);\n", n, pick("'a'", "NULL", "'b;'"), values)
			default:
				fmt.Fprintf(&b, "INSERT INTO t%d VALUES (%d, %s);\n", n, i, values)
			}
		}
	}
	script := []byte(b.String())
	want := postgresTarget(t, server, "want")
	_, err := loadtest.Import(t, string(script), want, load.Options{OneByOne: true})
	require.NoError(t, err)
	expected, err := oracle.PostgresFingerprint(server.Login(), "want")
	require.NoError(t, err)
	require.Greater(t, len(expected), 2*len(columns))
	for name, o := range map[string]load.Options{"joined": {}, "lanes": {Fast: true, Lanes: 3}} {
		report, err := loadtest.Import(t, string(script), postgresTarget(t, server, name), o)
		require.NoError(t, err, name)
		assert.EqualValues(t, 60*len(columns), report.Rows, name)
		got, err := oracle.PostgresFingerprint(server.Login(), name)
		require.NoError(t, err)
		assert.Empty(t, oracle.Differences(expected, got), name)
		if o.Fast {
			assert.Equal(t, 3, report.Lanes)
		}
	}
}

// TestFailuresOnLanesAndInCopiesHaveTheirPlace: the statement to blame is named
// whichever way the rows went, and one transaction leaves nothing.
func TestFailuresOnLanesAndInCopiesHaveTheirPlace(t *testing.T) {
	server := startPostgres(t)
	rows := func(table string, n, bad int, what string) string {
		var b strings.Builder
		for i := range n {
			value := fmt.Sprintf("'%d %s'", i, strings.Repeat("x", 40))
			if i == bad {
				value = what
			}
			fmt.Fprintf(&b, "INSERT INTO %s VALUES (%d, %s);\n", table, i, value)
		}
		return b.String()
	}
	head := "CREATE TABLE a (id integer PRIMARY KEY, v varchar(60) NOT NULL);\nCREATE TABLE b (id integer PRIMARY KEY, v varchar(60) NOT NULL);\nSELECT 1;\n"
	for name, c := range map[string]struct{ script, want string }{
		"copied":  {head + rows("a", 100, -1, "") + rows("b", 100, 50, "NULL"), "a.sql:154:1"},
		"typed":   {head + rows("a", 100, 99, "ARRAY[1]::point"), "a.sql:103:35"},
		"twice":   {head + rows("a", 100, -1, "") + "INSERT INTO a VALUES (7, 'again');\n" + rows("a", 20, -1, ""), "a.sql:104:1"},
		"blocks":  {head + "COPY a FROM stdin;\n" + strings.Repeat("x", 10) + "\n\\.\n", "a.sql:5:1"},
		"in keys": {head + "ALTER TABLE b DROP CONSTRAINT b_pkey;\n" + rows("b", 60, -1, "") + rows("b", 3, -1, "") + "ALTER TABLE b ADD CONSTRAINT k PRIMARY KEY (id);\n", "a.sql:68:1"},
	} {
		for way, o := range map[string]load.Options{"one transaction": {}, "lanes": {Fast: true, Lanes: 2}} {
			target := postgresTarget(t, server, fmt.Sprintf("d%d", rand.Uint32()))
			report, err := loadtest.Import(t, c.script, target, o)
			require.ErrorContains(t, err, c.want, "%s, %s", name, way)
			if o.Fast {
				continue
			}
			assert.Empty(t, report.Made)
			left, err := oracle.PostgresFingerprint(server.Login(), target.Database)
			require.NoError(t, err)
			assert.Empty(t, left, name)
		}
	}
}

// TestAnAccountWithFewConnectionsImportsAllTheSame: where no lane can be opened, all
// goes through the one session there is.
func TestAnAccountWithFewConnectionsImportsAllTheSame(t *testing.T) {
	server := startPostgres(t)
	var b strings.Builder
	b.WriteString("CREATE TABLE a (id integer, v text);\nCREATE TABLE b (id integer, v text);\n")
	for i := range 200 {
		fmt.Fprintf(&b, "INSERT INTO a VALUES (%d, 'x');\nINSERT INTO b VALUES (%d, 'y');\n", i, i)
	}
	b.WriteString("ALTER TABLE a ADD CONSTRAINT k PRIMARY KEY (id);\nCREATE INDEX i ON b (v);\n")
	var prints []map[string]string
	for _, limit := range []int{-1, 2, 3} { // one is taken by who looks on
		name := fmt.Sprintf("d%d", rand.Uint32())
		target := postgresTarget(t, server, name)
		admin, err := postgres.Connect(t.Context(), server.Login())
		require.NoError(t, err)
		require.NoError(t, admin.Exec(t.Context(), dbms.Statement{Text: fmt.Sprintf("ALTER ROLE %s_app CONNECTION LIMIT %d", name, limit)}))
		admin.Close()
		report, err := loadtest.Import(t, b.String(), target, load.Options{Fast: true, Lanes: 4})
		require.NoError(t, err, "limit %d", limit)
		assert.EqualValues(t, 400, report.Rows)
		found, err := oracle.PostgresFingerprint(server.Login(), target.Database)
		require.NoError(t, err)
		print := map[string]string{}
		for what, is := range found {
			print[strings.ReplaceAll(what, name, "")] = strings.ReplaceAll(is, name, "")
		}
		prints = append(prints, print)
	}
	assert.NotEmpty(t, prints[0])
	assert.Equal(t, prints[0], prints[1])
	assert.Equal(t, prints[0], prints[2])
}

// TestLongCopiesOfAScriptsOwnTablesGoByLanes: by default, with what is in a table already, and
// in one transaction where the script touches what was there before.
func TestLongCopiesOfAScriptsOwnTablesGoByLanes(t *testing.T) {
	server := startPostgres(t)
	defer func(was int64) { longRun = was }(longRun)
	longRun = 1 << 10
	copied := func(table string, from, n int, end string) string {
		var b strings.Builder
		b.WriteString("COPY public." + table + " (id, v) FROM stdin;\n")
		for i := range n {
			fmt.Fprintf(&b, "%d\tcomb %d\n", from+i, i)
		}
		return b.String() + end + "\\.\n\n"
	}
	tables := "CREATE TABLE public.a (id integer, v text);\nCREATE TABLE public.b (id integer, v text);\nCREATE TABLE public.c (id integer, v text);\n"
	keys := "ALTER TABLE ONLY public.a ADD CONSTRAINT a_pkey PRIMARY KEY (id);\nALTER TABLE ONLY public.b ADD CONSTRAINT b_pkey PRIMARY KEY (id);\nCREATE INDEX ci ON public.c (v);\nALTER TABLE ONLY public.b ADD CONSTRAINT f FOREIGN KEY (id) REFERENCES public.a(id);\n"
	script := tables + "INSERT INTO public.a VALUES (-1, 'first');\n" + copied("a", 0, 500, "") + copied("b", 0, 500, "") + copied("a", 500, 500, "") + copied("c", 0, 500, "") + keys
	want := postgresTarget(t, server, "once")
	_, err := loadtest.Import(t, script, want, load.Options{OneByOne: true})
	require.NoError(t, err)
	expected, err := oracle.PostgresFingerprint(server.Login(), "once")
	require.NoError(t, err)
	target := postgresTarget(t, server, "lanes")
	report, err := loadtest.Import(t, script, target, load.Options{Lanes: 2})
	require.NoError(t, err)
	assert.Equal(t, 2, report.Lanes)
	got, err := oracle.PostgresFingerprint(server.Login(), "lanes")
	require.NoError(t, err)
	assert.Empty(t, oracle.Differences(expected, got))

	// It failed after lanes that had committed: what it made is told, to be taken back.
	report, err = loadtest.Import(t, tables+copied("a", 0, 500, "")+copied("b", 0, 500, "x\n"), postgresTarget(t, server, "failed"), load.Options{Lanes: 2})
	require.ErrorContains(t, err, "a.sql:1008:1")
	assert.Len(t, report.Made, 3)
	target.Holds = map[string]bool{"c": true}
	report, err = loadtest.Import(t, copied("c", 0, 500, ""), target, load.Options{Lanes: 2, IntoExisting: true})
	require.NoError(t, err)
	assert.Zero(t, report.Lanes, "others may look at it")
}
