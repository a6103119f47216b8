package render

import (
	"path/filepath"
	"strings"

	"yellowfield/internal/propose"
)

// Proposal writes an entry for the estate file as it would stand there, with
// its remarks in the background, and what to do with it.
func (s *Screen) Proposal(p *propose.Proposal, written *propose.Written, short bool) {
	if !short || written == nil {
		if p.NewServer != "" {
			s.printf("servers:\n  %s:\n", accent.Render(p.Server))
			s.yaml(4, p.NewServer)
			s.Blank()
		}
		s.printf("apps:\n  %s:\n", accent.Render(p.App))
		s.yaml(4, p.Entry)
	}
	for _, other := range p.Others {
		s.Say("Note: app %s of the estate file has this folder already.", other)
	}
	if short {
		return
	}
	if written != nil {
		to := "added to "
		if written.New {
			to = "written to the new file "
		}
		s.Say("\n%s %s%s.\nNext: yellowfield provision %s --dry-run", p.App, to, filepath.Base(written.Path), p.App)
		return
	}
	if p.Missing != "" {
		s.Say("\nNothing was written, and --write could not: %s.", p.Missing)
		return
	}
	s.Say("\nNothing was written; --write adds this to the estate file.")
}

// yaml writes lines of YAML with their comments in the background.
func (s *Screen) yaml(indent int, text string) {
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		value, remark := line, ""
		if i := strings.Index(line, "# "); i == 0 || i > 0 && line[i-1] == ' ' {
			value, remark = line[:i], line[i:]
		}
		if remark != "" {
			remark = quiet.Render(remark)
		}
		s.printf("%s%s%s\n", strings.Repeat(" ", indent), value, remark)
	}
}
