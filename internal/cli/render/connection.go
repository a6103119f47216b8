package render

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/overview"
	"yellowfield/internal/secret"
)

// Blank writes an empty line.
func (s *Screen) Blank() { s.printf("\n") }

// question is what an installer asks for.
type question struct{ name, answer, note string }

const revealHint = "; --reveal shows it"

// questions are the usual ones of installers, without those that have no answer here. The
// password is included only with reveal.
func questions(c *overview.Connection, reveal bool) []question {
	all := []question{
		{"driver", strings.Join(c.Drivers, ", "), "whichever word it offers"},
		{"database", c.Database, c.DBMS + ", " + c.Charset + " " + c.Collation},
	}
	for _, key := range slices.Sorted(maps.Keys(c.Databases)) {
		all = append(all, question{"", c.Databases[key], key})
	}
	all = append(all, question{"user", c.User, ""})
	switch {
	case c.Password.IsZero() && c.PasswordIn == "nowhere":
		all = append(all, question{"password", "not known here", "its application knows it; yellowfield rotate " + c.App + " --account " + c.User + " makes a new one"})
	case reveal:
		all = append(all, question{"password", c.Password.Reveal(), whereIs(c)})
	default:
		all = append(all, question{"password", secret.Mask, whereIs(c) + revealHint})
	}
	note := ""
	if c.Host == "localhost" {
		note = "the socket, to PHP"
	}
	all = append(all, question{"host", c.Host, note}, question{"port", strconv.Itoa(c.Port), ""}, question{"socket", c.Socket, ""},
		question{"prefix", c.Prefix, ""}, question{"charset", c.Charset, ""})
	return slices.DeleteFunc(all, func(q question) bool { return q.answer == "" })
}

// reminders are what else has to be done.
func reminders(c *overview.Connection) []string {
	if len(c.Remove) == 0 {
		return c.Notes
	}
	return append(slices.Clone(c.Notes), "When its installation is done: yellowfield close "+c.App+", which moves "+strings.Join(c.Remove, ", ")+" away.")
}

// Connection writes the facts to type into an installer, and the password in
// plain only with reveal.
func (s *Screen) Connection(c *overview.Connection, reveal bool) {
	s.printf("%s\n", accent.Render(c.App))
	for _, q := range questions(c, reveal) {
		answer, note := q.answer, ""
		if q.name == "password" && reveal {
			answer = strong.Render(answer)
		}
		if q.note != "" {
			note = "  " + quiet.Render(q.note)
		}
		s.printf("  %s  %s%s\n", pad(q.name, stepWidth+1), answer, note)
	}
	for i, text := range reminders(c) {
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

// ConnectionMarkdown writes them as a page for a colleague.
func (s *Screen) ConnectionMarkdown(c *overview.Connection, reveal bool) {
	s.printf("# The database of %s\n\n| question | answer | |\n|---|---|---|\n", markdown(c.App))
	for _, q := range questions(c, reveal) {
		s.printf("| %s | `%s` | %s |\n", q.name, strings.ReplaceAll(markdown(q.answer), "`", ""), markdown(strings.TrimSuffix(q.note, revealHint)))
	}
	s.printf("\n")
	for _, text := range reminders(c) {
		s.printf("- %s\n", markdown(text))
	}
}

// markdown keeps a text in its cell.
func markdown(text string) string {
	return strings.NewReplacer("|", `\|`, "\n", " ", "<", "&lt;").Replace(text)
}

func whereIs(c *overview.Connection) string {
	if c.Pending {
		return "pending: in no settings file yet"
	}
	return "in " + c.PasswordIn
}
