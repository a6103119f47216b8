package render

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"

	"yellowfield/internal/estate"
	"yellowfield/internal/inspect"
	"yellowfield/internal/overview"
	"yellowfield/internal/work"
)

// Inspected writes what was found on a server: facts, then findings, the gravest first. With
// onlyGrave facts and what is merely good to know are left out.
func (s *Screen) Inspected(found overview.Inspected, onlyGrave bool) {
	s.Title(found.Server, found.About)
	if found.Problem != "" {
		s.worded(bad.Render(pad("unseen", outcomeWidth)), found.Problem)
		s.detail("next: " + found.Remedy)
		s.Blank()
		return
	}
	if !onlyGrave {
		var facts [][2]string
		for _, fact := range found.Facts {
			facts = append(facts, [2]string{fact.Name, fact.Text})
		}
		s.Facts(facts)
		s.Blank()
	}
	counts := map[estate.Severity]int{}
	for _, f := range found.Findings {
		counts[f.Severity]++
		if onlyGrave && f.Severity == estate.GoodToKnow {
			continue
		}
		s.Finding(f)
	}
	for _, unseen := range found.Unseen {
		s.worded(quiet.Render(pad("not seen", outcomeWidth)), unseen)
	}
	var parts []string
	for _, severity := range []estate.Severity{estate.MustFix, estate.ShouldLook, estate.GoodToKnow} {
		if n := counts[severity]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, severity))
		}
	}
	if len(parts) == 0 {
		parts = []string{"nothing found"}
	}
	s.printf("\n%s: %s.\n\n", found.Server, strings.Join(parts, ", "))
}

// Facts writes names and what belongs to them, but for those that nothing belongs to.
func (s *Screen) Facts(facts [][2]string) {
	width := 0
	for _, fact := range facts {
		width = max(width, lipgloss.Width(fact[0]))
	}
	for _, fact := range facts {
		if fact[1] == "" {
			continue
		}
		for i, line := range wrap(fact[1], s.width-width-4) {
			name := ""
			if i == 0 {
				name = fact[0]
			}
			s.printf("  %s  %s\n", quiet.Render(pad(name, width)), line)
		}
	}
}

// Finding writes one with its evidence, why it matters and what to do.
func (s *Screen) Finding(f inspect.Finding) {
	style := quiet
	switch f.Severity {
	case estate.MustFix:
		style = bad
	case estate.ShouldLook:
		style = caution
	}
	on := f.On
	if f.App != "" {
		on += " (app " + f.App + ")"
	}
	s.worded(style.Render(pad(string(f.Severity), outcomeWidth)), strong.Render(string(f.Kind))+"  "+on)
	s.detail(f.Evidence)
	for _, line := range wrap(f.Why, s.width-detailColumn) {
		s.block(detailColumn, quiet, line)
	}
	s.detail("next: " + f.Remedy)
	for _, statement := range f.Shown {
		s.block(detailColumn+2, lipgloss.NewStyle(), statement+";")
	}
}

// worded writes a line with a word before it.
func (s *Screen) worded(word, text string) {
	for i, line := range wrap(text, s.width-detailColumn) {
		if i > 0 {
			word = pad("", outcomeWidth)
		}
		s.printf("  %s  %s\n", word, line)
	}
}

// detail writes text below a finding.
func (s *Screen) detail(text string) {
	for _, line := range wrap(text, s.width-detailColumn) {
		s.block(detailColumn, lipgloss.NewStyle(), line)
	}
}

// Mended sums up work on servers as a whole, and says what comes next.
func (s *Screen) Mended(results []work.Result, command string, dryRun bool, narrowed string) {
	for _, r := range results {
		var parts []string
		for _, of := range []struct {
			outcome work.Outcome
			word    string
		}{{work.Fixed, "mended"}, {"would fix", "would be mended"}, {work.Undone, "taken back"}, {"would undo", "would be taken back"},
			{work.Kept, "left as found"}, {work.Note, "to be mended by hand"}, {work.Refused, "refused"}, {work.Failed, "failed"}} {
			n := 0
			for _, row := range r.Rows {
				if row.Outcome == of.outcome {
					n++
				}
			}
			if n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, of.word))
			}
		}
		if len(parts) == 0 {
			parts = []string{"nothing to be done"}
		}
		s.printf("%s\n", strong.Render(r.Server+": "+strings.Join(parts, ", ")+"."))
		if command == "inspect" && dryRun && r.Changed {
			s.printf("Next: %s\n", accent.Render("yellowfield inspect "+r.Server+" --fix"+narrowed))
		}
		if command == "inspect" && !dryRun && r.Changed && r.Undoable {
			s.printf("Next: %s  takes it back\n", accent.Render("yellowfield history --undo "+r.Run))
		}
	}
}
