package host

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/atomicfile"
)

// TestWhatIsRemovedComesBackAsItWas packs a folder, removes it, and puts it back. Nothing
// outside is read or removed by way of its links.
func TestWhatIsRemovedComesBackAsItWas(t *testing.T) {
	top := t.TempDir()
	site, outside := filepath.Join(top, "site"), filepath.Join(top, "outside")
	for _, path := range []string{site + "/setup/steps/empty", outside} {
		require.NoError(t, os.MkdirAll(path, 0o755))
	}
	for name, content := range map[string]string{site + "/setup/index.php": "<?php", site + "/setup/steps/1.php": "one", outside + "/secret": "hers"} {
		require.NoError(t, os.WriteFile(name, []byte(content), 0o640))
	}
	require.NoError(t, os.Symlink(outside, site+"/setup/out"))
	require.NoError(t, os.Symlink(outside+"/secret", site+"/setup/steps/secret"))
	require.NoError(t, os.Chmod(site+"/setup/steps", fs.ModeSetgid|0o750))
	f, err := Open(site, Options{})
	require.NoError(t, err)
	defer f.Close()
	list := func() map[string]string {
		found := map[string]string{}
		_, err := f.Walk(site, func(e Entry) error {
			found[e.Path] = e.Info.Mode().String()
			if e.Info.Mode().IsRegular() {
				content, err := os.ReadFile(e.Path)
				require.NoError(t, err)
				found[e.Path] += " " + string(content)
			}
			return nil
		})
		require.NoError(t, err)
		return found
	}
	before := list()
	assert.NotContains(t, before, site+"/setup/out/secret", "no link is followed")

	var archive bytes.Buffer
	packed, err := f.Pack(site+"/setup", &archive)
	require.NoError(t, err)
	assert.Equal(t, 4, packed.Files)
	assert.NotContains(t, archive.String(), "hers")
	require.NoError(t, packed.Check(bytes.NewReader(archive.Bytes())))
	short := bytes.Replace(archive.Bytes(), []byte("<?php"), []byte("<?xml"), 1)
	assert.ErrorContains(t, packed.Check(bytes.NewReader(short)), "setup/index.php is not in it as it was")
	assert.Error(t, packed.Check(bytes.NewReader(archive.Bytes()[:512])))

	require.NoError(t, f.RemoveTree(site+"/setup"))
	assert.NoFileExists(t, site+"/setup/index.php")
	assert.FileExists(t, outside+"/secret")
	_, err = f.Unpack(site+"/other", bytes.NewReader(archive.Bytes()))
	assert.ErrorContains(t, err, "does not belong there")
	stood, err := f.Unpack(site+"/setup", bytes.NewReader(archive.Bytes()))
	require.NoError(t, err)
	assert.Empty(t, stood)
	assert.Equal(t, before, list())
	stood, err = f.Unpack(site+"/setup", bytes.NewReader(archive.Bytes()))
	require.NoError(t, err)
	assert.Len(t, stood, 4, "what is there stays")

	// A link in the place of the folder is removed itself.
	require.NoError(t, os.RemoveAll(site+"/setup"))
	require.NoError(t, os.Symlink(outside, site+"/setup"))
	require.NoError(t, f.RemoveTree(site+"/setup"))
	assert.FileExists(t, outside+"/secret")
}

func TestATreeIsGivenAndNothingBeside(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives files away")
	}
	top := t.TempDir()
	site, outside := filepath.Join(top, "site"), filepath.Join(top, "outside")
	require.NoError(t, os.MkdirAll(site+"/up/deep", 0o755))
	require.NoError(t, os.MkdirAll(outside, 0o755))
	require.NoError(t, os.WriteFile(outside+"/root", nil, 0o600))
	require.NoError(t, os.WriteFile(site+"/up/deep/photo", nil, 0o600))
	require.NoError(t, os.Link(outside+"/root", site+"/up/linked"))
	require.NoError(t, os.Symlink(outside, site+"/up/out"))
	f, err := Open(site, Options{})
	require.NoError(t, err)
	defer f.Close()
	given, left, err := f.GiveTree(site+"/up", func(e Entry) atomicfile.Attributes {
		a := atomicfile.AttributesFrom(e.Info)
		a.UID = nobody
		return a
	})
	require.NoError(t, err)
	assert.Equal(t, []string{site + "/up/linked"}, left, "it may be root's own")
	assert.Len(t, given, 3)
	for path, uid := range map[string]int{site + "/up/deep/photo": nobody, outside: 0, outside + "/root": 0} {
		a, err := atomicfile.AttributesOf(path)
		require.NoError(t, err)
		assert.Equal(t, uid, a.UID, path)
	}
}
