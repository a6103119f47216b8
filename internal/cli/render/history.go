package render

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"yellowfield/internal/figures"
	"yellowfield/internal/state"
)

// History writes runs, the newest first: a line each, and below it what went wrong, or every
// step.
func (s *Screen) History(runs []state.Record, steps bool) {
	if len(runs) == 0 {
		s.printf("Nothing was done yet.\n")
		return
	}
	appWidth, commandWidth := 0, 0
	for _, run := range runs {
		appWidth, commandWidth = max(appWidth, len(run.App)), max(commandWidth, len(run.Command))
	}
	const resultWidth = 8
	for _, run := range runs {
		line := fmt.Sprintf("%s  %s  %s  %s %6.1f s  %s", quiet.Render(run.Began.Local().Format("2006-01-02 15:04:05")), accent.Render(pad(run.App, appWidth)),
			pad(run.Command, commandWidth), resultStyle(run.Result).Render(pad(string(run.Result), resultWidth)), run.Seconds, quiet.Render(run.Who))
		s.printf("%s\n", strings.TrimRight(line, " "))
		if steps {
			s.printf("  %s  %s\n", pad("run", outcomeWidth), run.ID)
		}
		for _, step := range run.Steps {
			if !steps && step.Event != state.Failed && step.Event != state.Undone && (run.Result != state.WasCutOff || step.Event != state.Intended) {
				continue
			}
			s.step(step)
		}
		for _, kept := range run.Copies {
			until := ""
			if kept.Until != nil {
				until = " until " + kept.Until.Local().Format(time.DateOnly)
			}
			s.printf("  %s  %s  of %s, %s bytes,%s in\n", pad("kept", outcomeWidth), pad("copy", stepWidth), kept.Of, figures.Thousands(kept.Bytes), until)
			s.printf("%s%s\n", strings.Repeat(" ", detailColumn), quiet.Render(kept.Path)) // a path to copy stays on its line
		}
	}
}

func (s *Screen) step(step state.StepRecord) {
	words := map[state.Event]string{state.Intended: "begun", state.Done: "done", state.Failed: "failed", state.Undone: "undone"}
	style := lipgloss.NewStyle()
	if step.Event == state.Failed || step.Event == state.Intended {
		style = bad
	}
	facts := strings.TrimPrefix(strings.TrimPrefix(step.Object, step.Step+" of "), step.Step+" ")
	if step.Detail != "" {
		facts += ": " + step.Detail
	}
	lines := wrap(facts, s.width-factsColumn)
	s.printf("  %s  %s  %s\n", style.Render(pad(words[step.Event], outcomeWidth)), pad(step.Step, stepWidth), lines[0])
	for _, more := range lines[1:] {
		s.printf("%s%s\n", strings.Repeat(" ", factsColumn), more)
	}
}

func resultStyle(r state.Result) lipgloss.Style {
	switch r {
	case state.WasFailed, state.WasCutOff:
		return bad
	case state.IsAtWork:
		return caution
	}
	return lipgloss.NewStyle()
}
