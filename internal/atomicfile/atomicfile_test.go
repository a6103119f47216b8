package atomicfile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
)

func names(t *testing.T, folder string) []string {
	t.Helper()
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	var found []string
	for _, e := range entries {
		found = append(found, e.Name())
	}
	return found
}

func TestAFileIsReplacedAsAWhole(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "s.php")
	require.NoError(t, Write(path, []byte("one"), Attributes{UID: -1, GID: -1, Mode: 0o604}))
	a, err := AttributesOf(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o604), a.Mode, "the mode does not depend on the umask")

	p, err := Prepare(path, []byte("two"), Attributes{UID: -1, GID: -1, Mode: 0o600})
	require.NoError(t, err)
	content, _ := os.ReadFile(path)
	assert.Equal(t, "one", string(content), "nothing is seen before the commit")
	before, existed := p.Existed()
	assert.True(t, existed)
	assert.Equal(t, "one", string(before))
	require.NoError(t, p.Commit())
	content, _ = os.ReadFile(path)
	assert.Equal(t, "two", string(content))
	assert.Equal(t, []string{"s.php"}, names(t, folder), "no temporary file stays")
}

func TestSomeoneElsesChangeIsNotOverwritten(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "s.php")
	require.NoError(t, os.WriteFile(path, []byte("mine"), 0o600))
	absent := filepath.Join(folder, "new.php")
	changes := map[string]func(){
		path:   func() { require.NoError(t, os.WriteFile(path, []byte("theirs"), 0o600)) },
		absent: func() { require.NoError(t, os.WriteFile(absent, []byte("theirs"), 0o600)) },
	}
	for target, change := range changes {
		p, err := Prepare(target, []byte("new"), Private)
		require.NoError(t, err)
		change()
		err = p.Commit()
		assert.ErrorIs(t, err, ErrChanged)
		assert.Equal(t, fault.Protected, fault.As(err).Class)
		content, _ := os.ReadFile(target)
		assert.Equal(t, "theirs", string(content))
	}
	p, err := Prepare(path, []byte("new"), Private)
	require.NoError(t, err)
	require.NoError(t, os.Remove(path))
	assert.ErrorIs(t, p.Commit(), ErrChanged, "a file that was removed is not made again")
	assert.Equal(t, []string{"new.php"}, names(t, folder))
}

func TestALinkIsFollowed(t *testing.T) {
	folder := t.TempDir()
	real, link := filepath.Join(folder, "real.php"), filepath.Join(folder, "link.php")
	require.NoError(t, os.WriteFile(real, []byte("one"), 0o600))
	require.NoError(t, os.Symlink("real.php", link))
	require.NoError(t, Write(link, []byte("two"), Private))
	target, err := os.Readlink(link)
	require.NoError(t, err)
	assert.Equal(t, "real.php", target)
	content, _ := os.ReadFile(real)
	assert.Equal(t, "two", string(content))
}

func TestErrorsNameTheFileAndLeaveNothing(t *testing.T) {
	folder := t.TempDir()
	for path, cause := range map[string]error{
		filepath.Join(folder, "missing", "s.php"): fs.ErrNotExist,
		"/proc/s.php": nil, // nobody may make files there, not even root
	} {
		_, err := Prepare(path, []byte("x"), Private)
		require.Error(t, err, path)
		f := fault.As(err)
		assert.Equal(t, path, f.Place.File)
		assert.NotEmpty(t, f.Next)
		assert.True(t, cause == nil || errors.Is(err, cause))
	}
	assert.Empty(t, names(t, folder))
	assert.NoError(t, CheckWritable(folder))
	assert.ErrorIs(t, CheckWritable(filepath.Join(folder, "missing")), fs.ErrNotExist)
}

func TestWhatSomeoneElseChangedIsNotWrittenOver(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "s.php")
	require.NoError(t, os.WriteFile(path, []byte("theirs"), 0o600))
	for _, read := range [][]byte{[]byte("what I read"), nil} {
		p, err := Prepare(path, []byte("mine"), Private)
		require.NoError(t, err)
		err = p.Expect(read)
		assert.ErrorIs(t, err, ErrChanged)
		assert.Equal(t, fault.Protected, fault.As(err).Class)
	}
	p, err := Prepare(path, []byte("mine"), Private)
	require.NoError(t, err)
	require.NoError(t, p.Expect([]byte("theirs")))
	require.NoError(t, os.WriteFile(path, []byte("theirs again"), 0o600))
	assert.ErrorIs(t, p.Commit(), ErrChanged)
	content, _ := os.ReadFile(path)
	assert.Equal(t, "theirs again", string(content))
	assert.Equal(t, []string{"s.php"}, names(t, folder))

	gone := filepath.Join(folder, "gone.php")
	p, err = Prepare(gone, []byte("mine"), Private)
	require.NoError(t, err)
	assert.ErrorIs(t, p.Expect([]byte("was there")), ErrChanged)
}

// TestReplaceFollowsNoLink: whoever owns the folder cannot have another file written.
func TestReplaceFollowsNoLink(t *testing.T) {
	folder := t.TempDir()
	path, target := filepath.Join(folder, "now.txt"), filepath.Join(t.TempDir(), "target")
	require.NoError(t, os.WriteFile(target, []byte("precious"), 0o600))
	for _, make := range []func() error{
		func() error { return os.Symlink(target, path) },
		func() error { return os.Link(target, path) },
		func() error { return nil },
	} {
		_ = os.Remove(path)
		if make() != nil {
			continue // another file system
		}
		require.NoError(t, Replace(path, []byte("new"), Attributes{UID: -1, GID: -1, Mode: 0o644}))
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, "new", string(content))
		info, err := os.Lstat(path)
		require.NoError(t, err)
		assert.True(t, info.Mode().IsRegular())
		kept, err := os.ReadFile(target)
		require.NoError(t, err)
		assert.Equal(t, "precious", string(kept))
	}
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, left, 1)
	assert.Error(t, Replace(filepath.Join(folder, "none", "x"), nil, Private))
}
