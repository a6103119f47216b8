package applogin_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/applogin"
	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

func open(ctx context.Context, product dbms.Product, login dbms.Login) (dbms.Server, error) {
	if product == dbms.PostgreSQL {
		return postgres.Connect(ctx, login)
	}
	return mysql.Connect(ctx, login)
}

// The test binary is a login's process by its name, as the program is.
func TestMain(m *testing.M) {
	applogin.Serve(open)
	os.Exit(m.Run())
}

// serve is a server of the application's owner: it does what it likes.
func serve(t *testing.T, converse func(net.Conn)) (socket string) {
	folder, err := os.MkdirTemp("", "yf-") // short, and open to the user of the login
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o711))
	socket = filepath.Join(folder, ".s.PGSQL.5432")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(socket, 0o777))
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				converse(conn)
			}()
		}
	}()
	return socket
}

// packet is one of MySQL's protocol (MySQL, "Protocol Basics").
func packet(number byte, body []byte) []byte {
	return append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), number}, body...)
}

// hear reads one packet.
func hear(conn net.Conn) []byte {
	var head [4]byte
	if _, err := io.ReadFull(conn, head[:]); err != nil {
		return nil
	}
	body := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
	_, _ = io.ReadFull(conn, body)
	return body
}

var isFine = []byte{0, 0, 0, 2, 0, 0, 0}

// letIn is a MySQL server that lets everybody in.
func letIn(conn net.Conn) {
	const capabilities = 0x1 | 0x8 | 0x200 | 0x2000 | 0x8000 | 0x80000
	var greeting bytes.Buffer
	greeting.WriteString("\x0a8.4.0\x00\x01\x00\x00\x00abcdefgh\x00")
	_ = binary.Write(&greeting, binary.LittleEndian, uint16(capabilities&0xffff))
	greeting.Write([]byte{255, 2, 0})
	_ = binary.Write(&greeting, binary.LittleEndian, uint16(capabilities>>16))
	greeting.WriteByte(21)
	greeting.Write(make([]byte, 10))
	greeting.WriteString("ijklmnopqrst\x00mysql_native_password\x00")
	_, _ = conn.Write(packet(0, greeting.Bytes()))
	hear(conn)
	_, _ = conn.Write(packet(2, isFine))
}

// column describes one of a result.
func column(number byte) []byte {
	body := []byte("\x03def\x00\x00\x00\x01c\x00\x0c\x21\x00\xff\x00\x00\x00\xfd\x00\x00\x00\x00\x00")
	return packet(number, body)
}

// rows answers a query with rows of so many columns, without end where endless.
func rows(conn net.Conn, columns int, endless bool) {
	_, _ = conn.Write(packet(1, []byte{byte(columns)}))
	number := byte(2)
	for range columns {
		_, _ = conn.Write(column(number))
		number++
	}
	_, _ = conn.Write(packet(number, []byte{0xfe, 0, 0, 2, 0}))
	row := bytes.Repeat([]byte{1, 'x'}, columns)
	for number++; ; number++ {
		if _, err := conn.Write(packet(number, row)); err != nil || !endless {
			break
		}
	}
	_, _ = conn.Write(packet(number+1, []byte{0xfe, 0, 0, 2, 0}))
}

// afterLogin is a server that misbehaves when the first question comes.
func afterLogin(misbehave func(net.Conn)) func(net.Conn) {
	return func(conn net.Conn) {
		letIn(conn)
		for {
			asked := hear(conn)
			switch {
			case len(asked) == 0:
				return
			case asked[0] == 0x0e || bytes.Contains(asked, []byte("SET ")): // a ping, or what the driver sets
				_, _ = conn.Write(packet(1, isFine))
			default:
				misbehave(conn)
			}
		}
	}
}

// asPostgres is a PostgreSQL server that lets everybody in and then says what it likes.
func asPostgres(say func(net.Conn)) func(net.Conn) {
	return func(conn net.Conn) {
		_, _ = conn.Read(make([]byte, 64<<10))
		_, _ = conn.Write([]byte{'R', 0, 0, 0, 8, 0, 0, 0, 0})
		say(conn)
	}
}

func silent(conn net.Conn) { _, _ = io.Copy(io.Discard, conn) }

// TestServersThatMisbehave: whatever a server does that an application's file names, it
// ends the login and not the program, and the next login is made.
func TestServersThatMisbehave(t *testing.T) {
	room := &applogin.Room{Open: open}
	t.Cleanup(room.Close)
	refused := serve(t, func(conn net.Conn) { _, _ = conn.Write(packet(0, []byte("\xff\x15\x04#28000no, thank you"))) })
	notice := append([]byte{'N', 0, 0, 0, 23}, []byte("SWARNING\x00MWARNING\x00\x00")...)
	for name, of := range map[string]struct {
		product dbms.Product
		does    func(net.Conn)
	}{
		"says nothing":                      {dbms.MariaDB, silent},
		"says a byte at a time":             {dbms.MariaDB, func(conn net.Conn) { trickle(conn, "\x50\x00\x00\x00\x0a8.4.0") }},
		"says nothing behind the login":     {dbms.MariaDB, afterLogin(silent)},
		"sends rows without end":            {dbms.MariaDB, afterLogin(func(conn net.Conn) { rows(conn, 10, true) })},
		"sends fewer columns than asked":    {dbms.MariaDB, afterLogin(func(conn net.Conn) { rows(conn, 3, false) })},
		"sends a message of a GiB":          {dbms.MariaDB, afterLogin(flood)},
		"sends broken packets":              {dbms.MariaDB, afterLogin(func(conn net.Conn) { _, _ = conn.Write(packet(1, []byte{0xfb, 0xff, 0xff})) })},
		"PostgreSQL, says nothing":          {dbms.PostgreSQL, silent},
		"PostgreSQL, notices without end":   {dbms.PostgreSQL, asPostgres(func(conn net.Conn) { endless(conn, notice) })},
		"PostgreSQL, a message of a GiB":    {dbms.PostgreSQL, asPostgres(func(conn net.Conn) { _, _ = conn.Write([]byte{'E', 0x3f, 0, 0, 0}); endless(conn, make([]byte, 1<<20)) })},
		"PostgreSQL, a length below a head": {dbms.PostgreSQL, asPostgres(func(conn net.Conn) { _, _ = conn.Write([]byte{'Z', 0, 0, 0, 1, 'I'}) })},
		"PostgreSQL, silent behind a login": {dbms.PostgreSQL, asPostgres(func(conn net.Conn) { _, _ = conn.Write([]byte{'Z', 0, 0, 0, 5, 'I'}); silent(conn) })},
	} {
		t.Run(name, func(t *testing.T) {
			room.Deadline = 700 * time.Millisecond
			_, err := room.Try(t.Context(), applogin.Identity{}, request(of.product, serve(t, of.does)))
			require.Error(t, err)
			f := fault.As(err)
			assert.NotEmpty(t, f.Next)
			assert.Less(t, len(f.What), 4<<10)
			room.Deadline = time.Minute
			_, err = room.Try(t.Context(), applogin.Identity{}, request(dbms.MariaDB, refused))
			assert.Equal(t, dbms.WrongLogin, dbms.CauseOf(err), "the next login is made: %v", err)
		})
	}
}

func request(product dbms.Product, socket string) applogin.Request {
	login := dbms.Login{Server: "barn", Address: dbms.Address{Socket: socket}, User: "comb_app", Password: secret.NewPassword("p"), Database: "comb", AsApplication: true}
	return applogin.Request{Login: login, Product: product, Accounts: []string{"comb_app"}, Look: true, Tables: "utf8mb4"}
}

func trickle(conn net.Conn, text string) {
	for _, b := range []byte(text + strings.Repeat("x", 99)) {
		if _, err := conn.Write([]byte{b}); err != nil {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func endless(conn net.Conn, what []byte) {
	for {
		if _, err := conn.Write(what); err != nil {
			return
		}
	}
}

// flood sends packets of the longest kind, which belong together.
func flood(conn net.Conn) {
	body := make([]byte, 1<<24-1)
	for number := byte(1); number < 65; number++ {
		if _, err := conn.Write(packet(number, body)); err != nil {
			return
		}
	}
}

// TestLoginsEndWithTheRun: Ctrl-C ends a login at once.
func TestLoginsEndWithTheRun(t *testing.T) {
	room := &applogin.Room{Deadline: time.Hour, Open: open}
	t.Cleanup(room.Close)
	ctx, cancel := context.WithCancel(t.Context())
	socket := serve(t, func(conn net.Conn) { cancel(); silent(conn) })
	_, err := room.Try(ctx, applogin.Identity{}, request(dbms.MariaDB, socket))
	assert.Equal(t, fault.Interrupted, fault.As(err).Class)
}

// TestNoIdentityOfRoots: what a server is told of who logs in is the application's user, and
// that user can look into the process no more than into root's.
func TestNoIdentityOfRoots(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root has an identity to lose")
	}
	const uid, gid = 61234, 61235
	as := applogin.Identity{Switch: true, UID: uid, GID: gid, Groups: []int{gid, 61236}}
	seen := make(chan *syscall.Ucred, 2)
	owner := make(chan uint32, 2)
	socket := serve(t, func(conn net.Conn) {
		raw, err := conn.(*net.UnixConn).SyscallConn()
		assert.NoError(t, err)
		assert.NoError(t, raw.Control(func(fd uintptr) {
			cred, err := syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED)
			assert.NoError(t, err)
			seen <- cred
			info, err := os.Stat(filepath.Join("/proc", strconv.Itoa(int(cred.Pid)), "environ"))
			if assert.NoError(t, err) {
				owner <- info.Sys().(*syscall.Stat_t).Uid
			}
		}))
	})
	room := &applogin.Room{Deadline: 5 * time.Second, Open: open}
	t.Cleanup(room.Close)
	_, err := room.Try(t.Context(), as, request(dbms.MariaDB, socket))
	require.Error(t, err)
	cred := <-seen
	assert.Equal(t, uint32(uid), cred.Uid)
	assert.Equal(t, uint32(gid), cred.Gid)
	assert.Zero(t, <-owner, "the process is closed to its own user")

	conn, err := room.Dial(t.Context(), as, "unix", socket)
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	assert.Equal(t, uint32(uid), (<-seen).Uid, "a connection that is handed over keeps whose it was")
	<-owner

	// A socket that this user may not reach.
	require.NoError(t, os.Chmod(filepath.Dir(socket), 0o700))
	_, err = room.Try(t.Context(), as, request(dbms.MariaDB, socket))
	assert.True(t, applogin.IsOutOfReach(err), "%v", err)
	_, err = room.Dial(t.Context(), as, "unix", socket)
	assert.True(t, applogin.IsOutOfReach(err), "%v", err)

	// root's is taken by nobody.
	_, err = room.Try(t.Context(), applogin.Identity{Switch: true}, request(dbms.MariaDB, socket))
	require.Error(t, err)
	var spoken *dbms.ServerError
	assert.False(t, errors.As(err, &spoken))
	assert.Contains(t, err.Error(), "root logs in for nobody")
}

// A program that does not call Serve would start itself again and again.
func TestALoginsProcessStartsNoOther(t *testing.T) {
	program := os.Args[0]
	defer func() { os.Args[0] = program }()
	os.Args[0] = applogin.ProcessName
	var room applogin.Room
	defer room.Close()
	_, err := room.Dial(t.Context(), applogin.Identity{}, "unix", "/nowhere")
	require.ErrorContains(t, err, "starts no other")
}
