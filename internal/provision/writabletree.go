package provision

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/effect"
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
	given := &givenTree{want: want}
	given.step = r.plan.change(Row{Step: stepOwnership, Outcome: outcome, Facts: facts + ": the application's own"}, treeGiven.Of(path, treeState{}, treeState{}), given)
	return nil
}

// treeState are owners and modes of all below a folder, of which there may be many: where the
// state folder has a list of them, as host.Given.
type treeState struct {
	List string `json:"list,omitempty"`
}

// givenTree is what giving a tree takes beside the effect's data.
type givenTree struct {
	want func(host.Entry) atomicfile.Attributes
	step *step
}

// treeGiven is one kind of change, see init.
var treeGiven = effect.Define[*run, treeState](&kinds, "owners")

func init() {
	treeGiven.Means(effect.Spec[*run, treeState]{
		Object: func(c effect.Change[treeState]) string { return "owners below " + c.Subject },
		Do: func(r *run, _ context.Context, d *effect.Doing[treeState]) (string, error) {
			return "", r.giveTree(d, d.Material.(*givenTree))
		},
		Undo: (*run).takeTreeBack,
	})
}

// giveTree gives a tree, with a list of what it was in the state folder before.
func (r *run) giveTree(d *effect.Doing[treeState], of *givenTree) error {
	files, err := r.files()
	if err != nil {
		return err
	}
	var list []host.Given
	if _, err := files.Walk(d.Subject, func(e host.Entry) error {
		if was, is := atomicfile.AttributesFrom(e.Info), of.want(e); was != is {
			list = append(list, host.Given{Path: e.Path, Was: was, Is: is})
		}
		return nil
	}); err != nil {
		return err
	}
	content, err := json.Marshal(list)
	if err == nil {
		d.Before.List, err = r.journal.KeepCopy("owners below "+d.Subject, content)
	}
	if err == nil {
		err = d.Record()
	}
	if err != nil {
		return err
	}
	given, left, err := files.GiveTree(d.Subject, of.want)
	d.Touched = len(given) > 0
	for i := range left {
		left[i] = r.app.Shown(left[i])
	}
	if err == nil && len(left) > 0 {
		of.step.also = append(of.step.also, Row{Step: stepOwnership, Outcome: Note, Facts: some(left) + ": left as it is, since it belongs to somebody else or has a second name"})
	}
	return err
}

// takeTreeBack gives what is as a run has left it its own owner and mode again. What somebody
// has changed since, or what was left alone, stays.
func (r *run) takeTreeBack(_ context.Context, c effect.Change[treeState]) error {
	if c.Before.List == "" {
		return nil
	}
	content, err := r.State.Copy(c.Before.List)
	var list []host.Given
	if err == nil {
		err = json.Unmarshal(content, &list)
	}
	files, errFiles := r.files()
	if err := errors.Join(err, errFiles); err != nil {
		return err
	}
	var errs []error
	for _, g := range slices.Backward(list) {
		if has, err := files.Attributes(g.Path); err == nil && has == g.Is {
			errs = append(errs, files.SetAttributes(g.Path, g.Is, g.Was))
		}
	}
	return errors.Join(errs...)
}
