package discover

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write what was found into the trees")

// tell is what was found, a line a fact.
func tell(f *Findings) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	if len(f.Settings) > 0 {
		best := f.Settings[0]
		line("file %s", best.File)
		if best.Template != "" {
			line("template %s", best.Template)
		}
		if best.InstallerMakes {
			line("the installer makes it")
		}
		if best.Add {
			line("keys are added")
		}
		for _, v := range best.Values {
			note := ""
			if v.Commented {
				note += ", commented"
			}
			if v.Doubt != "" {
				note += ", in doubt"
			}
			line("  %s = %s%s", v.Address, v.Text, note)
		}
	}
	if len(f.DBMS) > 0 {
		line("for %s", f.DBMS[0].Name)
	}
	for _, s := range f.Import() {
		note := ""
		if s.PrefixToken != "" {
			note += " with " + s.PrefixToken
		}
		if s.Retarget {
			note += ", retargeted"
		}
		if s.Doubt != "" {
			note += ", in doubt"
		}
		line("import %s%s", s.File, note)
	}
	for _, s := range f.Accounts() {
		line("facts %s: %s %s %s", s.File, s.Account.Database, s.Account.User, s.Account.Charset)
	}
	if f.Installer.Tables {
		line("the installer makes the tables")
	}
	if f.Prefix != "" {
		line("prefix %s", f.Prefix)
	}
	for _, e := range f.Extensions {
		if !e.Optional {
			line("extension %s", e.Name)
		}
	}
	for _, file := range f.Installer.Files {
		line("remove %s", file)
	}
	return b.String()
}

func unpack(t *testing.T, archive *txtar.Archive, name string) string {
	folder := filepath.Join(t.TempDir(), name)
	for _, file := range archive.Files {
		if file.Name == "want" {
			continue
		}
		path := filepath.Join(folder, file.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, file.Data, 0o644))
	}
	return folder
}

// TestTrees looks through made-up applications of every shape that settings are
// known to have, each with decoys.
func TestTrees(t *testing.T) {
	trees, err := filepath.Glob("testdata/trees/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(trees), 20)
	for _, path := range trees {
		name := strings.TrimSuffix(filepath.Base(path), ".txtar")
		t.Run(name, func(t *testing.T) {
			archive, err := txtar.ParseFile(path)
			require.NoError(t, err)
			found, err := Look(context.Background(), unpack(t, archive, name), "")
			require.NoError(t, err)
			for i := range archive.Files {
				if archive.Files[i].Name == "want" {
					if *update {
						archive.Files[i].Data = []byte(tell(found))
						require.NoError(t, os.WriteFile(path, txtar.Format(archive), 0o644))
					}
					assert.Equal(t, string(archive.Files[i].Data), tell(found), "%v", found.Settings)
					return
				}
			}
			t.Fatal("the tree does not say what is wanted")
		})
	}
}

// TestTreesWithoutDatabase has what looks like a login and is none.
func TestTreesWithoutDatabase(t *testing.T) {
	trees, err := filepath.Glob("testdata/none/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(trees), 5)
	for _, path := range trees {
		archive, err := txtar.ParseFile(path)
		require.NoError(t, err)
		found, err := Look(context.Background(), unpack(t, archive, "app"), "")
		require.NoError(t, err)
		assert.Empty(t, found.Settings, path)
		assert.Empty(t, found.Import(), path)
	}
}
