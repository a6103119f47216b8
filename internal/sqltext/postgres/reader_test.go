package postgres

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/sqltext"
)

// readAll gives all statements, with the rows of COPY after theirs.
func readAll(r *Reader) (pieces []string, err error) {
	for {
		s, err := r.Next()
		if errors.Is(err, io.EOF) {
			return pieces, nil
		}
		if err != nil {
			return pieces, err
		}
		piece := string(s.Text)
		if data := r.Data(); data != nil {
			rows, err := io.ReadAll(data)
			if err != nil {
				return pieces, err
			}
			piece += "|" + string(rows)
		}
		pieces = append(pieces, piece)
	}
}

func TestReaderSplitsWhereTheStockClientDoes(t *testing.T) {
	for name, row := range map[string]struct {
		script string
		want   []string
	}{
		"last without semicolon":      {"SELECT 1; SELECT 2", []string{"SELECT 1", "SELECT 2"}},
		"dollar quotes":               {"SELECT $$a;'b$$; SELECT $x$ $$;$ $x$; SELECT $1;SELECT a$b$;$c", []string{"SELECT $$a;'b$$", "SELECT $x$ $$;$ $x$", "SELECT $1", "SELECT a$b$", "$c"}},
		"standard strings":            {`SELECT 'a\'; SELECT ';''';`, []string{`SELECT 'a\'`, `SELECT ';'''`}},
		"strings with escapes":        {`SELECT E'a\';b', e'\\'; SELECT 1E'';`, []string{`SELECT E'a\';b', e'\\'`, `SELECT 1E''`}},
		"a string that goes on":       {"SELECT E'a'\n  '\\';'; SELECT 'a'\n'\\'; SELECT 2", []string{"SELECT E'a'\n  '\\';'", "SELECT 'a'\n'\\'", "SELECT 2"}},
		"strings of old":              {`SET standard_conforming_strings = off; SELECT 'a\';b'; SET standard_conforming_strings TO 'on'; SELECT 'a\';`, []string{"SET standard_conforming_strings = off", `SELECT 'a\';b'`, "SET standard_conforming_strings TO 'on'", `SELECT 'a\'`}},
		"nested comments":             {"/* a /* b; */ ; */ SELECT 1 /* ; /* ' */ */ + 1; --c;'\nSELECT 2--1;\n", []string{"SELECT 1 /* ; /* ' */ */ + 1", "SELECT 2--1;"}},
		"quoted names":                {`SELECT "a;""b"; SELECT 2`, []string{`SELECT "a;""b"`, "SELECT 2"}},
		"rules in parentheses":        {"CREATE RULE r AS ON INSERT TO t DO (SELECT 1; SELECT 2); SELECT 3", []string{"CREATE RULE r AS ON INSERT TO t DO (SELECT 1; SELECT 2)", "SELECT 3"}},
		"routines in SQL":             {"CREATE OR REPLACE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT CASE WHEN true THEN 1; END; END; SELECT 1", []string{"CREATE OR REPLACE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT CASE WHEN true THEN 1; END; END", "SELECT 1"}},
		"a block that is none":        {"BEGIN; SELECT 1; END; SELECT 2", []string{"BEGIN", "SELECT 1", "END", "SELECT 2"}},
		"rows of COPY":                {"COPY t (a, \"b;\") FROM stdin;\n1\t'\n\\N\t\\.\n\\.\nSELECT 1;", []string{"COPY t (a, \"b;\") FROM stdin|1\t'\n\\N\t\\.\n", "SELECT 1"}},
		"COPY without rows":           {"COPY t FROM STDIN WITH (FORMAT csv);\n\\.\nCOPY t TO STDOUT; COPY t FROM 'f';", []string{"COPY t FROM STDIN WITH (FORMAT csv)|", "COPY t TO STDOUT", "COPY t FROM 'f'"}},
		"COPY from a query":           {"COPY (SELECT 1 FROM stdin) TO STDOUT;\nSELECT 1;", []string{"COPY (SELECT 1 FROM stdin) TO STDOUT", "SELECT 1"}},
		"COPY to the end":             {"COPY t FROM stdin;\n1\n2", []string{"COPY t FROM stdin|1\n2"}},
		"windows line ends":           {"\ufeffCOPY t FROM stdin;\r\n1\r\n\\.\r\nSELECT 1;\r\n", []string{"COPY t FROM stdin|1\r\n", "SELECT 1"}},
		"client lines":                {"\\restrict abc\n\\set ON_ERROR_STOP on\nSELECT 1\\g\n\\echo it's; done\nSELECT\n\\timing\n2;\n\\unrestrict abc\n", []string{"SELECT 1", "SELECT\n       \n2"}},
		"nothing at all":              {" \n-- nothing", nil},
		"a hash and a backquote":      {"SELECT 5 # 3; SELECT `;", []string{"SELECT 5 # 3", "SELECT `"}},
		"words with dollars and quot": {"SELECT u&'a;', b'0', x$'; '", []string{"SELECT u&'a;', b'0', x$'; '"}},
	} {
		for reading, src := range map[string]io.Reader{
			"whole": strings.NewReader(row.script), "byte by byte": iotest.OneByteReader(strings.NewReader(row.script)),
		} {
			got, err := readAll(NewReader("t.sql", src))
			require.NoError(t, err, name)
			assert.Equal(t, row.want, got, "%s, %s", name, reading)
		}
	}
}

func TestWhatReachesBeyondTheDatabaseIsRefusedWithItsPlace(t *testing.T) {
	for script, want := range map[string]string{
		"SELECT 1;\n\\connect other\n":      `t.sql:2:1: \connect is a command of the stock client`,
		"\\! rm -rf /\n":                    `t.sql:1:1: \! is a command`,
		"\\i more.sql\n":                    "name the files one by one under import",
		"SELECT 1 \\gexec\n":                `t.sql:1:10: \gexec is a command`,
		"SELECT 1 \\g out.txt\n":            `\g is a command`,
		"\\set prefix x\n":                  `\set is a command`,
		"\\copy t from 'f'\n":               `\copy is a command`,
		"SELECT $a$ 1;":                     "t.sql:1:8: the script ends inside a literal in dollar quotes that opens here",
		"/* /* */ SELECT 1;":                "the script ends inside a comment",
		"SELECT E'\\":                       "the script ends inside a string literal",
		"\nSELECT \"a":                      "t.sql:2:8: the script ends inside a quoted name",
		"COPY t FROM stdin;\n1\n\\.\n\\o x": `t.sql:4:1: \o is a command`,
	} {
		_, err := readAll(NewReader("t.sql", strings.NewReader(script)))
		assert.ErrorContains(t, err, want, script)
	}
	r := NewReader("t.sql", strings.NewReader("\\restrict x\nSELECT 1;\n\\encoding UTF8\n"))
	_, err := readAll(r)
	require.NoError(t, err)
	assert.Equal(t, `[{t.sql:1:1 \restrict} {t.sql:3:1 \encoding}]`, fmt.Sprint(r.Passed()))
}

func TestPrefixesAndHeads(t *testing.T) {
	r := NewReader("t.sql", strings.NewReader(`CREATE TABLE IF NOT EXISTS public.{p}hives (a text DEFAULT '{p}'); ALTER TABLE ONLY "{p}hives" ADD b int; COPY {p}hives (a) FROM stdin;
\.
CREATE FUNCTION {p}f() RETURNS int AS $$ SELECT '{p}' $$ LANGUAGE sql;`))
	r.ReplacePrefix("{p}", "h_")
	var got []string
	for {
		s, err := r.Next()
		if err != nil {
			break
		}
		head := s.Head()
		got = append(got, fmt.Sprintf("%s %s %s %s", head.Verb, head.Object, head.Name.Schema, head.Name.Name))
		assert.NotContains(t, strings.NewReplacer("'{p}'", "").Replace(string(s.Text)), "{p}")
	}
	assert.Equal(t, []string{"CREATE TABLE public h_hives", "ALTER TABLE  h_hives", "COPY   h_hives", "CREATE FUNCTION  h_f"}, got)
}

// FuzzReader holds the reader against itself at two read sizes; no input
// makes it, or what reads its statements, run past an end.
func FuzzReader(f *testing.F) {
	for _, seed := range []string{"SELECT $a$;$a$;", "E'\\';';", "COPY t FROM stdin;\n1\n\\.\n", "/*/**/;*/;", "CREATE FUNCTION f() BEGIN ATOMIC ;END;", "\\echo x\n;", "a\\g b", "'a'\n'b';"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, script []byte) {
		whole, wholeErr := readAll(NewReader("f.sql", bytes.NewReader(script)))
		single, singleErr := readAll(NewReader("f.sql", iotest.OneByteReader(bytes.NewReader(script))))
		require.Equal(t, whole, single)
		require.Equal(t, fmt.Sprint(wholeErr), fmt.Sprint(singleErr))
		r := NewReader("f.sql", bytes.NewReader(script))
		for {
			s, err := r.Next()
			if err != nil {
				break
			}
			require.LessOrEqual(t, s.Offset+int64(s.Size), int64(len(script)))
			s.Head()
			sqltext.ParseTable(s.Text, s.Dialect)
		}
	})
}
