package settings

import (
	"fmt"
	"strings"

	"yellowfield/internal/secret"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/syntax"
)

// harmless are the roles of settings whose values may be shown. What a key is for
// decides first: whatever is not known to be harmless may be anything, a token or
// somebody else's password.
var harmless = map[Role]bool{Host: true, Port: true, Socket: true, User: true, Database: true, Prefix: true, Charset: true, Collation: true, Driver: true}

// IsSecret reports whether a setting's value must not be shown. When in doubt it hides: a
// value with a password inside, such as a URL, is hidden as a whole, and so is an expression,
// which may hold anything.
func IsSecret(s syntax.Setting) bool { return IsSecretAs(RoleOf(s.Address), s) }

// IsSecretAs is IsSecret for a setting that is known to be for something, whatever
// its address says.
func IsSecretAs(role Role, s syntax.Setting) bool {
	switch strings.ToLower(s.Value) {
	case "", "true", "false", "yes", "no", "on", "off", "null":
		return false
	}
	return !harmless[role] || s.Kind == syntax.Expression || holdsLogin(s.Value) || role != User && strings.Contains(s.Value, "@")
}

// holdsLogin reports whether a value has the form of a URL or a data source name.
func holdsLogin(value string) bool {
	return strings.Contains(value, "://") || strings.Contains(value, "=") && strings.ContainsAny(value, "; ")
}

// secretWords end keys of secrets that are no passwords.
var secretWords = map[string]bool{"token": true, "salt": true, "pepper": true, "key": true, "apikey": true, "credential": true, "credentials": true, "pin": true, "passcode": true}

// NamesSecret reports whether a change plainly is about a secret: by its address, or
// because its value is a data source name with a password.
func (c Change) NamesSecret() bool {
	k := ReadKey(c.Address)
	if password, has, _ := dsn.Get(c.Value, dsn.Password); has && password != "" {
		return true
	}
	return k.Role == Password && !k.Vague || len(k.Stem) > 0 && secretWords[k.Stem[len(k.Stem)-1]]
}

// Shown is a setting's value as it may be seen.
func Shown(s syntax.Setting) string {
	if IsSecret(s) {
		return secret.Mask
	}
	return s.Value
}

// Listing shows a file's settings, a line each, those that may not be seen masked.
// The text around them is no part of it, since anything may stand there.
func (f *File) Listing() string {
	var b strings.Builder
	for _, s := range f.Settings {
		fmt.Fprintf(&b, "%s = %s\n", s.Address, Shown(s))
	}
	return b.String()
}

// Difference shows what changes make of f, the file that they gave being after: each
// address with its line, the value before and the one after. Of what was there
// before, and of secrets, only what may be seen is shown.
func (f *File) Difference(after *File, changes []Change) string {
	var b strings.Builder
	line := func(sign, value string) { b.WriteString(sign + strings.ReplaceAll(value, "\n", `\n`) + "\n") }
	fmt.Fprintf(&b, "--- %s\n+++ %s\n", f.Path, after.Path)
	for _, change := range changes {
		now, err := after.Lookup(change.Address)
		if err != nil {
			continue // With has found it
		}
		shown := now.Value
		if change.Secret || RoleOf(now.Address) == Password || holdsLogin(now.Value) {
			shown = secret.Mask
		}
		fmt.Fprintf(&b, "@@ line %d: %s\n", now.Place.Line, now.Address)
		was, err := f.Lookup(change.Address)
		switch {
		case err == nil && was.Value == now.Value && was.Kind != syntax.Expression:
			line(" ", shown)
			continue
		case err == nil:
			before := Shown(was)
			if change.Role != "" && !IsSecretAs(change.Role, was) {
				before = was.Value
			}
			line("-", before)
		}
		if shown == secret.Mask {
			shown += " (new)"
		}
		line("+", shown)
	}
	return b.String()
}
