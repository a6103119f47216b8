package provision

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/discover"
	"yellowfield/internal/fault"
	"yellowfield/internal/website"
)

// askWebSite asks the application's site for its installer, which is gone by now: another
// rule of the web server, or another folder, may have one still.
func (r *run) askWebSite(ctx context.Context) {
	if r.app.URL == "" {
		return
	}
	for _, name := range r.app.InstallerFiles {
		nothing, err := website.AskForNothing(ctx, r.app.URL, name)
		answer := nothing
		if err == nil {
			answer, err = website.Ask(ctx, r.app.URL, name)
		}
		switch difference := answer.Difference(nothing); {
		case err != nil:
			r.tell(Row{Step: stepInstaller, Outcome: Note, Facts: fmt.Sprintf("%s could not be asked for %s: %v", r.app.URL, name, err), Remedy: "look there with a browser"})
			return
		case difference != "":
			r.tell(Row{Step: stepInstaller, Outcome: Note, Facts: fmt.Sprintf("%s still answers to %s: %s", r.app.URL, name, difference), Remedy: "look there with a browser: it may come from another folder"})
		default:
			r.tell(Row{Step: stepInstaller, Outcome: Verified, Facts: fmt.Sprintf("%s answers to %s as to any name that is not there", r.app.URL, name)})
		}
	}
}

// needs are the privileges for what code may do to tables.
var needs = map[string]string{"CREATE": "CREATE", "ALTER": "ALTER", "DROP": "DROP", "TRUNCATE": "DROP"}

// tellCodeThatDefines names places in the application's code that make, alter or drop
// tables, and that the rights of a closed app refuse.
func (r *run) tellCodeThatDefines(ctx context.Context) {
	running := r.view.server.Resolve(r.app.Accounts[0].Rights.Running, r.plan.contents[r.app.Database.Name])
	structure := r.view.server.Resolve([]string{dbms.LevelStructure}, dbms.Contents{})
	if r.options.Turn.Overdue || !r.hasFolder() || !r.result.Changed || len(structure.Minus(running)) == 0 {
		return
	}
	found, err := discover.Definitions(ctx, r.app.Folder, r.app.InstallerFiles)
	if err != nil {
		r.tell(Row{Step: stepCode, Outcome: Note, Facts: "the application's code could not be looked through: " + fault.As(err).What})
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
	if !r.view.server.About().Product.Traits().Privileges {
		remedy = "if it has to while it runs, it needs rights: {running: structure}"
	}
	r.tell(Row{Step: stepCode, Outcome: Note, Facts: "closed rights refuse what its code does to tables in " + some(places), Remedy: remedy})
}
