package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/fault"
	"yellowfield/internal/work"
)

// Telling says what kind of run a summary is about.
type Telling int

// Kinds of runs.
const (
	ToldChanges    Telling = iota // something was to be changed
	ToldPlan                      // a dry run
	ToldReading                   // a dry run of an import: its command is at hand
	ToldComparison                // nothing was to be changed
)

// Summary writes what a run came to: how the apps stand, in what time, and
// what to do next.
func (s *Screen) Summary(command string, results []work.Result, tells Telling) {
	dryRun := tells == ToldPlan || tells == ToldReading
	if len(results) == 0 {
		s.printf("There is no app to work on.\n")
		return
	}
	s.afterBrief()
	counts := map[string]int{}
	for _, r := range results {
		counts[standing(command, r, dryRun)]++
	}
	var parts []string
	for _, word := range standings {
		if n := counts[word]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, word))
		}
	}
	noun := "apps"
	if len(results) == 1 {
		noun = "app"
	}
	s.printf("%s\n", strong.Render(fmt.Sprintf("%d %s: %s, in %.1f s.", len(results), noun, strings.Join(parts, ", "), time.Since(s.began).Seconds())))
	s.problems(results)
	for _, r := range results {
		if left := leftBehind(r); left != "" && tells == ToldChanges {
			for _, line := range wrap(r.App+": "+left, s.width) {
				s.printf("%s\n", line)
			}
		}
		if filled(r) && !dryRun && r.Exit == 0 && (command == "provision" || command == "import") {
			for _, note := range r.Notes {
				first := "Note: "
				if len(results) > 1 {
					first = "Note for " + r.App + ": "
				}
				for i, line := range wrap(note, s.width-len(first)) {
					lead := "      "
					if i == 0 {
						lead = first
					}
					s.printf("%s%s\n", lead, line)
				}
			}
		}
	}
	if tells != ToldReading {
		s.next(command, results, dryRun)
	}
}

// problems repeats what somebody has to do something about, where it could have scrolled away.
func (s *Screen) problems(results []work.Result) {
	if len(results) == 1 {
		return
	}
	const most = 20
	told := 0
	for _, r := range results {
		i := slices.IndexFunc(r.Rows, func(row work.Row) bool {
			return row.See == "" && (row.Outcome == work.Failed || row.Outcome == work.Refused || row.Outcome == work.Differs)
		})
		if r.Exit == 0 || i < 0 {
			continue
		}
		if told++; told > most {
			continue
		}
		lines := wrap(r.App+": "+r.Rows[i].Facts, s.width-4)
		if len(lines) > 1 {
			lines[0] += " ..."
		}
		s.printf("  %s\n", lines[0])
	}
	if told > most {
		s.printf("  and %d more\n", told-most)
	}
}

// filled tells whether a run put something into an app that its notes are
// about.
func filled(r work.Result) bool {
	return slices.ContainsFunc(r.Rows, func(row work.Row) bool {
		return row.Outcome == work.Imported || row.Outcome == work.Written
	})
}

const (
	wouldBe   = "would change"
	different = "with differences"
	broken    = "failed"
	refused   = "refused"
	waits     = "waiting for its installer"
)

// standingWords are what an app is when a command is through with it: changed, or found as it
// was to be.
var standingWords = map[string][2]string{
	"provision": {"provisioned", "unchanged"}, "import": {"imported", "unchanged"}, "close": {"closed", "closed"}, "reopen": {"open", "open"}, "rotate": {"rotated", "unchanged"},
	"move": {"moved", "unchanged"}, "copy": {"copied", "unchanged"}, "export": {"exported", "unchanged"}, "verify": {"verified", "verified"}, "": {"done", "unchanged"},
}

var standings = []string{"provisioned", "imported", "rotated", "moved", "copied", "exported", "done", "closed", "open", wouldBe, waits, "verified", "unchanged", different, refused, broken}

func standing(command string, r work.Result, dryRun bool) string {
	words, own := standingWords[command]
	if !own {
		words = standingWords[""]
	}
	switch {
	case r.Exit == fault.Busy.ExitCode() && slices.ContainsFunc(r.Rows, func(row work.Row) bool { return row.Outcome == work.Failed }):
		return broken
	case r.Exit == fault.Protected.ExitCode(), r.Exit == fault.Busy.ExitCode():
		return refused
	case r.Exit == 3:
		return different
	case r.Exit != 0:
		return broken
	case r.Changed && dryRun:
		return wouldBe
	case r.Waits:
		return waits
	case dryRun:
		return "unchanged"
	case r.Changed:
		return words[0]
	}
	return words[1]
}

// Brief writes one line of an app with nothing to tell.
func (s *Screen) Brief(command string, r work.Result, width int, fact string) {
	word := standing(command, r, false)
	style := quiet
	switch word {
	case waits:
		word, style = "waiting", caution
	case broken:
		style = bad
	}
	lines := wrap(fact, s.width-width-4-len(word))
	if len(lines) > 1 {
		lines[0] += " ..."
	}
	s.printf("%s  %s  %s\n", accent.Render(pad(r.App, width)), style.Render(word), lines[0])
	s.brief = true
}

// afterBrief separates what follows from such lines.
func (s *Screen) afterBrief() {
	if s.brief {
		s.Blank()
	}
	s.brief = false
}

// leftBehind says, for a run that did not succeed, what state the app is in now.
func leftBehind(r work.Result) string {
	if r.Exit == 0 {
		return ""
	}
	undone, made := 0, 0
	for _, row := range r.Rows {
		switch {
		case row.Outcome == work.Undone:
			undone++
		case slices.Contains([]work.Outcome{work.Made, work.Fixed, work.Imported, work.Written, work.Changed, work.Removed}, row.Outcome):
			made++
		}
	}
	switch {
	case r.UndoIncomplete:
		return "what could not be undone is named above."
	case made == 0 && undone == 0 && r.ForAWhile:
		return "nothing is left behind."
	case made == 0 && undone == 0:
		return "nothing was touched."
	case r.Exit == 3:
		return ""
	case undone >= made:
		return "nothing is left behind."
	}
	return "what was made before the failure stands."
}

// quoted is a path as a shell takes it.
func quoted(path string) string {
	if strings.IndexFunc(path, func(c rune) bool {
		return !strings.ContainsRune("-_./+=:@,", c) && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z')
	}) < 0 {
		return path
	}
	return "'" + strings.ReplaceAll(path, "'", `'\''`) + "'"
}

// next names the commands that come next.
func (s *Screen) next(command string, results []work.Result, dryRun bool) {
	type step struct{ command, why string }
	var steps []step
	add := func(command, why string) {
		if s.Estate != "" {
			command += " --estate " + quoted(s.Estate)
		}
		steps = append(steps, step{"yellowfield " + command, why})
	}
	var would, failed []string
	for _, r := range results {
		switch {
		case r.Exit == 0 && dryRun && r.Changed && command != "history" && command != "retire" && command != "copy":
			would = append(would, r.App)
		case r.Exit == 0 && r.Waits && !dryRun:
			add("connection "+r.App, "what to type into its installer")
		case r.Exit != 0:
			failed = append(failed, r.App)
		}
		for _, account := range r.Pending {
			if r.Changed && r.Exit == 0 && command == "provision" {
				add("connection "+r.App+" --account "+account+" --reveal", "collect its password: "+account)
			}
		}
	}
	if len(would) > 0 {
		add(command+" "+strings.Join(would, " "), "does it")
	}
	switch {
	case len(failed) == 0 || len(results) == 1:
	case command == "verify":
		add("verify --only-failed --details", "all that is known of them")
	case command == "provision":
		add("provision "+strings.Join(failed, " "), "when the cause is mended")
	}
	width := 0
	for _, st := range steps {
		width = max(width, len(st.command))
	}
	for i, st := range steps {
		lead := "      "
		if i == 0 {
			lead = "Next: "
		}
		if len("Next: ")+width+2+len(st.why) > s.width { // no room for two columns
			s.printf("%s%s\n        %s\n", lead, accent.Render(st.command), st.why)
			continue
		}
		s.printf("%s%s  %s\n", lead, accent.Render(pad(st.command, width)), st.why)
	}
}
