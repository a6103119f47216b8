package render

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
)

// Title writes a heading with a remark at the right.
func (s *Screen) Title(text, right string) {
	gap := max(2, s.width-ansi.StringWidth(text)-ansi.StringWidth(right))
	s.printf("%s%s%s\n", accent.Render(text), strings.Repeat(" ", gap), quiet.Render(right))
}

const addressWidth = 34

// Setting writes one setting: line, address, value, and why it cannot be
// written if that is so.
func (s *Screen) Setting(line int, address, value, refusal string) {
	value = strings.Join(strings.Fields(value), " ")
	if refusal != "" {
		value += "  (" + refusal + ")"
	}
	room := s.width - 7 - max(addressWidth, ansi.StringWidth(address)) - 2
	if room < narrowest/4 { // a long address stands alone
		s.printf("%s %s\n", quiet.Render(fmt.Sprintf("%5d ", line)), address)
		address, room = "", s.width-7-addressWidth-2
		s.printf("       %s  %s\n", pad(address, addressWidth), styledValue(ansi.Truncate(value, room, "..."), refusal))
		return
	}
	s.printf("%s %s  %s\n", quiet.Render(fmt.Sprintf("%5d ", line)), pad(address, addressWidth), styledValue(ansi.Truncate(value, room, "..."), refusal))
}

func styledValue(value, refusal string) string {
	if refusal != "" {
		return quiet.Render(value)
	}
	return value
}

// Edit writes what became of an edit.
func (s *Screen) Edit(e *provision.Edit, dryRun bool) {
	row := provision.Row{Step: "settings", Outcome: provision.Written, Facts: nearby(fault.Place{File: e.Path})}
	switch {
	case !e.Changed:
		row.Outcome, row.Facts = provision.Kept, row.Facts+" says so already"
	case dryRun:
		row.Outcome, row.Diff = "would write", e.Diff
	}
	s.Row(row)
	if e.Copy != "" {
		s.block(detailColumn, quiet, "the old content is in "+e.Copy)
	}
}
