package postgres_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/throwaway"
)

// FuzzQuoting has a real server read texts and names back, whatever it takes a
// backslash for.
func FuzzQuoting(f *testing.F) {
	if throwaway.PostgresPrograms("") == "" {
		f.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	for _, text := range []string{"", "plain", `it's`, `\`, `\'`, `'\''; DROP`, `"`, `""; --`, "$$", "\n", "é", "日本", "a\\", "%_", "/* */", "--", "\u2028", "\xff'", "f(int); ALTER ROLE x SUPERUSER; --"} {
		f.Add(text)
	}
	folder, err := os.MkdirTemp("", "yf-")
	require.NoError(f, err)
	server, err := throwaway.Start(f.Context(), throwaway.Options{Product: dbms.PostgreSQL, Folder: folder})
	require.NoError(f, err)
	f.Cleanup(func() { server.Stop(); _ = os.RemoveAll(folder) })
	at, port := server.Login().Address.PostgresSocket()
	conn, err := pgx.Connect(f.Context(), fmt.Sprintf("host=%s port=%d user=%s dbname=postgres", at, port, server.Admin))
	require.NoError(f, err)
	f.Cleanup(func() { _ = conn.Close(context.Background()) })
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
			return // which the server takes for no text
		}
		for _, mode := range []string{"on", "off"} {
			_, err := conn.Exec(t.Context(), "SET standard_conforming_strings = "+mode)
			require.NoError(t, err)
			var back string
			require.NoError(t, conn.QueryRow(t.Context(), "SELECT "+postgres.QuoteText(text)).Scan(&back))
			require.Equal(t, text, back, mode)
			if text == "" || len(text) > 63 {
				continue // no name
			}
			rows, err := conn.Query(t.Context(), "SELECT 1 AS "+postgres.QuoteName(text))
			require.NoError(t, err)
			require.Equal(t, text, rows.FieldDescriptions()[0].Name, mode)
			rows.Close()
		}
	})
}
