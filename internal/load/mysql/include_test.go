package mysql

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/oracle"
	"yellowfield/internal/script"
)

// TestFilesReadInPlaceAsTheStockClientDoes: what a script has said before holds in the files
// that it names, and what they say holds after them; a last statement needs no delimiter.
func TestFilesReadInPlaceAsTheStockClientDoes(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		dir, err := os.MkdirTemp(filepath.Join("/", h.Root, "tmp"), "include-") // where the stock client sees it, too
		require.NoError(t, err)
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		require.NoError(t, os.Chmod(dir, 0o755))
		seen := "/tmp/" + filepath.Base(dir) + "/"
		for name, text := range map[string]string{
			"tables.sql": "\ufeffCREATE TABLE hive (id INT PRIMARY KEY AUTO_INCREMENT, apiary INT, name VARCHAR(3), FOREIGN KEY (apiary) REFERENCES apiary (id));\nSOURCE " + seen + "more.sql;\nINSERT INTO hive VALUES (NULL, 9, 'a')",
			"more.sql":   "SET sql_mode='';\nDELIMITER ;;\nCREATE TABLE apiary (id INT PRIMARY KEY);;\nCREATE PROCEDURE g() BEGIN SELECT 1; SELECT 2; END;;",
			"rows.sql":   strings.Repeat("INSERT INTO hive VALUES (NULL, 1, 'xyzzy');;\n", 300),
		} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
		text := lines("SET foreign_key_checks=0;", "source "+seen+"tables.sql", "INSERT INTO hive VALUES (NULL, 1, 'b');;", `\. `+seen+"rows.sql", "DELIMITER ;", "INSERT INTO apiary VALUES (1);")
		h.Fresh(t, "ours", "stock")
		var options []string
		if h.Root != "" {
			options = []string{"--commands"} // which newer clients of MySQL want to be told
		}
		require.NoError(t, h.Stock(t, "stock", []byte(text), options...))

		s := loadtest.Write(t, text)
		s.Include = func(from, named string) (script.Included, error) {
			return script.Included{Path: filepath.Join("/", h.Root, named), Name: filepath.Base(named)}, nil
		}
		target := h.target(t, "ours")
		survey, err := target.Check(t.Context(), s, load.Options{})
		require.NoError(t, err)
		require.Empty(t, survey.Refused)
		report, err := target.Import(t.Context(), s, survey, load.Options{}, func(load.Progress) {})
		require.NoError(t, err)
		assert.EqualValues(t, 303, report.Rows)
		assert.Empty(t, oracle.Differences(h.Fingerprint(t, "stock"), h.Fingerprint(t, "ours")))

		require.NoError(t, os.WriteFile(filepath.Join(dir, "more.sql"), []byte("SELECT 1;\n  CREATE USER x;"), 0o644))
		survey, err = target.Check(t.Context(), s, load.Options{})
		require.NoError(t, err)
		require.NotEmpty(t, survey.Refused, "each statement is judged")
		assert.Equal(t, fault.Place{File: "more.sql", Line: 2, Column: 3}, survey.Refused[0].Place)

		require.NoError(t, os.WriteFile(filepath.Join(dir, "more.sql"), []byte("SELECT 1;\nsource "+seen+"tables.sql\n"), 0o644))
		_, err = target.Check(t.Context(), s, load.Options{})
		require.Error(t, err)
		assert.Contains(t, err.Error(), "tables.sql is being read already")
		assert.Equal(t, fault.Place{File: "more.sql", Line: 2, Column: 1}, fault.As(err).Place)
	})
}
