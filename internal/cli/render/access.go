package render

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"charm.land/lipgloss/v2"

	"yellowfield/internal/access"
	"yellowfield/internal/figures"
)

// Access writes who can do what, what is unexpected first.
func (s *Screen) Access(report access.Report) {
	unexpected := 0
	for _, c := range report.Cells {
		if c.Unexpected == "" {
			continue
		}
		if unexpected++; unexpected == 1 {
			s.Title("unexpected", "")
		}
		s.printf("  %s can do %s on %s (%s)\n", accent.Render(c.Account), strong.Render(c.Rights()), strong.Render(c.Database), c.Server)
		s.accessDetail(bad.Render("why: ")+c.Unexpected, lipgloss.NewStyle())
		s.accessDetail("through: "+strings.Join(c.By, "; "), quiet)
		if c.Logins != "" {
			s.accessDetail("logins: "+c.Logins, quiet)
		}
	}
	if unexpected > 0 {
		s.Blank()
	}
	var rows [][]string
	for _, c := range report.Cells {
		if c.Unexpected == "" {
			rows = append(rows, []string{c.Server, c.Database, c.Account, c.Rights(), strings.Join(slices.Concat(c.By, prefixed("logins: ", c.Logins)), "; ")})
		}
	}
	if len(rows) > 0 {
		s.Title("as the estate file has it", "")
		s.accessTable(append([][]string{{"server", "database", "account", "rights", "through"}}, rows...))
		s.Blank()
	}
	for _, unseen := range report.Unseen {
		s.worded(caution.Render(pad("not seen", outcomeWidth)), unseen)
	}
	s.printf("%s\n", accessCounts(report.Cells))
}

func prefixed(lead, text string) []string {
	if text == "" {
		return nil
	}
	return []string{lead + text}
}

func (s *Screen) accessDetail(text string, style lipgloss.Style) {
	for _, line := range wrap(text, s.width-6) {
		s.block(6, style, line)
	}
}

// accessTable writes rows in columns, the last one wrapped.
func (s *Screen) accessTable(rows [][]string) {
	const widestColumn = 28
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = min(widestColumn, max(widths[i], lipgloss.Width(shown(cell))))
		}
	}
	left := 0
	for _, width := range widths[:len(widths)-1] {
		left += width + 2
	}
	const narrow = 20
	for n, row := range rows {
		style := lipgloss.NewStyle()
		if n == 0 {
			style = quiet
		}
		columns := make([][]string, len(row))
		height := 1
		for i, cell := range row {
			width := widths[i]
			if i == len(row)-1 {
				width = max(narrow, s.width-left)
			}
			columns[i] = wrap(shown(cell), width)
			height = max(height, len(columns[i]))
		}
		for line := range height {
			var text strings.Builder
			for i := range columns {
				cell := ""
				if line < len(columns[i]) {
					cell = columns[i][line]
				}
				if i < len(columns)-1 {
					cell = pad(cell, widths[i]) + "  "
				}
				text.WriteString(cell)
			}
			s.printf("%s\n", style.Render(strings.TrimRight(text.String(), " ")))
		}
	}
}

func accessCounts(cells []access.Cell) string {
	accounts, databases, unexpected := map[string]bool{}, map[string]bool{}, 0
	for _, c := range cells {
		accounts[c.Server+"/"+c.Account], databases[c.Server+"/"+c.Database] = true, true
		if c.Unexpected != "" {
			unexpected++
		}
	}
	return fmt.Sprintf("%s on %s: %d unexpected.", figures.Counted(len(accounts), "account", "accounts"), figures.Counted(len(databases), "database", "databases"), unexpected)
}

// AccessSince writes what has changed since an earlier look.
func (s *Screen) AccessSince(changes []access.Change) {
	for _, c := range changes {
		switch {
		case c.Before == nil:
			s.printf("  %s  %s on %s (%s): %s\n", added.Render(pad("new", outcomeWidth)), accent.Render(c.After.Account), c.After.Database, c.After.Server, c.After.Rights())
		case c.After == nil:
			s.printf("  %s  %s on %s (%s): %s\n", removed.Render(pad("gone", outcomeWidth)), accent.Render(c.Before.Account), c.Before.Database, c.Before.Server, c.Before.Rights())
		default:
			s.printf("  %s  %s on %s (%s): %s, was %s\n", caution.Render(pad("changed", outcomeWidth)), accent.Render(c.After.Account), c.After.Database, c.After.Server, accessWhole(*c.After), accessWhole(*c.Before))
		}
	}
	s.printf("%s\n", figures.Counted(len(changes), "change", "changes")+" since then.")
}

func accessWhole(c access.Cell) string {
	return c.Rights() + " through " + strings.Join(slices.Concat(c.By, prefixed("logins: ", c.Logins)), "; ")
}

// beginsFormula are the characters that a spreadsheet may take for the beginning of a formula,
// also in the width of East Asian text (OWASP, "CSV Injection").
const beginsFormula = "=+-@\t\r\n|%＝＋－＠％｜"

// AccessCSV writes a line for each cell. A text that a spreadsheet would take for a formula
// gets an apostrophe before it, since names come from the servers.
func AccessCSV(out io.Writer, cells []access.Cell) error {
	w := csv.NewWriter(out)
	_ = w.Write([]string{"server", "account", "database", "level", "privileges", "through", "logins", "unexpected", "account_app", "database_app"})
	for _, c := range cells {
		row := []string{c.Server, c.Account, c.Database, c.Level, strings.Join(c.Privileges, "; "), strings.Join(c.By, "; "), c.Logins, c.Unexpected, c.AccountApp, c.DatabaseApp}
		for i, text := range row {
			if first, _ := utf8.DecodeRuneInString(text); text != "" && (strings.ContainsRune(beginsFormula, first) || !unicode.IsPrint(first)) {
				text = "'" + text
			}
			row[i] = shown(text)
		}
		_ = w.Write(row)
	}
	w.Flush()
	return w.Error()
}
