package sqltext_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

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
