package discover

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"yellowfield/internal/discover/facts"
)

// ruleNames are those of all rules that give points.
func ruleNames() (names []string) {
	for _, role := range facts.ValueOrder {
		if keyWeights[role] > 0 {
			names = append(names, "key "+string(role))
		}
	}
	for _, r := range groupRules {
		if r.points != 0 {
			names = append(names, r.name)
		}
	}
	for _, r := range append(placeRules, sampleRules...) {
		names = append(names, r.name)
	}
	return names
}

// lookedAt is a tree of the corpus, and what is told of it.
type lookedAt struct{ folder, family, want string }

func (l lookedAt) tell(t *testing.T) string {
	found, err := Look(context.Background(), l.folder, l.family)
	require.NoError(t, err)
	return fmt.Sprint(tell(found), found.SpeaksToServer())
}

// corpus are all trees, also with what else may lie in them, and those that want no database.
func corpus(t *testing.T) (all []lookedAt) {
	decoys, err := txtar.ParseFile("testdata/decoys.txtar")
	require.NoError(t, err)
	for _, pattern := range []string{"testdata/trees/*.txtar", "testdata/none/*.txtar"} {
		paths, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, path := range paths {
			archive, err := txtar.ParseFile(path)
			require.NoError(t, err)
			name, family := strings.TrimSuffix(filepath.Base(path), ".txtar"), ""
			for _, file := range archive.Files {
				if file.Name == "server" {
					family = strings.TrimSpace(string(file.Data))
				}
			}
			all = append(all, lookedAt{folder: unpack(t, archive, name), family: family})
			for _, decoy := range decoys.Files {
				if !slices.ContainsFunc(archive.Files, func(f txtar.File) bool { return f.Name == decoy.Name }) {
					archive.Files = append(archive.Files, decoy)
				}
			}
			all = append(all, lookedAt{folder: unpack(t, archive, name), family: family})
		}
	}
	for i := range all {
		all[i].want = all[i].tell(t)
	}
	return all
}

// TestEachRuleIsOfUse leaves out one rule after the other: another thing is told of at least one
// tree then, else there is no need of the rule.
func TestEachRuleIsOfUse(t *testing.T) {
	if testing.Short() {
		t.Skip("each of the rules is tried on all trees")
	}
	defer func() { withoutRule = "" }()
	trees := corpus(t)
	for _, withoutRule = range ruleNames() {
		assert.True(t, slices.ContainsFunc(trees, func(one lookedAt) bool { return one.tell(t) != one.want }), "no tree needs the rule %q", withoutRule)
	}
}

// TestTheRulesAreTold: docs/proposing.md has the rules as they are.
func TestTheRulesAreTold(t *testing.T) {
	const document, begin, end = "../../docs/proposing.md", "<!-- rules -->\n", "<!-- end of the rules -->\n"
	content, err := os.ReadFile(document)
	require.NoError(t, err)
	var table strings.Builder
	table.WriteString("\n| Points | For |\n|---:|---|\n")
	for _, row := range Rules() {
		fmt.Fprintf(&table, "| %s | %s |\n", row[0], row[1])
	}
	table.WriteString("\n")
	before, rest, has := strings.Cut(string(content), begin)
	_, after, ends := strings.Cut(rest, end)
	require.True(t, has && ends, "the marks of the table are gone")
	wanted := before + begin + table.String() + end + after
	if *update {
		require.NoError(t, os.WriteFile(document, []byte(wanted), 0o644))
		return
	}
	assert.Equal(t, wanted, string(content))
}
