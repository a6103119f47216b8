package provision

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"time"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
)

// planDeadline tells of an app that is open for longer than it was to be.
func (r *run) planDeadline(context.Context) error {
	until, err := r.openUntil()
	if err != nil || until.IsZero() || r.options.Turn != nil {
		return err
	}
	when := until.Local().Format("2006-01-02 15:04")
	switch {
	case !r.plan.open: // the rights were lowered by hand, or by a close that was cut off
	case time.Now().After(until):
		r.plan.differs(stepState, estate.MustFix, "yellowfield close "+r.app.Name, "it is open, and was to be closed at "+when)
	default:
		r.plan.note(stepState, "", "open until "+when)
	}
	return nil
}

// planInstallerFiles has the installer and its samples moved away when the app is closed,
// and names them where they are in a closed one.
func (r *run) planInstallerFiles(context.Context) error {
	if r.plan.absent || len(r.app.InstallerFiles) == 0 || r.options.Turn != nil && !r.options.Turn.Close {
		return nil
	}
	files, err := r.files()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range r.app.InstallerFiles {
		path := r.app.InFolder(strings.TrimSuffix(name, "/"))
		switch {
		case !files.Exists(path):
		case r.options.Turn != nil:
			r.planRemoval(name, path)
		case !r.plan.open:
			r.plan.differs(stepInstaller, estate.MustFix, "yellowfield close "+r.app.Name+" moves it away", name+" is there, and the app is closed: whoever finds it may install it anew")
		}
	}
	return nil
}

func (r *run) planRemoval(name, path string) {
	facts := name + ", kept in the state folder for " + figures.Counted(int(keepsRemoved.Hours()/24), "day", "days")
	if r.options.Turn.Delete {
		facts = name + ", for good"
	}
	r.plan.change(Row{Step: stepInstaller, Outcome: Removed, Facts: facts}, installerMoved.Of(path, removedState{Exists: true}, removedState{Name: name, Deleted: r.options.Turn.Delete}), nil)
}

// openUntil is when an app was to be closed; zero for never.
func (r *run) openUntil() (time.Time, error) {
	var note openUntil
	_, err := r.State.Note(openApps, r.noteName(), &note)
	return note.Until, err
}

// openApps are the notes of apps that are to be closed again by some time.
const openApps = "open-apps"

type openUntil struct {
	App    string    `json:"app"`
	Estate string    `json:"estate"`
	Until  time.Time `json:"until"`
}
