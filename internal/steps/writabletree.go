package steps

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
	"yellowfield/internal/work"
)

// planTree looks whether all below a folder that the application writes to belongs to it.
func planTree(r *work.Run, name, path string, asked atomicfile.Attributes) error {
	files, err := r.Files()
	if err != nil {
		return err
	}
	php := -1
	if r.App.PHP != nil && r.App.PHP.User != "" {
		if uid, err := r.Host.UserID(r.App.PHP.User); err == nil {
			php = uid
		}
	}
	// The user that PHP runs as has made files there: they stay that user's.
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
			foreign = append(foreign, r.App.Shown(e.Path))
		}
		return nil
	}); err != nil || len(foreign) == 0 {
		return err
	}
	facts := work.JoinSome(foreign) + " (" + figures.Counted(len(foreign), "file or folder", "files and folders") + " below " + name + ")"
	if !r.Plan.Fresh && !r.Options.Fixes(work.FixOwnership) {
		r.Plan.Differs(work.StepOwnership, estate.ShouldLook, "yellowfield provision "+r.App.Name+" --fix ownership", facts+": not the application's own to write").MayAccept(estate.FindingFileAttributes, name)
		return nil
	}
	outcome := work.Fixed
	if r.Plan.Fresh {
		outcome = work.Made
	}
	given := &GivenTree{Want: want}
	given.Step = r.Plan.Change(work.Row{Step: work.StepOwnership, Outcome: outcome, Facts: facts + ": the application's own"}, TreeGiven.Of(path, TreeState{}, TreeState{}), given)
	return nil
}

// TreeState are owners and modes of all below a folder, of which there may be many: where the
// state folder has a list of them, as host.Given.
type TreeState struct {
	List string `json:"list,omitempty"`
}

// GivenTree is what giving a tree takes beside the effect's data.
type GivenTree struct {
	Want func(host.Entry) atomicfile.Attributes
	Step *work.Step
}

// TreeGiven is one kind of change, see init.
var TreeGiven = effect.Define[*work.Run, TreeState](&work.Kinds, "owners")

func init() {
	TreeGiven.Means(effect.Spec[*work.Run, TreeState]{
		Object: func(c effect.Change[TreeState]) string { return "owners below " + c.Subject },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[TreeState]) (string, error) {
			return "", giveTree(r, d, d.Material.(*GivenTree))
		},
		Undo: takeTreeBack,
	})
}

// giveTree gives a tree, with a list of what it was in the state folder before.
func giveTree(r *work.Run, d *effect.Doing[TreeState], of *GivenTree) error {
	files, err := r.Files()
	if err != nil {
		return err
	}
	var list []host.Given
	if _, err := files.Walk(d.Subject, func(e host.Entry) error {
		if was, is := atomicfile.AttributesFrom(e.Info), of.Want(e); was != is {
			list = append(list, host.Given{Path: e.Path, Was: was, Is: is})
		}
		return nil
	}); err != nil {
		return err
	}
	content, err := json.Marshal(list)
	if err == nil {
		d.Before.List, err = r.Journal.KeepCopy("owners below "+d.Subject, content)
	}
	if err == nil {
		err = d.Record()
	}
	if err != nil {
		return err
	}
	given, left, err := files.GiveTree(d.Subject, of.Want)
	d.Touched = len(given) > 0
	for i := range left {
		left[i] = r.App.Shown(left[i])
	}
	if err == nil && len(left) > 0 {
		of.Step.Also = append(of.Step.Also, work.Row{Step: work.StepOwnership, Outcome: work.Note, Facts: work.JoinSome(left) + ": left as it is, since it belongs to somebody else or has a second name"})
	}
	return err
}

// takeTreeBack gives what is as a run has left it its own owner and mode again. What somebody
// has changed since, or what was left alone, stays.
func takeTreeBack(r *work.Run, _ context.Context, c effect.Change[TreeState]) error {
	if c.Before.List == "" {
		return nil
	}
	content, err := r.State.Copy(c.Before.List)
	var list []host.Given
	if err == nil {
		err = json.Unmarshal(content, &list)
	}
	files, errFiles := r.Files()
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
