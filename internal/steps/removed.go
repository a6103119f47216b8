package steps

import (
	"context"
	"fmt"
	"io"

	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// removedState is a file or folder of the application as an effect has it.
type removedState struct {
	Exists  bool   `json:"exists,omitempty"`
	Name    string `json:"name,omitempty"` // as the estate file has it
	Copy    string `json:"copy,omitempty"` // where what was removed is kept
	Deleted bool   `json:"deleted,omitempty"`
}

// InstallerMoved is one kind of change, see init.
var InstallerMoved = effect.Define[*work.Run, removedState](&work.Kinds, "installer")

func init() {
	InstallerMoved.Means(effect.Spec[*work.Run, removedState]{
		Object: func(c effect.Change[removedState]) string { return "installer " + c.Subject },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[removedState]) (facts string, err error) {
			files, err := r.Files()
			if err != nil {
				return "", err
			}
			if !d.After.Deleted {
				if facts, err = keepRemoved(r, d); err != nil {
					return "", err
				}
			}
			d.Touched = true
			return facts, files.RemoveTree(d.Subject)
		},
		Undo: func(r *work.Run, _ context.Context, c effect.Change[removedState]) error {
			return putBack(r, c.Subject, c.Before.Copy)
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[removedState]) (effect.Standing, error) {
			files, err := r.Files()
			switch {
			case err != nil:
				return effect.Unseen, err
			case c.Before.Copy == "" && files.Exists(c.Subject): // it had not come so far
				return effect.NotDone, nil
			case c.Before.Copy == "":
				return effect.Unseen, gone(c.Subject)
			}
			archive, err := r.State.OpenRemoved(c.Before.Copy)
			if err != nil {
				return effect.Unseen, err
			}
			_ = archive.Close()
			if files.Exists(c.Subject) { // a part of it, or another one
				return effect.Between, nil
			}
			return effect.Done, nil
		},
	})
}

// gone is the fault of what is kept nowhere.
func gone(path string) error {
	return fault.At(fault.Protected, fault.Place{File: path}, "unpack it anew, if it is needed", "what was removed for good cannot be put back")
}

// keepRemoved keeps a file or folder of the application that is about to be removed.
func keepRemoved(r *work.Run, d *effect.Doing[removedState]) (facts string, err error) {
	files, err := r.Files()
	if err != nil {
		return "", err
	}
	var packed host.Packed
	pack := func(out io.Writer) (err error) {
		packed, err = files.Pack(d.Subject, out)
		return err
	}
	if d.Before.Copy, err = r.Journal.KeepRemoved(d.Subject, pack, func(in io.Reader) error { return packed.Check(in) }); err != nil {
		return "", err
	}
	facts = fmt.Sprintf("%s, %s, kept in the state folder for %s", d.After.Name, figures.Counted(packed.Files, "file", "files"), figures.Counted(int(work.KeepsRemoved.Hours()/24), "day", "days"))
	if packed.LeftOut > 0 {
		facts += fmt.Sprintf(", but for %s that are no files", figures.Counted(packed.LeftOut, "pipe or device", "pipes and devices"))
	}
	if err := r.Journal.Record(state.Entry{Event: state.Intended, Step: work.StepInstaller, Object: d.Subject, Copy: d.Before.Copy}); err != nil {
		return "", err
	}
	return facts, d.Record()
}

// putBack puts back what keepRemoved has kept.
func putBack(r *work.Run, path, kept string) error {
	if kept == "" {
		return gone(path)
	}
	files, err := r.Files()
	if err != nil {
		return err
	}
	archive, err := r.State.OpenRemoved(kept)
	if err != nil {
		return err
	}
	defer archive.Close()
	_, err = files.Unpack(path, archive)
	return err
}
