package main

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

const administratorsPassword = "the-queen-is-in-the-third-hive"

// impostor is a false server: it does all that a stranger in a server's place can
// do to be told the administrator's password.
type impostor struct {
	certificate tls.Certificate
	offersTLS   bool
	mutex       sync.Mutex
	heard       []byte // all that was said to it, decrypted where it could be
}

func (i *impostor) hear(said []byte) {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	i.heard = append(i.heard, said...)
}

// serve answers every connection and gives the port.
func (i *impostor) serve(t *testing.T, converse func(net.Conn)) int {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	answer(t, listener, func(conn net.Conn) {
		_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
		converse(conn)
	})
	return listener.Addr().(*net.TCPAddr).Port
}

// answer has each connection dealt with until the test is over.
func answer(t *testing.T, listener net.Listener, converse func(net.Conn)) {
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
}

// listen takes whatever comes next.
func (i *impostor) listen(conn net.Conn) []byte {
	said := make([]byte, 64<<10)
	n, _ := conn.Read(said)
	i.hear(said[:n])
	return said[:n]
}

// asPostgres asks for the password in plain (PostgreSQL, "Message Formats":
// SSLRequest, AuthenticationCleartextPassword).
func (i *impostor) asPostgres(conn net.Conn) {
	first := i.listen(conn)
	if len(first) == 8 && binary.BigEndian.Uint32(first[4:]) == 80877103 {
		if i.offersTLS {
			_, _ = conn.Write([]byte("S"))
			conn = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{i.certificate}})
		} else {
			_, _ = conn.Write([]byte("N"))
		}
		i.listen(conn)
	}
	_, _ = conn.Write([]byte{'R', 0, 0, 0, 8, 0, 0, 0, 3})
	i.listen(conn)
}

// asMySQL wants full authentication and sends an RSA key of its own (MySQL,
// "Caching_sha2_password information").
func (i *impostor) asMySQL(conn net.Conn) {
	const (
		capabilities = 0x1 | 0x8 | 0x200 | 0x2000 | 0x8000 | 0x80000
		offersTLS    = 0x800
		nonce        = "abcdefghijklmnopqrst"
	)
	flags := uint32(capabilities)
	if i.offersTLS {
		flags |= offersTLS
	}
	var greeting bytes.Buffer
	greeting.WriteByte(10)
	greeting.WriteString("8.4.0\x00\x01\x00\x00\x00" + nonce[:8] + "\x00")
	_ = binary.Write(&greeting, binary.LittleEndian, uint16(flags))
	greeting.Write([]byte{255, 2, 0})
	_ = binary.Write(&greeting, binary.LittleEndian, uint16(flags>>16))
	greeting.WriteByte(21)
	greeting.Write(make([]byte, 10))
	greeting.WriteString(nonce[8:] + "\x00caching_sha2_password\x00")
	listen := func() []byte { // to one packet, and not into what comes after it
		header := make([]byte, 4)
		if _, err := io.ReadFull(conn, header); err != nil {
			return nil
		}
		said := make([]byte, int(header[0])|int(header[1])<<8|int(header[2])<<16)
		_, _ = io.ReadFull(conn, said)
		i.hear(said)
		return append(header, said...)
	}
	say := func(number byte, body []byte) {
		_, _ = conn.Write(append([]byte{byte(len(body)), byte(len(body) >> 8), 0, number}, body...))
	}
	say(0, greeting.Bytes())
	first := listen()
	if len(first) == 36 { // a request for TLS is a login without a name
		conn = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{i.certificate}})
		first = listen()
	}
	if len(first) < 4 {
		return
	}
	say(first[3]+1, []byte{1, 4})
	asked := listen()
	if len(asked) != 5 || asked[4] != 2 { // not for the key: then it was the password
		return
	}
	key, _ := rsa.GenerateKey(rand.Reader, 2048)
	public, _ := x509.MarshalPKIXPublicKey(&key.PublicKey)
	say(asked[3]+1, append([]byte{1}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...))
	sealed := listen()
	if len(sealed) < 4 {
		return
	}
	if opened, err := rsa.DecryptOAEP(sha1.New(), nil, key, sealed[4:], nil); err == nil {
		for at := range opened {
			opened[at] ^= (nonce + "\x00")[at%20]
		}
		i.hear(opened)
	}
}

// TestNoPasswordForAStranger lets a false server stand at an address of a network,
// and looks what it is told in each mode. 0.0.0.0 leads to this host, but is not its
// loopback.
func TestNoPasswordForAStranger(t *testing.T) {
	t.Parallel()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"localhost"}, NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(raw)
	require.NoError(t, err)

	for _, product := range []dbms.Product{dbms.PostgreSQL, dbms.MySQL} {
		for _, try := range []struct {
			way       string
			offersTLS bool
			toldIn    []dbms.Product // who gives the password away, as docs/security.md says
			says      string
		}{
			{"", true, nil, "certificate: " + dbms.Fingerprint(leaf)},
			{"", false, nil, "offers no TLS, and no password was sent"},
			{", tls: verify", true, nil, "does not prove who it is, and no password was sent"},
			{", certificate: 'sha256:" + strings.Repeat("00:", 31) + "00'", true, nil, "it is not the certificate that the estate file names"},
			{", certificate: '" + dbms.Fingerprint(leaf) + "'", true, []dbms.Product{dbms.PostgreSQL, dbms.MySQL}, ""}, // this one is meant
			{", tls: require", true, []dbms.Product{dbms.MySQL}, ""},
			{", tls: require", false, nil, "offers no TLS"},
			{", tls: prefer", true, []dbms.Product{dbms.MySQL}, ""},
			{", tls: prefer", false, []dbms.Product{dbms.MySQL}, ""},
			{", tls: none", false, []dbms.Product{dbms.MySQL}, ""},
		} {
			t.Run(fmt.Sprintf("%s%s, offers TLS %v", product, try.way, try.offersTLS), func(t *testing.T) {
				t.Parallel()
				i := &impostor{offersTLS: try.offersTLS, certificate: tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}}
				converse := i.asMySQL
				if product == dbms.PostgreSQL {
					converse = i.asPostgres
				}
				folder := t.TempDir()
				require.NoError(t, os.WriteFile(filepath.Join(folder, "password"), []byte(administratorsPassword), 0o600))
				estate := fmt.Sprintf("servers: {barn: {dbms: %s, host: 0.0.0.0, port: %d%s, admin: {user: keeper, password: {file: password}}}}\n"+
					"apps: {alpha: {server: barn, database: {name: alpha}, accounts: [{name: alpha_app}]}}\n", product, i.serve(t, converse), try.way)
				require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), []byte(estate), 0o600))
				out, err := program(t.Context(), t, folder, "verify").CombinedOutput()
				require.Error(t, err)
				assert.Contains(t, string(out), try.says)
				i.mutex.Lock()
				defer i.mutex.Unlock()
				told := bytes.Contains(i.heard, []byte(administratorsPassword))
				assert.Equal(t, slices.Contains(try.toldIn, product), told, "the password was told\n%s", out)
			})
		}
	}
}

// TestOneSettingsFileStopsNoOther has the settings of one application lead to servers of
// its own: the others' logins are made, nothing waits for long, and no password is told.
func TestOneSettingsFileStopsNoOther(t *testing.T) {
	t.Parallel()
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.PostgreSQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			if product == dbms.PostgreSQL && throwaway.PostgresPrograms("") == "" {
				t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
			}
			server, err := throwaway.Start(t.Context(), throwaway.Options{Product: product})
			require.NoError(t, err)
			t.Cleanup(server.Stop)
			folder := t.TempDir()
			seen := "seen_by_apps: {socket: " + server.Socket + "}, "
			if product == dbms.PostgreSQL {
				seen = ""
			}
			estate := "servers: {barn: {dbms: " + string(product) + ", socket: " + server.Socket + ", " + seen + "admin: {user: " + server.Admin + "}}}\napps:\n"
			for _, name := range []string{"alpha", "beta"} {
				estate += fmt.Sprintf("  %[1]s: {server: barn, folder: %[1]s, database: {name: %[1]s}, accounts: [{name: %[1]s_app}], settings: [{file: db.ini, template: db.dist, values: {host: '{host}', port: '{port}', user: '{user}', password: '{password}', base: '{database}'}}]}\n", name)
				require.NoError(t, os.Mkdir(filepath.Join(folder, name), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(folder, name, "db.dist"), []byte("host = h\nport = 1\nuser = u\npassword = p\nbase = b\n"), 0o644))
			}
			require.NoError(t, os.WriteFile(filepath.Join(folder, "yellowfield.yaml"), []byte(estate), 0o600))
			out, err := program(t.Context(), t, folder, "provision").CombinedOutput()
			require.NoError(t, err, string(out))
			settings := filepath.Join(folder, "alpha", "db.ini")
			written, err := os.ReadFile(settings)
			require.NoError(t, err)
			i := &impostor{}
			asks := i.asMySQL
			if product == dbms.PostgreSQL {
				asks = i.asPostgres
			}
			for name, converse := range map[string]func(net.Conn){
				"mute":      func(conn net.Conn) { i.listen(conn); _, _ = io.Copy(io.Discard, conn) },
				"malformed": func(conn net.Conn) { _, _ = conn.Write(bytes.Repeat([]byte{0xff, 0xff, 0xff, 0}, 1<<20)) },
				"asking":    asks,
			} {
				leads := regexp.MustCompile(`(?m)^(host|port) .*\n`).ReplaceAll(written, nil)
				leads = append(leads, fmt.Sprintf("host = 127.0.0.1\nport = %d\n", i.serve(t, converse))...)
				require.NoError(t, os.WriteFile(settings, leads, 0o644))
				out, err := program(t.Context(), t, folder, "verify", "--details", "--login-timeout", "5s").CombinedOutput()
				assert.Error(t, err)
				assert.Contains(t, string(out), "as beta_app through the socket", "%s\n%s", name, out)
				assert.NotRegexp(t, `verified +login +as alpha_app`, string(out), name)
				assert.NotContains(t, string(out), "panic")
				assert.Regexp(t, `(differs|failed) +login`, string(out), name)
			}
			i.mutex.Lock()
			defer i.mutex.Unlock()
			password := regexp.MustCompile(`(?m)^password = (.+)$`).FindSubmatch(written)
			require.NotNil(t, password)
			assert.NotContains(t, string(i.heard), string(bytes.Trim(password[1], `"`)), "no password in clear, and none that the false server can open")
		})
	}
}
