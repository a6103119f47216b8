package cli

import (
	"yellowfield/internal/cli/render"
	"yellowfield/internal/dbms"
	"yellowfield/internal/load"
	"yellowfield/internal/provision"
)

// runDocument is the JSON document of provision and verify.
type runDocument struct {
	Command string             `json:"command"`
	Estate  string             `json:"estate"`
	DryRun  bool               `json:"dry_run"`
	Apps    []provision.Result `json:"apps"`
	Exit    int                `json:"exit"`
}

// listen has the engine's events drawn as they come.
func (p *program) listen(engine *provision.Engine) {
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
		engine.Progress = func(_ provision.Header, now load.Progress) { progress.Update(now) }
	}
	headed := ""
	engine.Begin = func(h provision.Header) {
		if !p.quiet {
			p.screen.Header(h)
			headed = h.App
		}
	}
	engine.Row = func(h provision.Header, row provision.Row) {
		progress.Done()
		if p.quiet {
			if !worthTelling(row.Outcome) {
				return
			}
			if headed != h.App {
				p.screen.Header(h)
				headed = h.App
			}
		}
		p.screen.Row(row)
	}
	engine.End = func(provision.Result) {
		progress.Done()
		if !p.quiet {
			p.screen.Blank()
		}
	}
}

// worthTelling is what --quiet still shows.
func worthTelling(o provision.Outcome) bool {
	switch o {
	case provision.Failed, provision.Refused, provision.Differs, provision.Undone, provision.NotReached:
		return true
	}
	return false
}

// conclude renders the results and sets the exit code.
func (p *program) conclude(engine *provision.Engine, command string, dryRun bool, results []provision.Result) error {
	p.exit = provision.ExitCode(results)
	if p.asJSON {
		if results == nil {
			results = []provision.Result{}
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
