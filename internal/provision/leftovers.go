package provision

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
)

// unfinished is the note of an import under way. It is there as long as the
// import is neither through nor taken back; whoever finds it removes what the
// import left.
type unfinished struct {
	App     string        `json:"app"`
	Estate  string        `json:"estate"`
	Scripts []string      `json:"scripts"`
	Makes   []dbms.Object `json:"makes"`  // by the scripts
	Before  []dbms.Object `json:"before"` // in the database, before them
}

const unfinishedImports = "unfinished-imports"

func (r *run) unfinishedName(d *estate.Database) string {
	return r.where(r.view.entry.Address()) + "/" + d.Name
}

// noteUnfinished writes down what the scripts will make, before the first
// statement runs.
func (r *run) noteUnfinished(of *wantedScript) error {
	d := of.into
	note := unfinished{App: r.app.Name, Estate: r.Estate.Path}
	for _, s := range r.plan.scripts {
		if s.into != d {
			continue
		}
		note.Scripts = append(note.Scripts, s.Name)
		for object := range s.survey.Makes {
			note.Makes = append(note.Makes, object)
		}
	}
	for object := range r.plan.contents[d.Name].Objects() {
		note.Before = append(note.Before, object)
	}
	// The note is a file of its own, since it has to outlive the run: whoever comes to
	// this database next finds it, for whatever app.
	return r.State.SetNote(unfinishedImports, r.unfinishedName(d), note)
}

func (r *run) importIsOver(d *estate.Database) error {
	return r.State.DropNote(unfinishedImports, r.unfinishedName(d))
}

// endImports ends the sessions of an import that was cut off: the server may still be at
// work on a statement of it.
func (r *run) endImports(ctx context.Context, c *connection) {
	for _, d := range r.app.All() {
		var note unfinished
		name := r.where(c.entry.Address()) + "/" + d.Name
		if found, err := r.State.Note(unfinishedImports, name, &note); err != nil || !found {
			continue // an error comes up again where the note is needed
		}
		for _, account := range r.app.Accounts {
			for _, a := range r.accountsOf(account) {
				_ = c.admin.EndSessions(ctx, a) // there may be none
			}
		}
	}
}

// leftovers is what an import has left in a database that is taken back by another run.
type leftovers struct {
	in      *estate.Database
	objects map[dbms.Object]bool
}

// leftoversGone is one kind of change, see init.
var leftoversGone = effect.Define[*run, struct{}](&kinds, "leftovers")

func init() {
	leftoversGone.Means(effect.Spec[*run, struct{}]{
		Do: func(r *run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			of := d.Material.(*leftovers)
			if err := r.view.server.RemoveObjects(ctx, of.in.Name, of.objects, nil); err != nil {
				return "", err
			}
			return "", r.importIsOver(of.in)
		},
	})
}

// planCleaning removes what an import left that was cut off together with its
// undoing: the program was killed, or the server went away.
func (r *run) planCleaning(d *estate.Database) error {
	var note unfinished
	found, err := r.State.Note(unfinishedImports, r.unfinishedName(d), &note)
	if err != nil || !found {
		return err
	}
	left := map[dbms.Object]bool{}
	made := map[dbms.Object]bool{}
	for _, object := range note.Makes {
		made[object] = true
	}
	for object := range r.plan.contents[d.Name].Objects() {
		if made[object.AsMade(made, r.view.server.TableName)] && !slices.Contains(note.Before, object) {
			left[object] = true
		}
	}
	if len(left) == 0 {
		if r.options.DryRun {
			return nil
		}
		return r.importIsOver(d)
	}
	what := fmt.Sprintf("%s that an interrupted import of %s left", figures.Counted(len(left), "object", "objects"), strings.Join(note.Scripts, ", "))
	r.plan.change(Row{Step: stepSQL, Outcome: Fixed, Facts: "removed " + what}, leftoversGone.Of("the end of an interrupted import: "+what, struct{}{}, struct{}{}), &leftovers{d, left})
	// What follows is planned for a database without these.
	r.plan.contents[d.Name] = r.plan.contents[d.Name].Without(left)
	return nil
}
