package settings

import (
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"yellowfield/internal/secret"
	"yellowfield/internal/settings/syntax"
)

// harmless are the roles of settings whose values may be shown. What a key is for
// decides first: whatever is not known to be harmless may be anything, a token or
// somebody else's password.
var harmless = map[Role]bool{Host: true, Port: true, Socket: true, User: true, Database: true, Prefix: true, Charset: true, Collation: true, Driver: true}

// IsSecret reports whether a setting's value should not be shown. It errs on the
// side of hiding: a value with a password inside, such as a URL, is hidden as a whole.
func IsSecret(s syntax.Setting) bool {
	switch strings.ToLower(s.Value) {
	case "", "true", "false", "yes", "no", "on", "off", "null":
		return false
	}
	return !harmless[RoleOf(s.Address)] || strings.Contains(s.Value, "://") || strings.Contains(s.Value, "=") && strings.Contains(s.Value, ";")
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
