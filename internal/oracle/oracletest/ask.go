package oracletest

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
)

// Ask sends a statement, on PostgreSQL also several, and gives what comes back: a row a
// line, its values with tabs between them, NULL where there is none.
func Ask(product dbms.Product, login dbms.Login, statement string) (string, error) {
	if product == dbms.PostgreSQL {
		return askPostgres(login, statement)
	}
	return askMySQL(login, statement)
}

func askMySQL(login dbms.Login, statement string) (string, error) {
	ctx := context.Background()
	server, err := mysql.Connect(ctx, login)
	if err != nil {
		return "", err
	}
	defer server.Close()
	conn, err := server.Conn(ctx)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	rows, err := conn.QueryContext(ctx, statement)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	columns, _ := rows.Columns()
	var out strings.Builder
	for rows.Next() {
		values := make([]any, len(columns))
		for i := range values {
			values[i] = new(sqlText)
		}
		if err := rows.Scan(values...); err != nil {
			return out.String(), err
		}
		for i, v := range values {
			if i > 0 {
				out.WriteByte('\t')
			}
			out.WriteString(string(*v.(*sqlText)))
		}
		out.WriteByte('\n')
	}
	return out.String(), rows.Err()
}

func askPostgres(login dbms.Login, statement string) (string, error) {
	ctx := context.Background()
	folder, port := login.Address.PostgresSocket()
	config, err := pgx.ParseConfig(fmt.Sprintf("host=%s port=%d user=%s dbname=%s", folder, port, login.User, cmp.Or(login.Database, "postgres")))
	if err != nil {
		return "", err
	}
	config.Password = login.Password.Reveal()
	config.RuntimeParams["statement_timeout"] = "0" // an attack may have set one for the database
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	results, err := conn.PgConn().Exec(ctx, statement).ReadAll()
	var out strings.Builder
	for _, result := range results {
		for _, row := range result.Rows {
			out.Write(bytes.Join(row, []byte("\t")))
			out.WriteByte('\n')
		}
	}
	return out.String(), err
}

type sqlText string

func (s *sqlText) Scan(value any) error {
	switch v := value.(type) {
	case nil:
		*s = "NULL"
	case []byte:
		*s = sqlText(v)
	default:
		*s = sqlText(fmt.Sprint(v))
	}
	return nil
}
