package provision

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/settings"
	"yellowfield/internal/state"
)

func TestAnEditIsNotWrittenOverWhatSomeoneElseDid(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.php")
	require.NoError(t, os.WriteFile(path, []byte("<?php $a = 'one';\n"), 0o600))
	edit, err := PlanEdit(path, []settings.Change{{Address: "$a", Value: "two"}})
	require.NoError(t, err)
	theirs := "<?php $a = 'one'; $b = 'theirs';\n"
	require.NoError(t, os.WriteFile(path, []byte(theirs), 0o600))
	folder, err := state.Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	assert.ErrorIs(t, edit.Apply(folder), atomicfile.ErrChanged)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, theirs, string(content))
}
