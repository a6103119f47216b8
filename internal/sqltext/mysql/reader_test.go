package mysql

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/window"
)

func readAll(r *Reader) (statements []string, err error) {
	for {
		s, err := r.Next()
		if errors.Is(err, io.EOF) {
			return statements, nil
		}
		if err != nil {
			return statements, err
		}
		statements = append(statements, string(s.Text))
	}
}

func TestReaderSplitsWhereTheStockClientDoes(t *testing.T) {
	for name, row := range map[string]struct {
		script string
		want   []string
	}{
		"last statement without delimiter": {"SELECT 1; SELECT 2", []string{"SELECT 1", "SELECT 2"}},
		"empty statements are passed over": {";;SELECT 1;;\n;", []string{"SELECT 1"}},
		"quotes hold delimiters":           {`SELECT ';', ";", ` + "`;`;SELECT 2", []string{`SELECT ';', ";", ` + "`;`", "SELECT 2"}},
		"doubled quotes":                   {`SELECT 'a'';b';SELECT 2`, []string{`SELECT 'a'';b'`, "SELECT 2"}},
		"backslash in a string":            {`SELECT 'a\';b', 'c\\';SELECT 2`, []string{`SELECT 'a\';b', 'c\\'`, "SELECT 2"}},
		"no backslash in a name":           {"SELECT `a\\`;SELECT 2", []string{"SELECT `a\\`", "SELECT 2"}},
		"comments between":                 {"-- one;\n# two;\n/* three; */ SELECT 1;--\nSELECT 2", []string{"SELECT 1", "SELECT 2"}},
		"comments inside":                  {"SELECT 1 -- ; '\n+ 2 # ; \"\n+ /* ; ' */ 3;", []string{"SELECT 1 -- ; '\n+ 2 # ; \"\n+ /* ; ' */ 3"}},
		"two hyphens need a blank":         {"SELECT 1--1;SELECT 2", []string{"SELECT 1--1", "SELECT 2"}},
		"conditional comments stay":        {"/*!40101 SET NAMES utf8mb4 */;/*M!100203 SET x=1 */;", []string{"/*!40101 SET NAMES utf8mb4 */", "/*M!100203 SET x=1 */"}},
		"comment in a conditional comment": {"/*!50003 CREATE /* a; ' */ TABLE t (i INT) */;SELECT 2", []string{"/*!50003 CREATE /* a; ' */ TABLE t (i INT) */", "SELECT 2"}},
		"sandbox line of newer dumps":      {"/*M!999999\\- enable the sandbox mode */ \nSELECT 1;", []string{"SELECT 1"}},
		"delimiter":                        {"delimiter ;;\nBEGIN a; b; END;;\nDELIMITER ; \nSELECT 1;", []string{"BEGIN a; b; END", "SELECT 1"}},
		"statements before another delimiter": {"DELIMITER $$\nDROP TRIGGER IF EXISTS x; CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW BEGIN IF a THEN SET b = CASE c WHEN 1 THEN 2 END; END IF; END; -- and\nINSERT INTO t VALUES (';'); $$",
			[]string{"DROP TRIGGER IF EXISTS x", "CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW BEGIN IF a THEN SET b = CASE c WHEN 1 THEN 2 END; END IF; END", "INSERT INTO t VALUES (';')"}},
		"programs of one statement": {"DELIMITER //\nCREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET NEW.end = 1; CREATE PROCEDURE IF NOT EXISTS p() CASE a WHEN 1 THEN BEGIN END; SET b = 1; END CASE; SELECT 1;//BEGIN; SELECT 2; COMMIT//",
			[]string{"CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET NEW.end = 1", "CREATE PROCEDURE IF NOT EXISTS p() CASE a WHEN 1 THEN BEGIN END; SET b = 1; END CASE; SELECT 1;", "BEGIN", "SELECT 2", "COMMIT"}},
		"what may be a program stays whole": {"DELIMITER ;;\nx: BEGIN a; END x; SELECT 1;;/*!50003 CREATE*/ /*!50003 TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET @a = 1; SELECT 2 */;;IF a THEN SELECT 3; END IF;;",
			[]string{"x: BEGIN a; END x; SELECT 1", "/*!50003 CREATE*/ /*!50003 TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET @a = 1; SELECT 2 */", "IF a THEN SELECT 3; END IF"}},
		"delimiter of letters":             {"DELIMITER go\nSELECT 'go' go SELECT 2 go", []string{"SELECT 'go'", "SELECT 2"}},
		"windows line ends, byte order":    {"\ufeffSELECT 1;\r\nDELIMITER $$\r\nSELECT 2$$\r\n", []string{"SELECT 1", "SELECT 2"}},
		"nul bytes and control characters": {"SELECT 'a\x00\x1a;b';SELECT 2", []string{"SELECT 'a\x00\x1a;b'", "SELECT 2"}},
		"nothing at all":                   {" \n-- nothing", nil},
		"the client's other delimiters":    {"SELECT 1\\g SELECT 2\\G\nSELECT \\N;", []string{"SELECT 1", "SELECT 2", "SELECT \\N"}},
		"backslashes as ordinary ones":     {`SET sql_mode='NO_BACKSLASH_ESCAPES';SELECT 'a\';SELECT "b\";`, []string{`SET sql_mode='NO_BACKSLASH_ESCAPES'`, `SELECT 'a\'`, `SELECT "b\"`}},
		"double quotes around names":       {`SET sql_mode = 'ANSI_QUOTES';SELECT "a\";SELECT 'b\';';`, []string{`SET sql_mode = 'ANSI_QUOTES'`, `SELECT "a\"`, `SELECT 'b\';'`}},
		"a mode kept in a variable":        {`SET @old=@@sql_mode, sql_mode='ANSI';/*!40101 SET SQL_MODE=@old */;SELECT "a\";b";`, []string{`SET @old=@@sql_mode, sql_mode='ANSI'`, `/*!40101 SET SQL_MODE=@old */`, `SELECT "a\";b"`}},
		"a mode added and taken away":      {`SET sql_mode=CONCAT(@@sql_mode,',ANSI_QUOTES');SELECT "\";SET sql_mode=REPLACE(@@sql_mode,'ANSI_QUOTES','');SELECT "\";";`, []string{`SET sql_mode=CONCAT(@@sql_mode,',ANSI_QUOTES')`, `SELECT "\"`, `SET sql_mode=REPLACE(@@sql_mode,'ANSI_QUOTES','')`, `SELECT "\";"`}},
		"someone else's mode":              {`SET GLOBAL sql_mode='ANSI_QUOTES';SELECT "a\";";`, []string{`SET GLOBAL sql_mode='ANSI_QUOTES'`, `SELECT "a\";"`}},
	} {
		for reading, src := range map[string]io.Reader{
			"whole":        strings.NewReader(row.script),
			"byte by byte": iotest.OneByteReader(strings.NewReader(row.script)),
		} {
			got, err := readAll(NewReader("t.sql", src, sqltext.Dialect{}, ""))
			require.NoError(t, err, name)
			assert.Equal(t, row.want, got, "%s, %s", name, reading)
		}
	}
}

func TestReaderGivesPlaces(t *testing.T) {
	r := NewReader("t.sql", strings.NewReader("-- x\n  SELECT 'é';  SELECT\n2;\nDELIMITER //\n\tSELECT 3//"), sqltext.Dialect{}, "")
	var places []string
	for {
		s, err := r.Next()
		if err != nil {
			break
		}
		places = append(places, fmt.Sprintf("%d:%d@%d+%d", s.Line, s.Column, s.Offset, s.Size))
	}
	assert.Equal(t, []string{"2:3@7+11", "2:16@21+8", "5:2@45+8"}, places)
}

func TestReaderNamesWhereAnOpenPieceBegins(t *testing.T) {
	for script, want := range map[string]string{
		"SELECT 1;\n  SELECT 'abc;\n":   "t.sql:2:10: the script ends inside a string literal",
		"SELECT `abc;":                  "t.sql:1:8: the script ends inside a quoted name",
		"SELECT 1; /* never":            "t.sql:1:11: the script ends inside a comment",
		"SELECT 1 /* never":             "t.sql:1:10: the script ends inside a comment",
		"/*!50003 CREATE TRIGGER x":     "t.sql:1:1: the script ends inside a conditional comment",
		"SELECT 'x\\":                   "t.sql:1:8: the script ends inside a string literal",
		"SELECT 1;\nsource other.sql\n": `t.sql:2:1: "source" is a command of the stock client`,
		"SELECT 1;\n\\! rm -rf /\n":     `t.sql:2:1: "\\!" is a command of the stock client`,
		"SELECT 1 \\! rm -rf /;\n":      `t.sql:1:10: "\\!" is a command of the stock client`,
		"tee /tmp/x;":                   `"tee" is a command of the stock client`,
		"Pager less\nSELECT 1;":         `"pager" is a command of the stock client`,
		"DELIMITER \nSELECT 1":          "t.sql:1:1: DELIMITER needs a word",
	} {
		_, err := readAll(NewReader("t.sql", strings.NewReader(script), sqltext.Dialect{}, ""))
		assert.ErrorContains(t, err, want)
		assert.Equal(t, fault.Invalid, fault.As(err).Class)
	}
	_, err := readAll(NewReader("t.sql", iotest.ErrReader(errors.New("disk on fire")), sqltext.Dialect{}, ""))
	assert.ErrorContains(t, err, "disk on fire")
}

func TestReaderReplacesPrefixTokensOutsideLiteralsAndComments(t *testing.T) {
	script := "INSERT INTO `@p_x@p_` VALUES ('@p_ stays', \"@p_ too\"); -- @p_\nDROP TABLE @p_x, /* @p_ */ @p_y;"
	want := []string{
		"INSERT INTO `cl_xcl_` VALUES ('@p_ stays', \"@p_ too\")", "DROP TABLE cl_x, /* @p_ */ cl_y",
	}
	for _, src := range []io.Reader{strings.NewReader(script), iotest.OneByteReader(strings.NewReader(script))} {
		r := NewReader("t.sql", src, sqltext.Dialect{}, "")
		r.ReplacePrefix("@p_", "cl_")
		got, err := readAll(r)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	r := NewReader("t.sql", strings.NewReader("SELECT * FROM #__hives # a comment\n;"), sqltext.Dialect{}, "")
	r.ReplacePrefix("#__", "cl_")
	got, err := readAll(r)
	require.NoError(t, err)
	assert.Equal(t, []string{"SELECT * FROM cl_hives # a comment"}, got, "a token that looks like a comment is none")
}

func TestReaderKeepsMemoryConstant(t *testing.T) {
	line := "INSERT INTO t VALUES (1,'" + strings.Repeat("x", 400) + "');\n"
	const megabytes = 64
	src := io.LimitReader(repeat(line), megabytes<<20)
	r := NewReader("big.sql", src, sqltext.Dialect{}, "")
	largest := 0
	for {
		if _, err := r.Next(); err != nil {
			break
		}
		largest = max(largest, cap(r.Buf))
	}
	assert.Less(t, largest, 4*window.ReadAhead)
	assert.EqualValues(t, megabytes<<20, r.BytesRead())
}

type repeated struct {
	line string
	at   int
}

func repeat(line string) io.Reader { return &repeated{line: line} }

func (r *repeated) Read(p []byte) (int, error) {
	n := copy(p, r.line[r.at:])
	r.at = (r.at + n) % len(r.line)
	return n, nil
}

func TestWhatASetMeansForTheStatementsBehind(t *testing.T) {
	for statement, want := range map[string]string{ // the dialect behind, or why it is not known
		"SET sql_mode = 'ANSI_QUOTES,STRICT_ALL_TABLES'":                          "ansi",
		"SET SESSION sql_mode = ANSI_QUOTES":                                      "ansi",
		"SET @@session.sql_mode = (SELECT CONCAT(@@sql_mode, ',ANSI_QUOTES'))":    "ansi",
		"SET sql_mode = REPLACE('ANSI_QUOTES', 'ANSI_QUOTES', '')":                "",
		"SET @a = 'ANSI_QUOTES', sql_mode = @a":                                   "ansi",
		"SET sql_mode = 'NO_BACKSLASH_ESCAPES'":                                   "plain",
		"SET @m = @@sql_mode, sql_mode = @m":                                      "",
		"SET sql_mode = DEFAULT":                                                  "",
		"SET NAMES latin1":                                                        "latin1",
		"SET NAMES 'utf8mb4' COLLATE 'utf8mb4_bin'":                               "",
		"SET @old = @@CHARACTER_SET_CLIENT, CHARACTER_SET_CLIENT = @old":          "",
		"SET sql_mode = 4":                                                        untracedMode,
		"SET sql_mode = 0x414e53495f51554f544553":                                 untracedMode,
		"SET sql_mode = '4'":                                                      untracedMode,
		"SET sql_mode = 'ANSI' '_QUOTES'":                                         untracedMode,
		"SET sql_mode = 'ANSI\\_QUOTES'":                                          untracedMode,
		"SET sql_mode = @elsewhere":                                               untracedMode,
		"SET sql_mode = (SELECT m FROM modes)":                                    untracedMode,
		"SET @x = 1, @@sql_mode := LOWER('ANSI_QUOTES')":                          untracedMode,
		"SET NAMES gbk":                                                           unreadable("gbk"),
		"SET CHARACTER SET sjis":                                                  unreadable("sjis"),
		"SET character_set_client = @cs":                                          untracedCharset,
		"SET @cs = 'big5', character_set_client = @cs":                            unreadable("big5"),
		"SET GLOBAL sql_mode = 4":                                                 "",
		"/*!40101 SET SQL_MODE=" + strings.Repeat(" ", 5000) + "'ANSI_QUOTES' */": "ansi",
	} {
		r := NewReader("t.sql", strings.NewReader(statement+";SELECT 1"), sqltext.Dialect{}, "")
		s, err := r.Next()
		require.NoError(t, err)
		got := s.Untraced
		switch behind := r.Behind(); {
		case got != "":
		case behind.ANSIQuotes:
			got = "ansi"
		case behind.NoBackslashEscapes:
			got = "plain"
		default:
			got = behind.Charset
		}
		assert.Equal(t, want, got, statement)
	}
}

// FuzzReader holds the reader against itself at two read sizes, and checks
// that statements are pieces of the input in their order with nothing but
// white space, comments, delimiters and client lines between them.
func FuzzReader(f *testing.F) {
	for _, seed := range []string{"SELECT 1;", "a'b;c'd;", "/*! x; */;", "DELIMITER $$\na;b$$", "-- x\n;#y\n;", "`a``;`;\"\\\";", "\ufeffx;",
		// What a statement saves it saves also when the script is read again from it.
		`SET @m = @@sql_mode, sql_mode = 'ANSI_QUOTES'; SET sql_mode = @m; SELECT "a\";b";`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, script []byte) {
		whole, wholeErr := readAll(NewReader("f.sql", bytes.NewReader(script), sqltext.Dialect{}, ""))
		single, singleErr := readAll(NewReader("f.sql", iotest.OneByteReader(bytes.NewReader(script)), sqltext.Dialect{}, ""))
		require.Equal(t, whole, single)
		require.Equal(t, fmt.Sprint(wholeErr), fmt.Sprint(singleErr))

		r := NewReader("f.sql", bytes.NewReader(script), sqltext.Dialect{}, "")
		end := int64(0)
		var marks []sqltext.Mark
		for {
			delimiter := string(r.said.delimiter)
			s, err := r.Next()
			if err != nil {
				break
			}
			require.GreaterOrEqual(t, s.Offset, end)
			requireGap(t, script[end:s.Offset], delimiter)
			marks = append(marks, s.Mark())
			end = s.Offset + int64(s.Size)
			require.Equal(t, string(script[s.Offset:end]), string(s.Text))
			scanner := sqltext.NewScanner(s.Text, s.Dialect)
			for _, ok := scanner.Next(); ok; _, ok = scanner.Next() {
			}
			sqltext.ParseHead(s.Text, s.Dialect).WithoutDefiner(s.Text)
			sqltext.Doubt(s.Text, s.Dialect)
			sqltext.ParseTable(s.Text, s.Dialect)
			sqltext.ParseSet(s.Text, s.Dialect)
			if insert, ok := sqltext.ParseInsert(s.Text, s.Dialect); ok {
				rows := sqltext.NewRowScanner(s.Text, insert.Body, s.Dialect)
				for row := (sqltext.Row{}); rows.Next(&row); {
					require.Equal(t, byte('('), s.Text[row.Start])
					require.Equal(t, byte(')'), s.Text[row.End-1])
				}
			}
		}
		// Read on from any mark, the rest is the same.
		const most = 8 // each costs a reading of the rest
		for i, m := range marks[:min(most, len(marks))] {
			r.Resume(bytes.NewReader(script[m.Offset:]), m)
			rest, _ := readAll(r)
			require.Equal(t, whole[i:], rest)
		}
	})
}

// requireGap: what stands between two statements holds no statement.
func requireGap(t *testing.T, gap []byte, delimiter string) {
	t.Helper()
	for {
		trimmed := bytes.TrimLeft(gap, " \n\r\t\v\f")
		switch {
		case bytes.HasPrefix(trimmed, []byte(delimiter)):
			gap = trimmed[len(delimiter):]
			continue
		case len(trimmed) > 1 && trimmed[0] == '\\' && trimmed[1]|0x20 == 'g':
			gap = trimmed[2:]
			continue
		}
		break
	}
	r := NewReader("gap", bytes.NewReader(gap), sqltext.Dialect{}, "")
	r.follow(&state{delimiter: []byte(delimiter)})
	statements, _ := readAll(r)
	require.Empty(t, statements, "%q", gap)
}

func BenchmarkReader(b *testing.B) {
	row := "(1234,'Honey from the slope behind the old mill',0.75,NULL,'2026-05-01 10:00:00'),"
	script := []byte(strings.Repeat("INSERT INTO `cl_seasons` VALUES "+strings.Repeat(row, 2000)+"(1);\n", 50))
	b.SetBytes(int64(len(script)))
	for b.Loop() {
		r := NewReader("b.sql", bytes.NewReader(script), sqltext.Dialect{}, "")
		for {
			if _, err := r.Next(); err != nil {
				break
			}
		}
	}
}
