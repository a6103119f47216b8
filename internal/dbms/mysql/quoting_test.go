package mysql_test

import (
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/throwaway"
)

// FuzzQuoting has a real server read texts and names back, under each sql_mode that
// changes how quotes are read.
func FuzzQuoting(f *testing.F) {
	for _, text := range []string{"", "plain", `it's`, `\`, `\'`, `'\''; DROP`, "`", "``; --", `"`, "\x00", "\n", "é", "日本", "\x1a", "a\\", "%_", "/* */", "--", "\u2028", "\xff'"} {
		f.Add(text)
	}
	folder, err := os.MkdirTemp("", "yf-")
	require.NoError(f, err)
	server, err := throwaway.Start(f.Context(), throwaway.Options{Product: dbms.MariaDB, Folder: folder})
	require.NoError(f, err)
	f.Cleanup(func() { server.Stop(); _ = os.RemoveAll(folder) })
	s, err := mysql.Connect(f.Context(), server.Login())
	require.NoError(f, err)
	f.Cleanup(s.Close)
	f.Fuzz(func(t *testing.T, text string) {
		conn, err := s.Conn(t.Context())
		require.NoError(t, err)
		defer conn.Close()
		for _, mode := range []string{"", "NO_BACKSLASH_ESCAPES", "ANSI_QUOTES"} {
			_, err := conn.ExecContext(t.Context(), "SET SESSION sql_mode = '"+mode+"'")
			require.NoError(t, err)
			var back string
			if err := conn.QueryRowContext(t.Context(), "SELECT "+mysql.QuoteText(text)).Scan(&back); utf8.ValidString(text) {
				require.NoError(t, err)
				require.Equal(t, text, back, mode)
			}
			if !utf8.ValidString(text) || strings.ContainsRune(text, 0) || strings.HasSuffix(text, " ") || utf8.RuneCountInString(text) > 60 {
				continue // no name
			}
			rows, err := conn.QueryContext(t.Context(), "SELECT 1 AS "+mysql.QuoteName("a"+text))
			if err != nil {
				require.Contains(t, []int{1166, 1300}, mysql.Code(err), "an incorrect name, at the most: %v", err)
				continue
			}
			names, err := rows.Columns()
			require.NoError(t, rows.Close())
			require.NoError(t, err)
			require.Equal(t, []string{"a" + text}, names, mode)
		}
	})
}
