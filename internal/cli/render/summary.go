package render

import (
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
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
func (s *Screen) Summary(command string, results []provision.Result, tells Telling) {
	dryRun := tells == ToldPlan || tells == ToldReading
	if len(results) == 0 {
		s.printf("There is no app to work on.\n")
		return
	}
	seconds := 0.0
	counts := map[string]int{}
	for _, r := range results {
		seconds += r.Seconds
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
	s.printf("%s\n", strong.Render(fmt.Sprintf("%d %s: %s, in %.1f s.", len(results), noun, strings.Join(parts, ", "), seconds)))
	for _, r := range results {
		if left := leftBehind(r); left != "" && tells == ToldChanges {
			for _, line := range wrap(r.App+": "+left, s.width) {
				s.printf("%s\n", line)
			}
		}
		if filled(r) && !dryRun && r.Exit == 0 && (command == "provision" || command == "import") {
			for _, note := range r.Notes {
				for i, line := range wrap(note, s.width-6) {
					lead := "      "
					if i == 0 {
						lead = "Note: "
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

// filled tells whether a run put something into an app that its notes are
// about.
func filled(r provision.Result) bool {
	return slices.ContainsFunc(r.Rows, func(row provision.Row) bool {
		return row.Outcome == provision.Imported || row.Outcome == provision.Written
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

func standing(command string, r provision.Result, dryRun bool) string {
	words, own := standingWords[command]
	if !own {
		words = standingWords[""]
	}
	switch {
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

// leftBehind says, for a run that did not succeed, what stands now.
func leftBehind(r provision.Result) string {
	if r.Exit == 0 {
		return ""
	}
	undone, made := 0, 0
	for _, row := range r.Rows {
		switch {
		case row.Outcome == provision.Undone:
			undone++
		case row.Outcome == provision.Made || row.Outcome == provision.Fixed || row.Outcome == provision.Imported || row.Outcome == provision.Written:
			made++
		}
	}
	switch {
	case r.Stuck:
		return "what could not be undone is named above."
	case made == 0 && undone == 0:
		return "nothing was touched."
	case r.Exit == 3:
		return ""
	case undone >= made:
		return "nothing is left behind."
	}
	return "what was made before the failure stands."
}

// next names the commands that come next.
func (s *Screen) next(command string, results []provision.Result, dryRun bool) {
	type step struct{ command, why string }
	var steps []step
	for _, r := range results {
		switch {
		case r.Exit == 0 && dryRun && r.Changed && command != "history" && command != "retire" && command != "copy":
			steps = append(steps, step{"yellowfield " + command + " " + r.App, "does it"})
		case r.Exit == 0 && r.Waits && !dryRun:
			steps = append(steps, step{"yellowfield connection " + r.App, "what to type into its installer"})
		}
		for _, account := range r.Pending {
			if r.Changed && r.Exit == 0 && command == "provision" {
				steps = append(steps, step{"yellowfield connection " + r.App + " --account " + account + " --reveal", "collect its password: " + account})
			}
		}
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
