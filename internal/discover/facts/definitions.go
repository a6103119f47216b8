package facts

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/tree"
	"yellowfield/internal/settings/php"
)

// Definition is a place in code that makes, alters or drops tables.
type Definition struct {
	Place
	Verb string // CREATE, ALTER, DROP or TRUNCATE
}

// defines is a statement in capitals or in small letters, as code has it, and not as
// people write about it.
var defines = regexp.MustCompile(`^\s*(?:(CREATE|ALTER|DROP|TRUNCATE)\s+(?:TABLE|INDEX|UNIQUE\s+INDEX|VIEW)\b|(create|alter|drop|truncate)\s+(?:table|index|unique\s+index|view)\b)`)

// Definitions lists the places in an application's own code, one of each kind in a file,
// that define tables. Files and folders, with a slash at their end, of except are left
// out.
func Definitions(ctx context.Context, folder string, except []string) ([]Definition, error) {
	t, err := tree.Look(ctx, folder)
	if err != nil {
		return nil, err
	}
	leftOut := func(name string) bool {
		return !tree.IsCode(name) || !IsOwnCode(name) || slices.ContainsFunc(except, func(other string) bool {
			return name == other || strings.HasPrefix(name, strings.TrimSuffix(other, "/")+"/")
		})
	}
	var found []Definition
	err = SideBySide(ctx, slices.DeleteFunc(slices.Clone(t.Files), leftOut), func(name string) []Definition {
		var in []Definition
		seen := map[string]bool{}
		for _, literal := range php.ReadCode(t.Read(name, tree.LongestCode), func(string) bool { return false }).Literals {
			m := defines.FindStringSubmatch(literal.Text)
			if m == nil {
				continue
			}
			if verb := strings.ToUpper(m[1] + m[2]); !seen[verb] {
				seen[verb] = true
				in = append(in, Definition{Place{name, literal.Line}, verb})
			}
		}
		return in
	}, func(_ string, in []Definition) { found = append(found, in...) })
	return found, err
}
