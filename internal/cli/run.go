package cli

import (
	"yellowfield/internal/cli/render"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

// runDocument is the JSON document of provision and verify.
type runDocument struct {
	Command string        `json:"command"`
	Estate  string        `json:"estate"`
	DryRun  bool          `json:"dry_run"`
	Apps    []work.Result `json:"apps"`
	Exit    int           `json:"exit"`
}

// listen has the engine's events drawn as they come. Where a command is for several apps, one
// with nothing to tell is one line, and else only that is told, unless --details is given.
func (p *program) listen(engine *provision.Engine, command string, apps []*estate.App) {
	progress := render.NewProgress(p.screen)
	if p.verbose {
		engine.Trace = func(server string, statement dbms.Statement) {
			progress.Done()
			p.screen.Say("%s: %s", server, statement)
		}
	}
	if p.asJSON {
		return
	}
	if !p.quiet {
		engine.Progress = func(_ work.Header, now load.Progress) { progress.Update(now) }
	}
	brief := len(apps) > 1 && !p.details && !p.verbose
	width := 0
	for _, app := range apps {
		width = max(width, len(app.Name))
	}
	headed, fact, notes := "", "", 0
	engine.Begin = func(h work.Header) {
		fact, notes = "", 0
		if !p.quiet && !brief {
			p.screen.Header(h)
			headed = h.App
		}
	}
	engine.Row = func(h work.Header, row work.Row) {
		progress.Done()
		if p.quiet && (row.See != "" || !worthTelling(row.Outcome)) || brief && !isNews(command, row) && (headed != h.App || row.Outcome != work.Verified || row.Step != "login") {
			switch {
			case row.Outcome == work.Note:
				notes++
			case row.Outcome == work.Verified || fact == "":
				fact = row.Facts
			}
			return
		}
		if headed != h.App {
			p.screen.Header(h)
			headed = h.App
		}
		p.screen.Row(row)
	}
	engine.End = func(r work.Result) {
		progress.Done()
		switch {
		case p.quiet:
		case brief && headed != r.App:
			if notes > 0 {
				fact += "; " + figures.Counted(notes, "note", "notes") + ": --details"
			}
			p.screen.Brief(command, r, width, fact)
		default:
			p.screen.Blank()
		}
	}
}

// isNews reports whether a row is shown for one app among several.
func isNews(command string, row work.Row) bool {
	if row.See != "" {
		return false
	}
	switch row.Outcome {
	case work.Kept, work.Verified:
		return false
	case work.Note:
		// Such as a server that does not prove its identity. Where apps are frozen or retired,
		// every note is news.
		return row.Step == "server" || command == "move" || command == "retire" || command == "close" || command == "reopen"
	}
	return true
}

// worthTelling reports whether --quiet still shows a row.
func worthTelling(o work.Outcome) bool {
	switch o {
	case work.Failed, work.Refused, work.Differs, work.Undone, work.NotReached:
		return true
	}
	return false
}

// conclude renders the results and sets the exit code.
func (p *program) conclude(engine *provision.Engine, command string, dryRun bool, results []work.Result) error {
	p.exit = work.ExitCode(results)
	if p.asJSON {
		if results == nil {
			results = []work.Result{}
		}
		return printJSON(runDocument{Command: command, Estate: engine.Estate.Path, DryRun: dryRun, Apps: results, Exit: p.exit})
	}
	if !p.quiet {
		tells := render.ToldChanges
		switch {
		case dryRun && command == "import":
			tells = render.ToldReading
		case dryRun:
			tells = render.ToldPlan
		case command == "verify":
			tells = render.ToldComparison
		}
		p.screen.Summary(command, results, tells)
	}
	return nil
}
