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

// Masked is the file's text with the values of secrets masked; always names
// further addresses to hide.
func (f *File) Masked(always ...string) string { return f.mask(f.hidden(always), nil) }

// Difference shows what changes from f to after, with the values of secrets
// masked in both; always names further addresses to hide.
func (f *File) Difference(after *File, always ...string) string {
	hidden := f.hidden(always)
	old := map[string]string{}
	for _, s := range f.Settings {
		old[s.Address] = s.Value
	}
	return udiff.Unified(f.Path, after.Path, f.mask(hidden, nil), after.mask(hidden, old))
}

// hidden gives the addresses whose values are not shown.
func (f *File) hidden(always []string) map[string]bool {
	hidden := map[string]bool{}
	for _, address := range always {
		if s, err := f.Lookup(address); err == nil {
			whole, _, has := cutPart(s.Address)
			if !has {
				whole = s.Address
			}
			hidden[whole] = true
		}
	}
	for _, s := range f.Settings {
		if IsSecret(s) {
			hidden[s.Address] = true
		}
	}
	return hidden
}

// mask puts a mask in place of hidden values, with a remark where the value is
// not the old one.
func (f *File) mask(hidden map[string]bool, old map[string]string) string {
	text := string(f.source)
	for i := len(f.Settings) - 1; i >= 0; i-- { // from the end, so that the places before stay right
		s := f.Settings[i]
		if !hidden[s.Address] || s.Value == "" {
			continue
		}
		shown := secret.Mask
		if before, had := old[s.Address]; had && before != s.Value {
			shown += " (new)"
		}
		text = text[:s.Start] + shown + text[s.End:]
	}
	return text
}
