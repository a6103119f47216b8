package render

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

// Title writes a heading with a remark at the right.
func (s *Screen) Title(text, right string) {
	gap := max(2, s.width-ansi.StringWidth(text)-ansi.StringWidth(right))
	s.printf("%s%s%s\n", accent.Render(text), strings.Repeat(" ", gap), quiet.Render(right))
}

// Setting is one row of SettingsFile.
type Setting struct {
	Line                          int
	Address, Role, Value, Refusal string
	Commented                     bool
}

const (
	narrowestAddress = 20
	valueRoom        = 24 // columns that are left for values at least
)

// SettingsFile writes a file's settings: line, role, address, value, and why
// one cannot be written if that is so.
func (s *Screen) SettingsFile(path, syntax string, rows []Setting) {
	s.Title(path, syntax)
	width := narrowestAddress
	for _, row := range rows {
		width = max(width, ansi.StringWidth(row.Address))
	}
	const lineWidth = 18 // of line and role
	width = min(width, s.width-lineWidth-2-valueRoom)
	for _, row := range rows {
		value := strings.Join(strings.Fields(row.Value), " ")
		switch {
		case row.Refusal != "":
			value += "  (" + row.Refusal + ")"
		case row.Commented:
			value += "  (in a comment)"
		}
		value = ansi.Truncate(value, s.width-lineWidth-width-2, "...")
		if row.Refusal != "" || row.Commented {
			value = quiet.Render(value)
		}
		address := pad(row.Address, width)
		if ansi.StringWidth(row.Address) > width { // it stands alone, the value below it
			address = row.Address + "\n" + strings.Repeat(" ", lineWidth+width)
		}
		s.printf("%s  %s  %s\n", quiet.Render(fmt.Sprintf("%6d  %-8s", row.Line, row.Role)), address, value)
	}
}

// Edit writes what became of an edit.
func (s *Screen) Edit(e *provision.Edit, dryRun bool) {
	row := work.Row{Step: "settings", Outcome: work.Written, Facts: nearby(fault.Place{File: e.Path})}
	switch {
	case !e.Changed:
		row.Outcome, row.Facts = work.Kept, row.Facts+" says so already"
	case dryRun:
		row.Outcome, row.Diff = "would write", e.Diff
	}
	s.Row(row)
	if e.Copy != "" {
		s.block(detailColumn, quiet, "the old content is in "+e.Copy)
	}
}
