package mysql

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/oracle"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/sqltext"
	scripts "yellowfield/internal/sqltext/mysql"
)

// recorder is a session that remembers what it was sent and refuses what the
// test says.
type recorder struct {
	sent, replayed []string
	refuse         map[string]*dbms.ServerError // by a part of the statement
}

func (r *recorder) Exec(_ context.Context, statement string) (int64, error) {
	for part, refusal := range r.refuse {
		if strings.Contains(statement, part) {
			return 0, refusal
		}
	}
	r.sent = append(r.sent, statement)
	return 1, nil
}

func (r *recorder) Load(context.Context, string, io.Reader) (int64, int, error) {
	return 0, 0, &dbms.ServerError{Code: 4166, Message: "not allowed"}
}

func (r *recorder) Query(_ context.Context, query string) ([][]string, error) {
	switch {
	case strings.HasPrefix(query, "SHOW SESSION"):
		return [][]string{{"foreign_key_checks", "ON"}, {"sql_mode", ""}}, nil
	case strings.HasPrefix(query, "SELECT @@SESSION.sql_mode, @@SESSION.character_set_client"):
		return [][]string{{"", "utf8mb4"}}, nil
	case strings.HasPrefix(query, "SELECT @@"):
		return [][]string{{"1", ""}}, nil
	case strings.Contains(query, "information_schema.TRIGGERS"), strings.Contains(query, "information_schema.TABLES"):
		return nil, nil
	}
	return nil, &dbms.ServerError{Code: 1146, Message: "no such table"}
}

func (r *recorder) Warned() bool { return false }
func (r *recorder) Close()       {}

func (r *recorder) target(replay bool) *Importer {
	t := &Importer{Target: load.Target{Database: "ours", Charset: "utf8mb4"}, Server: mysql.ScriptConditions{MariaDB: true, Version: 101106, MaxPacket: 1 << 24,
		Collations: map[string]string{"utf8mb4_unicode_ci": "utf8mb4"}, Engines: map[string]bool{"innodb": true}}}
	t.Definer = "DEFINER=`app`@`localhost`"
	t.Open = func(context.Context) (Session, error) { return r, nil }
	if replay {
		t.Replay = func(_ context.Context, _ Session, build func(sqlMode, charset string) (mysql.Definition, error)) error {
			d, err := build("", "utf8mb4")
			if err == nil {
				r.replayed = append(r.replayed, d.Statement)
			}
			return err
		}
	}
	return t
}

func TestWhatTheBinaryLogRefusesIsReplayedInsideTheDatabaseOnly(t *testing.T) {
	refused := &dbms.ServerError{Code: 1419, Message: "You do not have the SUPER privilege"}
	for statement, want := range map[string]string{
		"CREATE TRIGGER t BEFORE INSERT ON h FOR EACH ROW SET @x = 1":      "CREATE DEFINER=`app`@`localhost` TRIGGER `ours`.`t` BEFORE INSERT ON `ours`.`h` FOR EACH ROW SET @x = 1",
		"CREATE DEFINER=a@b FUNCTION ours.f() RETURNS INT NO SQL RETURN 1": "CREATE DEFINER=`app`@`localhost` FUNCTION `ours`.`f` () RETURNS INT NO SQL RETURN 1",
		"DROP TRIGGER IF EXISTS t":                                         "DROP TRIGGER IF EXISTS `ours`.`t`",
		"CREATE FUNCTION other.f() RETURNS INT NO SQL RETURN 1":            "",
		"CREATE TRIGGER t BEFORE INSERT ON other.h FOR EACH ROW SET @x=1":  "",
		"CREATE TRIGGER other.t BEFORE INSERT ON h FOR EACH ROW SET @x=1":  "",
		"CREATE FUNCTION f RETURNS STRING SONAME 'evil.so'":                "",
	} {
		r := &recorder{refuse: map[string]*dbms.ServerError{"CREATE": refused, "DROP": refused}}
		target := r.target(true)
		// Even if the first pass had let it through.
		_, err := target.Import(t.Context(), loadtest.Write(t, statement), &load.Survey{}, load.Options{}, func(load.Progress) {})
		if want == "" {
			assert.Equal(t, fault.Protected, fault.As(err).Class, statement)
			assert.Empty(t, r.replayed, statement)
			first, err := scripts.NewReader("a.sql", strings.NewReader(statement), sqltext.Dialect{MariaDB: true, Version: 101106}, "").Next()
			require.NoError(t, err)
			v := judge.Verdict{Statement: first}
			v.Lead, v.Sent = v.Head(), v.Text
			_, _, err = target.send(t.Context(), r, v)
			assert.Equal(t, fault.Protected, fault.As(err).Class, "the last wall: %s", statement)
			continue
		}
		require.NoError(t, err, statement)
		assert.Equal(t, []string{want}, r.replayed)
	}
	moved := &recorder{refuse: map[string]*dbms.ServerError{"FUNCTION": refused}}
	s := loadtest.Write(t, "CREATE DATABASE old; CREATE FUNCTION old.f() RETURNS INT NO SQL RETURN 1")
	s.Retarget = true
	_, err := moved.target(true).Import(t.Context(), s, &load.Survey{}, load.Options{}, func(load.Progress) {})
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE DEFINER=`app`@`localhost` FUNCTION `ours`.`f` () RETURNS INT NO SQL RETURN 1"}, moved.replayed)
	r := &recorder{refuse: map[string]*dbms.ServerError{"CREATE": refused}}
	_, err = r.target(false).Import(t.Context(), loadtest.Write(t, "CREATE TRIGGER t BEFORE INSERT ON h FOR EACH ROW SET @x=1"), &load.Survey{}, load.Options{}, func(load.Progress) {})
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
		report, err := r.target(false).Import(t.Context(), loadtest.Write(t, text), &load.Survey{}, load.Options{}, func(load.Progress) {})
		assert.ErrorContains(t, err, want)
		f := fault.As(err)
		assert.NotEmpty(t, f.Next)
		assert.Contains(t, f.Excerpt, fmt.Sprintf("%d | ", f.Place.Line))
		assert.Equal(t, 1, report.Statements, "the statements behind it are not sent")
	}
}

// TestLongStatementsAreCutToWhatTheServerTakes: an INSERT that is longer than
// max_allowed_packet goes through in pieces, and equals the same rows sent in
// shorter statements.
func TestLongStatementsAreCutToWhatTheServerTakes(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		head := "CREATE TABLE t (id INT PRIMARY KEY, a INT NOT NULL, b VARCHAR(500));\nSET sql_mode='';\n"
		var long, short strings.Builder
		long.WriteString(head + "INSERT INTO t VALUES ")
		short.WriteString(head)
		for i := range 4000 {
			row := fmt.Sprintf("(%d, NULL, '%s')", i, strings.Repeat("honey ", 60))
			if i > 0 {
				long.WriteString(",\n")
			}
			long.WriteString(row)
			fmt.Fprintf(&short, "INSERT INTO t VALUES %s, (%d, NULL, 'x');\nDELETE FROM t WHERE id = %[2]d;\n", row, i+100000)
		}
		h.Fresh(t, "ours", "stock")
		require.Error(t, h.Stock(t, "stock", []byte(long.String())), "or the test tests nothing")
		report, err := loadtest.Import(t, long.String(), h.target(t, "ours"), load.Options{})
		require.NoError(t, err)
		assert.EqualValues(t, 4000, report.Rows)
		h.Fresh(t, "stock")
		require.NoError(t, h.Stock(t, "stock", []byte(short.String())))
		assert.Empty(t, oracle.Differences(h.Fingerprint(t, "stock"), h.Fingerprint(t, "ours")))
	}, "--max-allowed-packet=1M")
}

// TestWhatAnImportReports: warnings by kind, rows that refer to nothing, what
// was made, how far it is.
func TestWhatAnImportReports(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "ours")
		script := lines("SET foreign_key_checks=0, sql_mode='';", "CREATE TABLE p (id INT PRIMARY KEY);", "CREATE TABLE c (id INT PRIMARY KEY, p INT, a VARCHAR(3), FOREIGN KEY (p) REFERENCES p (id));",
			many(20, "INSERT INTO c VALUES (#, NULL, 'abcdef');")+"INSERT INTO c VALUES (99, 5, 'a');", "CREATE VIEW v AS SELECT a FROM c;", "UPDATE c SET a = 'xxxxxx' WHERE id = 1;")
		s := loadtest.Write(t, script)
		target := h.target(t, "ours")
		survey, err := target.Check(t.Context(), s, load.Options{Lanes: 2})
		require.NoError(t, err)
		var last load.Progress
		report, err := target.Import(t.Context(), s, survey, load.Options{Lanes: 2}, func(p load.Progress) { last = p })
		require.NoError(t, err)
		assert.Equal(t, []load.Orphans{{Table: "c", Key: "c_ibfk_1", References: "p"}}, report.Orphans)
		require.Len(t, report.Warnings, 1)
		assert.Equal(t, 1265, report.Warnings[0].Code)
		assert.Equal(t, 21, report.Warnings[0].Count)
		assert.Equal(t, 4, report.Warnings[0].Place.Line)
		assert.Equal(t, "2 tables, 1 view, 21 rows into 1 table", report.Describe())
		assert.Equal(t, last.Length, last.BytesRead)
		assert.Equal(t, "c", last.Table)
		assert.EqualValues(t, 21, last.RowsExpected)

		stopped, cancel := context.WithCancel(t.Context())
		h.Fresh(t, "ours")
		_, err = h.target(t, "ours").Import(stopped, s, survey, load.Options{Lanes: 2}, func(load.Progress) { cancel() })
		if err == nil { // it was through before it was told to stop
			cancel()
		} else {
			assert.Equal(t, fault.Interrupted, fault.As(err).Class)
			assert.True(t, errors.Is(err, context.Canceled))
		}
	})
}

// TestWhatTheAccountAndTheTablesAllow: an account that may have one connection
// imports all the same, and triggers that were there before are not overtaken.
func TestWhatTheAccountAndTheTablesAllow(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		script := lines("CREATE TABLE p (id INT PRIMARY KEY);", rowsInto("p", 6, 400)+many(80, "INSERT INTO t VALUES (#), (#);\nINSERT INTO log (n) VALUES (-#);"))
		h.Fresh(t, "ours", "stock")
		for _, name := range []string{"ours", "stock"} {
			h.Do(t, "CREATE TABLE "+name+".t (a INT)", "CREATE TABLE "+name+".log (id INT PRIMARY KEY AUTO_INCREMENT, n INT)",
				"CREATE TRIGGER "+name+".g AFTER INSERT ON "+name+".t FOR EACH ROW INSERT INTO log (n) VALUES (NEW.a)")
		}
		require.NoError(t, h.Stock(t, "stock", []byte(script)))
		target := h.target(t, "ours")
		target.Holds = map[string]bool{"t": true, "log": true}
		report, err := loadtest.Import(t, script, target, load.Options{Lanes: 2, IntoExisting: true})
		require.NoError(t, err)
		assert.NotZero(t, report.Lanes)
		want, got := h.Fingerprint(t, "stock"), h.Fingerprint(t, "ours")
		delete(want, "TRIGGER g") // it names its database
		delete(got, "TRIGGER g")
		assert.Empty(t, oracle.Differences(want, got))

		h.Fresh(t, "ours")
		h.Do(t, "ALTER USER "+oracletest.AppUser+"@localhost WITH MAX_USER_CONNECTIONS 2") // one is the test's own
		report, err = loadtest.Import(t, lines("CREATE TABLE p (id INT PRIMARY KEY);", rowsInto("p", 6, 400)), h.target(t, "ours"), load.Options{Lanes: 2})
		require.NoError(t, err)
		assert.Zero(t, report.Lanes)
		assert.EqualValues(t, 2400, report.Rows)
	})
}
