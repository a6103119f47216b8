package judge

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
)

// hostile statements reach outside the database `ours`. DB is another one.
var hostile = func() []string {
	content, err := os.ReadFile("testdata/hostile.txt")
	if err != nil {
		panic(err)
	}
	return strings.Split(strings.TrimSpace(string(content)), "\n")
}()

// harmless statements look like some of the above.
var harmless = strings.Split(strings.TrimSpace(`
INSERT INTO ours.own VALUES (1)
INSERT INTO own VALUES ('GRANT ALL ON *.* TO x', 'USE DB', 'INTO OUTFILE')
SELECT h.a, s.b FROM own h JOIN (SELECT x.b FROM other x) s ON h.a = s.b WHERE h.a > s.b ORDER BY h.a DESC, s.b
SELECT EXTRACT(YEAR FROM h.made), TRIM(LEADING 'x' FROM h.a), SUBSTRING(h.a FROM 2) FROM own h
INSERT INTO own (a) VALUES (1) ON DUPLICATE KEY UPDATE a = own.a + 1
UPDATE own h, other o SET h.a = o.b WHERE h.a = o.a
DELETE h FROM own h LEFT JOIN other o ON o.a = h.a WHERE o.a IS NULL
CREATE TABLE x (a INT, made TIMESTAMP DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP, FOREIGN KEY (a) REFERENCES own (a) ON DELETE SET NULL)
CREATE VIEW v AS SELECT own.a, other.b FROM own, other WHERE own.a = other.a
CREATE TRIGGER g BEFORE UPDATE ON own FOR EACH ROW SET NEW.a = OLD.a, NEW.b = COALESCE(NEW.b, OLD.b)
CREATE TRIGGER ours.g AFTER INSERT ON ours.own FOR EACH ROW INSERT INTO other SELECT NEW.a, o.b FROM other o
DELIMITER // CREATE PROCEDURE p(a INT) BEGIN DECLARE c CURSOR FOR SELECT o.a FROM own o; IF a > 1 THEN SET @x = 1; ELSE UPDATE own SET b = 1; END IF; PREPARE s FROM @x; END
CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM own WHERE own.a < 3
SELECT COUNT(*) FROM information_schema.tables t WHERE t.table_schema = DATABASE()
SELECT @@GLOBAL.sql_mode, @@session.time_zone
/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */
/*!99999 GRANT ALL ON *.* TO x */
SET NAMES utf8mb4 COLLATE utf8mb4_unicode_ci
SET @user = 'x', @password = 'y', @global = 3
ALTER TABLE own ADD user INT, ADD role INT, ADD database_name INT
CREATE TABLE users (user VARCHAR(10), password VARCHAR(10), host VARCHAR(10))
CREATE DATABASE IF NOT EXISTS ours CHARACTER SET utf8mb4
USE ours
ALTER DATABASE ours CHARACTER SET utf8mb4
PREPARE s FROM 'DELETE FROM own'
UPDATE own SET password = 'x', global = 2, role = 3 WHERE own.a = 1
CREATE TRIGGER g BEFORE INSERT ON own FOR EACH ROW UPDATE own o SET o.password = 'x', global = 1
INSERT HIGH_PRIORITY own (a) VALUES (1 + 1)
SELECT HIGH_PRIORITY h.a, h.b FROM own h
DELETE LOW_PRIORITY QUICK IGNORE h FROM own AS h WHERE h.a = 1
ALTER TABLE own RENAME COLUMN a TO c
ALTER TABLE own RENAME TO ours.own2
RENAME TABLE own TO own2
SELECT h.a FROM own h UNION (SELECT o.b FROM own o) ORDER BY a DESC, h.b
DELIMITER // CREATE PROCEDURE p() BEGIN DECLARE r ROW TYPE OF own; FOR r IN (SELECT o.a FROM own o) DO SET @x = r.a, @y = NEW.b; END FOR; END
SELECT NEXTVAL(s), ours.f(1)
SHOW COLUMNS FROM own
SHOW FULL TABLES FROM ours LIKE 'x%'
SHOW CREATE TABLE own
DESC own a
WITH c AS (SELECT a FROM own) SELECT c.a FROM c JOIN own ON own.a = c.a
UPDATE own AS h SET h.a = (SELECT MAX(o.b) FROM own o WHERE o.a = h.a)
INSERT INTO own (a) SELECT x.a FROM (SELECT 1 AS a) x ON DUPLICATE KEY UPDATE own.a = x.a
CREATE INDEX i USING BTREE ON own (a)
INSERT INTO own SELECT 1.5, .5, 1.5e3, a.b * 2.0 + 3. FROM own a
SELECT j.a FROM JSON_TABLE('[1]', '$[*]' COLUMNS (a INT PATH '$')) AS j
SELECT REPLACE(a.b, 'x', 'y'), IF(a.b > 1, a.b, 0), LEFT(a.b, 1) FROM own a
`), "\n")

func anyTarget() Subject {
	return Subject{Target: load.Target{Database: "ours", Charset: "utf8mb4"}, Server: mysql.ScriptConditions{MariaDB: true, Version: 101106, MaxPacket: 1 << 24,
		Collations: map[string]string{"utf8mb4_unicode_ci": "utf8mb4", "utf8mb4_bin": "utf8mb4", "latin1_swedish_ci": "latin1", "utf8mb4_uca1400_ai_ci": "utf8mb4", "utf8mb4_general_ci": "utf8mb4", "utf8mb3_general_ci": "utf8mb3"},
		Engines:    map[string]bool{"innodb": true, "myisam": true}}}
}

func TestWhatReachesOutsideIsRefusedWithItsLine(t *testing.T) {
	require.GreaterOrEqual(t, len(hostile), 60)
	for _, statement := range hostile {
		script := "CREATE TABLE own (a INT);\n\n  " + strings.ReplaceAll(statement, "DB", "other_db") + ";\nSELECT 1;\n"
		survey, err := anyTarget().Check(t.Context(), loadtest.Write(t, script), load.Options{})
		require.NoError(t, err, statement)
		if assert.NotEmpty(t, survey.Refused, statement) {
			first := survey.Refused[0]
			assert.Equal(t, 3, first.Place.Line, statement)
			assert.GreaterOrEqual(t, first.Place.Column, 3, statement)
			assert.NotEmpty(t, first.Next, statement)
		}
	}
	for _, statement := range harmless {
		survey, err := anyTarget().Check(t.Context(), loadtest.Write(t, strings.Replace(statement, "// ", "//\n", 1)+";\n"), load.Options{})
		require.NoError(t, err, statement)
		assert.Empty(t, survey.Refused, statement)
	}
}
