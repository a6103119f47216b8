package script

import (
	"archive/zip"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"yellowfield/internal/fault"
)

// TestArchivesThatAskForMemory: a few bytes can ask for gigabytes of dictionary.
func TestArchivesThatAskForMemory(t *testing.T) {
	text := bytes.Repeat([]byte("SELECT 1;\n"), 1000)
	read := func(packed []byte) (string, error) {
		path := filepath.Join(t.TempDir(), "a.sql")
		require.NoError(t, os.WriteFile(path, packed, 0o600))
		c, err := Source{Path: path, Name: "a.sql"}.Open(t.Context())
		if err != nil {
			return "", err
		}
		defer c.Close()
		content, err := io.ReadAll(c)
		return string(content), err
	}
	asking := func(dictionary int) []byte {
		var packed bytes.Buffer
		w, err := xz.WriterConfig{DictCap: dictionary}.NewWriter(&packed)
		require.NoError(t, err)
		_, err = w.Write(text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return packed.Bytes()
	}
	_, err := read(append(asking(1<<16), asking(1<<30)...))
	assert.ErrorIs(t, err, errDictionary, "of the second stream")
	got, err := read(append(asking(1<<16), asking(1<<20)...))
	require.NoError(t, err)
	assert.Equal(t, string(text)+string(text), got)
	for dictionary, ok := range map[int]bool{1 << 16: true, 8 << 20: true, 64 << 20: true, 96 << 20: false, 1 << 30: false} {
		got, err := read(asking(dictionary))
		if !ok {
			assert.ErrorIs(t, err, errDictionary, "%d", dictionary)
			assert.Contains(t, fault.As(err).Next, "unpack it by hand")
			continue
		}
		require.NoError(t, err, "%d", dictionary)
		assert.Equal(t, string(text), got)
	}
	for window, ok := range map[int]bool{1 << 20: true, 64 << 20: true, 256 << 20: false} {
		var packed bytes.Buffer
		w, err := zstd.NewWriter(&packed, zstd.WithWindowSize(window), zstd.WithSingleSegment(false))
		require.NoError(t, err)
		for range 300 { // else the window is that of the text
			_, err = w.Write(bytes.Repeat(text, 20))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		_, err = read(packed.Bytes())
		assert.Equal(t, ok, err == nil, "%d: %v", window, err)
	}
	for _, broken := range []string{"\xfd7zXZ\x00", "\xfd7zXZ\x00" + "abcdef\x02\xff\xff", "\xfd7zXZ\x00" + "abcdef\x02\xc3\x80\x80\x80\x80\x80\x80\x80\x80\x80\x80\x80"} {
		_, err := read([]byte(broken))
		assert.Error(t, err)
	}
}

// TestArchivesOfManyFiles: all names of a zip archive are read before any of its files.
func TestArchivesOfManyFiles(t *testing.T) {
	var packed bytes.Buffer
	w := zip.NewWriter(&packed)
	for i := range 100_000 {
		_, err := w.CreateHeader(&zip.FileHeader{Name: strconv.Itoa(i) + ".txt"})
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	path := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(path, packed.Bytes(), 0o600))
	_, err := Source{Path: path, Name: "a.zip"}.Open(t.Context())
	assert.ErrorContains(t, err, "more files than an archive of one script has")
}
