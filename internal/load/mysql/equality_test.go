package mysql

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/oracle"
	"yellowfield/internal/oracle/oracletest"
)

// many writes n statements from a format that takes the number.
func many(n int, format string) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintln(&b, strings.ReplaceAll(format, "#", fmt.Sprint(i+1)))
	}
	return b.String()
}

// rowsInto writes statements with rows of consecutive numbers.
func rowsInto(table string, statements, each int) string {
	var b strings.Builder
	for i := range statements {
		fmt.Fprintf(&b, "INSERT INTO %s VALUES ", table)
		for j := range each {
			if j > 0 {
				b.WriteByte(',')
			}
			fmt.Fprintf(&b, "(%d)", i*each+j)
		}
		b.WriteString(";\n")
	}
	return b.String()
}

const strictOff = "SET sql_mode='NO_AUTO_VALUE_ON_ZERO';"

// traps are scripts in which joining rows, sessions side by side, keys built
// late or transactions would show, if they were used without care. Each has to
// leave the same behind as the stock client does, statement by statement; or,
// where that stops, to stop at the same statement.
var traps = map[string]string{
	"a single NULL is an error where several are not": lines(strictOff, "CREATE TABLE t (a INT NOT NULL, b INT);",
		many(3, "INSERT INTO t VALUES (#, #);")+"INSERT INTO t VALUES (NULL, 4);", "INSERT INTO t VALUES (5, 5);"),
	"several NULLs become defaults": lines(strictOff, "CREATE TABLE t (a INT NOT NULL, b INT);",
		"INSERT INTO t VALUES (NULL, 4), (NULL, 5);", "INSERT INTO t VALUES (7, 7);"),
	"columns by name in another order": lines(strictOff, "CREATE TABLE t (a INT NOT NULL, b INT);",
		many(4, "INSERT INTO t (b, a) VALUES (NULL, #);")+"INSERT INTO t (b, a) VALUES (1, NULL);"),
	"the last id is asked for": lines("CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, a INT);", "CREATE TABLE u (t INT);",
		many(5, "INSERT INTO t (a) VALUES (#);\nINSERT INTO t (a) VALUES (#);\nINSERT INTO u VALUES (LAST_INSERT_ID());")),
	"a double key among joined rows": lines("CREATE TABLE t (id INT PRIMARY KEY, a INT);",
		many(30, "INSERT INTO t VALUES (#, #);")+"INSERT INTO t VALUES (17, 0);", many(3, "INSERT INTO t VALUES (90#, 1);")),
	"a double key under the settings of a dump": lines("SET unique_checks=0, foreign_key_checks=0;", "CREATE TABLE t (id INT PRIMARY KEY, a INT, KEY (a));",
		many(30, "INSERT INTO t VALUES (#, #);")+"INSERT INTO t VALUES (17, 0);", "INSERT INTO t VALUES (99, 1);"),
	"a value that does not fit": lines("CREATE TABLE t (id INT PRIMARY KEY, a TINYINT);", many(9, "INSERT INTO t VALUES (#, #);")+"INSERT INTO t VALUES (10, 1000);"),
	"a table that does not roll back": lines("CREATE TABLE t (id INT PRIMARY KEY, a INT) ENGINE=MyISAM;",
		many(20, "INSERT INTO t VALUES (#, #);")+"INSERT INTO t VALUES (3, 0);", "INSERT INTO t VALUES (99, 0);"),
	"empty statements": ";;\n;CREATE TABLE t (a INT);;\n/* nothing */;\nINSERT INTO t VALUES (1);;;INSERT INTO t VALUES (2);\n;",
	"children behind their parents": lines("CREATE TABLE p (id INT PRIMARY KEY);", "CREATE TABLE c (id INT PRIMARY KEY, p INT, FOREIGN KEY (p) REFERENCES p (id));",
		many(60, "INSERT INTO p VALUES (#);\nINSERT INTO c VALUES (#, #);")),
	"children behind many parents": lines("CREATE TABLE p (id INT PRIMARY KEY);", "CREATE TABLE c (id INT PRIMARY KEY, p INT, FOREIGN KEY (p) REFERENCES p (id));",
		rowsInto("p", 60, 1000)+many(90, "INSERT INTO c VALUES (#, 599#);")),
	"rows from rows before those of one statement": lines("SET unique_checks=0, foreign_key_checks=0;", "CREATE TABLE s (a INT);", "INSERT INTO s VALUES (5);", "CREATE TABLE t (id INT PRIMARY KEY, a INT, UNIQUE KEY u (a));", "INSERT INTO t SELECT a, a FROM s;",
		"INSERT INTO t VALUES (900, 900);\n"+many(4, "INSERT INTO t VALUES (#, 10#);")+"INSERT INTO t VALUES (800, 900), (801, 5);"),
	"tables that are dropped, or not there": lines("DROP TABLE IF EXISTS t;", "CREATE TABLE t (a INT, KEY k (a)) ENGINE=MyISAM;", "INSERT INTO t VALUES (1);", "CREATE TABLE IF NOT EXISTS t (b INT) ENGINE=InnoDB;", "ALTER TABLE t DISABLE KEYS;", many(9, "INSERT INTO t VALUES (#);"),
		"RENAME TABLE t TO u;", "DROP TABLE IF EXISTS t, v, u;", "CREATE TABLE t (c INT);", "CREATE VIEW v AS SELECT c FROM t;", "DROP TABLE IF EXISTS T9;", "CREATE TEMPORARY TABLE w (d INT);", "DROP TABLE IF EXISTS w, t;", "CREATE TABLE t (c INT, e INT);", "INSERT INTO t VALUES (1, 2);"),
	"a table that is made twice": lines("CREATE TABLE t (id INT PRIMARY KEY, a INT);", many(1500, "INSERT INTO t VALUES (#, #);")+"DROP TABLE t;", "CREATE TABLE t (a INT, id INT PRIMARY KEY, c INT);",
		many(90, "INSERT INTO t VALUES (#, #, #);")+"CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET NEW.c = 7;", many(9, "INSERT INTO t VALUES (#, 10#, #);")),
	"a child without its parent": lines("CREATE TABLE p (id INT PRIMARY KEY);", "CREATE TABLE c (id INT PRIMARY KEY, p INT, FOREIGN KEY (p) REFERENCES p (id));",
		many(9, "INSERT INTO p VALUES (#);")+many(9, "INSERT INTO c VALUES (#, #);")+"INSERT INTO c VALUES (77, 78);"),
	"a key that becomes part of a family late": lines("CREATE TABLE p (id INT PRIMARY KEY);", "CREATE TABLE c (id INT PRIMARY KEY, p INT, KEY (p));",
		many(9, "INSERT INTO p VALUES (#);\nINSERT INTO c VALUES (#, #);")+"ALTER TABLE c ADD CONSTRAINT f FOREIGN KEY (p) REFERENCES p (id);", "INSERT INTO c VALUES (10, 3);"),
	"definitions between rows": lines("CREATE TABLE t (id INT PRIMARY KEY, a INT, KEY k (a));", many(40, "INSERT INTO t VALUES (#, #);")+"ALTER TABLE t ADD b INT NOT NULL DEFAULT 5;",
		many(40, "INSERT INTO t (id, a) VALUES (10#, #);")+"ALTER TABLE t DROP KEY k;", "RENAME TABLE t TO u;", "INSERT INTO u VALUES (999, 9, 9);"),
	"locked tables": lines("CREATE TABLE t (a INT);", "CREATE TABLE u (a INT);", "LOCK TABLES t WRITE;", many(9, "INSERT INTO t VALUES (#);")+"UNLOCK TABLES;",
		"LOCK TABLES u WRITE, t READ;", many(9, "INSERT INTO u VALUES (#);")+"UNLOCK TABLES;", "INSERT INTO t SELECT a + 100 FROM u;"),
	"settings kept in variables": lines("SET @OLD_MODE=@@sql_mode, sql_mode='NO_AUTO_VALUE_ON_ZERO';", "SET @OLD_ZONE=@@time_zone;", "SET time_zone='+00:00';",
		"CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, s TIMESTAMP NULL, v VARCHAR(4));", "INSERT INTO t VALUES (0, '2026-01-01 00:00:00', 'x');", "SET time_zone='+05:00';",
		many(20, "INSERT INTO t VALUES (#, '2026-01-01 00:00:00', 'abcdefg');")+"SET time_zone=@OLD_ZONE, sql_mode=@OLD_MODE;", "INSERT INTO t VALUES (0, NULL, 'y');"),
	"numbers left to the server": lines("CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, a INT, KEY (a));",
		many(9, "INSERT INTO t (a) VALUES (#);")+"INSERT INTO t VALUES (50, 1);", many(5, "INSERT INTO t VALUES (NULL, #);")+"INSERT INTO t VALUES (0, 5), (90, 6), (NULL, 7);",
		many(5, "INSERT INTO t VALUES (NULL, #), (NULL, #);")+"INSERT INTO t VALUES ('0', 1), ('0070', 2);"),
	"a number that is taken": lines("CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, a INT, KEY (a));", "INSERT INTO t VALUES (7, 0);",
		"UPDATE t SET id = 12;", many(9, "INSERT INTO t (a) VALUES (#);"), "INSERT INTO t VALUES (100, 1);"),
	"a number that is taken in a row of several": lines("CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, a INT, KEY (a));", many(9, "INSERT INTO t (a) VALUES (#);")+"INSERT INTO t VALUES (NULL, 1), ('007', 2);"),
	"a number column that is no primary key":     lines("CREATE TABLE t (a INT, n INT NOT NULL AUTO_INCREMENT, b INT, KEY kb (b), KEY kn (n), KEY ka (a, b));", many(60, "INSERT INTO t (a, b) VALUES (#, 7);")),
	"keys of every kind": lines("CREATE TABLE p (id INT PRIMARY KEY, code INT, KEY code (code));",
		"CREATE TABLE t (id INT PRIMARY KEY, a INT, b VARCHAR(50), c TEXT, g POINT NOT NULL, v INT AS (a + 1) VIRTUAL, p INT, UNIQUE KEY u (a), KEY kb (b(10)), FULLTEXT KEY f (c), SPATIAL KEY s (g), KEY kv (v), KEY kp (p), KEY kz (b, a), CONSTRAINT fk FOREIGN KEY (p) REFERENCES p (id));",
		many(30, "INSERT INTO p VALUES (#, #);")+many(30, "INSERT INTO t (id, a, b, c, g, p) VALUES (#, #, 'b#', 'text # of it', x'000000000101000000000000000000F03F000000000000F03F', #);")+"CREATE TABLE c (code INT, FOREIGN KEY (code) REFERENCES p (code));"),
	"keys added behind the rows": lines("CREATE TABLE t (id INT NOT NULL, a INT, b INT);", many(40, "INSERT INTO t VALUES (#, #, #);")+"ALTER TABLE t ADD PRIMARY KEY (id), ADD KEY k1 (a);",
		"ALTER TABLE t ADD UNIQUE KEY k2 (b);", "CREATE INDEX k3 ON t (a, b);", "ALTER TABLE t MODIFY id INT NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=77;", "INSERT INTO t (a, b) VALUES (1, 1000);"),
	"a key that cannot be added": lines("CREATE TABLE t (id INT NOT NULL, a INT);", many(5, "INSERT INTO t VALUES (#, 1);")+"ALTER TABLE t ADD PRIMARY KEY (id);",
		"ALTER TABLE t ADD KEY k (a);", "ALTER TABLE t ADD UNIQUE KEY u (a);", "ALTER TABLE t ADD KEY l (a, id);"),
	"rows that come from rows": lines("CREATE TABLE t (id INT PRIMARY KEY, a INT);", "CREATE TABLE u LIKE t;", "CREATE TABLE log (n INT, s INT);",
		many(20, "INSERT INTO t VALUES (#, #);")+"INSERT INTO log SELECT COUNT(*), SUM(a) FROM t;", many(20, "INSERT INTO t VALUES (1#0, #);")+"REPLACE INTO t VALUES (1, 99);",
		"INSERT INTO log SELECT COUNT(*), SUM(a) FROM t;", "INSERT INTO u SELECT * FROM t;", "UPDATE t SET a = 0 WHERE id < 9;", "DELETE FROM u WHERE a > 10;",
		"INSERT INTO t VALUES (1, 5) ON DUPLICATE KEY UPDATE a = VALUES(a);", "INSERT INTO log SELECT COUNT(*), SUM(a) FROM t;"),
	"triggers count rows": lines("CREATE TABLE t (a INT);", "CREATE TABLE log (n INT);", many(9, "INSERT INTO t VALUES (#);")+"DELIMITER //",
		"CREATE TRIGGER g AFTER INSERT ON t FOR EACH ROW BEGIN INSERT INTO log SELECT COUNT(*) FROM t; END//", "DELIMITER ;", many(9, "INSERT INTO t VALUES (#), (#);")),
	"statements of one chunk": lines("CREATE TABLE t (a INT);", "CREATE TABLE log (n INT);", "DELIMITER $$", "DROP TRIGGER IF EXISTS g; CREATE TRIGGER g AFTER INSERT ON t FOR EACH ROW BEGIN",
		"IF NEW.a > 2 THEN INSERT INTO log VALUES (CASE NEW.a WHEN 3 THEN 30 ELSE 0 END); END IF; END;", many(5, "INSERT INTO t VALUES (#);")+"$$", "DELIMITER ;", "INSERT INTO t VALUES (3);"),
	"triggers and rows number a table in turn": lines("CREATE TABLE t (a INT);", "CREATE TABLE log (id INT PRIMARY KEY AUTO_INCREMENT, n INT);",
		"CREATE TRIGGER g AFTER INSERT ON t FOR EACH ROW INSERT INTO log (n) VALUES (NEW.a);", many(400, "INSERT INTO t VALUES (#), (#);\nINSERT INTO log (n) VALUES (-#);")),
	"rows through a view": lines("CREATE TABLE t (a INT, b INT DEFAULT 3);", "CREATE VIEW v AS SELECT a FROM t;", many(9, "INSERT INTO v VALUES (#);")+many(9, "INSERT INTO t VALUES (#, #);")),
	"a temporary table":   lines("CREATE TABLE t (a INT);", "CREATE TEMPORARY TABLE s (a INT);", many(9, "INSERT INTO s VALUES (#);")+"INSERT INTO t SELECT a FROM s;"),
	"transactions of its own": lines("CREATE TABLE t (a INT);", "START TRANSACTION;", many(9, "INSERT INTO t VALUES (#);")+"COMMIT;", "BEGIN;", "INSERT INTO t VALUES (10);", "ROLLBACK;",
		"SET autocommit=0;", "INSERT INTO t VALUES (11);", "COMMIT;", "INSERT INTO t VALUES (12);"),
	"a procedure that is called": lines("CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, a INT);", "DELIMITER ;;", "CREATE PROCEDURE p() BEGIN INSERT INTO t (a) SELECT LAST_INSERT_ID(); END;;", "DELIMITER ;",
		many(6, "INSERT INTO t (a) VALUES (#);")+"CALL p();"),
	"a time and a number set for one statement": lines("CREATE TABLE t (id INT PRIMARY KEY AUTO_INCREMENT, s TIMESTAMP DEFAULT CURRENT_TIMESTAMP);", "SET timestamp=1700000000, insert_id=40;", "INSERT INTO t VALUES (NULL, DEFAULT);", "INSERT INTO t (s) VALUES ('2026-01-01');"),
	"other quotes":   lines("SET sql_mode='ANSI_QUOTES';", `CREATE TABLE "t" ("a;b" VARCHAR(20));`, many(9, `INSERT INTO "t" ("a;b") VALUES ('x # \' "');`)+"SET sql_mode='NO_BACKSLASH_ESCAPES';", `INSERT INTO t VALUES ('back\');`, `INSERT INTO t VALUES ('sl''ash\\');`),
	"text in latin1": "SET NAMES latin1;\nCREATE TABLE t (a VARCHAR(20) CHARACTER SET utf8mb4);\n" + many(9, "INSERT INTO t VALUES ('Gr\xfc\xdfe #');"),
	"two tables side by side": lines("SET foreign_key_checks=0;", "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(80), KEY (a));", many(90, "INSERT INTO t VALUES (#, 'honey number # of the year');"),
		"CREATE TABLE u (id INT PRIMARY KEY, a VARCHAR(80), KEY (a));", many(90, "INSERT INTO u VALUES (#, 'wax number # of the year');"), "CREATE VIEW v AS SELECT t.a FROM t JOIN u USING (id);"),
	"a bad row beside a worse one": lines("SET foreign_key_checks=0, unique_checks=0;", "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(80));", many(300, "INSERT INTO t VALUES (#, 'honey number # of the year');")+"INSERT INTO t VALUES (5, 'again');",
		"CREATE TABLE u (id INT PRIMARY KEY, a VARCHAR(80));", "INSERT INTO u VALUES (1, 'a');", "INSERT INTO u VALUES (1, 'b');"),
}

var stockLine = regexp.MustCompile(`ERROR (\d+) .* at line (\d+)`)

func TestAllComesOutAsWithTheStockClient(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		for name, script := range traps {
			h.Fresh(t, "stock")
			stock := h.Stock(t, "stock", []byte(script))
			for _, o := range oracletest.Sample([]load.Options{{Lanes: 2}, {}, {OneByOne: true}}, 3) {
				h.Fresh(t, "ours")
				_, err := loadtest.Import(t, script, h.target(t, "ours"), o)
				h.sameAs(t, fmt.Sprintf("%s, %+v", name, o), stock, err)
			}
		}
	})
}

// sameAs holds an import into ours against the stock client's into stock, and the errors
// that both stopped with, nil for none.
func (h *testServer) sameAs(t *testing.T, name string, stock, err error) {
	t.Helper()
	if stock != nil {
		m := stockLine.FindStringSubmatch(stock.Error())
		require.NotNil(t, m, "%s: %v", name, stock)
		require.Error(t, err, "%s: the stock client says %v", name, stock)
		assert.Equal(t, m[2], fmt.Sprint(fault.As(err).Place.Line), "%s: %v\nthe stock client says %v", name, err, stock)
		assert.Contains(t, err.Error(), "(server error "+m[1]+")", name)
		return
	}
	if assert.NoError(t, err, name) {
		want := h.Fingerprint(t, "stock")
		assert.NotEmpty(t, want, name)
		for _, d := range oracle.Differences(want, h.Fingerprint(t, "ours")) {
			t.Errorf("%s: %s", name, d)
		}
	}
}

// TestScriptsMadeUpAtRandom mixes statements of every kind, and holds the
// outcome against the stock client's.
func TestScriptsMadeUpAtRandom(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		for seed := range uint64(5) {
			script := madeUp(rand.New(rand.NewPCG(seed, 7)))
			h.Fresh(t, "stock", "ours")
			require.NoError(t, h.Stock(t, "stock", []byte(script)), "seed %d", seed)
			report, err := loadtest.Import(t, script, h.target(t, "ours"), load.Options{Lanes: 1 + int(seed%3)})
			require.NoError(t, err, "seed %d", seed)
			require.Empty(t, report.OneByOne)
			for _, d := range oracle.Differences(h.Fingerprint(t, "stock"), h.Fingerprint(t, "ours")) {
				t.Errorf("seed %d: %s", seed, d)
			}
		}
	})
}

func madeUp(r *rand.Rand) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+";\n", args...) }
	next := make([]int, 5)
	for i := range next {
		next[i] = 1
		parent := ""
		if i > 0 && r.IntN(2) == 0 {
			parent = fmt.Sprintf(", FOREIGN KEY (p) REFERENCES t%d (id)", r.IntN(i))
		}
		say("CREATE TABLE t%d (id INT PRIMARY KEY AUTO_INCREMENT, p INT, a VARCHAR(30) NOT NULL DEFAULT 'd', n INT, KEY ka (a), KEY kn (n, a)%s)", i, parent)
	}
	say("CREATE TABLE sums (n BIGINT, s BIGINT)")
	row := func(i int) string {
		next[i]++
		return fmt.Sprintf("(%d, NULL, 'it''s \\\\ %d; -- x', %d)", next[i]-1, r.IntN(1000), r.IntN(50))
	}
	for range 250 {
		i := r.IntN(len(next))
		switch k := r.IntN(40); {
		case k < 22:
			for range 1 + r.IntN(12) {
				say("INSERT INTO t%d VALUES %s", i, row(i))
			}
		case k < 26:
			say("INSERT INTO `t%d` (id, p, a, n) VALUES %s, %s", i, row(i), row(i))
		case k == 26:
			say("INSERT INTO t%d (a, n) VALUES ('own', %d)", i, r.IntN(9))
			next[i]++
		case k == 27:
			say("INSERT INTO sums SELECT COUNT(*), SUM(id) FROM t%d", i)
		case k == 28:
			say("UPDATE t%d SET n = n + 1 WHERE id %% 3 = 0", i)
		case k == 29:
			say("DELETE FROM t%d WHERE p IS NULL AND n = 7 AND id > 1000000", i)
		case k == 30:
			say("SET foreign_key_checks = %d", r.IntN(2))
		case k == 31:
			say("SET @m = @@sql_mode, sql_mode = '%s'", []string{"", "STRICT_ALL_TABLES", "NO_AUTO_VALUE_ON_ZERO"}[r.IntN(3)])
		case k == 32:
			say("LOCK TABLES t%d WRITE", i)
			say("INSERT INTO t%d VALUES %s", i, row(i))
			say("UNLOCK TABLES")
		case k == 33:
			say("ALTER TABLE t%d ADD x%d INT DEFAULT %d", i, b.Len(), r.IntN(9))
			say("ALTER TABLE t%d DROP COLUMN x%d", i, b.Len()-len(fmt.Sprintf("ALTER TABLE t%d ADD x%d INT DEFAULT %d;\n", i, b.Len(), 1)))
		case k == 34:
			say("CREATE TABLE IF NOT EXISTS s%d (a INT) ENGINE=%s", b.Len(), []string{"InnoDB", "MyISAM"}[r.IntN(2)])
		case k == 35:
			say("REPLACE INTO t%d (id, a) VALUES (%d, 'r')", i, next[i])
			next[i]++
		case k == 36:
			say("START TRANSACTION")
			say("INSERT INTO t%d VALUES %s", i, row(i))
			say("COMMIT")
		case k == 37:
			say("CREATE INDEX i%d ON t%d (n)", b.Len(), i)
		case k == 38:
			say("INSERT INTO t%d (a, n) VALUES (UPPER('x'), 1)", i)
			next[i]++
		}
	}
	return b.String()
}
