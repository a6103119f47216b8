package settings

import (
	"regexp"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"yellowfield/internal/secret"
	"yellowfield/internal/settings/syntax"
)

// secretWords are the words in the last part of an address that say that its
// value is a secret.
var secretWords = regexp.MustCompile(`(?i)(pass|pwd|word|secret|token|salt|api_?key|private_?key|dsn|url)`)

// lastPart is what an address ends in: the key in 'a'['b'] or [section] key.
var lastPart = regexp.MustCompile(`([A-Za-z0-9_.-]+)'?\]?$`)

// IsSecret reports whether a setting's value should not be shown. It errs on
// the side of hiding: a value with a password inside, such as a URL, is hidden
// as a whole.
func IsSecret(s syntax.Setting) bool {
	m := lastPart.FindStringSubmatch(s.Address)
	return m != nil && secretWords.MatchString(m[1]) || strings.Contains(s.Value, "://") && strings.Contains(s.Value, "@")
}

// Difference shows what changes from f to after, with the values of secrets
// masked in both; always names further addresses to hide.
func (f *File) Difference(after *File, always ...string) string {
	hidden := map[string]bool{}
	for _, address := range always {
		if s, err := f.Lookup(address); err == nil {
			hidden[s.Address] = true
		}
	}
	for _, s := range f.Settings {
		if IsSecret(s) {
			hidden[s.Address] = true
		}
	}
	values := map[string]string{}
	for _, s := range f.Settings {
		values[s.Address] = s.Value
	}
	mask := func(file *File, new string) string {
		// From the end, so that the places before stay right.
		text := string(file.source)
		for i := len(file.Settings) - 1; i >= 0; i-- {
			s := file.Settings[i]
			if !hidden[s.Address] || s.Value == "" {
				continue
			}
			shown := secret.Mask
			if values[s.Address] != s.Value {
				shown += new
			}
			text = text[:s.Start] + shown + text[s.End:]
		}
		return text
	}
	return udiff.Unified(f.Path, after.Path, mask(f, ""), mask(after, " (new)"))
}
