package content

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/work"
)

// Unfinished is the note of an import under way. It is there as long as the
// import is neither through nor taken back; whoever finds it removes what the
// import left.
type Unfinished struct {
	App     string        `json:"app"`
	Estate  string        `json:"estate"`
	Scripts []string      `json:"scripts"`
	Makes   []dbms.Object `json:"makes"`  // by the scripts
	Before  []dbms.Object `json:"before"` // in the database, before them
}

const UnfinishedImports = "unfinished-imports"

func UnfinishedName(r *work.Run, d *estate.Database) string {
	return r.Where(r.View.Entry.Address()) + "/" + d.Name
}

// NoteUnfinished writes down what the scripts will make, before the first
// statement runs.
func NoteUnfinished(r *work.Run, of *work.WantedScript) error {
	d := of.Into
	note := Unfinished{App: r.App.Name, Estate: r.Estate.Path}
	for _, s := range r.Plan.Scripts {
		if s.Into != d {
			continue
		}
		note.Scripts = append(note.Scripts, s.Name)
		for object := range s.Survey.Makes {
			note.Makes = append(note.Makes, object)
		}
	}
	for object := range r.Plan.Contents[d.Name].Objects() {
		note.Before = append(note.Before, object)
	}
	// The note is a file of its own, since it has to outlive the run: whoever comes to this
	// database next finds it, whichever app that is for.
	return r.State.SetNote(UnfinishedImports, UnfinishedName(r, d), note)
}

func ImportIsOver(r *work.Run, d *estate.Database) error {
	return r.State.DropNote(UnfinishedImports, UnfinishedName(r, d))
}

// EndImports ends the sessions of an import that was cut off: the server may still be at
// work on a statement of it.
func EndImports(r *work.Run, ctx context.Context, c *work.Connection) {
	for _, d := range r.App.All() {
		var note Unfinished
		name := r.Where(c.Entry.Address()) + "/" + d.Name
		if found, err := r.State.Note(UnfinishedImports, name, &note); err != nil || !found {
			continue // an error comes up again where the note is needed
		}
		for _, account := range r.App.Accounts {
			for _, a := range r.AccountsOf(account) {
				_ = c.Admin.EndSessions(ctx, a) // there may be none
			}
		}
	}
}

// leftovers is what an interrupted import has left in a database and another run removes.
type leftovers struct {
	in      *estate.Database
	objects map[dbms.Object]bool
}

// leftoversGone is one kind of change, see init.
var leftoversGone = effect.Define[*work.Run, struct{}](&work.Kinds, "leftovers")

func init() {
	leftoversGone.Means(effect.Spec[*work.Run, struct{}]{
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			of := d.Material.(*leftovers)
			if err := r.View.Server.RemoveObjects(ctx, of.in.Name, of.objects, nil); err != nil {
				return "", err
			}
			return "", ImportIsOver(r, of.in)
		},
	})
}

// PlanCleaning removes what an import left that was cut off together with its
// undoing: the program was killed, or the server went away.
func PlanCleaning(r *work.Run, d *estate.Database) error {
	var note Unfinished
	found, err := r.State.Note(UnfinishedImports, UnfinishedName(r, d), &note)
	if err != nil || !found {
		return err
	}
	left := map[dbms.Object]bool{}
	made := map[dbms.Object]bool{}
	for _, object := range note.Makes {
		made[object] = true
	}
	for object := range r.Plan.Contents[d.Name].Objects() {
		if made[object.AsMade(made, r.View.Server.TableName)] && !slices.Contains(note.Before, object) {
			left[object] = true
		}
	}
	if len(left) == 0 {
		if r.Options.DryRun {
			return nil
		}
		return ImportIsOver(r, d)
	}
	what := fmt.Sprintf("%s that an interrupted import of %s left", figures.Counted(len(left), "object", "objects"), strings.Join(note.Scripts, ", "))
	r.Plan.Change(work.Row{Step: work.StepSQL, Outcome: work.Fixed, Facts: "removed " + what}, leftoversGone.Of("the end of an interrupted import: "+what, struct{}{}, struct{}{}), &leftovers{d, left})
	// What follows is planned for a database without these.
	r.Plan.Contents[d.Name] = r.Plan.Contents[d.Name].Without(left)
	return nil
}
