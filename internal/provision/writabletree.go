package provision

import (
	"context"
	"errors"
	"slices"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
)

// planTree looks whether all below a folder that the application writes to belongs to it.
func (r *run) planTree(name, path string, asked atomicfile.Attributes) error {
	files, err := r.files()
	if err != nil {
		return err
	}
	php := -1
	if r.app.PHP != nil && r.app.PHP.User != "" {
		if uid, err := r.Host.UserID(r.app.PHP.User); err == nil {
			php = uid
		}
	}
	// Whoever PHP runs as has made files there: they stay its own.
	want := func(e host.Entry) atomicfile.Attributes {
		a := atomicfile.AttributesFrom(e.Info)
		if e.Path == path || a.UID == php {
			return a
		}
		a.UID, a.GID, a.Mode = asked.UID, asked.GID, a.Mode&^0o002|0o600
		if e.Info.IsDir() {
			a.Mode |= 0o100
		}
		return a
	}
	var foreign []string
	if _, err := files.Walk(path, func(e host.Entry) error {
		if want(e) != atomicfile.AttributesFrom(e.Info) && (e.Info.IsDir() || e.Info.Mode().IsRegular()) {
			foreign = append(foreign, r.app.Shown(e.Path))
		}
		return nil
	}); err != nil || len(foreign) == 0 {
		return err
	}
	facts := some(foreign) + " (" + figures.Counted(len(foreign), "file or folder", "files and folders") + " below " + name + ")"
	if !r.plan.fresh && !r.options.fixes(fixOwnership) {
		r.plan.differs(stepOwnership, estate.ShouldLook, "yellowfield provision "+r.app.Name+" --fix ownership", facts+": not the application's own to write").mayAccept(estate.FindingFileAttributes, name)
		return nil
	}
	outcome := Fixed
	if r.plan.fresh {
		outcome = Made
	}
	s := r.plan.change(Row{Step: stepOwnership, Outcome: outcome, Facts: facts + ": the application's own"}, "owners below "+path)
	var given []host.Given
	s.Act = func(context.Context) (string, error) {
		var left []string
		given, left, err = files.GiveTree(path, want)
		s.Touched = len(given) > 0
		for i := range left {
			left[i] = r.app.Shown(left[i])
		}
		if err == nil && len(left) > 0 {
			s.also = append(s.also, Row{Step: stepOwnership, Outcome: Note, Facts: some(left) + ": left as it is, since it belongs to somebody else or has a second name"})
		}
		return "", err
	}
	s.Undo = func(context.Context) error {
		var errs []error
		for _, g := range slices.Backward(given) {
			errs = append(errs, files.SetAttributes(g.Path, g.Is, g.Was))
		}
		return errors.Join(errs...)
	}
	return nil
}
