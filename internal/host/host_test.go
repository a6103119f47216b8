package host

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
)

// nobody is a user who owns nothing on a sane host.
const nobody = 65534

func TestNoLinkLeadsOut(t *testing.T) {
	top := t.TempDir()
	folder, outside, shared := filepath.Join(top, "site"), filepath.Join(top, "outside"), filepath.Join(top, "shared")
	for _, path := range []string{folder + "/conf", outside, shared} {
		require.NoError(t, os.MkdirAll(path, 0o755))
	}
	for _, path := range []string{folder + "/conf/a.php", outside + "/a.php", shared + "/a.php"} {
		require.NoError(t, os.WriteFile(path, []byte("one"), 0o644))
	}
	for name, target := range map[string]string{
		"relative": "conf/a.php", "absolute": folder + "/conf/a.php", "folder": "conf", "out": "../outside/a.php", "outFolder": outside,
		"toShared": "../shared", "loop": "loop", "dangling": "../outside/new.php", "chain": "out",
	} {
		require.NoError(t, os.Symlink(target, filepath.Join(folder, name)))
	}
	f, err := Open(folder, Options{Links: []string{shared}})
	require.NoError(t, err)
	defer f.Close()
	for _, name := range []string{"conf/a.php", "relative", "absolute", "folder/a.php", "toShared/a.php"} {
		content, err := f.Read(filepath.Join(folder, name))
		require.NoError(t, err, name)
		assert.Equal(t, "one", string(content))
		require.NoError(t, f.Write(filepath.Join(folder, name), []byte("one"), atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o644}), name)
	}
	for _, name := range []string{"out", "outFolder/a.php", "loop", "dangling", "chain"} {
		path := filepath.Join(folder, name)
		_, err := f.Read(path)
		assert.Equal(t, fault.Protected, fault.As(err).Class, name)
		_, err = f.Attributes(path)
		assert.Equal(t, fault.Protected, fault.As(err).Class, name)
		assert.Equal(t, fault.Protected, fault.As(f.Write(path, []byte("two"), atomicfile.Private)).Class, name)
		made, err := f.MakeFolder(filepath.Join(path, "new", "below"), atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o755})
		assert.Error(t, err, name)
		assert.Empty(t, made, name)
		assert.True(t, f.Exists(path), "it is there, and may not be opened")
	}
	made, err := f.MakeFolder(folder+"/var/cache/pages", atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o770})
	require.NoError(t, err)
	assert.Equal(t, []string{folder + "/var/cache/pages", folder + "/var/cache", folder + "/var"}, made)
	for _, path := range made { // whoever is to use the one comes through the others
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o770), info.Mode().Perm(), path)
	}
	content, err := os.ReadFile(outside + "/a.php")
	require.NoError(t, err)
	assert.Equal(t, "one", string(content))
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	_, err = f.Read(filepath.Join(folder, "absent"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.False(t, f.Exists(filepath.Join(folder, "absent")))
	_, err = Open(filepath.Join(top, "absent"), Options{})
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestWhoseFilesCount(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("NOT TESTED: files of several owners need root")
	}
	top := t.TempDir()
	require.NoError(t, os.Chmod(top, 0o755))
	folder := filepath.Join(top, "site")
	require.NoError(t, os.Mkdir(folder, 0o755))
	require.NoError(t, os.Chown(folder, nobody, nobody))
	write := func(name string, uid int) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o600))
		require.NoError(t, os.Chown(path, uid, -1))
		return path
	}
	f, err := Open(folder, Options{Owners: []int{33}})
	require.NoError(t, err)
	defer f.Close()
	for name, uid := range map[string]int{"root's": 0, "the folder's owner's": nobody, "the named owner's": 33} {
		_, err := f.Read(write(name, uid))
		assert.NoError(t, err, name)
	}
	_, err = f.Read(write("a stranger's", 7))
	assert.ErrorContains(t, err, "number 7")
	require.NoError(t, os.Link(write("mine", 0), filepath.Join(folder, "second")))
	_, err = f.Read(filepath.Join(folder, "second"))
	assert.ErrorContains(t, err, "second name")
	assert.Error(t, f.SetAttributes(filepath.Join(folder, "second"), atomicfile.Attributes{Mode: 0o600}, atomicfile.Attributes{UID: nobody, GID: nobody, Mode: 0o666}))

	// On the way to the folder only root's links count.
	require.NoError(t, os.Symlink(folder, filepath.Join(top, "link")))
	g, err := Open(filepath.Join(top, "link"), Options{})
	require.NoError(t, err)
	g.Close()
	require.NoError(t, os.Lchown(filepath.Join(top, "link"), nobody, nobody))
	_, err = Open(filepath.Join(top, "link"), Options{})
	assert.Equal(t, fault.Protected, fault.As(err).Class)
}

// TestWhatIsNoFileIsNotWaitedFor would never end if it were.
func TestWhatIsNoFileIsNotWaitedFor(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, mkfifo(filepath.Join(folder, "pipe")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "long"), bytes.Repeat([]byte("x"), LongestSettings+1), 0o644))
	f, err := Open(folder, Options{})
	require.NoError(t, err)
	defer f.Close()
	for name, want := range map[string]string{"pipe": "not a regular file", "long": "longer than 4 MiB", ".": "not a regular file"} {
		_, err := f.Read(filepath.Join(folder, name))
		assert.ErrorContains(t, err, want)
	}
	_, err = f.Prepare(filepath.Join(folder, "pipe"), []byte("x"), atomicfile.Private)
	assert.ErrorContains(t, err, "not a regular file")
	_, err = ReadFile(filepath.Join(folder, "pipe"))
	assert.ErrorContains(t, err, "not a regular file")
}

// TestARaceIsLost plays someone who exchanges the folder of a settings file for a
// link while it is written, again and again: nothing outside is ever written,
// given away or left behind.
func TestARaceIsLost(t *testing.T) {
	top := t.TempDir()
	folder, outside := filepath.Join(top, "site"), filepath.Join(top, "outside")
	require.NoError(t, os.MkdirAll(folder+"/conf", 0o755))
	require.NoError(t, os.Mkdir(outside, 0o755))
	require.NoError(t, os.WriteFile(outside+"/a.php", []byte("theirs"), 0o600))
	require.NoError(t, os.WriteFile(folder+"/conf/a.php", []byte("0"), 0o600))
	require.NoError(t, os.Symlink(outside, folder+"/trap"))
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			select {
			case <-stop:
				return
			default:
			}
			_ = os.Rename(folder+"/conf", folder+"/kept")
			_ = os.Rename(folder+"/trap", folder+"/conf")
			_ = os.Rename(folder+"/conf", folder+"/trap")
			_ = os.Rename(folder+"/kept", folder+"/conf")
		}
	}()
	written := 0
	for range 400 {
		f, err := Open(folder, Options{})
		require.NoError(t, err)
		err = f.Write(folder+"/conf/a.php", []byte("mine"), atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o666})
		if err == nil {
			written++
		}
		_ = f.SetAttributes(folder+"/conf/a.php", atomicfile.Attributes{UID: os.Geteuid(), GID: os.Getegid(), Mode: 0o666}, atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o644})
		f.Close()
	}
	close(stop)
	<-stopped
	assert.Positive(t, written, "it is not just refused")
	content, err := os.ReadFile(outside + "/a.php")
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(content))
	info, err := os.Stat(outside + "/a.php")
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	for _, place := range []string{outside, folder} {
		entries, err := os.ReadDir(place)
		require.NoError(t, err)
		for _, entry := range entries {
			assert.NotContains(t, entry.Name(), ".yellowfield-")
		}
	}
	assert.False(t, errors.Is(err, fs.ErrNotExist))
}

// FuzzPath opens, by paths that are made to lead out, what lies in a folder and
// outside of it: nothing that is read comes from outside.
func FuzzPath(f *testing.F) {
	for _, path := range []string{"a", "../outside/a", "link/a", "conf/../../outside/a", "up/outside/a", "up", "abs", "abs/a", "conf/back/../outside/a", "./conf/./a", "loop/a", "//a", "conf/\x00a", "link/../outside/a"} {
		f.Add(path, "conf/a")
		f.Add("new", path)
	}
	top := f.TempDir()
	folder, outside := filepath.Join(top, "site"), filepath.Join(top, "outside")
	for _, path := range []string{filepath.Join(folder, "conf"), outside} {
		require.NoError(f, os.MkdirAll(path, 0o755))
	}
	for path, content := range map[string]string{"site/a": "inside", "site/conf/a": "inside", "outside/a": "outside", "a": "outside"} {
		require.NoError(f, os.WriteFile(filepath.Join(top, path), []byte(content), 0o644))
	}
	for name, target := range map[string]string{"link": "conf", "up": "..", "abs": outside, "conf/back": "..", "loop": "loop"} {
		require.NoError(f, os.Symlink(target, filepath.Join(folder, name)))
	}
	f.Fuzz(func(t *testing.T, path, target string) {
		link := filepath.Join(folder, "new")
		_ = os.Remove(link)
		_ = os.Symlink(target, link)
		opened, err := Open(folder, Options{})
		require.NoError(t, err)
		defer opened.Close()
		asked := folder + string(filepath.Separator) + path
		if _, inside := Below(folder, filepath.Clean(asked)); !inside {
			return // the administrator may name a file anywhere
		}
		content, err := opened.Read(filepath.Clean(asked))
		if err == nil {
			assert.Equal(t, "inside", string(content), "%q, new -> %q", path, target)
		}
		_ = opened.Write(filepath.Clean(asked), []byte("inside"), atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o644})
		for _, theirs := range []string{filepath.Join(outside, "a"), filepath.Join(top, "a")} {
			content, err := os.ReadFile(theirs)
			require.NoError(t, err)
			assert.Equal(t, "outside", string(content), "%q, new -> %q", path, target)
		}
		entries, err := os.ReadDir(outside)
		require.NoError(t, err)
		assert.Len(t, entries, 1)
	})
}

func TestWhatKeepsAUserOut(t *testing.T) {
	top, err := os.MkdirTemp("", "yf-")
	require.NoError(t, err)
	defer os.RemoveAll(top)
	folder := filepath.Join(top, "site", "conf")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	require.NoError(t, os.Chmod(top, 0o755))
	file := filepath.Join(folder, "a.php")
	require.NoError(t, os.WriteFile(file, nil, 0o640))
	f, err := Open(filepath.Join(top, "site"), Options{})
	require.NoError(t, err)
	defer f.Close()
	us, ours := os.Geteuid(), os.Getegid()
	out := func(uid int, groups ...int) string {
		where, err := f.KeepsOut(file, uid, groups, ToRead)
		require.NoError(t, err)
		return where
	}
	assert.Equal(t, file, out(nobody, nobody))
	assert.Empty(t, out(nobody, ours))
	assert.Empty(t, out(us))
	require.NoError(t, os.Chmod(folder, 0o710))
	assert.Equal(t, folder, out(nobody, nobody))
	assert.Empty(t, out(nobody, ours))
	require.NoError(t, os.Chmod(file, 0o604))
	assert.Equal(t, file, out(nobody, ours), "the group's bits count for the group, though others may read")
}
