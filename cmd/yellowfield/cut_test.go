package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
)

// cutter is a proxy in front of a server's socket that ends one connection in the middle.
type cutter struct {
	at   atomic.Int64 // after so many pieces from the server; 0 for never
	seen atomic.Int64
}

func (c *cutter) listen(t *testing.T, path, to string) {
	listener, err := net.Listen("unix", path)
	require.NoError(t, err)
	answer(t, listener, func(client net.Conn) {
		server, err := net.Dial("unix", to)
		if err != nil {
			return
		}
		defer server.Close()
		go func() {
			_, _ = io.Copy(server, client)
			_ = server.Close()
		}()
		buffer := make([]byte, 16<<10)
		for {
			n, err := server.Read(buffer)
			if c.seen.Add(1) == c.at.Load() {
				return
			}
			if _, w := client.Write(buffer[:n]); err != nil || w != nil {
				return
			}
		}
	})
}

// TestConnectionsAreCut has a connection end at many places of an export and of a retirement
// that drops the database: the export leaves no file, and the next run finishes the other.
func TestConnectionsAreCut(t *testing.T) {
	apart := int64(61)
	if oracletest.Thorough() {
		apart = 3
	}
	for _, product := range oracletest.Sample([]dbms.Product{dbms.MariaDB, dbms.PostgreSQL, dbms.MySQL}, 3) {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			m := &mover{from: serverOf(t, product), to: serverOf(t, product)}
			m.killed = killed{victim: victim{t: t, login: m.from.Login(), postgres: product == dbms.PostgreSQL}, product: product}
			through := &cutter{}
			folder, err := os.MkdirTemp("/tmp", "yf-cut-") // a socket's path is short
			require.NoError(t, err)
			t.Cleanup(func() { _ = os.RemoveAll(folder) })
			socket := filepath.Join(folder, ".s.PGSQL.5432") // the name is PostgreSQL's
			seen := "socket: " + m.from.Socket
			if m.postgres {
				seen = "host: " + filepath.Dir(m.from.Socket)
			}
			through.listen(t, socket, m.from.Socket)
			for _, command := range []string{"export combs combs.sql", "retire combs --drop-database --confirm combs"} {
				fails := 0
				for at := int64(5); ; at += apart {
					m.prepare(t)
					file := filepath.Join(m.folder, "yellowfield.yaml")
					text, err := os.ReadFile(file)
					require.NoError(t, err)
					require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "socket: "+m.from.Socket, "seen_by_apps: {"+seen+"}, socket: "+socket, 1)), 0o644))
					through.seen.Store(0)
					through.at.Store(at)
					out, err := program(t.Context(), t, m.folder, strings.Fields(command)...).CombinedOutput()
					came := through.seen.Load() >= at
					through.at.Store(0)
					where := fmt.Sprintf("%s, cut at %d:\n%s", command, at, out)
					if err != nil {
						fails++
						assert.NotContains(t, string(out), "panic", where)
						assert.Contains(t, string(out), "next", where)
					}
					_, exists := os.Stat(filepath.Join(m.folder, "combs.sql"))
					if strings.HasPrefix(command, "export") {
						assert.Equal(t, err == nil, exists == nil, where)
						m.says(t, "1 app: 1 verified", "verify", "combs")
					} else if err != nil {
						next, _ := m.run(0, 0, strings.Fields(command)...)
						require.Contains(t, next, "1 app: 1 done", where)
						require.False(t, m.isOn(m.from), where)
					}
					require.True(t, m.isClean(m.from), where)
					m.drop()
					if !came {
						break
					}
				}
				t.Logf("%s failed %d times", command, fails)
			}
		})
	}
}
