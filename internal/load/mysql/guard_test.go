package mysql

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
)

// hostile statements reach outside the database `ours`. DB is another one.
var hostile = strings.Split(strings.TrimSpace(`
INSERT INTO DB.t VALUES (1)
INSERT INTO `+"`DB`.`t`"+` (a) VALUES (1), (2)
INSERT INTO own SELECT * FROM DB.t
REPLACE INTO DB.t VALUES (1)
UPDATE DB.t SET a = 1
UPDATE own, DB.t SET own.a = 1
DELETE FROM DB.t
DELETE DB.t FROM DB.t JOIN own
DELETE FROM own USING own JOIN DB.t
TRUNCATE TABLE DB.t
TRUNCATE DB.t
DROP TABLE DB.t
DROP TABLE IF EXISTS own, DB.t
CREATE TABLE DB.x (a INT)
CREATE TABLE x LIKE DB.t
CREATE TABLE x AS SELECT * FROM DB.t
CREATE TABLE x (a INT, FOREIGN KEY (a) REFERENCES DB.t (a))
ALTER TABLE DB.t ADD b INT
ALTER TABLE own RENAME TO DB.own
RENAME TABLE own TO DB.own
CREATE INDEX i ON DB.t (a)
CREATE VIEW v AS SELECT * FROM DB.t
CREATE VIEW v AS SELECT own.a FROM own, (SELECT 1) s, DB.t
CREATE VIEW v AS SELECT DB.t.a FROM own
CREATE VIEW DB.v AS SELECT 1
CREATE TRIGGER g BEFORE INSERT ON DB.t FOR EACH ROW SET @x = 1
CREATE TRIGGER g BEFORE INSERT ON own FOR EACH ROW INSERT INTO DB.t VALUES (1)
CREATE PROCEDURE p() UPDATE DB.t SET a = 2
CREATE FUNCTION DB.f() RETURNS INT NO SQL RETURN 1
CREATE PROCEDURE p() BEGIN GRANT ALL ON *.* TO app@localhost; END
CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO FLUSH PRIVILEGES
SELECT * FROM own JOIN DB.t USING (a)
SELECT DB.f(1)
CALL DB.p()
LOCK TABLES own READ, DB.t WRITE
USE DB
CREATE DATABASE DB2
DROP DATABASE ours
DROP DATABASE DB
ALTER DATABASE DB CHARACTER SET latin1
CREATE USER x IDENTIFIED BY 'y'
/*!50003 CREATE USER x IDENTIFIED BY 'y' */
/*!CREATE*/ /*!USER*/ x
ALTER USER app@localhost IDENTIFIED BY 'new'
DROP USER app@localhost
RENAME USER app@localhost TO root2@localhost
GRANT ALL ON *.* TO app@localhost
REVOKE ALL ON ours.* FROM app@localhost
SET PASSWORD = 'x'
SET ROLE admin
SET GLOBAL max_connections = 1
SET @@GLOBAL.max_connections = 1
SET @x = 1, GLOBAL max_connections = 1
FLUSH TABLES
KILL 1
SHUTDOWN
INSTALL PLUGIN x SONAME 'x.so'
CREATE FUNCTION f RETURNS STRING SONAME 'x.so'
CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST 'h')
CREATE TABLE x (a INT) ENGINE=FEDERATED CONNECTION='mysql://h/d/t'
CREATE TABLE x (a INT) DATA DIRECTORY='/tmp'
LOAD DATA INFILE '/etc/passwd' INTO TABLE own
LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE own
SELECT 1 INTO OUTFILE '/tmp/x'
SELECT /*!50000 1 INTO DUMPFILE */ '/tmp/x'
INSERT INTO own VALUES (LOAD_FILE('/etc/passwd'))
PREPARE s FROM 'DROP TABLE DB.t'
PREPARE s FROM @s
CHANGE MASTER TO MASTER_HOST='h'
RESET MASTER
INSERT INTO information_schema.tables VALUES (1)
UPDATE mysql.user SET host = '%'
SELECT 1; /* ' */ DROP TABLE DB.t -- '
`), "\n")

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
SELECT REPLACE(a.b, 'x', 'y'), IF(a.b > 1, a.b, 0), LEFT(a.b, 1) FROM own a
`), "\n")

func anyTarget() *Importer {
	return &Importer{Target: load.Target{Database: "ours", Charset: "utf8mb4"}, Server: mysql.ScriptConditions{MariaDB: true, Version: 101106, MaxPacket: 1 << 24,
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

// TestNothingOutsideChanges runs the hostile statements, each in a script of
// its own, where the application's account could do harm: its rights reach
// into the other database, too.
func TestNothingOutsideChanges(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "ours", "other_db")
		h.Do(t, "CREATE TABLE other_db.t (a INT, b INT)", "INSERT INTO other_db.t VALUES (1, 1)")
		target := h.target(t, "ours")
		before := h.Fingerprint(t, "other_db")
		accounts := func() string {
			rows, err := h.Admin.OpenSingle(t.Context())
			require.NoError(t, err)
			defer rows.Close()
			users, err := rows.Query(t.Context(), "SELECT user, host FROM mysql.user ORDER BY 1, 2")
			require.NoError(t, err)
			databases, err := rows.Query(t.Context(), "SHOW DATABASES")
			require.NoError(t, err)
			return fmt.Sprint(users, databases)
		}
		known := accounts()
		for _, statement := range hostile {
			script := []byte("CREATE TABLE own (a INT);\n" + strings.ReplaceAll(statement, "DB", "other_db") + ";\n")
			_, err := loadtest.Import(t, string(script), target, load.Options{})
			assert.ErrorContains(t, err, "refused at a.sql:2", statement)
		}
		assert.Empty(t, h.Fingerprint(t, "ours"), "a script with a refused statement does not begin")
		assert.Equal(t, before, h.Fingerprint(t, "other_db"))
		assert.Equal(t, known, accounts())
	})
}
