package steps

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"time"

	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/work"
)

// PlanDeadline tells of an app that is open for longer than it was to be.
func PlanDeadline(r *work.Run, _ context.Context) error {
	until, err := OpenUntil(r)
	if err != nil || until.IsZero() || r.Options.Turn != nil {
		return err
	}
	when := until.Local().Format("2006-01-02 15:04")
	switch {
	case !r.Plan.Open: // the rights were lowered by hand, or by a close that was cut off
	case time.Now().After(until):
		r.Plan.Differs(work.StepState, estate.MustFix, "yellowfield close "+r.App.Name, "it is open, and was to be closed at "+when)
	default:
		r.Plan.Note(work.StepState, "", "open until "+when)
	}
	return nil
}

// PlanInstallerFiles has the installer and its samples moved away when the app is closed,
// and names them where they are in a closed one.
func PlanInstallerFiles(r *work.Run, _ context.Context) error {
	if r.Plan.Absent || len(r.App.InstallerFiles) == 0 || r.Options.Turn != nil && !r.Options.Turn.Close {
		return nil
	}
	files, err := r.Files()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range r.App.InstallerFiles {
		path := r.App.InFolder(strings.TrimSuffix(name, "/"))
		switch {
		case !files.Exists(path):
		case r.Options.Turn != nil:
			PlanRemoval(r, name, path)
		case !r.Plan.Open:
			r.Plan.Differs(work.StepInstaller, estate.MustFix, "yellowfield close "+r.App.Name+" moves it away", name+" is there, and the app is closed: whoever finds it may install it anew")
		}
	}
	return nil
}

func PlanRemoval(r *work.Run, name, path string) {
	facts := name + ", kept in the state folder for " + figures.Counted(int(work.KeepsRemoved.Hours()/24), "day", "days")
	if r.Options.Turn.Delete {
		facts = name + ", for good"
	}
	r.Plan.Change(work.Row{Step: work.StepInstaller, Outcome: work.Removed, Facts: facts}, InstallerMoved.Of(path, removedState{Exists: true}, removedState{Name: name, Deleted: r.Options.Turn.Delete}), nil)
}

// OpenUntil is when an app should be closed; zero for never.
func OpenUntil(r *work.Run) (time.Time, error) {
	var note OpenNote
	_, err := r.State.Note(OpenApps, r.NoteName(), &note)
	return note.Until, err
}

// OpenApps are the notes of apps that are to be closed again by some time.
const OpenApps = "open-apps"

type OpenNote struct {
	App    string    `json:"app"`
	Estate string    `json:"estate"`
	Until  time.Time `json:"until"`
}
