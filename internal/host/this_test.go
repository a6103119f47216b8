package host

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
)

func TestPHPAsItsFilesSayInTheirOrder(t *testing.T) {
	folder := t.TempDir()
	write := func(name, content string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(content), 0o600))
	}
	_, err := Host{}.PHP(folder)
	assert.Equal(t, fault.Invalid, fault.As(err).Class, "a folder that was named has to hold a php.ini")
	write("php.ini", "memory_limit = 64M\n")
	write("conf.d/20-b.ini", "memory_limit=128M\n")
	write("conf.d/10-a.ini", "memory_limit=96M\nextension=mysqli.so\n")
	php, err := Host{}.PHP(folder)
	require.NoError(t, err)
	value, _ := php.Value("memory_limit")
	assert.Equal(t, "128M", value, "the last file counts")
	assert.True(t, php.HasExtension("mysqli"))
	require.NoError(t, mkfifo(filepath.Join(folder, "conf.d", "30-c.ini")))
	_, err = Host{}.PHP(folder)
	assert.ErrorContains(t, err, "30-c.ini", "a pipe is not waited for")
}

func TestSocketsByWhatTheirPathsLeadTo(t *testing.T) {
	folder := t.TempDir()
	socket, link := filepath.Join(folder, "a.sock"), filepath.Join(folder, "b.sock")
	require.NoError(t, os.WriteFile(socket, nil, 0o600))
	require.NoError(t, os.Symlink(socket, link))
	assert.True(t, Host{}.SameFile(socket, link))
	assert.True(t, Host{}.SameFile("/absent", "/absent"))
	assert.False(t, Host{}.SameFile(socket, "/absent"))
	assert.Equal(t, []string{link}, Host{}.Sockets("", link, socket, "/absent"))
}
