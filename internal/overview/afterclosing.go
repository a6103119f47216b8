package overview

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/discover/facts"
	"yellowfield/internal/fault"
	"yellowfield/internal/website"
	"yellowfield/internal/work"
)

// AskWebSite asks the application's site for its installer, which is gone by now: another
// rule of the web server, or another folder, may have one still.
func AskWebSite(r *work.Run, ctx context.Context) {
	if r.App.URL == "" {
		return
	}
	for _, name := range r.App.InstallerFiles {
		nothing, err := website.AskForNothing(ctx, r.App.URL, name)
		answer := nothing
		if err == nil {
			answer, err = website.Ask(ctx, r.App.URL, name)
		}
		switch difference := answer.Difference(nothing); {
		case err != nil:
			r.Tell(work.Row{Step: work.StepInstaller, Outcome: work.Note, Facts: fmt.Sprintf("%s could not be asked for %s: %v", r.App.URL, name, err), Remedy: "look there with a browser"})
			return
		case difference != "":
			r.Tell(work.Row{Step: work.StepInstaller, Outcome: work.Note, Facts: fmt.Sprintf("%s still answers to %s: %s", r.App.URL, name, difference), Remedy: "look there with a browser: it may come from another folder"})
		default:
			r.Tell(work.Row{Step: work.StepInstaller, Outcome: work.Verified, Facts: fmt.Sprintf("%s answers to %s as to any name that is not there", r.App.URL, name)})
		}
	}
}

// needs are the privileges for what code may do to tables.
var needs = map[string]string{"CREATE": "CREATE", "ALTER": "ALTER", "DROP": "DROP", "TRUNCATE": "DROP"}

// TellCodeThatDefines names places in the application's code that make, alter or drop
// tables, and that the rights of a closed app refuse.
func TellCodeThatDefines(r *work.Run, ctx context.Context) {
	running := r.View.Server.Resolve(r.App.Accounts[0].Rights.Running, r.Plan.Contents[r.App.Database.Name])
	structure := r.View.Server.Resolve([]string{dbms.LevelStructure}, dbms.Contents{})
	if r.Options.Turn.Overdue || !r.HasFolder() || !r.Result.Changed || len(structure.Minus(running)) == 0 {
		return
	}
	found, err := facts.Definitions(ctx, r.App.Folder, r.App.InstallerFiles)
	if err != nil {
		r.Tell(work.Row{Step: work.StepCode, Outcome: work.Note, Facts: "the application's code could not be looked through: " + fault.As(err).What})
		return
	}
	var places, privileges []string
	for _, d := range found {
		if need := needs[d.Verb]; !running.Has(need) {
			places = append(places, d.String()+" ("+d.Verb+")")
			if !slices.Contains(privileges, need) {
				privileges = append(privileges, need)
			}
		}
	}
	if len(places) == 0 {
		return
	}
	remedy := "if it has to while it runs, add them: rights: {running: [rows, " + strings.Join(privileges, ", ") + "]}"
	if !r.View.Server.About().Product.Traits().Privileges {
		remedy = "if it has to while it runs, it needs rights: {running: structure}"
	}
	r.Tell(work.Row{Step: work.StepCode, Outcome: work.Note, Facts: "closed rights refuse what its code does to tables in " + work.JoinSome(places), Remedy: remedy})
}
