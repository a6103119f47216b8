package render

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/overview"
)

// List writes a line for each app, and below it what needs somebody.
func (s *Screen) List(apps []overview.Listed) {
	if len(apps) == 0 {
		s.printf("There is no such app.\n")
		return
	}
	rows := [][]string{{"app", "server", "state", "verified", "password", "labels"}}
	for _, a := range apps {
		rows = append(rows, []string{a.App, a.Server, string(a.State), verified(a), passwordAge(a), strings.Join(a.Labels, ", ")})
	}
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}
	for n, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			style := lipgloss.NewStyle()
			switch {
			case n == 0:
				style = quiet
			case i == 0:
				style = accent
			case i == 2:
				style = stateStyle(apps[n-1])
			case i == 3 && apps[n-1].VerifiedExit != 0:
				style = caution
			}
			if i < len(row)-1 {
				cell = pad(cell, widths[i]) + "  "
			}
			line.WriteString(style.Render(cell))
		}
		s.printf("%s\n", strings.TrimRight(line.String(), " "))
		if n > 0 {
			s.needs(apps[n-1])
		}
	}
	s.printf("\n%s\n", counted(apps))
}

// needs writes what requires attention.
func (s *Screen) needs(a overview.Listed) {
	tell := func(text string) {
		for i, line := range wrap(text, s.width-4) {
			indent := "  "
			if i > 0 {
				indent = "    "
			}
			s.printf("%s%s\n", indent, line)
		}
	}
	if a.Problem != "" {
		tell(bad.Render("cannot be looked at: ") + a.Problem)
		if a.Remedy != "" {
			tell("next: " + a.Remedy)
		}
	}
	if a.OpenUntil != nil {
		when := a.OpenUntil.Local().Format("2006-01-02 15:04")
		if a.IsOverdue() {
			tell(bad.Render("overdue: ") + "it was to be closed at " + when + "; next: yellowfield close " + a.App)
		} else {
			tell("open until " + when)
		}
	}
	if a.Unfinished != "" {
		tell(caution.Render("unfinished: ") + a.Unfinished + "; next: yellowfield provision " + a.App + " goes on with it")
	}
}

func stateStyle(a overview.Listed) lipgloss.Style {
	switch {
	case a.State == overview.IsUnknown:
		return bad
	case a.State == overview.IsOpen, a.State == overview.IsWaiting:
		return caution
	case a.State == overview.IsRetired, a.State == overview.IsAbsent:
		return quiet
	}
	return lipgloss.NewStyle()
}

func verified(a overview.Listed) string {
	if a.Verified == nil {
		return "never"
	}
	ended := ""
	switch a.VerifiedExit {
	case 0:
	case fault.Differs.ExitCode():
		ended = ", differs"
	default:
		ended = ", failed"
	}
	return ago(time.Since(*a.Verified)) + ended
}

// ago is a time that has passed, in its largest unit.
func ago(passed time.Duration) string {
	for _, unit := range []struct {
		of        time.Duration
		one, many string
	}{{24 * time.Hour, "day", "days"}, {time.Hour, "hour", "hours"}, {time.Minute, "minute", "minutes"}} {
		if n := int(passed / unit.of); n > 0 {
			return figures.Counted(n, unit.one, unit.many) + " ago"
		}
	}
	return "just now"
}

func passwordAge(a overview.Listed) string {
	if a.PasswordDays == nil {
		return "-"
	}
	if *a.PasswordDays == 0 {
		return "today"
	}
	return figures.Counted(*a.PasswordDays, "day", "days")
}

// counted is how many apps are in which state.
func counted(apps []overview.Listed) string {
	counts := map[overview.AppState]int{}
	for _, a := range apps {
		counts[a.State]++
	}
	var parts []string
	for _, state := range []overview.AppState{overview.IsOpen, overview.IsClosed, overview.IsReady, overview.IsWaiting, overview.IsAbsent, overview.IsRetired, overview.IsUnknown} {
		if n := counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return figures.Counted(len(apps), "app", "apps") + ": " + strings.Join(parts, ", ") + "."
}
