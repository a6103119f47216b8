package postgres_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/postgres"
	"yellowfield/internal/throwaway"
)

// script has every way in which a semicolon can be none, and runs without an
// error.
const script = `\set ON_ERROR_STOP on
-- a;b
CREATE TABLE hive (id int, "na;me" text DEFAULT 'x;''y'); /* a /* nested; */ b; */
CREATE FUNCTION f() RETURNS text LANGUAGE plpgsql AS $body$ BEGIN RETURN $$;$$ || 'a;'; END; $body$;
CREATE FUNCTION g(a int) RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT CASE WHEN a > 0 THEN 1 ELSE 2 END; SELECT a; END;
CREATE RULE r AS ON UPDATE TO hive DO ALSO (SELECT 1; SELECT 2);
INSERT INTO hive VALUES (1, E'it\'s; \\'), (2, 'back\'), (3, U&'\0061;');
SET standard_conforming_strings = off;
INSERT INTO hive VALUES (5, 'it\'s;');
SET standard_conforming_strings TO on;
SELECT 'a\' AS a\g
COPY hive (id, "na;me") FROM stdin;
6	a;b
7	\N
\.
COPY hive FROM STDIN WITH (FORMAT csv);
8,"a;
b"
\.
SELECT count(*) FROM hive WHERE id <> ALL ($${1}$$::int[]) AND 1-1=0 -- trailing; comment
;
\echo done; not SQL
SELECT $1$ FROM (SELECT 1 AS "$1$") x WHERE false;;
`

// TestReaderAgainstTheStockClient runs a script with psql and has the
// server write down each statement as it came.
func TestReaderAgainstTheStockClient(t *testing.T) {
	psql, err := exec.LookPath("psql")
	if err != nil {
		t.Skip("NOT TESTED: psql is not at hand")
	}
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL, Arguments: []string{
		"-c", "log_statement=all", "-c", "log_destination=jsonlog", "-c", "logging_collector=on", "-c", "log_directory=log", "-c", "log_filename=all", "-c", "log_file_mode=0644"}})
	if err != nil {
		t.Skipf("NOT TESTED: no PostgreSQL can be started: %v", err)
	}
	defer server.Stop()
	text := strings.Replace(script, `SELECT $1$ FROM (SELECT 1 AS "$1$") x WHERE false;;`, `SELECT "$1$" FROM (SELECT 1 AS "$1$") x WHERE false;;`, 1)
	path := filepath.Join(t.TempDir(), "script.sql")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	out, err := exec.Command(psql, "-X", "-h", filepath.Dir(server.Socket), "-U", server.Admin, "-d", "postgres", "-f", path).CombinedOutput()
	require.NoError(t, err, string(out))

	// Comments and white space may go either way: psql sends some, and not all.
	plain := func(statement string) string {
		scanner := sqltext.NewScanner([]byte(statement), sqltext.Dialect{PostgreSQL: true, ANSIQuotes: true, NoBackslashEscapes: !strings.Contains(statement, `it\'s;')`)})
		var tokens []string
		for token, ok := scanner.Next(); ok; token, ok = scanner.Next() {
			tokens = append(tokens, string(token.Text))
		}
		return strings.TrimSuffix(strings.Join(tokens, " "), " ;")
	}
	var want, got []string
	var log []byte
	require.Eventually(t, func() bool { // the server's collector writes it in its own time
		log, err = os.ReadFile(filepath.Join(server.Folder, "data", "log", "all.json"))
		return err == nil && bytes.Contains(log, []byte("x WHERE false")) && bytes.HasSuffix(log, []byte("\n"))
	}, 20*time.Second, 50*time.Millisecond)
	lines := bufio.NewScanner(bytes.NewReader(log))
	for lines.Scan() {
		var entry struct {
			Message     string `json:"message"`
			Application string `json:"application_name"`
		}
		require.NoError(t, json.Unmarshal(lines.Bytes(), &entry))
		if statement, is := strings.CutPrefix(entry.Message, "statement: "); is && entry.Application == "psql" && statement != ";" { // it sends empty ones, too
			want = append(want, plain(statement))
		}
	}
	reader := postgres.NewReader("script.sql", strings.NewReader(text))
	for {
		s, err := reader.Next()
		if err != nil {
			require.ErrorIs(t, err, io.EOF)
			break
		}
		got = append(got, plain(string(s.Text)))
	}
	require.Greater(t, len(want), 12)
	assert.Equal(t, want, got)
}
