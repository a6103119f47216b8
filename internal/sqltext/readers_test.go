package sqltext_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/mysql"
	"yellowfield/internal/sqltext/postgres"
	"yellowfield/internal/sqltext/window"
)

func TestWhatAScriptCanBeWrongIn(t *testing.T) {
	for text, want := range map[string]error{
		"SELECT 'a": window.ErrUnclosed, "/* a": window.ErrUnclosed, "SELECT 1; \\! id\n": window.ErrClientCommand, strings.Repeat("x", 1<<20): window.ErrTooLong,
	} {
		for _, r := range []sqltext.Reader{
			mysql.NewReader("a.sql", strings.NewReader(text), sqltext.Dialect{}, ""), postgres.NewReader("a.sql", strings.NewReader(text)),
		} {
			r.LimitStatements(1 << 10)
			var err error
			for err == nil {
				_, err = r.Next()
			}
			assert.ErrorIs(t, err, want, "%.20q", text)
		}
	}
}

// Comments between statements count for nothing, however long they are, and are not kept.
func TestCommentsAreNoStatements(t *testing.T) {
	lines, one := strings.Repeat("-- a remark\n", 1<<18), "-- "+strings.Repeat("a", 2<<20)+"\n"
	block, nested := "/* "+strings.Repeat("a\n", 1<<20)+"*/ ", "/* "+strings.Repeat("/* a */\n", 1<<18)+"*/ "
	for _, text := range []string{lines, one, block, nested} {
		for name, r := range map[string]sqltext.Reader{
			"mysql":    mysql.NewReader("a.sql", strings.NewReader(text+"SELECT 1;\n"+text+" SELECT 'a"), sqltext.Dialect{}, ""),
			"postgres": postgres.NewReader("a.sql", strings.NewReader(text+"SELECT 1;\n"+text+" SELECT 'a")),
		} {
			if name == "mysql" && strings.HasPrefix(text, "/* /*") {
				continue // its comments do not nest
			}
			r.LimitStatements(1 << 10)
			s, err := r.Next()
			require.NoError(t, err, "%s %.20q", name, text)
			assert.Equal(t, "SELECT 1", string(s.Text))
			assert.Equal(t, 1+strings.Count(text, "\n"), s.Line)
			_, err = r.Next()
			assert.ErrorIs(t, err, window.ErrUnclosed)
			assert.Contains(t, err.Error(), fmt.Sprintf("a.sql:%d:", 2+2*strings.Count(text, "\n")))
		}
	}
	_, err := postgres.NewReader("a.sql", strings.NewReader("\n /* a"+block)).Next()
	assert.ErrorContains(t, err, "a.sql:2:2: the script ends inside a comment that opens here")
}
