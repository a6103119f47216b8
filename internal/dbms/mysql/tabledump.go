package mysql

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
	"strings"
)

// DumpTable writes a table as SQL that the servers' own clients load: its definition and its
// rows, text and bytes by their bytes, so that nothing on the way can read them otherwise.
func (s *Server) DumpTable(ctx context.Context, database, table string, out io.Writer) error {
	w := bufio.NewWriter(out)
	full := QuoteName(database) + "." + QuoteName(table)
	var name, definition string
	if err := s.row(ctx, "SHOW CREATE TABLE "+full, nil, &name, &definition); err != nil {
		return err
	}
	_, _ = fmt.Fprintf(w, "SET NAMES utf8mb4;\nSET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0, unique_checks = 0, time_zone = '+00:00';\n%s;\n", definition)
	var names, reads, heads []string
	if err := s.each(ctx, `SELECT COLUMN_NAME, DATA_TYPE, COALESCE(CHARACTER_SET_NAME, '') FROM information_schema.COLUMNS
		WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND EXTRA NOT LIKE '%GENERATED%' ORDER BY ORDINAL_POSITION`, []any{database, table}, func(scan func(...any) error) error {
		var column, kind, charset string
		err := scan(&column, &kind, &charset)
		column = QuoteName(column)
		read, head := column, ""
		switch {
		case kind == "json":
			read, head = "HEX(CAST("+column+" AS CHAR CHARACTER SET utf8mb4))", "_utf8mb4 0x"
		case charset != "":
			read, head = "HEX("+column+")", "_"+charset+" 0x"
		case kind == "float": // which is shown with fewer digits than it has
			read = "CAST(" + column + " AS DOUBLE)"
		case kind == "bit", strings.HasSuffix(kind, "binary"), strings.HasSuffix(kind, "blob"), isShape(kind):
			read, head = "HEX("+column+")", "0x"
		}
		names, reads, heads = append(names, column), append(reads, read), append(heads, head)
		return err
	}); err != nil {
		return err
	}
	conn, err := s.Conn(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Raw(func(any) error { return errSpoiled }); _ = conn.Close() }() // its time zone is another
	if _, err := conn.ExecContext(ctx, "SET SESSION time_zone = '+00:00'"); err != nil {
		return err
	}
	rows, err := conn.QueryContext(ctx, "SELECT "+strings.Join(reads, ", ")+" FROM "+full)
	if err != nil {
		return err
	}
	defer rows.Close()
	values := make([]sql.RawBytes, len(reads))
	into := make([]any, len(reads))
	for i := range values {
		into[i] = &values[i]
	}
	const longest = 64 << 10 // of a statement, or a row
	written := longest
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		lead := ",\n"
		if written >= longest {
			lead = fmt.Sprintf(";\nINSERT INTO %s (%s) VALUES\n", QuoteName(table), strings.Join(names, ", "))
			if written == longest && name != "" { // the first
				lead, name = strings.TrimPrefix(lead, ";\n"), ""
			}
			written = 0
		}
		n, err := w.WriteString(lead + tuple(values, heads))
		if written += n; err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if name == "" {
		_, _ = w.WriteString(";\n")
	}
	return w.Flush()
}

func isShape(kind string) bool {
	return strings.Contains("geometry point linestring polygon multipoint multilinestring multipolygon geometrycollection geomcollection", kind)
}

func tuple(values []sql.RawBytes, heads []string) string {
	parts := make([]string, len(values))
	for i, v := range values {
		switch {
		case v == nil:
			parts[i] = "NULL"
		case heads[i] == "":
			parts[i] = QuoteText(string(v))
		case len(v) == 0:
			parts[i] = strings.TrimSuffix(heads[i], "0x") + "''"
		default:
			parts[i] = heads[i] + string(v)
		}
	}
	return "(" + strings.Join(parts, ", ") + ")"
}
