package judge

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	scripts "yellowfield/internal/sqltext/mysql"
)

func check(t *testing.T, script string, o load.Options) (*load.Survey, error) {
	t.Helper()
	return anyTarget().Check(t.Context(), loadtest.Write(t, script), o)
}

func TestTheFirstPassTellsWhatAScriptHolds(t *testing.T) {
	survey, err := check(t, strings.Join([]string{"CREATE TABLE a (i INT);", "CREATE TABLE IF NOT EXISTS b (i INT);", "INSERT INTO a VALUES (1), (2);", "INSERT INTO a VALUES (NOW());",
		"CREATE FUNCTION f() RETURNS INT RETURN 1;", "CREATE DEFINER=root@localhost TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET @x = 1;", "CREATE VIEW v AS SELECT 1;", "DROP TRIGGER t;", "CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET @x = 2;", "CREATE TEMPORARY TABLE tt (i INT);"}, "\n"), load.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, survey.Tables)
	assert.Equal(t, 10, survey.Statements)
	assert.EqualValues(t, 2, survey.Rows)
	assert.Equal(t, 2, survey.Routines())
	assert.Equal(t, 1, survey.Defines["VIEW"])
	assert.Contains(t, survey.Notes[0].What, "DEFINER")
}

// TestDifferencesAreNamed: what the script asks for and this server does not
// have, or does otherwise.
func TestDifferencesAreNamed(t *testing.T) {
	for script, want := range map[string]string{
		"CREATE TABLE t (a VARCHAR(9)) COLLATE=utf8mb4_0900_ai_ci":                             "refused: this server has no collation utf8mb4_0900_ai_ci; {map-collations} puts utf8mb4_uca1400_ai_ci",
		"SET NAMES utf8mb4 COLLATE utf8mb4_0900_bin":                                           "{map-collations} puts utf8mb4_bin",
		"CREATE TABLE t (a VARCHAR(9) CHARACTER SET gb18030)":                                  "refused: this server has no character set gb18030",
		"CREATE TABLE t (a VARCHAR(9)) CHARSET=utf8":                                           "noted: utf8 means three bytes",
		"CREATE TABLE t (a VARCHAR(9) CHARACTER SET latin1)":                                   "noted: tables or columns in latin1",
		"CREATE TABLE t (a INT) ENGINE=MyISAM":                                                 "noted: tables of the engine MyISAM",
		"CREATE TABLE t (a INT) ENGINE=RocksDB":                                                "noted: this server has no storage engine RocksDB",
		"CREATE TABLE t (a VARCHAR(800), KEY k (a))":                                           "noted: the key k of the table t takes 3,200 bytes, and 3,072 are allowed",
		"CREATE TABLE t (a VARCHAR(255), KEY k (a)) ROW_FORMAT=COMPACT":                        "takes 1,020 bytes, and 767 are allowed",
		"CREATE TABLE t (a VARCHAR(255), b TEXT, PRIMARY KEY (a, b(20))) ENGINE=MyISAM":        "the key primary of the table t takes 1,100 bytes, and 1,000",
		"SET sql_mode='STRICT_TRANS_TABLES,NO_ZERO_DATE'; INSERT INTO t VALUES ('0000-00-00')": "noted: zero dates",
		"USE ours; CREATE TABLE t (a INT)":                                                     "noted: left out: the session is in that database already",
		"SET @@SESSION.SQL_LOG_BIN= 0":                                                         "noted: left out: a setting for replication",
		"SET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ ''":                                           "noted: left out: a setting for replication",
		"SELECT '" + strings.Repeat("x", 1<<24) + "'":                                          "refused: the statement has 16,777,225 bytes",
		"INSERT INTO t VALUES ('" + strings.Repeat("x", 1<<24) + "')":                          "raise max_allowed_packet to 33,554,432",
	} {
		survey, err := check(t, script, load.Options{})
		require.NoError(t, err)
		var said []string
		for _, f := range survey.Refused {
			said = append(said, "refused: "+f.What+"; "+f.Next)
		}
		for _, f := range survey.Notes {
			said = append(said, "noted: "+f.What)
		}
		assert.Contains(t, strings.Join(said, "\n"), want, script[:min(80, len(script))])
	}
}

func TestScriptsAreRewrittenAsAskedFor(t *testing.T) {
	for _, row := range []struct {
		script, want string
		o            load.Options
		retarget     bool
	}{
		{"CREATE TABLE t (a VARCHAR(9) CHARACTER SET latin1 COLLATE latin1_swedish_ci, b TEXT) ENGINE=MyISAM DEFAULT CHARSET=utf8mb3 COLLATE=utf8mb3_bin COMMENT='latin1 MyISAM'",
			"CREATE TABLE t (a VARCHAR(9) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci, b TEXT) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin COMMENT='latin1 MyISAM'", load.Options{ConvertCharset: true}, false},
		{"CREATE TABLE t (a TEXT COLLATE utf8mb4_0900_ai_ci) COLLATE='utf8mb4_0900_ai_ci'", "CREATE TABLE t (a TEXT COLLATE utf8mb4_uca1400_ai_ci) COLLATE='utf8mb4_uca1400_ai_ci'", load.Options{MapCollations: true}, false},
		{"INSERT INTO old.t VALUES ('old.t')", "INSERT INTO t VALUES ('old.t')", load.Options{}, true},
		{"CREATE VIEW `old`.`v` AS SELECT old.t.a FROM `old`.t", "CREATE VIEW `v` AS SELECT t.a FROM t", load.Options{}, true},
		{"CREATE DEFINER=`root`@`%` VIEW v AS SELECT 1", "CREATE  VIEW v AS SELECT 1", load.Options{}, false},
		{"SET @x = 1, sql_log_bin = 0", "SET @x = 1, @yellowfield = NULL", load.Options{}, false},
	} {
		s := script.Source{Name: "a.sql", Retarget: row.retarget}
		j := New(anyTarget(), s, row.o)
		j.own = map[string]bool{}
		if row.retarget {
			j.own["old"] = true
		}
		statements := scriptOf(t, row.script)
		v := j.Classify(statements[0])
		require.Nil(t, v.Objection, row.script)
		assert.Equal(t, row.want, string(v.Sent))
	}
	survey, err := anyTarget().Check(t.Context(), script.Source{Path: loadtest.Write(t, "CREATE DATABASE IF NOT EXISTS old; USE `old`; CREATE TABLE old.t (a INT); DROP DATABASE other;").Path, Name: "a.sql", Retarget: true}, load.Options{})
	require.NoError(t, err)
	require.Len(t, survey.Refused, 1, "one name is taken for ours, a second one is not")
	assert.Contains(t, survey.Notes[0].What, "retargeted: the script goes into ours")
	assert.Equal(t, 2, survey.Notes[0].Count)
	survey, err = anyTarget().Check(t.Context(), script.Source{Path: loadtest.Write(t, "CREATE USER u@localhost IDENTIFIED BY 'p'; GRANT ALL ON *.* TO u@localhost; FLUSH PRIVILEGES; FLUSH TABLES;").Path, Name: "a.sql", Retarget: true}, load.Options{})
	require.NoError(t, err)
	require.Len(t, survey.Refused, 1, "only what is about accounts is left out")
	assert.Contains(t, survey.Notes[0].What, "accounts and rights are those of the estate file")
	assert.Equal(t, 3, survey.Notes[0].Count)
}

// TestModesThatAServerNoLongerKnows: MySQL has no NO_AUTO_CREATE_USER since 8.0.
func TestModesThatAServerNoLongerKnows(t *testing.T) {
	target := anyTarget()
	target.Server.MariaDB, target.Server.Version = false, 90700
	s := loadtest.Write(t, "SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='STRICT_ALL_TABLES,NO_AUTO_CREATE_USER';")
	survey, err := target.Check(t.Context(), s, load.Options{})
	require.NoError(t, err)
	require.Len(t, survey.Notes, 1)
	assert.Contains(t, survey.Notes[0].What, "NO_AUTO_CREATE_USER is taken out")
	v := New(target, s, load.Options{}).Classify(scriptOf(t, "SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='STRICT_ALL_TABLES,NO_AUTO_CREATE_USER'")[0])
	assert.Equal(t, "SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='STRICT_ALL_TABLES'", string(v.Sent))
}

// TestNamesOfChecksThatMySQLWouldRefuse: MariaDB has them once in a table.
func TestNamesOfChecksThatMySQLWouldRefuse(t *testing.T) {
	const a, b = "CREATE TABLE a (i INT, CONSTRAINT `CONSTRAINT_1` CHECK (i > 0), CONSTRAINT `full` CHECK (i < 9))", "CREATE TABLE b (i INT CHECK (i > 1), CONSTRAINT b_chk_1 CHECK (i < 8), CONSTRAINT `Full` CHECK (i <> 3), CONSTRAINT own CHECK (i <> 4), CONSTRAINT k FOREIGN KEY (i) REFERENCES a (i))"
	want := []string{a, "CREATE TABLE b (i INT CHECK (i > 1), CHECK (i < 8), CHECK (i <> 3), CONSTRAINT own CHECK (i <> 4), CONSTRAINT k FOREIGN KEY (i) REFERENCES a (i))",
		"ALTER TABLE b ADD CHECK (i <> 5)", "ALTER TABLE b ADD CONSTRAINT six CHECK (i <> 6)"}
	for _, mariadb := range []bool{false, true} {
		target := anyTarget()
		target.Server.MariaDB, target.Server.Version = mariadb, 90700
		j := New(target, script.Source{Name: "a.sql"}, load.Options{})
		for range 2 { // looked at again, they come out the same
			for i, s := range scriptOf(t, a+";"+b+";ALTER TABLE b ADD CONSTRAINT constraint_1 CHECK (i <> 5);ALTER TABLE b ADD CONSTRAINT six CHECK (i <> 6)") {
				if v := j.Classify(s); mariadb {
					assert.Equal(t, string(s.Text), string(v.Sent))
				} else {
					assert.Equal(t, want[i], string(v.Sent))
				}
			}
		}
	}
}

func TestTextThatIsNoneIsFound(t *testing.T) {
	for script, want := range map[string]string{
		"SELECT 1;\nINSERT INTO t VALUES\n('Gr\xfc\xdfe');":                                            "",
		"CREATE TABLE t (a TEXT);\nINSERT INTO t VALUES ('ok'),\n ('Gr\xfc\xdfe');":                    "a.sql:3:6: the text is not valid",
		"CREATE TABLE t (a BLOB, b VARBINARY(9));\nINSERT INTO t VALUES ('\xff\xfe', '\xfc');":         "",
		"CREATE TABLE t (a TEXT);\nINSERT INTO t VALUES (_binary '\xff');":                             "",
		"CREATE TABLE t (a TEXT);\nUPDATE t SET a = '\xff';":                                           "a.sql:2:19:",
		"SET NAMES latin1;\nCREATE TABLE t (a TEXT);\nINSERT INTO t VALUES ('\xff');":                  "",
		"SET NAMES latin1;SET NAMES utf8mb4;\nCREATE TABLE t (a TEXT);\nINSERT INTO t VALUES ('\xff')": "a.sql:3:24:",
	} {
		_, err := check(t, script, load.Options{})
		if want == "" {
			assert.NoError(t, err, script)
		} else {
			assert.ErrorContains(t, err, want, script)
		}
	}
	s := loadtest.Write(t, "CREATE TABLE t (a TEXT);\nINSERT INTO t VALUES ('\xff');")
	s.Encoding = script.BinaryEncoding
	_, err := anyTarget().Check(t.Context(), s, load.Options{})
	assert.NoError(t, err)
}

// TestSourcesOfEveryKind: the same script, packed and encoded in every way,
// reads the same; cut off or damaged it is an error before anything runs.
func TestSourcesOfEveryKind(t *testing.T) {
	var b strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&b, "INSERT INTO t VALUES (%d, 'Grüße %x');\n", i, i*i*7919)
	}
	text := b.String()
	pack := func(wrap func(io.Writer) (io.WriteCloser, error)) []byte {
		var out bytes.Buffer
		w, err := wrap(&out)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	zipped := func(names ...string) []byte {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		for _, name := range names {
			w, err := z.Create(name)
			require.NoError(t, err)
			_, err = w.Write([]byte(text))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		return out.Bytes()
	}
	latin1, err := charmap.Windows1252.NewEncoder().String(text)
	require.NoError(t, err)
	utf16, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	require.NoError(t, err)
	packed := map[string][]byte{
		"gzip": pack(func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }),
		"zstd": pack(func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) }),
		"xz":   pack(func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) }),
		"zip":  zipped("readme.txt", "dump/a.SQL"),
	}
	read := func(content []byte, encoding string) (*load.Survey, error) {
		s := loadtest.Write(t, string(content))
		s.Encoding = encoding
		return anyTarget().Check(t.Context(), s, load.Options{})
	}
	for name, content := range packed {
		survey, err := read(content, "")
		require.NoError(t, err, name)
		assert.EqualValues(t, len(text), survey.Length, name)
		_, err = read(content[:len(content)-20], "")
		assert.Error(t, err, "%s, cut off", name)
		damaged := bytes.Clone(content)
		damaged[len(damaged)/2] ^= 0xff
		_, err = read(damaged, "")
		assert.Error(t, err, "%s, damaged", name)
		assert.Equal(t, fault.Invalid, fault.As(err).Class, name)
	}
	for encoding, content := range map[string]string{"windows-1252": latin1, "latin1": latin1, "": utf16, "utf-16le": utf16} {
		survey, err := read([]byte(content), encoding)
		require.NoError(t, err, encoding)
		assert.EqualValues(t, 3000, survey.Rows, encoding)
	}
	_, err = read(zipped("a.sql", "b.sql"), "")
	assert.ErrorContains(t, err, "2 files that end in .sql (a.sql, b.sql)")
	assert.Contains(t, fault.As(err).Next, "name the script that is meant")
	_, err = read([]byte("BZh91AY&SY"), "")
	assert.Error(t, err)
	_, err = read([]byte(text), "klingon")
	assert.ErrorContains(t, err, `the encoding "klingon" is not known`)
	_, err = read([]byte("-- nothing\n"), "")
	assert.ErrorContains(t, err, "holds no statement")
	_, err = anyTarget().Check(t.Context(), script.Source{Path: t.TempDir(), Name: "x"}, load.Options{})
	assert.ErrorContains(t, err, "not a regular file")
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = anyTarget().Check(stopped, loadtest.Write(t, text), load.Options{})
	assert.Equal(t, fault.Interrupted, fault.As(err).Class)

	path, remove, err := script.Spool(strings.NewReader(text))
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	remove()
	_, err = os.Stat(path)
	assert.True(t, errors.Is(err, os.ErrNotExist))
}

func TestWhatKeepsRowsFromBeingJoined(t *testing.T) {
	for script, want := range map[string]string{
		"INSERT INTO t VALUES (1); INSERT INTO u VALUES (LAST_INSERT_ID())": "asks for the outcome",
		"SELECT ROW_COUNT()": "asks for the outcome",
		"SAVEPOINT s":        "takes back parts",
		"CALL p()":           "calls a procedure",
		"SET timestamp = 5":  "for the one statement after it",
		"SET autocommit = 0; INSERT INTO t VALUES (1)":                                                                                   "does not commit",
		"START TRANSACTION; INSERT INTO t VALUES (1)":                                                                                    "does not commit",
		"SET autocommit=0; COMMIT; SET autocommit=1":                                                                                     "",
		"CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET @n = 1;":                                                                   "",
		"CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET @n = LAST_INSERT_ID(); INSERT INTO u VALUES (1)":                           "",
		"CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET @n = LAST_INSERT_ID(); INSERT INTO u VALUES (1); INSERT INTO t VALUES (1)": "trigger uses",
		"CREATE FUNCTION f() RETURNS INT RETURN LAST_INSERT_ID()":                                                                        "",
		"INSERT INTO t VALUES ('LAST_INSERT_ID()')":                                                                                      "",
	} {
		survey, err := check(t, script, load.Options{})
		require.NoError(t, err, script)
		if want == "" {
			assert.Empty(t, survey.OneByOne, script)
		} else {
			assert.Contains(t, survey.OneByOne, want, script)
		}
	}
}

// TestTablesThatAreThereAreProtected: without IntoExisting a script may not
// touch them, and never may it remove them.
func TestTablesThatAreThereAreProtected(t *testing.T) {
	target := anyTarget()
	target.Holds = map[string]bool{"hives": true}
	for script, want := range map[string][2]bool{ // refused without, and with IntoExisting
		"CREATE TABLE hives (i INT)":                                       {true, false},
		"INSERT INTO hives VALUES (1)":                                     {true, false},
		"UPDATE hives SET i = 1":                                           {true, false},
		"ALTER TABLE hives ADD j INT":                                      {true, false},
		"CREATE INDEX i ON hives (i)":                                      {true, false},
		"DROP TABLE IF EXISTS hives":                                       {true, true},
		"TRUNCATE TABLE hives":                                             {true, true},
		"CREATE TABLE seasons (i INT); DROP TABLE seasons":                 {false, false},
		"CREATE TABLE seasons (hives INT); INSERT INTO seasons VALUES (1)": {false, false},
		"SELECT * FROM hives":                                              {false, false},
	} {
		for i, o := range []load.Options{{}, {IntoExisting: true}} {
			survey, err := target.Check(t.Context(), loadtest.Write(t, script), o)
			require.NoError(t, err)
			assert.Equal(t, want[i], len(survey.Refused) > 0, "%s %+v: %v", script, o, survey.Refused)
		}
	}
}

func scriptOf(t *testing.T, text string) []sqltext.Statement {
	t.Helper()
	r := scripts.NewReader("a.sql", strings.NewReader(text), sqltext.Dialect{MariaDB: true, Version: 101106}, "")
	var all []sqltext.Statement
	for {
		s, err := r.Next()
		if err != nil {
			return all
		}
		s.Text = append([]byte(nil), s.Text...)
		all = append(all, s)
	}
}
