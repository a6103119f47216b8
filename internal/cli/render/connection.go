package render

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/provision"
	"yellowfield/internal/secret"
)

// Blank writes an empty line.
func (s *Screen) Blank() { s.printf("\n") }

// Connection writes the facts to type into an installer, and the password in
// plain only with reveal.
func (s *Screen) Connection(c *provision.Connection, reveal bool) {
	s.printf("%s\n", accent.Render(c.App))
	fact := func(name, value, note string) {
		if value == "" {
			return
		}
		if note != "" {
			note = "  " + quiet.Render(note)
		}
		s.printf("  %s  %s%s\n", pad(name, stepWidth+1), value, note)
	}
	fact("database", c.Database, c.DBMS+", "+c.Charset+" "+c.Collation)
	for _, key := range slices.Sorted(maps.Keys(c.Databases)) {
		fact("", c.Databases[key], key)
	}
	fact("user", c.User, "")
	switch {
	case c.Password.IsZero() && c.PasswordIn == "nowhere":
		fact("password", "not known here", "its application knows it; a new one will be made by rotate, which is still to come")
	case reveal:
		fact("password", strong.Render(c.Password.Reveal()), whereIs(c))
	default:
		fact("password", secret.Mask, whereIs(c)+"; --reveal shows it")
	}
	note := ""
	if c.Host == "localhost" {
		note = "the socket, to PHP"
	}
	fact("host", c.Host, note)
	fact("port", strconv.Itoa(c.Port), "")
	fact("socket", c.Socket, "")
	fact("prefix", c.Prefix, "")
	notes := c.Notes
	if len(c.Remove) > 0 {
		notes = append(notes, "When its installation is done, remove "+strings.Join(c.Remove, ", ")+".")
	}
	for i, text := range notes {
		name := ""
		if i == 0 {
			name = "notes"
		}
		lines := wrap(text, s.width-stepWidth-5)
		for j, line := range lines {
			if j > 0 {
				name = ""
			}
			s.printf("  %s  %s\n", pad(name, stepWidth+1), line)
		}
	}
}

func whereIs(c *provision.Connection) string {
	if c.Pending {
		return "pending: in no settings file yet"
	}
	return "in " + c.PasswordIn
}
