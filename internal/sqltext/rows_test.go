package sqltext

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRowsOfLiterals(t *testing.T) {
	for statement, want := range map[string]string{
		"INSERT INTO t VALUES (1,'a'), (NULL, \"b;\") ":                     "t [] (1,'a')0 (NULL, \"b;\")1",
		"insert `d`.`t` (`a`, b) value (-1.5e3,x'ff',_binary 'a\\')',TRUE)": "t [a b] (-1.5e3,x'ff',_binary 'a\\')',TRUE)0",
		"INSERT INTO t VALUES (0x1F, b'01', N'x', +1, .5, false, null)":     "t [] (0x1F, b'01', N'x', +1, .5, false, null)64",
		"INSERT INTO t VALUES ('it''s', '')":                                "t [] ('it''s', '')0",
		"INSERT INTO t VALUES ()":                                           "none",
		"INSERT INTO t VALUES (NOW())":                                      "none",
		"INSERT INTO t VALUES (1+1)":                                        "none",
		"INSERT INTO t VALUES ('a' 'b')":                                    "none",
		"INSERT INTO t VALUES (@x)":                                         "none",
		"INSERT INTO t VALUES (DEFAULT)":                                    "none",
		"INSERT INTO t VALUES (1) ON DUPLICATE KEY UPDATE a=1":              "none",
		"INSERT INTO t VALUES (1) RETURNING a":                              "none",
		"INSERT INTO t VALUES (1) AS new":                                   "none",
		"INSERT INTO t VALUES (1),":                                         "none",
		"INSERT INTO t VALUES (1 /* one */)":                                "none",
		"INSERT INTO t SELECT 1":                                            "none",
		"INSERT INTO t SET a=1":                                             "none",
		"INSERT IGNORE INTO t VALUES (1)":                                   "none",
		"INSERT LOW_PRIORITY INTO t VALUES (1)":                             "none",
		"REPLACE INTO t VALUES (1)":                                         "none",
		"INSERT INTO t PARTITION (p) VALUES (1)":                            "none",
	} {
		got := "none"
		if insert, ok := ParseInsert([]byte(statement), Dialect{}); ok {
			rows := NewRowScanner([]byte(statement), insert.Body, Dialect{})
			text := fmt.Sprint(insert.Table.Name, " ", insert.Columns)
			for row := (Row{}); rows.Next(&row); {
				text += fmt.Sprintf(" %s%d", statement[row.Start:row.End], row.Nulls)
			}
			if rows.Literal() {
				got = text
			}
		}
		assert.Equal(t, want, got, statement)
	}
}

func TestWhichConditionalCommentsAreExecuted(t *testing.T) {
	maria, my := Dialect{MariaDB: true, Version: 101106}, Dialect{Version: 90700}
	for text, want := range map[string][2]string{
		"/*!40101 a */ b":                {"a b", "a b"},
		"/*! a */ b":                     {"a b", "a b"},
		"/*!50701 a */ b":                {"b", "a b"},
		"/*!100100 a */ b":               {"a b", "b"},
		"/*M!100100 a */ b":              {"a b", "b"},
		"/*M! a */ b":                    {"a b", "b"},
		"/*!99999 a /* c */ d */ b":      {"b", "b"},
		"/*!110000 ' */ GRANT /* ' */ b": {"GRANT b", "GRANT b"},
	} {
		for i, d := range []Dialect{maria, my} {
			got := ""
			for _, token := range Scan([]byte(text), d) {
				if got != "" {
					got += " "
				}
				got += string(token.Text)
			}
			assert.Equal(t, want[i], got, "%s, MariaDB: %v", text, d.MariaDB)
		}
	}
}

func TestParseTable(t *testing.T) {
	table, ok := ParseTable([]byte(`CREATE TABLE IF NOT EXISTS d.t (
		id INT UNSIGNED NOT NULL AUTO_INCREMENT, a VARCHAR(190) CHARACTER SET latin1 COLLATE latin1_bin DEFAULT 'x,y)' COMMENT 'NOT NULL',
		v INT GENERATED ALWAYS AS (id + 1) VIRTUAL, h INT INVISIBLE, r INT REFERENCES other (id),
		PRIMARY KEY (id), UNIQUE KEY u (a(20), id DESC), KEY `+"`k``1`"+` USING BTREE (v), INDEX e ((id + 1)), FULLTEXT KEY f (a),
		CONSTRAINT c FOREIGN KEY (a, id) REFERENCES p.q (x, y) ON DELETE CASCADE, CHECK (id > 0)
	) ENGINE=InnoDB DEFAULT CHARSET=utf8mb3 COLLATE=utf8mb3_bin ROW_FORMAT=COMPACT COMMENT='ENGINE=MyISAM'`), Dialect{})
	require.True(t, ok)
	assert.Equal(t, ObjectName{"d", "t"}, table.Name)
	require.Len(t, table.Columns, 5)
	assert.Equal(t, Column{Name: "id", Type: "INT", NotNull: true, Auto: true, Unsigned: true}, table.Columns[0])
	assert.Equal(t, Column{Name: "a", Type: "VARCHAR", Length: 190, Charset: "latin1", Collation: "latin1_bin"}, table.Columns[1])
	assert.True(t, table.Columns[2].Generated)
	assert.True(t, table.Columns[3].Invisible)
	var keys []string
	for _, k := range table.Keys {
		keys = append(keys, fmt.Sprint(k.Kind, " ", k.Name, " ", k.Columns))
	}
	assert.Equal(t, []string{"PRIMARY  [{id 0}]", "UNIQUE u [{a 20} {id 0}]", "KEY k`1 [{v 0}]", "KEY e [{ 0}]", "FULLTEXT f [{a 0}]"}, keys)
	assert.Equal(t, ForeignKey{Name: "c", Columns: []string{"a", "id"}, References: ObjectName{"p", "q"}}, table.Foreign[1])
	assert.Equal(t, "other", table.Foreign[0].References.Name)
	assert.Equal(t, Options{Engine: "InnoDB", Charset: "utf8mb3", Collation: "utf8mb3_bin", RowFormat: "COMPACT"}, table.Options)
	set, auto, wide := table.ForInsert([]string{"a", "id"})
	assert.Equal(t, []any{uint64(0), 1, false}, []any{set, auto, wide})
	for _, derived := range []string{"CREATE TABLE t LIKE u", "CREATE TABLE t (LIKE u)", "CREATE TABLE t AS SELECT 1", "CREATE TABLE t (a INT) SELECT 1"} {
		table, ok := ParseTable([]byte(derived), Dialect{})
		assert.True(t, ok && table.Derived, derived)
	}
	_, ok = ParseTable([]byte("CREATE VIEW v AS SELECT 1"), Dialect{})
	assert.False(t, ok)
}

func TestPlainStrings(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	parts := []string{"a", "honey ", "'", "''", `\'`, `\\`, `"`, "\t", "\n", "é", "蜂", "%", "(", ","}
	for range 20000 {
		inner := ""
		for range random.IntN(12) {
			inner += parts[random.IntN(len(parts))]
		}
		d := Dialect{NoBackslashEscapes: random.IntN(4) == 0}
		text := []byte("('" + inner + "', 1234567)")
		rows := NewRowScanner(text, 0, d)
		var row Row
		if !rows.Next(&row) {
			continue
		}
		v, escapes := row.Values[0], d.Escapes('\'')
		require.Equal(t, stringEnd(text, 1, escapes), v.End, "%s", text)
		found := string(text[v.Start+1 : v.End-1])
		plain := !strings.ContainsAny(found, "'\t\n") && !(escapes && strings.Contains(found, `\`))
		require.Equal(t, plain, v.Plain, "%s", text)
		require.Equal(t, plain && !strings.ContainsAny(found, "é蜂"), v.Plain && v.ASCII, "%s", text)
	}
}

func TestRowOfMoreValuesThanColumns(t *testing.T) {
	text := []byte("(" + strings.Repeat("1,", 200_000) + "NULL)")
	rows := NewRowScanner(text, 0, Dialect{})
	var row Row
	require.True(t, rows.Next(&row))
	assert.Len(t, row.Values, mostColumns+1)
	assert.True(t, row.ManyNulls)
	assert.False(t, rows.Next(&row))
	assert.True(t, rows.Literal())
}
