package judge

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/sqltext"
)

func definitionOf(text, mode, charset string) (string, error) {
	target := anyTarget()
	d := target.Dialect().WithMode(mode).WithCharset(charset)
	got, err := (Verdict{Statement: sqltext.Statement{Text: []byte(text), Dialect: d}, Sent: []byte(text)}).Definition("ours", "DEFINER=`app`@`localhost`", mode, charset)
	return got.Statement, err
}

// TestWhatAnAdministratorDefines: the statement is built anew, with our definer and
// full names, and never holds a comment.
func TestWhatAnAdministratorDefines(t *testing.T) {
	for text, want := range map[string]string{
		"CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = 1":                                                        "CREATE DEFINER=`app`@`localhost` TRIGGER `ours`.`t` BEFORE INSERT ON `ours`.`x` FOR EACH ROW SET @a = 1",
		"create definer=root@localhost trigger ours.t after update on `ours`.`x` for each row\n  BEGIN\n    SET @a = 1; END": "CREATE DEFINER=`app`@`localhost` TRIGGER `ours`.`t` AFTER UPDATE ON `ours`.`x` FOR EACH ROW BEGIN\n    SET @a = 1; END",
		"/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`%`*/ /*!50003 TRIGGER t BEFORE DELETE ON x FOR EACH ROW SET @a = 1 */":   "CREATE DEFINER=`app`@`localhost` TRIGGER `ours`.`t` BEFORE DELETE ON `ours`.`x` FOR EACH ROW SET @a = 1",
		"CREATE OR REPLACE DEFINER=CURRENT_USER() FUNCTION f(a INT) RETURNS INT DETERMINISTIC RETURN a/* twice */* 2":        "CREATE OR REPLACE DEFINER=`app`@`localhost` FUNCTION `ours`.`f` (a INT) RETURNS INT DETERMINISTIC RETURN a * 2",
		"CREATE TRIGGER on BEFORE INSERT ON x FOR EACH ROW SET @a = '-- /* '":                                                "CREATE DEFINER=`app`@`localhost` TRIGGER `ours`.`on` BEFORE INSERT ON `ours`.`x` FOR EACH ROW SET @a = '-- /* '",
		"DROP TRIGGER IF EXISTS t":       "DROP TRIGGER IF EXISTS `ours`.`t`",
		"DROP /* the */ FUNCTION ours.f": "DROP FUNCTION `ours`.`f`",
	} {
		got, err := definitionOf(text, "", "utf8mb4")
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{
		"CREATE TRIGGER victim.t BEFORE INSERT ON x FOR EACH ROW SET @a = 1",
		"CREATE TRIGGER t BEFORE INSERT ON victim.x FOR EACH ROW SET @a = 1",
		"CREATE TRIGGER t BEFORE INSERT ON x",
		"CREATE DEFINER=a@b DEFINER=root@localhost TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = 1",
		"CREATE FUNCTION f RETURNS STRING SONAME 'x.so'",
		"CREATE FUNCTION victim.f() RETURNS INT RETURN 1",
		"CREATE PROCEDURE p() SELECT 1",
		"CREATE VIEW v AS SELECT 1",
		"DROP TRIGGER t, victim.t",
		"DROP TRIGGER victim.t",
		"DROP FUNCTION IF EXISTS OURS.f",
		"DROP DATABASE victim",
		"GRANT ALL ON *.* TO app",
		"/*!999998 /* /* */ */ CREATE DEFINER=root@localhost TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = 1",
		"CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = 1 --/* x */ 2\n",
		"CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = _gbk'\xbf\\'",
		"CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = '\xff'",
		"",
	} {
		_, err := definitionOf(text, "", "utf8mb4")
		assert.ErrorContains(t, err, "not run as administrator", text)
	}
	// What the session has really set decides.
	text := `CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = "b"`
	target := anyTarget()
	_, err := (Verdict{Statement: sqltext.Statement{Dialect: target.Dialect()}, Sent: []byte(text)}).Definition("ours", "", "ANSI_QUOTES", "utf8mb4")
	assert.ErrorContains(t, err, "does not read it as")
	_, err = (Verdict{Statement: sqltext.Statement{Dialect: target.Dialect()}, Sent: []byte(text)}).Definition("ours", "", "", "gbk")
	assert.ErrorContains(t, err, "does not read it as")
	_, err = definitionOf(text, "ORACLE", "utf8mb4")
	assert.ErrorContains(t, err, "another language")
}

func FuzzDefinition(f *testing.F) {
	f.Add("CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET @a = 1 /* ' */", "")
	f.Add("CREATE FUNCTION f() RETURNS INT RETURN `a``b`-- \n+1", "ANSI_QUOTES")
	f.Fuzz(func(t *testing.T, text, mode string) {
		got, err := definitionOf(text, mode, "utf8mb4")
		if err != nil {
			return
		}
		created := strings.HasPrefix(got, "CREATE DEFINER=`app`@`localhost` ") || strings.HasPrefix(got, "CREATE OR REPLACE DEFINER=`app`@`localhost` ")
		require.True(t, created || strings.HasPrefix(got, "DROP TRIGGER ") || strings.HasPrefix(got, "DROP FUNCTION "), got)
		require.Empty(t, sqltext.Doubt([]byte(got), anyTarget().Dialect().WithMode(mode)), got)
	})
}
