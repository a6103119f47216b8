package atomicfile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestExtendedAttributesAreKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.php")
	require.NoError(t, os.WriteFile(path, []byte("one"), 0o640))
	if err := unix.Setxattr(path, "user.keeper", []byte("mabel"), 0); err != nil {
		t.Skipf("NOT TESTED: this file system has no extended attributes: %v", err)
	}
	// An access list (acl(5)): the owner, user 4711, the group, a mask, others.
	list := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 103, 18, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}
	lists := unix.Setxattr(path, "system.posix_acl_access", list, 0) == nil
	require.NoError(t, Write(path, []byte("two"), Attributes{UID: -1, GID: -1, Mode: 0o440}))
	value := make([]byte, 64)
	n, err := unix.Getxattr(path, "user.keeper", value)
	require.NoError(t, err)
	assert.Equal(t, "mabel", string(value[:n]))
	a, err := AttributesOf(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o440), a.Mode)
	if lists {
		n, err = unix.Getxattr(path, "system.posix_acl_access", value)
		require.NoError(t, err)
		assert.Equal(t, list[12:20], value[12:20], "user 4711 may still read")
		assert.Equal(t, len(list), n)
	}
}
