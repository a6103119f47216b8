package export_test

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/export"
	"yellowfield/internal/script"
)

// TestFilesArePackedByTheirNames and read again by the package that imports read with.
func TestFilesArePackedByTheirNames(t *testing.T) {
	text := strings.Repeat("INSERT INTO comb VALUES ('пчела');\n", 5000)
	for _, ending := range export.Endings {
		path := filepath.Join(t.TempDir(), "combs"+ending)
		file, err := export.Create(path)
		require.NoError(t, err)
		_, err = io.WriteString(file, text)
		require.NoError(t, err)
		assert.NoFileExists(t, path, "before it is whole")
		stored, err := file.Finish()
		require.NoError(t, err)
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
		assert.Equal(t, info.Size(), stored.Bytes)
		content, err := script.Source{Path: path}.Open(t.Context())
		require.NoError(t, err)
		again, err := io.ReadAll(content)
		require.NoError(t, err)
		content.Close()
		assert.Equal(t, text, string(again), ending)
		_, err = export.Create(path)
		assert.ErrorContains(t, err, "the file is there already")

		file, err = export.Create(path + ".2")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path+".2", []byte("somebody's"), 0o600))
		_, err = file.Finish()
		require.ErrorContains(t, err, "the file is there already")
		there, err := os.ReadFile(path + ".2")
		require.NoError(t, err)
		assert.Equal(t, "somebody's", string(there))
		left, err := filepath.Glob(filepath.Join(filepath.Dir(path), ".yellowfield-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	assert.ErrorContains(t, export.CheckName("a.sql.bz2"), "not packed in that way")
}

// TestDifferencesAreFound between sums that are not the same.
func TestDifferencesAreFound(t *testing.T) {
	sums := func(definition string, rows ...string) *export.Report {
		sum := export.SumOf(definition)
		for _, row := range rows {
			sum.AddRow([]byte(row))
		}
		return &export.Report{Sums: map[dbms.Object]export.Sum{{Kind: "TABLE", Name: "comb"}: sum}}
	}
	of := sums("a", "1", "2")
	assert.Empty(t, export.Differences(of, sums("a", "2", "1")), "rows have no order")
	assert.Equal(t, []string{"table comb is defined otherwise"}, export.Differences(of, sums("b", "1", "2")))
	assert.Equal(t, []string{"table comb holds other rows"}, export.Differences(of, sums("a", "1", "1")))
	assert.Equal(t, []string{"table comb has 1 row, and not 2"}, export.Differences(of, sums("a", "1")))
	assert.Equal(t, []string{"table comb is missing"}, export.Differences(of, &export.Report{}))
	assert.Equal(t, []string{"table comb should not be there"}, export.Differences(&export.Report{}, of))
}
