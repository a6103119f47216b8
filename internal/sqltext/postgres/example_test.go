package postgres_test

import (
	"fmt"
	"io"
	"strings"

	"yellowfield/internal/sqltext/postgres"
)

func ExampleReader() {
	script := "CREATE FUNCTION f() RETURNS int AS $$ SELECT 1; $$ LANGUAGE sql;\nCOPY hives (name) FROM stdin;\nwest slope\nmill\n\\.\nDROP TABLE hives"
	r := postgres.NewReader("hives.sql", strings.NewReader(script))
	for {
		s, err := r.Next()
		if err != nil {
			fmt.Println(err)
			return
		}
		head := s.Head()
		fmt.Println(s.Line, head.Verb, head.Name.Name)
		if rows := r.Data(); rows != nil {
			text, _ := io.ReadAll(rows)
			fmt.Printf("%q\n", text)
		}
	}
	// Output:
	// 1 CREATE f
	// 2 COPY hives
	// "west slope\nmill\n"
	// 6 DROP hives
	// EOF
}
