package mysql_test

import (
	"errors"
	"fmt"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/mysql"
	"yellowfield/internal/sqltext/window"
)

func ExampleReader() {
	script := `DELIMITER ;;
CREATE TRIGGER count_hives AFTER INSERT ON hives FOR EACH ROW BEGIN SET @n = @n + 1; END;;
DELIMITER ;
INSERT INTO @p_hives VALUES ('west; slope'), ('mill');
SELECT 'never closed`
	r := mysql.NewReader("hives.sql", strings.NewReader(script), sqltext.Dialect{MariaDB: true, Version: 101106}, "STRICT_ALL_TABLES")
	r.ReplacePrefix("@p_", "cl_")
	for {
		s, err := r.Next()
		if err != nil {
			fmt.Println(fault.As(err).Place, errors.Is(err, window.ErrUnclosed))
			return
		}
		head := s.Head()
		fmt.Printf("%d:%d %s %s %s\n", s.Line, s.Column, head.Verb, head.Object, head.Name.Name)
	}
	// Output:
	// 2:1 CREATE TRIGGER count_hives
	// 4:1 INSERT  cl_hives
	// hives.sql:5:8 true
}
