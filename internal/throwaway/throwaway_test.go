package throwaway

import (
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
)

func TestAPrivateServerComesAndGoes(t *testing.T) {
	began := time.Now()
	s, err := Start(t.Context(), Options{Product: dbms.MariaDB})
	require.NoError(t, err)
	t.Log("started in", time.Since(began))
	defer s.Stop()
	server, err := mysql.Connect(t.Context(), s.Login())
	require.NoError(t, err)
	assert.Equal(t, dbms.MariaDB, server.About().Product)
	assert.Equal(t, s.Socket, server.About().Socket)
	server.Close()

	pid := s.process.pid
	if os.Geteuid() == 0 {
		owner, err := os.Stat(s.Data())
		require.NoError(t, err)
		assert.Equal(t, "drwx", owner.Mode().String()[:4])
	}
	s.Stop()
	assert.NoDirExists(t, s.Folder)
	_, err = os.Stat("/proc/" + strconv.Itoa(pid))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestAServerThatCannotStartShowsItsLog(t *testing.T) {
	_, err := Start(t.Context(), Options{Product: dbms.MariaDB, Arguments: []string{"--no-such-option"}})
	assert.ErrorContains(t, err, "ended at its start")
}

func TestAMissingServerIsNamedWithItsPackage(t *testing.T) {
	root := t.TempDir() // a system without any server
	require.NoError(t, os.Mkdir(root+"/tmp", 0o755))
	_, err := Start(t.Context(), Options{Product: dbms.MariaDB, Root: root})
	assert.ErrorContains(t, err, "MariaDB is not installed: there is no program mariadbd")
	assert.ErrorContains(t, err, "apt-get install mariadb-server-core")
	entries, err := os.ReadDir(root + "/tmp")
	require.NoError(t, err)
	assert.Empty(t, entries, "the folder made for it is removed")
}

func TestAPathTooLongForASocket(t *testing.T) {
	folder := t.TempDir() + "/a-folder-with-a-name-that-is-much-longer-than-any-socket-path-may-ever-become-on-any-system-at-all"
	_, err := Start(t.Context(), Options{Product: dbms.MariaDB, Folder: folder})
	assert.ErrorContains(t, err, "choose a folder with a shorter path")
	assert.NoDirExists(t, folder)
}
