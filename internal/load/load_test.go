package load

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
)

func write(t *testing.T, text string) Source {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.sql")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return Source{Path: path, Name: "a.sql"}
}

// recorder is a target that remembers what it was sent and refuses what the
// test says.
type recorder struct {
	sent, replayed []string
	refuse         map[string]*dbms.ServerError // by a part of the statement
}

func (r *recorder) target(replay bool) Target {
	t := Target{Database: "comb", Definer: "DEFINER=`app`@`localhost`", Exec: func(_ context.Context, statement string) (int64, error) {
		for part, refusal := range r.refuse {
			if strings.Contains(statement, part) {
				return 0, refusal
			}
		}
		r.sent = append(r.sent, statement)
		return int64(strings.Count(statement, "(") - 1), nil
	}}
	if replay {
		t.Replay = func(_ context.Context, statement string) error {
			r.replayed = append(r.replayed, statement)
			return nil
		}
	}
	return t
}

func TestImportSendsEveryStatementWithoutItsDefiner(t *testing.T) {
	r := &recorder{}
	s := write(t, "CREATE TABLE @p_t (i INT, j INT);\nINSERT INTO @p_t (i) VALUES (1), (2);\nCREATE DEFINER=root@localhost VIEW v AS SELECT '@p_';")
	s.PrefixToken, s.Prefix = "@p_", "cl_"
	var last Progress
	report, err := Import(t.Context(), s, r.target(false), func(p Progress) { last = p })
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE TABLE cl_t (i INT, j INT)", "INSERT INTO cl_t (i) VALUES (1), (2)", "CREATE  VIEW v AS SELECT '@p_'"}, r.sent)
	assert.Equal(t, "1 table, 1 view, 2 rows into 1 table", report.Describe())
	assert.Equal(t, 3, last.Statements)
	info, _ := os.Stat(s.Path)
	assert.Equal(t, info.Size(), last.BytesRead)
}

func TestWhatTheBinaryLogRefusesIsReplayedInsideTheDatabaseOnly(t *testing.T) {
	refused := &dbms.ServerError{Code: 1419, Message: "You do not have the SUPER privilege"}
	for statement, want := range map[string]string{
		"CREATE TRIGGER t BEFORE INSERT ON h FOR EACH ROW SET @x = 1":      "CREATE DEFINER=`app`@`localhost` TRIGGER t BEFORE INSERT ON h FOR EACH ROW SET @x = 1",
		"CREATE DEFINER=a@b FUNCTION comb.f() RETURNS INT NO SQL RETURN 1": "CREATE DEFINER=`app`@`localhost` FUNCTION comb.f() RETURNS INT NO SQL RETURN 1",
		"DROP TRIGGER IF EXISTS t":                                         "DROP TRIGGER IF EXISTS t",
		"CREATE FUNCTION other.f() RETURNS INT NO SQL RETURN 1":            "",
		"CREATE TRIGGER t BEFORE INSERT ON other.h FOR EACH ROW SET @x=1":  "",
		"CREATE TRIGGER other.t BEFORE INSERT ON h FOR EACH ROW SET @x=1":  "",
		"CREATE FUNCTION f RETURNS STRING SONAME 'evil.so'":                "",
		"CREATE USER x IDENTIFIED BY 'y'":                                  "",
	} {
		r := &recorder{refuse: map[string]*dbms.ServerError{"CREATE": refused, "DROP": refused}}
		_, err := Import(t.Context(), write(t, statement), r.target(true), func(Progress) {})
		if want == "" {
			assert.Equal(t, fault.Protected, fault.As(err).Class, statement)
			assert.Empty(t, r.replayed, statement)
			continue
		}
		require.NoError(t, err, statement)
		assert.Equal(t, []string{want}, r.replayed)
	}
	r := &recorder{refuse: map[string]*dbms.ServerError{"CREATE": refused}}
	_, err := Import(t.Context(), write(t, "CREATE TRIGGER t BEFORE INSERT ON h FOR EACH ROW SET @x=1"), r.target(false), func(Progress) {})
	assert.ErrorContains(t, err, "give the server an admin")
}

func TestARefusedStatementIsFoundInItsFile(t *testing.T) {
	text := "SELECT 1;\n\n  INSERT INTO t\n  VALUES (1,\n  oops here);\nSELECT 2;"
	for message, want := range map[string]string{
		"Table 'comb.t' doesn't exist":                               "a.sql:3:3: Table 'comb.t' doesn't exist (server error 1146)",
		"You have an error in your SQL syntax near 'here' at line 3": "a.sql:5:1: You have an error in your SQL syntax near 'here'",
		"You have an error in your SQL syntax near 'x' at line 1":    "a.sql:3:3: ",
	} {
		code := 1064
		if strings.HasPrefix(message, "Table") {
			code = 1146
		}
		r := &recorder{refuse: map[string]*dbms.ServerError{"oops": {Code: code, Message: message}}}
		report, err := Import(t.Context(), write(t, text), r.target(false), func(Progress) {})
		assert.ErrorContains(t, err, want)
		f := fault.As(err)
		assert.NotEmpty(t, f.Next)
		assert.Contains(t, f.Excerpt, fmt.Sprintf("%d | ", f.Place.Line))
		assert.Equal(t, 1, report.Statements, "the statements behind it are not sent")
	}
}

func TestCheckFindsWhatWouldStopTheImport(t *testing.T) {
	text := "CREATE TABLE a (i INT);CREATE TABLE IF NOT EXISTS b (i INT);CREATE FUNCTION f() RETURNS INT RETURN 1;" +
		"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET @x = 1;"
	summary, err := Check(t.Context(), write(t, text))
	require.NoError(t, err)
	assert.Equal(t, Summary{Length: int64(len(text)), Statements: 4, Tables: []string{"a", "b"}, Triggers: 1, Functions: 1}, summary)

	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	for i := range 5000 {
		fmt.Fprintf(w, "INSERT INTO t VALUES (%d, '%x');\n", i, i*i*7919)
	}
	require.NoError(t, w.Close())
	whole := packed.Bytes()
	damaged := bytes.Clone(whole)
	damaged[len(damaged)/2] ^= 0xff
	for name, content := range map[string][]byte{
		"unexpected EOF":         whole[:len(whole)-20],
		"cannot be read to its":  damaged,
		"no whole gzip file":     whole[:5],
		"holds no statement":     []byte("-- nothing\n"),
		"inside a string litera": []byte("SELECT 'x"),
	} {
		_, err := Check(t.Context(), write(t, string(content)))
		assert.ErrorContains(t, err, name)
		assert.Equal(t, fault.Invalid, fault.As(err).Class)
	}
	_, err = Check(t.Context(), Source{Path: t.TempDir(), Name: "x"})
	assert.ErrorContains(t, err, "it is a folder")
	canceled, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Check(canceled, write(t, "SELECT 1; SELECT 2;"))
	assert.Equal(t, fault.Interrupted, fault.As(err).Class)
}

func TestThousands(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000", -999: "-999"} {
		assert.Equal(t, want, Thousands(n))
	}
}
