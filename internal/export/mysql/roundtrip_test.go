package mysql_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/export"
	"yellowfield/internal/export/mysql"
	"yellowfield/internal/load"
	loadmysql "yellowfield/internal/load/mysql"
	"yellowfield/internal/oracle"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/script"
)

func TestMain(m *testing.M) {
	code := m.Run()
	oracletest.CloseServers()
	os.Exit(code)
}

// hostile is a name that is SQL, with all that needs quoting.
const hostile = "t`; DROP TABLE x; -- '\"\\\n\t%s é"

// everything is a script that makes one of each, with the values that get lost easily.
func everything(product dbms.Product) string {
	quoted := "`" + strings.ReplaceAll(hostile, "`", "``") + "`"
	text := `SET NAMES utf8mb4; SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO', time_zone = '+02:00', foreign_key_checks = 0;
CREATE TABLE z_first (id int NOT NULL AUTO_INCREMENT PRIMARY KEY, other int, FOREIGN KEY (other) REFERENCES a_second (id));
CREATE TABLE a_second (id int PRIMARY KEY, first int, FOREIGN KEY (first) REFERENCES z_first (id));
INSERT INTO z_first VALUES (0, NULL), (7, 1); INSERT INTO a_second VALUES (1, 7);
CREATE TABLE ` + quoted + ` (` + quoted + ` varchar(200) DEFAULT 'it''s \\ "this"' COMMENT 'a; b', g varchar(250) GENERATED ALWAYS AS (concat(` + quoted + `, '!')) STORED, UNIQUE KEY ` + quoted + ` (` + quoted + `));
INSERT INTO ` + quoted + ` (` + quoted + `) VALUES ('quote '' back \\ line \n return \r nul \0 sub \Z tab \t percent % é 漢 🐝'), (''), (NULL), ('\\'), ('-- no comment'), ('DELIMITER ;;');
CREATE TABLE numbers (a tinyint, b bigint unsigned, c decimal(30,10), d float, e double, f bit(9), g year, h float(7,3), i boolean);
INSERT INTO numbers VALUES (-128, 18446744073709551615, '-12345678901234567890.0123456789', 0.1, 1e-300, b'100000001', 1999, 1.125, true), (0, 0, 0, -0e0, -0e0, 0, 0, 3.4, false), (NULL, NULL, NULL, 3.4028234e38, 2.2250738585072014e-308, NULL, NULL, NULL, NULL);
CREATE TABLE times (a date, b datetime(6), c timestamp(3) NULL, d time(2), UNIQUE KEY (b)) ENGINE=MyISAM;
INSERT INTO times VALUES ('0000-00-00', '2026-02-31 00:00:00' + INTERVAL 0 DAY, '2026-03-29 02:30:00.125', '-838:59:59'), ('1000-01-01', '9999-12-31 23:59:59.999999', NULL, '00:00:00.25');
CREATE TABLE sets (l varchar(20) CHARACTER SET latin1, c varchar(20) CHARACTER SET cp1251, s text CHARACTER SET sjis, u varchar(20) CHARACTER SET utf16, k char(10) CHARACTER SET utf8mb3 COLLATE utf8mb3_bin, e enum('a','b''c','é'), f set('x','y'), j json, ascii_ char(3) CHARACTER SET ascii) DEFAULT CHARSET=latin1;
INSERT INTO sets VALUES (_latin1 0x8180E9FF, _cp1251 0xC1E0FF, _sjis 0x835C, _utf16 0xD83DDC1D, 'ключ', 'b''c', 'x,y', '{"a": "quote \\" and 🐝"}', 'abc'), ('', '', '', '', '', 'no', '', '[]', ''), (NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);
CREATE TABLE bytes (a binary(4), b varbinary(300), c longblob, p point NOT NULL, h varchar(10) INVISIBLE DEFAULT 'seen', x geometry);
INSERT INTO bytes (a, b, c, p, x) VALUES (0x00FF0A, '', 0x27225C0A1A00, POINT(1.5, -2), NULL), (NULL, NULL, NULL, POINT(0, 0), LINESTRING(POINT(1, 1), POINT(2, 2)));
CREATE TABLE parts (id int PRIMARY KEY, t text) PARTITION BY HASH (id) PARTITIONS 3;
INSERT INTO parts VALUES (1, 'one'), (2, 'two'), (3, 'three');
CREATE TABLE long_bytes (b longblob); INSERT INTO long_bytes SELECT REPEAT(CONCAT(UNHEX(HEX(GROUP_CONCAT(CHAR(n) ORDER BY n SEPARATOR ''))), UNHEX('C3275C00')), 36000)
	FROM (SELECT a.i * 16 + b.i AS n FROM (SELECT 0 AS i UNION SELECT 1 UNION SELECT 2 UNION SELECT 3 UNION SELECT 4 UNION SELECT 5 UNION SELECT 6 UNION SELECT 7 UNION SELECT 8 UNION SELECT 9 UNION SELECT 10 UNION SELECT 11 UNION SELECT 12 UNION SELECT 13 UNION SELECT 14 UNION SELECT 15) a, (SELECT 0 AS i UNION SELECT 1 UNION SELECT 2 UNION SELECT 3 UNION SELECT 4 UNION SELECT 5 UNION SELECT 6 UNION SELECT 7 UNION SELECT 8 UNION SELECT 9 UNION SELECT 10 UNION SELECT 11 UNION SELECT 12 UNION SELECT 13 UNION SELECT 14 UNION SELECT 15) b) AS bytes;
CREATE TABLE nothing (id int);
CREATE FUNCTION doubled(n int) RETURNS int DETERMINISTIC RETURN n * 2;
CREATE VIEW v_a AS SELECT id, trim(LEADING 'o' FROM a.t) AS cut, (SELECT max(id) FROM a_second) AS most FROM parts a;
CREATE VIEW v_z AS SELECT id, doubled(id) AS twice FROM v_a;
CREATE VIEW a_v AS SELECT v_z.id AS v_a, v_z.twice AS ` + quoted + ` FROM v_z JOIN v_a USING (id) WHERE 'v_q' <> 'exporting';
CREATE VIEW outside AS SELECT a.id FROM elsewhere.shop a JOIN parts USING (id);
CREATE VIEW broken AS SELECT id FROM nothing;
DELIMITER $$
CREATE TRIGGER shop.one BEFORE INSERT ON shop.parts FOR EACH ROW BEGIN SET NEW.t = CONCAT(NEW.t, ';; $1$ '' \\ é'); END$$
CREATE TRIGGER three BEFORE INSERT ON parts FOR EACH ROW FOLLOWS one BEGIN /* a comment ; */ SET NEW.id = NEW.id + 0; -- line
END$$
CREATE TRIGGER two BEFORE INSERT ON parts FOR EACH ROW PRECEDES three SET NEW.id = NEW.id$$
CREATE PROCEDURE ` + quoted + ` (IN p varchar(10), OUT q int) COMMENT 'with; comment' BEGIN DECLARE CONTINUE HANDLER FOR NOT FOUND SET q = 0; SELECT COUNT(*) INTO q FROM parts WHERE t = p; END$$
SET sql_mode = 'ANSI_QUOTES'$$
CREATE PROCEDURE ansi() BEGIN SELECT "id" FROM "parts" WHERE "t" = 'x'; END$$
SET sql_mode = 'NO_BACKSLASH_ESCAPES'$$
CREATE PROCEDURE plain() BEGIN SELECT 'one \' AS b; END$$
SET sql_mode = ''$$
CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 00:00:00' ON COMPLETION PRESERVE DISABLE COMMENT 'it''s ENABLE' DO DELETE FROM nothing WHERE id = 1$$
CREATE EVENT later ON SCHEDULE AT '2035-01-01 00:00:00' DO BEGIN DELETE FROM nothing; END$$
DELIMITER ;
DROP TABLE nothing; CREATE TABLE nothing (other int);
`
	if product == dbms.MariaDB {
		text += "CREATE SEQUENCE places START WITH 100 INCREMENT BY 5; DO NEXTVAL(places); CREATE TABLE numbered (n bigint DEFAULT NEXTVAL(places), u uuid, i inet6);\nINSERT INTO numbered (u, i) VALUES ('123e4567-e89b-12d3-a456-426655440000', '::1');\n" +
			"CREATE TABLE versioned (id int) WITH SYSTEM VERSIONING; INSERT INTO versioned VALUES (1); UPDATE versioned SET id = 2;\n"
	} else {
		text += "CREATE TABLE srs (p point NOT NULL SRID 4326, SPATIAL INDEX (p), v vector(3)); INSERT INTO srs VALUES (ST_GeomFromText('POINT(10 20)', 4326), STRING_TO_VECTOR('[1,2,3]'));\n"
	}
	return text
}

func exporter(t *testing.T, h *oracletest.MySQL, database string) *mysql.Exporter {
	app := h.App(t, database)
	return &mysql.Exporter{MariaDB: h.Product == dbms.MariaDB, Database: database, Open: func(ctx context.Context) (mysql.Session, error) {
		s, err := app.OpenSingle(ctx)
		if err != nil {
			return nil, err
		}
		return s, nil
	}}
}

// TestAnExportLoadsTheSame: with the stock client and with the importer, all comes back.
func TestAnExportLoadsTheSame(t *testing.T) {
	oracletest.OnMySQL(t, func(t *testing.T, h *oracletest.MySQL) {
		h.Do(t, "SET GLOBAL log_bin_trust_function_creators = 1")
		h.Fresh(t, "shop", "by_stock", "by_us", "elsewhere")
		h.Do(t, "CREATE TABLE elsewhere.shop (id int)")
		require.NoError(t, h.Stock(t, "shop", []byte(everything(h.Product))))
		var out bytes.Buffer
		options := export.Options{Sums: true, Lanes: 3}
		report, err := exporter(t, h, "shop").Export(t.Context(), &out, options, nil)
		require.NoError(t, err)
		var left []string
		for _, l := range report.LeftOut {
			left = append(left, l.String())
		}
		want := []string{"view broken", "view outside"}
		if h.Product == dbms.MariaDB {
			want = []string{"view broken", "view outside", "table versioned"}
		}
		assert.Equal(t, want, left)
		assert.NotContains(t, out.String(), "DEFINER=")

		h.Do(t, "DROP VIEW shop.broken, shop.outside")
		require.NoError(t, h.Stock(t, "by_stock", out.Bytes()), out.String())
		path := filepath.Join(t.TempDir(), "shop.sql")
		require.NoError(t, os.WriteFile(path, out.Bytes(), 0o600))
		facts, err := h.Admin.ScriptConditions(t.Context())
		require.NoError(t, err)
		app := h.App(t, "by_us")
		importer := &loadmysql.Importer{Target: load.Target{Database: "by_us", Charset: "utf8mb4"}, Server: facts, Open: func(ctx context.Context) (loadmysql.Session, error) { return app.OpenSingle(ctx) }}
		source := script.Source{Path: path, Name: "shop.sql"}
		survey, err := importer.Check(t.Context(), source, load.Options{})
		require.NoError(t, err)
		assert.Empty(t, survey.Refused)
		_, err = importer.Import(t.Context(), source, survey, load.Options{}, func(load.Progress) {})
		require.NoError(t, err)
		for _, copied := range []string{"by_stock", "by_us"} {
			again, err := exporter(t, h, copied).Export(t.Context(), io.Discard, options, nil)
			require.NoError(t, err)
			assert.Empty(t, export.Differences(report, again), copied)
			assert.Equal(t, report.Rows, again.Rows)
			want, got := h.Fingerprint(t, "shop"), h.Fingerprint(t, copied)
			for _, f := range []map[string]string{want, got} {
				for name, text := range f {
					f[name] = strings.ReplaceAll(text, " shop.", " ")
				}
				delete(f, "TABLE versioned") // its history has other times
			}
			assert.Empty(t, oracle.Differences(want, got), copied)
		}
	})
}

// TestAnExportIsOfOneMoment: what is written meanwhile is in all tables or in none.
func TestAnExportIsOfOneMoment(t *testing.T) {
	oracletest.OnMySQL(t, func(t *testing.T, h *oracletest.MySQL) {
		h.Fresh(t, "shop", "copied")
		var fill strings.Builder
		for _, table := range []string{"a", "b", "c", "d"} {
			fmt.Fprintf(&fill, "CREATE TABLE %s (id int PRIMARY KEY AUTO_INCREMENT, t char(200)) ;\nINSERT INTO %s (t) WITH RECURSIVE n AS (SELECT 1 AS i UNION ALL SELECT i + 1 FROM n WHERE i < 900) SELECT REPEAT('x', 200) FROM n JOIN (SELECT 1 UNION ALL SELECT 2 UNION ALL SELECT 3) AS m;\n", table, table)
		}
		require.NoError(t, h.Stock(t, "shop", []byte(fill.String())))
		writer, err := h.App(t, "shop").OpenSingle(t.Context())
		require.NoError(t, err)
		defer writer.Close()
		stop, stopped := make(chan struct{}), make(chan error)
		go func() { // the same rows go into all tables
			for {
				for _, s := range []string{"START TRANSACTION", "INSERT INTO a (t) VALUES ('new')", "INSERT INTO b (t) VALUES ('new')", "INSERT INTO c (t) VALUES ('new')", "INSERT INTO d (t) VALUES ('new')", "COMMIT"} {
					if _, err := writer.Exec(t.Context(), s); err != nil {
						stopped <- err
						return
					}
				}
				select {
				case <-stop:
					stopped <- nil
					return
				default:
				}
			}
		}()
		for range 5 {
			report, err := exporter(t, h, "shop").Export(t.Context(), io.Discard, export.Options{Sums: true, Lanes: 4}, nil)
			require.NoError(t, err)
			rows := map[int64]bool{}
			for _, sum := range report.Sums {
				rows[sum.Rows] = true
			}
			assert.Len(t, rows, 1, "rows: %v", rows)
		}
		close(stop)
		require.NoError(t, <-stopped)
	})
}
