package sqltext

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestParseHead(t *testing.T) {
	for statement, want := range map[string]string{
		"create table if not exists `hives` (id int)":                                               "CREATE TABLE .hives on .",
		"INSERT IGNORE INTO barn.hives VALUES (1)":                                                  "INSERT  barn.hives on .",
		"CREATE DEFINER=`root`@`localhost` TRIGGER t1 BEFORE INSERT ON other.hives FOR EACH":        "CREATE TRIGGER .t1 on other.hives",
		"/*!50003 CREATE*/ /*!50017 DEFINER=`a``b`@`%`*/ /*!50003 TRIGGER `t``2` AFTER UPDATE ON h": "CREATE TRIGGER .t`2 on .h",
		"CREATE OR REPLACE DEFINER=CURRENT_USER() FUNCTION barn.f(x INT) RETURNS INT":               "CREATE FUNCTION barn.f on .",
		"CREATE ALGORITHM=MERGE DEFINER='x'@localhost SQL SECURITY DEFINER VIEW v AS SELECT":        "CREATE VIEW .v on .",
		"DROP TRIGGER IF EXISTS t1":                                                                 "DROP TRIGGER .t1 on .",
		"(SELECT 1)":                                                                                "  . on .",
	} {
		h := ParseHead([]byte(statement), Dialect{})
		assert.Equal(t, want, fmt.Sprintf("%s %s %s.%s on %s.%s", h.Verb, h.Object, h.Name.Schema, h.Name.Name, h.Table.Schema, h.Table.Name), statement)
	}
	assert.True(t, ParseHead([]byte("CREATE FUNCTION f RETURNS STRING SONAME 'x.so'"), Dialect{}).IsLoadableFunction())
}

func TestDefinerIsTakenOut(t *testing.T) {
	for statement, want := range map[string]string{
		"CREATE DEFINER=`root`@`localhost` TRIGGER t1 AFTER INSERT ON h":          "CREATE  TRIGGER t1 AFTER INSERT ON h",
		"/*!50003 CREATE*/ /*!50017 DEFINER=`r`@`%`*/ /*!50003 TRIGGER t ON h */": "/*!50003 CREATE*/ /*!50017 */ /*!50003 TRIGGER t ON h */",
		"CREATE OR REPLACE FUNCTION f() RETURNS INT":                              "CREATE OR REPLACE FUNCTION f() RETURNS INT",
		"CREATE SQL SECURITY DEFINER VIEW v AS SELECT 'DEFINER=`a`@`b`'":          "CREATE SQL SECURITY DEFINER VIEW v AS SELECT 'DEFINER=`a`@`b`'",
	} {
		assert.Equal(t, want, string(ParseHead([]byte(statement), Dialect{}).WithoutDefiner([]byte(statement))))
	}
}

func TestWhatServersReadInTheirOwnWaysIsDoubtful(t *testing.T) {
	maria, my := Dialect{MariaDB: true, Version: 101106}, Dialect{Version: 90700}
	for _, row := range []struct {
		statement       string
		onMariaDB, onMy bool
	}{
		{"SELECT 1 /* a */ + 2 -- b", false, false},
		{"/*!50003 CREATE*/ /*!50017 DEFINER=`r`@`%`*/ /*!50003 TRIGGER t ON h */", false, false},
		{"/*!50003 CREATE /* a plain one inside */ TABLE t (a INT) */", false, false},
		{"CREATE TABLE t (a INT) /*!80016 DEFAULT ENCRYPTION='N' */", false, false},
		{"SELECT '/* ', 'x */ /*!'", false, false},
		{"/*!999998 /* /* */ */ CREATE TABLE t (a INT)", true, true},
		{"/*!80000 /* /* */ */ SELECT 1", true, false}, // which MySQL runs
		{"/*!50003 SELECT /*!50003 1 */ */", true, true},
		{"SELECT 1 */", true, true},
		{"/*!50003 SELECT 1", true, true},
		{"/*!5 SELECT 1 */", true, true},
		{"/*!050003SELECT 1 */", false, true},
		{"/*!999999SELECT 1 */", false, false}, // passed over either way
		{"/*!1000031 SELECT 1 */", true, true},
		{"SELECT 1 --\x00 2", true, true},
		{"SELECT 1\x7f2", true, true},
		{"CREATE TABLE été (a INT)", false, false},
	} {
		assert.Equal(t, row.onMariaDB, Doubt([]byte(row.statement), maria) != "", "MariaDB: %s", row.statement)
		assert.Equal(t, row.onMy, Doubt([]byte(row.statement), my) != "", "MySQL: %s", row.statement)
	}
	assert.NotEmpty(t, Doubt([]byte("CREATE TABLE x (a INT) ENGINE=InnoDB\u00e0DATA DIRECTORY='/tmp'"), maria.WithCharset("latin1")), "the second byte of à is a blank in latin1")
	assert.Empty(t, Doubt([]byte("INSERT INTO x VALUES ('é')"), maria.WithCharset("latin1")))
}
