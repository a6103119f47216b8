package mysql

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/secret"
)

// reaching are statements that may touch another database, DB, in every form that the
// servers' grammars give their modifiers; [a|b] stands for each of the two.
const reaching = `
INSERT[| LOW_PRIORITY| HIGH_PRIORITY| DELAYED][| IGNORE][| INTO] DB.t [VALUES (1, 1)|(a) VALUES (1)|SET a = 1|SELECT 1, 1]
REPLACE[| LOW_PRIORITY| DELAYED][| INTO] DB.t [VALUES (1, 1)|SET a = 1|SELECT 1, 1]
INSERT INTO own SELECT a FROM DB.t ON DUPLICATE KEY UPDATE a = 1
INSERT INTO own VALUES ((SELECT MAX(a) FROM DB.t))
UPDATE[| LOW_PRIORITY][| IGNORE] DB.t SET a = 1
UPDATE[| LOW_PRIORITY][| IGNORE] own[, | JOIN | STRAIGHT_JOIN | NATURAL JOIN ]DB.t SET t.a = 1
UPDATE[| LOW_PRIORITY][| IGNORE] [DB.t, own|(DB.t), own|(DB.t, own)] SET t.a = 1
UPDATE own SET a = (SELECT MAX(t.a) FROM DB.t)
DELETE[| LOW_PRIORITY][| QUICK][| IGNORE] FROM DB.t
DELETE[| LOW_PRIORITY][| QUICK][| IGNORE] [DB.t|own, DB.t|DB.t.*|t] FROM own, DB.t
DELETE[| LOW_PRIORITY][| QUICK][| IGNORE] FROM [t|DB.t|own, DB.t] USING own, DB.t
TRUNCATE[| TABLE] DB.t
SELECT[| HIGH_PRIORITY| STRAIGHT_JOIN| SQL_SMALL_RESULT| SQL_NO_CACHE| DISTINCT| ALL| SQL_CALC_FOUND_ROWS] a FROM DB.t
SELECT DB.t.a FROM [DB.t|(DB.t)]
SELECT t.a FROM own[, | JOIN | CROSS JOIN | STRAIGHT_JOIN | NATURAL JOIN | LEFT JOIN (own x, ]DB.t[| ON 1|) ON 1]
SELECT 1 FROM { OJ own LEFT OUTER JOIN DB.t ON 1 }
SELECT (SELECT a FROM DB.t LIMIT 1), other.a FROM own other
SELECT 1 FROM own WHERE EXISTS (SELECT 1 FROM DB.t)
[SELECT DB.f(1)|SELECT DB . f(1)|DO DB.f(1)|CALL DB.p()|CALL DB . p|SET @a = DB.f(1)]
SELECT [NEXTVAL(DB.s)|LASTVAL(DB.s)|SETVAL(DB.s, 9)|NEXT VALUE FOR DB.s|PREVIOUS VALUE FOR DB.s|NEXTVAL( DB.s ) FROM own DB]
[TABLE DB.t|VALUES ROW((SELECT a FROM DB.t LIMIT 1))|(SELECT a FROM DB.t)|(TABLE DB.t) LIMIT 1|SELECT 1 UNION TABLE DB.t]
WITH c AS [(SELECT a FROM DB.t)|(TABLE DB.t)] SELECT a FROM c
WITH c AS (SELECT 1) [INSERT HIGH_PRIORITY DB.t VALUES (1, 1)|DELETE FROM DB.t|UPDATE DB.t SET a = 1]
CREATE TABLE n [LIKE DB.t|(LIKE DB.t)|AS SELECT a FROM DB.t|SELECT a FROM DB.t|AS TABLE DB.t|(a INT REFERENCES DB.t (a))|(a INT, FOREIGN KEY (a) REFERENCES DB.t (a))|(a INT DEFAULT NEXTVAL(DB.s))|(a INT DEFAULT (NEXT VALUE FOR DB.s))|(a INT) ENGINE=MERGE UNION=(DB.m)|(a INT) ENGINE=MERGE UNION = (own, DB.m)]
CREATE[| OR REPLACE| TEMPORARY] TABLE[| IF NOT EXISTS] DB.n (a INT)
CREATE[| OR REPLACE] VIEW [DB.v2 AS SELECT 1|v2 AS SELECT a FROM DB.t|v2 AS TABLE DB.t|v2 AS SELECT DB.f(1)]
ALTER VIEW [DB.v AS SELECT 1|v AS SELECT a FROM DB.t]
CREATE[| UNIQUE| FULLTEXT] INDEX i[| USING BTREE] ON DB.t (a)
DROP INDEX[| IF EXISTS] i ON DB.t
ALTER[| IGNORE] TABLE[| IF EXISTS] DB.t [ADD c INT|FORCE|ORDER BY a]
ALTER TABLE own [RENAME DB.own|RENAME TO DB.own|RENAME AS DB.own|RENAME = DB.own|ADD c INT, RENAME DB.own|ADD FOREIGN KEY (a) REFERENCES DB.t (a)|ADD c INT REFERENCES DB.t (a)|ENGINE=MERGE UNION=(DB.m)|CONVERT TABLE DB.t TO PARTITION p0 VALUES LESS THAN (9)|EXCHANGE PARTITION p0 WITH TABLE DB.t]
RENAME [TABLE|TABLES] [own TO DB.own|DB.t TO own2|own TO own2, DB.t TO own]
DROP[| TEMPORARY] [TABLE|TABLES] [|IF EXISTS] own, DB.t
DROP [VIEW DB.v|TRIGGER DB.g|PROCEDURE DB.p|FUNCTION DB.f|EVENT DB.e|SEQUENCE DB.s|VIEW IF EXISTS own, DB.v]
LOCK [TABLE|TABLES] [DB.t|own READ, DB.t|DB.t AS x|own x READ, DB.t x2] [READ|WRITE|READ LOCAL]
[ANALYZE|OPTIMIZE|REPAIR|CHECK|CHECKSUM][| LOCAL| NO_WRITE_TO_BINLOG] [TABLE|TABLES] [DB.t|own, DB.t][| QUICK| EXTENDED]
SHOW [COLUMNS FROM DB.t|FULL COLUMNS IN t FROM DB|FIELDS FROM t IN DB|INDEX FROM DB.t|KEYS IN t FROM DB|CREATE TABLE DB.t|CREATE VIEW DB.v|CREATE PROCEDURE DB.p|CREATE FUNCTION DB.f|CREATE TRIGGER DB.g|CREATE EVENT DB.e|CREATE DATABASE DB|CREATE SCHEMA DB|TABLES FROM DB|FULL TABLES IN DB|TABLE STATUS FROM DB|TRIGGERS FROM DB|EVENTS IN DB|OPEN TABLES FROM DB]
[DESC|DESCRIBE|EXPLAIN] [DB.t|DB.t a|SELECT a FROM DB.t|UPDATE DB.t SET a = 1|INSERT HIGH_PRIORITY DB.t VALUES (1, 1)]
EXPLAIN [EXTENDED|FORMAT=JSON|FORMAT=TRADITIONAL] [SELECT a FROM DB.t|DELETE QUICK FROM DB.t|DELETE t FROM own, DB.t]
ANALYZE [SELECT a FROM DB.t|FORMAT=JSON UPDATE DB.t SET a = 1]
CREATE TRIGGER [DB.g2 BEFORE INSERT ON DB.t|g2 BEFORE INSERT ON DB.t] FOR EACH ROW SET @a = 1
CREATE EVENT DB.e2 ON SCHEDULE EVERY 1 DAY DO SELECT 1
ALTER EVENT [DB.e DISABLE|own_e RENAME TO DB.e3]
CREATE SEQUENCE DB.s2
[CREATE PROCEDURE DB.p2() SELECT 1|ALTER PROCEDURE DB.p COMMENT 'x'|CREATE FUNCTION DB.f2() RETURNS INT RETURN 1]
SET [@a = 1, |sql_notes = 1, |SESSION sql_notes = 1, |@a := (SELECT 1), |][GLOBAL |@@GLOBAL.|PERSIST |@@PERSIST.|GLOBAL sql_notes = 1, SESSION ]max_connections = 50
SET @a = 1, [PASSWORD = PASSWORD('x')|PASSWORD = 'x'|DEFAULT ROLE NONE|ROLE NONE]
SET STATEMENT max_statement_time = 1 FOR [INSERT HIGH_PRIORITY DB.t VALUES (1, 1)|SELECT NEXTVAL(DB.s)|DELETE QUICK FROM DB.t]
`

// inBodies are the statements that a body may hold, too.
var inBodies = []string{"INSERT", "REPLACE", "UPDATE", "DELETE", "SET", "SELECT", "CALL", "DO ", "TRUNCATE", "WITH", "CREATE TABLE", "ALTER TABLE", "DROP"}

// expanded gives a line with each choice of what stands in its square brackets.
func expanded(line string) []string {
	from := strings.IndexByte(line, '[')
	if from < 0 {
		return []string{line}
	}
	to := from + strings.IndexByte(line[from:], ']')
	var all []string
	for _, choice := range strings.Split(line[from+1:to], "|") {
		all = append(all, expanded(line[:from]+choice+line[to+1:])...)
	}
	return all
}

// TestTheServerJudgesTheGuard gives each statement to an account with rights on one database,
// and where that is refused a right, to one with rights on both: what only the second may do
// reaches outside, and the guard has to say so.
func TestTheServerJudgesTheGuard(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		ctx := t.Context()
		h.Fresh(t, "ours", "other_db")
		h.Do(t, "CREATE USER narrow@localhost IDENTIFIED BY 'narrow-77c0ffee1d'", "GRANT ALL ON ours.* TO narrow@localhost")
		defer h.Do(t, "DROP USER narrow@localhost", "SET GLOBAL max_connections = DEFAULT")
		setUp := func() {
			for _, statement := range []string{"DROP TABLE IF EXISTS ours.own2, ours.n, ours.own, other_db.own, other_db.n", "CREATE TABLE ours.own (a INT, b INT, KEY (a))", "CREATE TABLE IF NOT EXISTS other_db.t (a INT, b INT, KEY (a), FULLTEXT KEY x (c), c TEXT)",
				"CREATE TABLE IF NOT EXISTS other_db.t (a INT, b INT, KEY (a))", "CREATE TABLE IF NOT EXISTS other_db.m (a INT) ENGINE=MyISAM", "CREATE OR REPLACE VIEW other_db.v AS SELECT 1 AS a", "CREATE OR REPLACE VIEW ours.v AS SELECT 1 AS a",
				"CREATE SEQUENCE other_db.s", "CREATE FUNCTION other_db.f(x INT) RETURNS INT DETERMINISTIC RETURN x", "CREATE PROCEDURE other_db.p() SELECT 1",
				"CREATE TRIGGER other_db.g BEFORE UPDATE ON other_db.t FOR EACH ROW SET @b = 1", "CREATE EVENT other_db.e ON SCHEDULE EVERY 1 DAY DO SELECT 1", "CREATE EVENT ours.own_e ON SCHEDULE EVERY 1 DAY DO SELECT 1"} {
				_ = h.Admin.Exec(ctx, dbms.Statement{Text: statement}) // it may be there, or be none of this server's
			}
		}
		setUp()
		login := h.Login()
		login.User, login.Password, login.Database = "narrow", secret.NewPassword("narrow-77c0ffee1d"), "ours"
		narrow, err := mysql.Connect(ctx, login)
		require.NoError(t, err)
		t.Cleanup(narrow.Close)
		wide := h.App(t, "ours")
		run := func(as *mysql.Server, statements []string) (code int) {
			session, err := as.OpenSingle(ctx)
			require.NoError(t, err)
			defer session.Close()
			for _, statement := range statements {
				_, err = session.Exec(ctx, statement)
				var refused *dbms.ServerError
				if errors.As(err, &refused) {
					return refused.Code
				}
				require.NoError(t, err, statement)
			}
			return 0
		}
		needsRight := func(code int) bool {
			switch code {
			case 1044, 1142, 1143, 1227, 1370, 1449:
				return true
			}
			return false
		}
		var all [][]string
		for _, line := range strings.Split(strings.TrimSpace(reaching), "\n") {
			for _, statement := range expanded(line) {
				all = append(all, []string{statement})
				for _, word := range inBodies {
					if strings.HasPrefix(statement, word) {
						all = append(all,
							[]string{"CREATE PROCEDURE q() " + statement, "CALL q()"},
							[]string{"CREATE PROCEDURE q() BEGIN IF 1 THEN " + statement + "; END IF; END", "CALL q()"})
						break
					}
				}
			}
		}
		target, passed, reached := h.target(t, "ours"), 0, 0
		for _, statements := range oracletest.Sample(all, 5) {
			for i := range statements {
				statements[i] = strings.ReplaceAll(statements[i], "DB", "other_db")
			}
			script := "DELIMITER //\n" + statements[0] + " //\n"
			survey, err := target.Check(ctx, loadtest.Write(t, script), load.Options{})
			require.NoError(t, err, script)
			if len(survey.Refused) > 0 {
				continue
			}
			passed++
			_ = h.Admin.Exec(ctx, dbms.Statement{Text: "DROP PROCEDURE IF EXISTS ours.q"})
			if !needsRight(run(narrow, statements)) {
				continue
			}
			_ = h.Admin.Exec(ctx, dbms.Statement{Text: "DROP PROCEDURE IF EXISTS ours.q"})
			setUp()
			code := run(wide, statements)
			assert.True(t, needsRight(code) && !strings.Contains(statements[0], "SET "), // both lack the right to change the server
				"the guard lets it pass, and only who has rights elsewhere may do it: %s", fmt.Sprint(statements))
			reached++
			setUp()
		}
		t.Logf("%d statements, %d pass the guard, %d of these need more than ours", len(all), passed, reached)
	})
}
