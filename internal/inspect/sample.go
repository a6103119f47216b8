package inspect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"yellowfield/internal/figures"
)

// Columns are those of text in a table, with the query that reads some of their rows.
type Columns struct {
	Table string
	Names []string
	Query string
}

// How much of a table a sample reads: so many rows, and the first characters of each value,
// fewer where a table has many columns, so that the whole stays small.
const (
	sampledRows   = 500
	sampledText   = 2000
	shortestText  = 16
	sampledOfRows = 16 << 20
)

func sampledOf(columns int) int {
	const longestCharacter = 4
	return min(sampledText, max(shortestText, sampledOfRows/(sampledRows*longestCharacter*columns)))
}

// ColumnsOf makes them of rows with a table and a column each, in the order of tables.
func ColumnsOf(rows [][]string, quote, from func(name string) string) []Columns {
	var tables []Columns
	for _, row := range rows {
		if len(tables) == 0 || tables[len(tables)-1].Table != row[0] {
			tables = append(tables, Columns{Table: row[0]})
		}
		last := &tables[len(tables)-1]
		last.Names = append(last.Names, row[1])
	}
	for at := range tables {
		var values []string
		for _, name := range tables[at].Names {
			values = append(values, fmt.Sprintf("LEFT(%s, %d)", quote(name), sampledOf(len(tables[at].Names))))
		}
		tables[at].Query = fmt.Sprintf("SELECT %s FROM %s LIMIT %d", strings.Join(values, ", "), from(tables[at].Table), sampledRows)
	}
	return tables
}

// Sample looks into some rows for text that was encoded twice.
func (r *Report) Sample(ctx context.Context, app, database string, tables []Columns, look Look) error {
	for _, table := range tables {
		rows, err := look(ctx, table.Query)
		if err != nil {
			return err
		}
		for at, column := range table.Names {
			var first string
			twice := 0
			for _, row := range rows {
				if seen := seenTwice(row[at]); seen != "" {
					twice++
					first = max(first, seen) // whichever, but the same each time
				}
			}
			if twice > 0 {
				r.Add(Finding{Kind: EncodedTwice, On: database + ", " + table.Table + "." + column, App: app,
					Evidence: fmt.Sprintf("of %s looked at %d hold text such as %s", figures.Counted(len(rows), "row", "rows"), twice, first),
					Remedy:   "export the database; when the application says its character set rightly, and its pages show such text still, convert the column: CONVERT(CAST(CONVERT(column USING latin1) AS BINARY) USING utf8mb4)"})
			}
		}
	}
	return nil
}

// seenTwice finds characters that are the bytes of one character in UTF-8, each of them taken
// for one of Windows-1252, and tells both; empty where there are none.
func seenTwice(text string) string {
	var run []byte
	var began int
	for at, c := range text + " " {
		b, fits := asByte(c)
		if fits && b >= utf8.RuneSelf {
			if len(run) == 0 {
				began = at
			}
			run = append(run, b)
			continue
		}
		for i := 0; i < len(run); i++ {
			if decoded, size := utf8.DecodeRune(run[i:]); size > 1 {
				before := slices.Collect(func(yield func(string) bool) {
					for _, c := range text[began:at] {
						if !yield(string(c)) {
							return
						}
					}
				})
				return strings.Join(before[i:i+size], "") + " for " + string(decoded)
			}
		}
		run = run[:0]
	}
	return ""
}

// asByte is the byte that MariaDB and MySQL take for a character in what they call latin1:
// Windows-1252, and in its gaps ISO 8859-1 (MySQL Reference Manual, "West European Character
// Sets").
func asByte(c rune) (b byte, fits bool) {
	if b, fits = charmap.Windows1252.EncodeRune(c); fits {
		return b, true
	}
	return byte(c), c >= 0x80 && c < 0xA0
}
