package mysql

import (
	"context"
	sqldriver "database/sql/driver"
	"encoding/hex"
	"errors"
	"net"
	"strings"
	"testing"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answer plays a server that answers a query with these packets, and gives the rows that come
// of it. Bytes stand as they are, and whatever needs it as \x...
func answer(t *testing.T, packets ...string) (rows []string, err error) {
	t.Helper()
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		_, _ = theirs.Read(make([]byte, 1<<10))
		for i, p := range packets {
			_, _ = theirs.Write(append([]byte{byte(len(p)), byte(len(p) >> 8), byte(len(p) >> 16), byte(i + 1)}, p...))
		}
	}()
	var text textRows
	own, err := text.query(t.Context(), &wire{Conn: ours}, "SELECT 1", func(values [][]byte) error {
		var row []string
		for _, v := range values {
			if v == nil {
				row = append(row, "NULL")
			} else {
				row = append(row, string(v))
			}
		}
		rows = append(rows, strings.Join(row, "|"))
		return nil
	})
	require.NoError(t, own)
	return rows, err
}

func TestRowsComeAsTheServerSendsThem(t *testing.T) {
	const oldEnd, newEnd = "\xfe\x00\x00\x02\x00", "\xfe\x00\x00\x02\x00\x00\x00"
	long := strings.Repeat("x", 70000)
	for _, end := range [][]string{{oldEnd, oldEnd}, {"", newEnd}} {
		packets := []string{"\x03", "column a", "column b", "column c"}
		if end[0] != "" {
			packets = append(packets, end[0])
		}
		packets = append(packets, "\x02-0\xfb\x00", "\x03a\x00b\xfd\x70\x11\x01"+long+"\x011", end[1])
		rows, err := answer(t, packets...)
		require.NoError(t, err)
		assert.Equal(t, []string{"-0|NULL|", "a\x00b|" + long + "|1"}, rows)
		rows, err = answer(t, "\x01", "column", end[1])
		if end[0] == "" {
			require.NoError(t, err)
			assert.Empty(t, rows)
		}
	}
	rows, err := answer(t, "\x01", "column", oldEnd, "\x01a", "\xff\x25\x04#HY000gone wrong")
	assert.Equal(t, []string{"a"}, rows)
	var said *driver.MySQLError
	require.ErrorAs(t, err, &said)
	assert.Equal(t, "1061 HY000 gone wrong", strings.Join([]string{"1061", string(said.SQLState[:]), said.Message}, " "))
	assert.EqualValues(t, 1061, said.Number)
	assert.NotErrorIs(t, err, sqldriver.ErrBadConn, "the session goes on")
}

// TestAnswersThatNoServerShouldGive end the session: what is left of them must not be taken
// for the next answer.
func TestAnswersThatNoServerShouldGive(t *testing.T) {
	for name, packets := range map[string][]string{
		"asks for a file":       {"\xfb/etc/passwd"},
		"no rows":               {"\x00\x00\x00\x02\x00\x00\x00"},
		"too many columns":      {"\xfd\xff\xff\xff"},
		"ends early":            {"\x01", "column"},
		"a value too long":      {"\x01", "column", "\x05ab"},
		"a length cut off":      {"\x01", "column", "\xfd\x01"},
		"a length beyond reach": {"\x02", "column", "column", "\x01a\xfe\xff\xff\xff\xff\xff\xff\xff\xff" + strings.Repeat("x", 9)},
		"more than its columns": {"\x01", "column", "\x01a\x01b"},
		"fewer":                 {"\x02", "column", "column", "\x01a"},
		"nothing":               {""},
		"half an error":         {"\xff\x25"},
	} {
		_, err := answer(t, packets...)
		assert.ErrorIs(t, err, sqldriver.ErrBadConn, name)
	}
}

func TestAQueryEndsWhenItIsInterrupted(t *testing.T) {
	ours, theirs := net.Pipe()
	defer ours.Close()
	defer theirs.Close()
	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		_, _ = theirs.Read(make([]byte, 1<<10))
		cancel()
	}()
	var text textRows
	_, err := text.query(ctx, &wire{Conn: ours}, "SELECT SLEEP(1000)", nil)
	assert.ErrorIs(t, err, context.Canceled)
	assert.ErrorIs(t, err, sqldriver.ErrBadConn)
}

// FuzzTextRows: whatever comes, it is rows, what the server said, or the end of the session.
func FuzzTextRows(f *testing.F) {
	for _, seed := range []string{"0100000101", "010000010100000002780500000302fefefefe0500000400000000"} {
		whole, _ := hex.DecodeString(seed)
		f.Add(whole)
	}
	f.Fuzz(func(t *testing.T, sent []byte) {
		ours, theirs := net.Pipe()
		defer ours.Close()
		go func() {
			defer theirs.Close()
			_, _ = theirs.Read(make([]byte, 1<<10))
			_, _ = theirs.Write(sent)
		}()
		var text textRows
		_, err := text.query(t.Context(), &wire{Conn: ours}, "SELECT 1", func([][]byte) error { return nil })
		var said *driver.MySQLError
		if err != nil && !errors.As(err, &said) {
			assert.ErrorIs(t, err, sqldriver.ErrBadConn)
		}
	})
}
