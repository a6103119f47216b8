package mysql

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	server "yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/load/mysql/judge"
	"yellowfield/internal/oracle"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/sqltext"
)

// columnTypes are types of columns to store literals in.
var columnTypes = strings.Split("TINYINT|TINYINT UNSIGNED|SMALLINT|MEDIUMINT|INT|INT(5) ZEROFILL|BIGINT|BIGINT UNSIGNED|DECIMAL(6,2)|DECIMAL(30,0)|DECIMAL(20,10) UNSIGNED|FLOAT|DOUBLE|"+
	"CHAR(8)|VARCHAR(12)|VARCHAR(12) CHARACTER SET latin1|VARCHAR(12) CHARACTER SET utf16|VARCHAR(12) CHARACTER SET ascii|VARCHAR(12) CHARACTER SET binary|TEXT|TINYTEXT|LONGTEXT CHARACTER SET utf8mb3|"+
	"BINARY(4)|VARBINARY(8)|TINYBLOB|BLOB|DATE|DATETIME|DATETIME(3)|TIMESTAMP NULL|TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP|TIME|YEAR|BIT(8)|ENUM('a','b','1','é')|SET('a','b','c')|JSON|"+
	"INT NOT NULL|VARCHAR(9) NOT NULL|POINT|INT CHECK (c > 4)|VARCHAR(4) UNIQUE|UUID|INET6", "|")

// literalsToStore are literals of every kind, good and bad for one type or another.
func literalsToStore() []string {
	plain := strings.Fields(`NULL TRUE FALSE 0 1 -1 7 -0 007 +5 99 127 128 255 256 -128 -129 2000 1901 2155 2156 0000 70 69 65535 65536 2147483647 2147483648 -2147483649 4294967295 9223372036854775807 9223372036854775808
		18446744073709551615 18446744073709551616 123456789012345678901234567890 0.1 -0.1 -0.0 0.0 .5 5. 1.115 1.005 2.5 -2.5 9999.99 9999.995 10000.00 1e3 2.5e0 1.5E-3 -1e400 1e38 3.4028235e38 1.7976931348623157e308
		0.1234567890123456789 20260521 20260521123000 260521 123000 8385959 8395959 0x41 0x4 0x 0xff 0x00 X'C3A9' x'' b'' b'1' b'01000001' N'a' _binary'a' _utf8mb4'é' _latin1'a' _binary'\0\xff' _binary"\n" _binary0x41 DEFAULT`)
	texts := []string{"", "a", "b", "1", "2", "0", "-0", "007", "1e3", ".5", "5.", "abc", " a", "a ", "é", "é蜂", "🐝", "a🐝", `it''s`, `it\'s`, `say "x"`, `a\\b`, `a\tb`, `a\nb`, `a\rb`, `\0`, `a\0b`, `a\Zb`, `\b`, `\N`, `\\N`, `100\%`, `a\_b`, `\x`,
		"a\tb", "a\nb", "a\r\nb", "NULL", "null", "2026-05-21", "2026-05-21 12:30:45", "2026-05-21 12:30:45.678", "2026-02-30", "0000-00-00", "0000-00-00 00:00:00", "2026-00-10", "12:30", "-838:59:59", "839:00:00", "1999", "99", "9223372036854775808", "3.999", "1.115",
		"{\"a\": 1}", "[1,2", "null", "a,b", "b,a", "a,d", "abcdefgh", "abcdefghi", "abcdefghijklmn", strings.Repeat("x", 300), "::1", "00000000-0000-0000-0000-000000000001"}
	for _, text := range texts {
		plain = append(plain, "'"+text+"'")
	}
	return append(plain, `"double ""quotes"" it's"`, "'\xff'", "_binary '\xff\xfe'", "_binary '\xc3'", "'a\xc3'")
}

// TestLoadedRowsAreThoseOfInserts tries every literal on every type of column: what goes by
// LOAD DATA without a warning has to be what an INSERT stores, without a warning.
func TestLoadedRowsAreThoseOfInserts(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "ours")
		i := h.target(t, "ours")
		s, err := i.Open(t.Context())
		require.NoError(t, err)
		defer s.Close()
		loaded := map[string]int{}
		for _, mode := range oracletest.Sample([]string{"NO_AUTO_VALUE_ON_ZERO", "STRICT_TRANS_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE"}, 2) {
			_, err := s.Exec(t.Context(), "SET sql_mode = '"+mode+"'")
			require.NoError(t, err)
			for _, kind := range columnTypes {
				_, err := s.Exec(t.Context(), "DROP TABLE IF EXISTS inserted, loaded")
				require.NoError(t, err)
				_, err = s.Exec(t.Context(), "CREATE TABLE inserted (c "+kind+")")
				if dbms.IsRefusal(err) {
					continue // not a type of this product
				}
				require.NoError(t, err)
				_, err = s.Exec(t.Context(), "CREATE TABLE loaded LIKE inserted")
				require.NoError(t, err)
				loaded[kind] += h.loadsAsInserted(t, s, i, mode, kind)
			}
		}
		for _, kind := range []string{"INT", "DECIMAL(6,2)", "DOUBLE", "VARCHAR(12)", "VARCHAR(12) CHARACTER SET latin1", "TEXT", "BLOB", "DATETIME", "JSON", "ENUM('a','b','1','é')", "YEAR"} {
			assert.Greater(t, loaded[kind], 5, "so many values went into %s by LOAD DATA", kind)
		}
		assert.Zero(t, loaded["BIT(8)"])
	}, "--local-infile=ON")
}

// loadsAsInserted tries all literals on the tables inserted and loaded, and counts those
// that LOAD DATA took.
func (h *testServer) loadsAsInserted(t *testing.T, s Session, i *Importer, mode, kind string) (loaded int) {
	shown, err := s.Query(t.Context(), "SHOW CREATE TABLE loaded")
	require.NoError(t, err)
	definition, ok := sqltext.ParseTable([]byte(shown[0][1]), i.subject().Dialect())
	require.True(t, ok)
	form := newLoadForm(&table{name: "loaded", definition: definition}, nil, func(name string) string {
		return map[string]string{"sql_mode": mode, "character_set_client": "utf8mb4", "character_set_connection": "utf8mb4"}[name]
	})
	if form == nil {
		return 0
	}
	for _, literal := range literalsToStore() {
		text := "INSERT INTO inserted VALUES (" + literal + ")"
		v := judge.Verdict{Statement: sqltext.Statement{Text: []byte(text), Dialect: i.subject().Dialect()}, Sent: []byte(text)}
		v.Insert, _ = sqltext.ParseInsert(v.Sent, v.Dialect)
		data, rows, ok := form.appendRows(nil, v, &sqltext.Row{})
		if !ok {
			continue
		}
		require.EqualValues(t, 1, rows)
		_, refused := s.Exec(t.Context(), text)
		require.True(t, refused == nil || dbms.IsRefusal(refused), "%v", refused)
		stored, warnings, err := s.Load(t.Context(), form.statement, bytes.NewReader(data))
		if warned := s.Warned(); dbms.IsRefusal(err) || warnings > 0 || stored != 1 {
			assert.True(t, refused != nil || warned, "%s, %s <- %s: it could have been loaded", mode, kind, literal)
		} else {
			require.NoError(t, err)
			loaded++
			assert.NoError(t, refused, "%s, %s <- %s", mode, kind, literal)
			var values []string
			for _, table := range []string{"inserted", "loaded"} {
				found, err := s.Query(t.Context(), "SELECT COALESCE(HEX(c), 'NULL'), COUNT(*) FROM "+table+" GROUP BY 1")
				require.NoError(t, err)
				values = append(values, fmt.Sprint(found))
			}
			assert.Equal(t, values[0], values[1], "%s, %s <- %s", mode, kind, literal)
		}
		for _, table := range []string{"inserted", "loaded"} {
			_, err := s.Exec(t.Context(), "DELETE FROM "+table)
			require.NoError(t, err)
		}
	}
	return loaded
}

const dumpHead = "SET unique_checks=0, foreign_key_checks=0, sql_mode='NO_AUTO_VALUE_ON_ZERO';"

// TestRunsThatAreLoaded holds what becomes of long runs against the stock client.
func TestRunsThatAreLoaded(t *testing.T) {
	const honey = "CREATE TABLE t (id INT NOT NULL AUTO_INCREMENT, a VARCHAR(80), b BLOB, n INT, PRIMARY KEY (id), UNIQUE KEY u (a), KEY kn (n)) AUTO_INCREMENT=4711;"
	rows := many(90, "INSERT INTO t VALUES (#, 'honey number # of the year', 'x\\0#', #), (1000#, NULL, _binary '\xff\xfe', NULL);")
	onEveryServer(t, func(t *testing.T, h *testServer) {
		for name, script := range map[string]struct {
			text   string
			loaded bool // at least in part
		}{
			"all of it":                       {lines(dumpHead, honey, rows), true},
			"with everything checked":         {lines("SET sql_mode='STRICT_ALL_TABLES';", honey, rows), true},
			"numbers go on behind":            {lines(dumpHead, honey, rows+"INSERT INTO t (a) VALUES ('next');", "INSERT INTO t (a) VALUES ('and next');"), true},
			"two runs for a table":            {lines(dumpHead, honey, "CREATE TABLE o (a INT);", rows+many(900, "INSERT INTO o VALUES (#);")+strings.ReplaceAll(rows, "(1", "(9")), true},
			"columns by name":                 {lines(dumpHead, honey, many(90, "INSERT INTO t (n, `a`, b, id) VALUES (#, 'wax #', x'00ff#0#0', #);")), true},
			"columns that are not all there":  {lines(dumpHead, honey, many(90, "INSERT INTO t (n, a, id) VALUES (#, 'wax number # of the year', #);")), false},
			"a double key at the end":         {lines(dumpHead, honey, rows+"INSERT INTO t VALUES (17, 'again', NULL, 0);"), true},
			"a double unique key":             {lines(dumpHead, honey, rows+"INSERT INTO t VALUES (17000, 'HONEY number 5 of the year', NULL, 0);"), true},
			"a double key in one statement":   {lines(dumpHead, honey, rows+"INSERT INTO t VALUES (17000, 'x', NULL, 0), (17000, 'y', NULL, 0);"), true},
			"a double key with checks":        {lines(honey, rows+"INSERT INTO t VALUES (17, 'again', NULL, 0);"), true},
			"a value that does not fit":       {lines("SET sql_mode='STRICT_ALL_TABLES';", honey, rows+"INSERT INTO t VALUES (17000, 'x', NULL, 99999999999);", "INSERT INTO t VALUES (17, 'again', NULL, 0);"), true},
			"a value that is cut":             {lines(dumpHead, honey, rows+"INSERT INTO t VALUES (17000, '"+strings.Repeat("x", 90)+"', NULL, 1);"), true},
			"a literal that is not loaded":    {lines(dumpHead, honey, rows+"INSERT INTO t VALUES (17000, 007, NULL, 1);"), true},
			"too few values":                  {lines(dumpHead, honey, rows+"INSERT INTO t VALUES (17000, 'x');"), true},
			"a child without its parent":      {lines("CREATE TABLE p (id INT PRIMARY KEY);", "INSERT INTO p VALUES (1), (2);", "CREATE TABLE c (id INT PRIMARY KEY, p INT, FOREIGN KEY (p) REFERENCES p (id));", many(200, "INSERT INTO c VALUES (#, 1);")+"INSERT INTO c VALUES (999, 3);"), true},
			"a constraint that is not met":    {lines("CREATE TABLE c (id INT PRIMARY KEY, p INT CHECK (p < 7));", many(200, "INSERT INTO c VALUES (#, 1);")+"INSERT INTO c VALUES (999, 8);"), true},
			"a generated column":              {lines(dumpHead, "CREATE TABLE c (id INT PRIMARY KEY, a INT, v INT AS (id + 1) STORED);", many(200, "INSERT INTO c (id, a) VALUES (#, 1);")), false},
			"a trigger":                       {lines("CREATE TABLE c (id INT PRIMARY KEY, a INT);", "CREATE TRIGGER g BEFORE INSERT ON c FOR EACH ROW SET NEW.a = 5;", many(200, "INSERT INTO c VALUES (#, 1);")), false},
			"a table of another engine":       {lines("CREATE TABLE c (id INT PRIMARY KEY, a INT) ENGINE=MyISAM;", many(200, "INSERT INTO c VALUES (#, 1);")), false},
			"a table in parts":                {lines("CREATE TABLE c (id INT PRIMARY KEY, a INT) PARTITION BY HASH (id) PARTITIONS 3;", many(200, "INSERT INTO c VALUES (#, 1);")), false},
			"text to be searched":             {lines(dumpHead, "CREATE TABLE c (id INT PRIMARY KEY, a TEXT, KEY k (id), FULLTEXT KEY (a));", many(200, "INSERT INTO c VALUES (#, 'some text');")), true},
			"without a key":                   {lines(dumpHead, "CREATE TABLE c (a INT, b TEXT);", many(200, "INSERT INTO c VALUES (#, 'a\\tb\\nc\\\\N'), (#, '\\N');")+"ALTER TABLE c ADD PRIMARY KEY (b(20), a), ADD KEY k (a);"), true},
			"a table that held rows":          {lines(dumpHead, honey, "INSERT INTO t (id, n) SELECT 5000, 1;", rows), true},
			"numbers that the server gives":   {lines(dumpHead, honey, many(90, "INSERT INTO t VALUES (NULL, 'honey number # of the year', '', 1);")), true},
			"text of another character set":   {"SET NAMES latin1;\n" + honey + "\n" + many(90, "INSERT INTO t VALUES (#, 'Gr\xfc\xdfe # of the year', '', 1);"), false},
			"a session that cannot say it":    {lines("SET NAMES utf8mb4;", "SET character_set_connection=latin1;", honey, many(90, "INSERT INTO t VALUES (#, '蜂 # of the year', '', 1);")), false},
			"characters of three bytes":       {lines("SET NAMES utf8;", honey, many(90, "INSERT INTO t VALUES (#, '蜂 # of the year', '', 1);")), true},
			"characters of four, three known": {lines("SET NAMES utf8;", honey, many(90, "INSERT INTO t VALUES (#, '蜂 # of the year', '', 1);")+"INSERT INTO t VALUES (999, '🐝', '', 1);"), true},
		} {
			h.Fresh(t, "stock", "ours")
			before := h.status(t, "Com_load")
			stock := h.Stock(t, "stock", []byte(script.text))
			_, err := loadtest.Import(t, script.text, h.target(t, "ours"), load.Options{Lanes: 2})
			assert.Equal(t, script.loaded, h.status(t, "Com_load") != before, "%s: LOAD DATA was tried", name)
			h.sameAs(t, name, stock, err)
		}
	}, "--local-infile=ON")
}

func (h *testServer) status(t *testing.T, name string) string {
	s, err := h.target(t, "ours").Open(t.Context())
	require.NoError(t, err)
	defer s.Close()
	found, err := s.Query(t.Context(), "SHOW GLOBAL STATUS LIKE '"+name+"'")
	require.NoError(t, err)
	return found[0][1]
}

// stumbling is a session whose transaction the server gives up for another one's sake, once
// for all sessions that share the count.
type stumbling struct {
	Session
	left *atomic.Int64 // statements with rows until then
}

func (s stumbling) stumble(ctx context.Context) error {
	if s.left.Add(-1) != 0 {
		return nil
	}
	if _, err := s.Exec(ctx, "ROLLBACK"); err != nil {
		return err
	}
	return &dbms.ServerError{Code: 1213, Message: "Deadlock found when trying to get lock; try restarting transaction"}
}

func (s stumbling) Exec(ctx context.Context, statement string) (int64, error) {
	if statement == "COMMIT" {
		if err := s.stumble(ctx); err != nil {
			return 0, err
		}
	}
	n, err := s.Session.Exec(ctx, statement)
	if err == nil && strings.HasPrefix(statement, "INSERT") {
		err = s.stumble(ctx)
	}
	return n, err
}

func (s stumbling) Load(ctx context.Context, into string, from io.Reader) (int64, int, error) {
	n, warnings, err := s.Session.Load(ctx, into, from)
	if err == nil {
		err = s.stumble(ctx)
	}
	return n, warnings, err
}

// TestADeadlockLosesNoRow has a transaction taken back at every statement with rows, and at
// every commit, in turn, under the settings by which MariaDB would fill tables in bulk.
func TestADeadlockLosesNoRow(t *testing.T) {
	script := lines(dumpHead, "CREATE TABLE t (id INT PRIMARY KEY, a VARCHAR(80), KEY (a));", many(200, "INSERT INTO t VALUES (#, 'honey number #');"),
		"CREATE TABLE u (id INT PRIMARY KEY, a VARCHAR(80), UNIQUE KEY (a));", many(20, "INSERT INTO u VALUES (#, 'wax number #');"),
		"CREATE TABLE w (id INT PRIMARY KEY, a INT);", many(9, "INSERT INTO w VALUES (#, 1);\nINSERT INTO u VALUES (10#, NULL);"))
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "stock")
		require.NoError(t, h.Stock(t, "stock", []byte(script)))
		want := h.Fingerprint(t, "stock")
		step := int64(1)
		if oracletest.Brief() {
			step = 3
		}
		for _, o := range []load.Options{{Lanes: 2}, {Lanes: 1}} {
			n := int64(0)
			for stumbled := true; stumbled; {
				n += step
				h.Fresh(t, "ours")
				i := h.target(t, "ours")
				open := i.Open
				var left atomic.Int64
				left.Store(n)
				i.Open = func(ctx context.Context) (Session, error) {
					s, err := open(ctx)
					return stumbling{s, &left}, err
				}
				_, err := loadtest.Import(t, script, i, o)
				require.NoError(t, err, "%+v: at statement %d", o, n)
				assert.Empty(t, oracle.Differences(want, h.Fingerprint(t, "ours")), "%+v: at statement %d", o, n)
				stumbled = left.Load() <= 0
			}
			assert.Greater(t, n, int64(5), "so many statements had rows")
		}
	}, "--local-infile=ON")
}

// gone is a session whose server goes away at the first statement with rows.
type gone struct{ Session }

func (g gone) Load(ctx context.Context, into string, from io.Reader) (int64, int, error) {
	_, _, err := g.Session.Load(ctx, into, from)
	return 0, 0, cmp.Or(err, dbms.Lost("shed", io.ErrUnexpectedEOF))
}

func TestALostConnectionSaysHowFarItWas(t *testing.T) {
	script := lines("CREATE TABLE t (id INT PRIMARY KEY);", many(200, "INSERT INTO t VALUES (#);"))
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "ours")
		i := h.target(t, "ours")
		open := i.Open
		i.Open = func(ctx context.Context) (Session, error) {
			s, err := open(ctx)
			return gone{s}, err
		}
		_, err := loadtest.Import(t, script, i, load.Options{Lanes: 2})
		assert.ErrorContains(t, err, "server shed ended the connection")
		assert.Regexp(t, `bytes, in \d+`, err.Error())
		assert.True(t, dbms.IsLost(err))
	}, "--local-infile=ON")
}

// TestTheServerGetsNoOtherFile has somebody between the program and the server ask for a
// file of this host in place of the rows.
func TestTheServerGetsNoOtherFile(t *testing.T) {
	onEveryServer(t, func(t *testing.T, h *testServer) {
		h.Fresh(t, "ours")
		socket := filepath.Join(t.TempDir(), "s")
		listener, err := net.Listen("unix", socket)
		require.NoError(t, err)
		defer listener.Close()
		var mutex sync.Mutex
		var sent bytes.Buffer
		go func() {
			for {
				ours, err := listener.Accept()
				if err != nil {
					return
				}
				theirs, err := net.Dial("unix", h.Socket)
				if err != nil {
					return
				}
				go pass(ours, theirs, func(text []byte) []byte {
					mutex.Lock()
					defer mutex.Unlock()
					sent.Write(text)
					return text
				})
				go pass(theirs, ours, func(text []byte) []byte {
					if at := bytes.Index(text, []byte("\xfbReader::")); at >= 0 {
						const file = "etc/passwd"
						name := text[at+1:]
						copy(name, strings.Repeat("/", len(name)-len(file))+file)
					}
					return text
				})
			}
		}()
		login := h.App(t, "ours").Login
		login.Address.Socket = socket
		app, err := server.Connect(t.Context(), login)
		require.NoError(t, err)
		defer app.Close()
		s, err := app.OpenSingle(t.Context())
		require.NoError(t, err)
		defer s.Close()
		_, err = s.Exec(t.Context(), "CREATE TABLE t (a VARCHAR(200))")
		require.NoError(t, err)
		_, _, err = s.Load(t.Context(), "INTO TABLE t", strings.NewReader("honey\n"))
		assert.ErrorContains(t, err, "not registered")
		mutex.Lock()
		defer mutex.Unlock()
		assert.Contains(t, sent.String(), "INTO TABLE t", "the one between sees it all")
		assert.NotContains(t, sent.String(), "root:")
		assert.NotContains(t, sent.String(), "honey")
	}, "--local-infile=ON")
}

// pass copies what comes from one connection to another, changed.
func pass(from, to net.Conn, change func([]byte) []byte) {
	defer from.Close()
	defer to.Close()
	buffer := make([]byte, 64<<10)
	for {
		n, err := from.Read(buffer)
		if err != nil {
			return
		}
		if _, err := to.Write(change(buffer[:n])); err != nil {
			return
		}
	}
}

func TestTextMeansTheSameToLoadData(t *testing.T) {
	decoded := strings.NewReplacer(`\0`, "\x00", `\b`, "\b", `\n`, "\n", `\r`, "\r", `\t`, "\t", `\Z`, "\x1a", `\\`, `\`)
	random := rand.New(rand.NewPCG(3, 4))
	for range 20000 {
		inner := ""
		for range random.IntN(10) {
			inner += []string{"honey", "''", `"`, "\t", "\n", "\r", "é", "N", `\N`, `\0`, `\b`, `\n`, `\r`, `\t`, `\Z`, `\\`, `\'`, `\"`, `\%`, `\_`, `\x`, "\\\n", "\\\t", `\é`}[random.IntN(24)]
		}
		literal := []byte("'" + inner + "'")
		text := string(appendText(nil, literal))
		require.NotContains(t, text, "\n", "%q", literal)
		require.NotContains(t, text, "\t", "%q", literal)
		require.NotEqual(t, `\N`, text)
		require.Equal(t, string(sqltext.Unquoted(literal)), decoded.Replace(text), "%q", literal)
	}
}
