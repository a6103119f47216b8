// Package render draws what the core tells: rows of steps, progress, faults,
// and the one JSON document of a command.
//
// It must never decide anything about servers or files.
package render

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/work"
)

// Screen writes results to standard output and diagnostics to standard error,
// in colour where that is wanted.
type Screen struct {
	Out, Err io.Writer
	began    time.Time
	width    int
	// terminal tells whether standard error is one, for progress and prompts.
	terminal bool
	// Estate is the estate file as the user named it, for the commands that come next; empty for
	// the one that is found.
	Estate string
	// brief reports whether the last line was written by Brief.
	brief bool
	// Details has the code of a difference told, by which it can be accepted.
	Details bool
}

// Colour modes of --color.
const (
	ColourAuto   = "auto"
	ColourAlways = "always"
	ColourNever  = "never"
)

const (
	standardWidth = 80
	widest        = 132 // lines longer than this are hard to follow
	narrowest     = 50
)

// NewScreen draws on the two streams.
func NewScreen(out, err *os.File, colour string) *Screen {
	s := &Screen{began: time.Now(), Out: visible{coloured(out, colour)}, Err: visible{coloured(err, colour)}, width: standardWidth, terminal: term.IsTerminal(int(err.Fd()))}
	if term.IsTerminal(int(out.Fd())) {
		if width, _, err := term.GetSize(int(out.Fd())); err == nil && width > 0 {
			s.width = min(max(width, narrowest), widest)
		}
	} else if width, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		s.width = max(width, narrowest) // a pager or a script that knows its width
	}
	return s
}

func coloured(file *os.File, colour string) io.Writer {
	w := colorprofile.NewWriter(file, os.Environ())
	switch colour {
	case ColourNever:
		w.Profile = colorprofile.NoTTY
	case ColourAlways:
		if w.Profile < colorprofile.ANSI256 {
			w.Profile = colorprofile.ANSI256
		}
	default:
		// NO_COLOR asks for no colour, and bold is none; plain text is what
		// people mean by it.
		if os.Getenv("NO_COLOR") != "" {
			w.Profile = colorprofile.NoTTY
		}
	}
	return w
}

// The one accent is the yellow of a rape field; outcomes are calm. A terminal
// of sixteen colours has its own yellow, red and green: choosing by nearness
// would make the accent red there.
var (
	yellow, red, green = lipgloss.ANSIColor(3), lipgloss.ANSIColor(1), lipgloss.ANSIColor(2)

	accent  = lipgloss.NewStyle().Foreground(yellow).Bold(true)
	caution = lipgloss.NewStyle().Foreground(yellow)
	bad     = lipgloss.NewStyle().Foreground(red).Bold(true)
	quiet   = lipgloss.NewStyle().Faint(true)
	strong  = lipgloss.NewStyle().Bold(true)
	added   = lipgloss.NewStyle().Foreground(green)
	removed = lipgloss.NewStyle().Foreground(red)
)

func styleOf(o work.Outcome) lipgloss.Style {
	switch o {
	case work.Differs, work.Waiting, "would make", "would fix", "would import", "would write", "would run", "would undo", "would change", "would remove":
		return caution
	case work.Failed, work.Refused:
		return bad
	case work.Kept, work.NotReached:
		return quiet
	}
	return lipgloss.NewStyle()
}

// Columns of a row: two blanks, the outcome, the step, the facts.
const (
	outcomeWidth = 12
	stepWidth    = 9
	factsColumn  = 2 + outcomeWidth + 2 + stepWidth + 2
	// detailColumn is where places and next steps begin: further to the left
	// than facts, so that a command to copy stays on its line.
	detailColumn = 2 + outcomeWidth + 2
)

func (s *Screen) printf(format string, args ...any) { _, _ = fmt.Fprintf(s.Out, format, args...) }

// block writes text of several lines with every line indented.
func (s *Screen) block(indent int, style lipgloss.Style, text string) {
	pad := strings.Repeat(" ", indent)
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		s.printf("%s%s\n", pad, style.Render(line))
	}
}

// wrap breaks text at blanks into lines of the given width, and nowhere else:
// a command or an option must stay whole. Only a word wider than a whole line
// is cut.
func wrap(text string, width int) []string {
	var lines []string
	for _, paragraph := range strings.Split(text, "\n") {
		line := ""
		for _, word := range strings.Split(paragraph, " ") {
			if line != "" && ansi.StringWidth(line)+1+ansi.StringWidth(word) > width {
				lines = append(lines, line)
				line = ""
			}
			if line != "" {
				line += " "
			}
			line += word
			for ansi.StringWidth(line) > width {
				head := ansi.Truncate(line, width, "")
				lines = append(lines, head)
				line = line[len(head):]
			}
		}
		lines = append(lines, line)
	}
	return lines
}

// Reflow breaks the paragraphs of a text anew.
func Reflow(text string, width int) string {
	var paragraphs []string
	for _, paragraph := range strings.Split(strings.TrimSpace(text), "\n\n") {
		paragraphs = append(paragraphs, strings.Join(wrap(strings.Join(strings.Fields(paragraph), " "), width), "\n"))
	}
	return strings.Join(paragraphs, "\n\n")
}

// Header writes an app's heading: its name, and at the right its server.
func (s *Screen) Header(h work.Header) {
	s.afterBrief()
	right := h.Server
	if h.About != "" {
		right += ", " + h.About
	}
	s.Title(h.App, right)
}

// Row writes one step: outcome, step, facts, and below the facts what belongs
// to them.
func (s *Screen) Row(row work.Row) {
	style := styleOf(row.Outcome)
	width := s.width - factsColumn
	facts := row.Facts
	if row.Severity != "" {
		facts += " (" + string(row.Severity) + ")"
	}
	lines := wrap(facts, width)
	last := &lines[len(lines)-1]
	if row.Seconds >= 0.05 {
		seconds := fmt.Sprintf("%.1f s", row.Seconds)
		if gap := width - ansi.StringWidth(*last) - len(seconds); gap >= 2 {
			*last += strings.Repeat(" ", gap) + quiet.Render(seconds)
		} else {
			*last += ", " + seconds
		}
	}
	dim := row.Outcome == work.Kept || row.Outcome == work.NotReached
	for i, line := range lines {
		if dim && line != "" {
			line = quiet.Render(line)
		}
		if i == 0 {
			step := row.Step
			if line != "" {
				step = pad(step, stepWidth) + "  " + line
			}
			s.printf("  %s  %s\n", style.Render(pad(string(row.Outcome), outcomeWidth)), step)
		} else {
			s.printf("%s%s\n", strings.Repeat(" ", factsColumn), line)
		}
	}
	if row.Place != nil {
		s.block(detailColumn, quiet, nearby(*row.Place))
	}
	if row.Excerpt != "" {
		s.block(detailColumn, quiet, row.Excerpt)
	}
	if row.Remedy != "" {
		for i, line := range wrap(row.Remedy, s.width-detailColumn-6) {
			lead := "      "
			if i == 0 {
				lead = caution.Render("next") + "  "
			}
			s.printf("%s%s%s\n", strings.Repeat(" ", detailColumn), lead, line)
		}
	}
	if s.Details && row.Finding != "" {
		s.block(detailColumn, quiet, "finding: "+row.Finding+", object: "+row.On)
	}
	for _, statement := range row.SQL {
		for _, line := range wrap(statement, s.width-6) {
			s.block(6, quiet, line)
		}
	}
	if row.Diff != "" {
		s.diff(row.Diff)
	}
}

// nearby writes a place from the working folder, where that is shorter.
func nearby(place fault.Place) string {
	if here, err := os.Getwd(); err == nil {
		if relative, inside := host.Below(here, place.File); inside {
			place.File = relative
		}
	}
	return place.String()
}

func pad(text string, width int) string {
	return text + strings.Repeat(" ", max(0, width-ansi.StringWidth(text)))
}

func (s *Screen) diff(text string) {
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		style := quiet
		switch {
		case strings.HasPrefix(line, "+") && !strings.HasPrefix(line, "+++"):
			style = added
		case strings.HasPrefix(line, "-") && !strings.HasPrefix(line, "---"):
			style = removed
		}
		s.printf("      %s\n", style.Render(strings.TrimRight(ansi.Truncate(line, s.width-6, "..."), "\r")))
	}
}

// Fault writes an error to standard error: what happened, where, and what to
// do next.
func (s *Screen) Fault(err error) {
	for i, f := range fault.All(err) {
		if i > 0 {
			_, _ = fmt.Fprintln(s.Err)
		}
		_, _ = fmt.Fprintf(s.Err, "%s %s\n", bad.Render("Error:"), f.What)
		if f.Place.File != "" {
			_, _ = fmt.Fprintf(s.Err, "  at %s\n", nearby(f.Place))
		}
		if f.Excerpt != "" {
			_, _ = fmt.Fprintf(s.Err, "    %s\n", strings.ReplaceAll(f.Excerpt, "\n", "\n    "))
		}
		if f.Next != "" {
			_, _ = fmt.Fprintf(s.Err, "  %s %s\n", caution.Render("next:"), f.Next)
		}
	}
}

// Say writes a line to standard error.
func (s *Screen) Say(format string, args ...any) { _, _ = fmt.Fprintf(s.Err, format+"\n", args...) }
