// Package loadtest is there for the importers' tests: it imports scripts given as text.
package loadtest

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfield/internal/load"
	"yellowfield/internal/script"
)

// Write makes a script of a text.
func Write(t *testing.T, text string) script.Source {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.sql")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return script.Source{Path: path, Name: "a.sql"}
}

// Import checks and imports a script as the program would; what is refused is an error.
func Import(t *testing.T, text string, i load.Importer, o load.Options) (load.Report, error) {
	t.Helper()
	s := Write(t, text)
	survey, err := i.Check(t.Context(), s, o)
	if err != nil {
		return load.Report{}, err
	}
	if len(survey.Refused) > 0 {
		return load.Report{}, fmt.Errorf("refused at %s: %s (%s)", survey.Refused[0].Place, survey.Refused[0].What, survey.Refused[0].Next)
	}
	return i.Import(t.Context(), s, survey, o, func(load.Progress) {})
}
