package lifecycle

import (
	"context"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/work"
)

// EntryState is a file of the estate before or after an edit of one app's entry.
type EntryState struct {
	work.FileState
	Edit *estate.Edit `json:"edit,omitempty"` // that made it so; journals of before have none
}

// EntryChanged is a kind of change, see init.
var EntryChanged = effect.Define[*work.Run, EntryState](&work.Kinds, "estate-file")

// entryChange is what changing a file of the estate takes beside the effect's data.
type entryChange struct {
	of      *estate.Estate
	change  *estate.Change
	servers []string
}

// PlanEntry changes an app's entry in a file of the estate, unless that or an entry of the
// servers named says something else by then; of is the estate as it was read.
func PlanEntry(r *work.Run, of *estate.Estate, change *estate.Change, row work.Row, servers ...string) {
	row.Place = &fault.Place{File: change.Path}
	before, after := EntryState{FileState: work.FileWith(change.Before)}, EntryState{FileState: work.FileWith(change.After), Edit: &change.Edit}
	after.App = r.App.Name
	r.Plan.Change(row, EntryChanged.Of(change.Path, before, after), &entryChange{of, change, servers})
}

// proveEntryFirst makes sure before the first change of a plan that its entry can be changed:
// what takes long is not begun in vain.
func proveEntryFirst(r *work.Run) {
	for _, s := range r.Plan.Steps {
		if m, is := s.Material.(*entryChange); is {
			r.Plan.Prove(work.StepState, "entry of "+r.App.Name+" as it was read", func(ctx context.Context) error { return m.of.CheckUnchanged(ctx, m.change, m.servers...) })
			r.Plan.LastFirst()
			return
		}
	}
}

func init() {
	EntryChanged.Means(effect.Spec[*work.Run, EntryState]{
		Object: func(c effect.Change[EntryState]) string { return "entry of " + c.After.App },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[EntryState]) (string, error) {
			m := d.Material.(*entryChange)
			return "", m.of.Apply(ctx, m.change, m.servers, func(now *estate.Change) (err error) {
				d.Before.Digest, d.After.Digest, d.After.Edit = atomicfile.Digest(now.Before), atomicfile.Digest(now.After), &now.Edit
				if d.Before.Copy, err = r.Journal.KeepCopy(d.Subject, now.Before); err != nil {
					return err
				}
				return d.Record()
			})
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[EntryState]) error {
			standing, err := standingOfEntry(r, c)
			if err != nil || standing == effect.NotDone {
				return err
			}
			var edit estate.Edit
			if c.After.Edit != nil {
				edit = *c.After.Edit
			}
			return r.Estate.TakeBack(ctx, c.Subject, edit, func(now []byte) ([]byte, error) {
				switch {
				case atomicfile.Digest(now) == c.After.Digest:
					return r.State.Copy(c.Before.Copy)
				case c.After.Edit == nil:
					return nil, work.ChangedSince(c.Subject, c.Before.Copy)
				}
				return nil, nil
			})
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[EntryState]) (effect.Standing, error) {
			return standingOfEntry(r, c)
		},
		Kept: func(*work.Run, effect.Change[EntryState]) (why, next string) {
			return "the run has changed the estate file", "change it by hand, or by the command that takes that back"
		},
	})
}

// standingOfEntry tells how an entry stands by the file as a whole, and where others have
// changed that since, by the entry alone.
func standingOfEntry(r *work.Run, c effect.Change[EntryState]) (effect.Standing, error) {
	content, err := host.ReadFile(c.Subject)
	standing, err := work.StandingOf(c.Before.FileState, c.After.FileState, content, err)
	if err != nil || standing != effect.ChangedElse || c.After.Edit == nil {
		return standing, err
	}
	made, undone, err := r.Estate.StandingOf(*c.After.Edit)
	switch {
	case err != nil:
		return effect.Unseen, err
	case undone:
		return effect.NotDone, nil
	case made:
		return effect.Done, nil
	}
	return effect.ChangedElse, nil
}
