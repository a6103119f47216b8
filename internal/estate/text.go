package estate

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/secret"
)

// Text is a settings value with placeholders: "{host}", "{user|url}", and
// "{database:log}" for one of several databases. A doubled brace stands for a
// brace.
type Text struct {
	raw   string
	parts []part
}

type part struct {
	literal     string
	placeholder string // empty for a literal
	url         bool
}

// Placeholders that a value may hold.
var Placeholders = []string{"dbms", "host", "port", "socket", "database", "user", "password", "prefix", "charset", "collation", "sslmode"}

// placeholder matches only what looks meant as one, so that JSON or CSS in a
// value needs no escaping.
var placeholder = regexp.MustCompile(`\{\{|\}\}|\{([a-z_]+)(?:\|([a-z]+))?\}|\{(database:[a-z0-9_-]+)(?:\|([a-z]+))?\}`)

// parseText reads a value. The error names the unknown placeholder or filter.
func parseText(raw string) (Text, error) {
	t := Text{raw: raw}
	last := 0
	literal := func(s string) {
		if s != "" {
			t.parts = append(t.parts, part{literal: s})
		}
	}
	for _, m := range placeholder.FindAllStringSubmatchIndex(raw, -1) {
		literal(raw[last:m[0]])
		last = m[1]
		if m[6] >= 0 { // one of several databases
			m = []int{m[0], m[1], m[6], m[7], m[8], m[9]}
		}
		if m[2] < 0 {
			literal(raw[m[0] : m[0]+1])
			continue
		}
		p := part{placeholder: raw[m[2]:m[3]]}
		if word, _, _ := strings.Cut(p.placeholder, ":"); !slices.Contains(Placeholders, word) {
			return t, &unknownWord{"placeholder", p.placeholder, Placeholders}
		}
		if m[4] >= 0 {
			if filter := raw[m[4]:m[5]]; filter != "url" {
				return t, &unknownWord{"filter", filter, []string{"url"}}
			}
			p.url = true
		}
		t.parts = append(t.parts, p)
	}
	literal(raw[last:])
	return t, nil
}

type unknownWord struct {
	kind, word string
	known      []string
}

func (e *unknownWord) Error() string { return fmt.Sprintf("unknown %s %q", e.kind, e.word) }

// String is the text as it was written.
func (t Text) String() string { return t.raw }

// Uses reports whether a placeholder occurs.
func (t Text) Uses(name string) bool {
	return slices.ContainsFunc(t.parts, func(p part) bool { return p.placeholder == name })
}

// Databases gives the names of the databases that it stands for, of several.
func (t Text) Databases() []string {
	var keys []string
	for _, p := range t.parts {
		if _, key, named := strings.Cut(p.placeholder, ":"); named {
			keys = append(keys, key)
		}
	}
	return keys
}

// Only reports which placeholder the text is, if it is one and nothing else:
// then the fact can be read back from a file.
func (t Text) Only() (name string, ok bool) {
	if len(t.parts) == 1 && t.parts[0].placeholder != "" && !t.parts[0].url {
		return t.parts[0].placeholder, true
	}
	return "", false
}

// Facts are what placeholders stand for, by their names. The password is among them,
// and prints as a mask.
type Facts map[string]string

// passwordFact is the one that is a secret.
const passwordFact = "password"

// Password is the one among them; zero where there is none.
func (f Facts) Password() secret.Password { return secret.NewPassword(f[passwordFact]) }

// Format implements fmt.Formatter: every verb masks the password.
func (f Facts) Format(state fmt.State, _ rune) {
	shown := map[string]string{}
	for name, value := range f {
		if shown[name] = value; name == passwordFact && value != "" {
			shown[name] = secret.Mask
		}
	}
	_, _ = fmt.Fprintf(state, "%q", shown)
}

// Fill puts facts in place of the placeholders.
func (t Text) Fill(facts Facts) string {
	var b strings.Builder
	for _, p := range t.parts {
		value := p.literal
		if p.placeholder != "" {
			value = facts[p.placeholder]
			if p.url {
				// PathEscape leaves some characters that divide a URL.
				value = strings.ReplaceAll(url.QueryEscape(value), "+", "%20")
			}
		}
		b.WriteString(value)
	}
	return b.String()
}

// Read takes the facts back out of a value that was made from the text. ok is
// false when the value does not have its form.
func (t Text) Read(value string) (facts Facts, ok bool) {
	var pattern strings.Builder
	pattern.WriteString("(?s)^")
	for _, p := range t.parts {
		switch {
		case p.placeholder == "":
			pattern.WriteString(regexp.QuoteMeta(p.literal))
		case p.url:
			pattern.WriteString(`([^:/?#@]*)`)
		default:
			pattern.WriteString(`(.*?)`)
		}
	}
	m := regexp.MustCompile(pattern.String() + "$").FindStringSubmatch(value)
	if m == nil {
		return nil, false
	}
	facts = Facts{}
	i := 0
	for _, p := range t.parts {
		if p.placeholder == "" {
			continue
		}
		i++
		fact := m[i]
		if p.url {
			unescaped, err := url.PathUnescape(fact)
			if err != nil {
				return nil, false
			}
			fact = unescaped
		}
		facts[p.placeholder] = fact
	}
	return facts, true
}
