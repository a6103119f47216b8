package steps

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/work"
)

// defaultMode is that of a settings file for which nothing was said: the owner
// writes, the group reads, nobody else sees the password.
const defaultMode = 0o640

// AttributesFor gives owner and mode of a settings file: as the estate file
// asks, else as the file has them, else those of the folder it goes into. A
// right for everyone to write is never kept.
func AttributesFor(r *work.Run, path string, absent bool) (atomicfile.Attributes, error) {
	source := path
	if absent {
		source = filepath.Dir(path)
	}
	a, err := r.Attributes(source)
	if err != nil {
		return a, fault.At(fault.Invalid, fault.Place{File: path}, "make its folder, or correct the path", "the settings file has no place: %v", err).With(err)
	}
	if absent {
		a.Mode = defaultMode
	}
	a.Mode &^= 0o002
	owned, err := asked(r, a)
	if err != nil {
		return a, err
	}
	if !r.Host.MayGive(owned) {
		if r.App.Ownership == nil || r.App.Ownership.Owner == "" && r.App.Ownership.Group == "" {
			// Nothing was asked for: the file belongs to the user who runs this.
			owned.UID, owned.GID = -1, -1
			return owned, nil
		}
		return a, r.Estate.Fault(fault.Invalid, r.Path("ownership"), "run as root, or remove owner and group", "only root can give files to %s:%s", r.App.Ownership.Owner, r.App.Ownership.Group)
	}
	return owned, nil
}

// asked puts what the estate file asks for over attributes.
func asked(r *work.Run, a atomicfile.Attributes) (atomicfile.Attributes, error) {
	o := r.App.Ownership
	if o == nil {
		return a, nil
	}
	if o.Owner != "" && atomicfile.OwnersMeanSomething {
		uid, err := r.Host.UserID(o.Owner)
		if err != nil {
			return a, r.Estate.Fault(fault.Invalid, r.Path("ownership.owner"), "name a user of this host", "there is no user %s", o.Owner).With(err)
		}
		a.UID = uid
	}
	if o.Group != "" && atomicfile.OwnersMeanSomething {
		gid, err := r.Host.GroupID(o.Group)
		if err != nil {
			return a, r.Estate.Fault(fault.Invalid, r.Path("ownership.group"), "name a group of this host", "there is no group %s", o.Group).With(err)
		}
		a.GID = gid
	}
	if mode := modeNow(r, o.Modes); mode != 0 {
		a.Mode = mode
	}
	return a, nil
}

// modeNow is the mode of the app's state; 0 where nothing was said.
func modeNow(r *work.Run, m estate.Modes) fs.FileMode {
	if r.Plan.Open && m.Installing != 0 || m.Running == 0 {
		return fs.FileMode(m.Installing)
	}
	return fs.FileMode(m.Running)
}

// planFolders takes care of the folders that hold settings files, where something is said
// of them.
func planFolders(r *work.Run) error {
	if r.App.Ownership == nil || modeNow(r, r.App.Ownership.Folders) == 0 {
		return nil
	}
	seen := map[string]bool{}
	for _, s := range r.App.Settings {
		path := filepath.Dir(r.App.InFolder(s.File))
		if seen[path] {
			continue
		}
		seen[path] = true
		has, err := r.Attributes(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		want, err := asked(r, has)
		if err != nil {
			return err
		}
		if want.Mode = modeNow(r, r.App.Ownership.Folders); has != want {
			shown := r.App.Shown(path) + "/"
			changeAttributes(r, path, shown, has, want, estate.ShouldLook, fmt.Sprintf("%s is %s, not %s", shown, DescribeAttributes(r, has), DescribeAttributes(r, want)),
				r.Plan.Fresh || r.Options.Fixes(work.FixOwnership) || r.Options.Turn != nil)
		}
	}
	return nil
}

// PlanOwnership checks owner and mode of settings files that are there, and of
// the folders that the application may write to.
func PlanOwnership(r *work.Run, _ context.Context) error {
	if r.Plan.Absent || len(r.App.Settings) == 0 && r.App.Ownership == nil {
		return nil
	}
	if r.App.Ownership != nil && !atomicfile.OwnersMeanSomething {
		r.Plan.Note(work.StepOwnership, "set the rights on the files by the means of this system", "owners and modes mean nothing on this system")
		return nil
	}
	var made, fine []string
	for _, s := range r.App.Settings {
		summary, isNew, err := planFileOwnership(r, s)
		if err != nil {
			return err
		}
		list := &fine
		if isNew {
			list = &made
		}
		if summary != "" && !slices.Contains(*list, summary) {
			*list = append(*list, summary)
		}
	}
	if len(made) > 0 { // the files are written with it
		r.Plan.Prove(work.StepOwnership, "owner and mode of the settings", func(context.Context) error { return nil })
		last := r.Plan.Steps[len(r.Plan.Steps)-1]
		last.Row, last.Silent = work.Row{Step: work.StepOwnership, Outcome: work.Made, Facts: strings.Join(made, ", ")}, false
	}
	if err := planFolders(r); err != nil {
		return err
	}
	writable, err := planWritable(r)
	if err != nil {
		return err
	}
	if fine = append(fine, writable...); len(fine) > 0 {
		r.Plan.Keep(work.StepOwnership, strings.Join(fine, ", "))
	}
	return nil
}

// planFileOwnership returns the attributes in words when they are right; isNew says
// that this run makes the file.
func planFileOwnership(r *work.Run, s *estate.Settings) (right string, isNew bool, err error) {
	path := r.App.InFolder(s.File)
	for _, published := range r.Plan.Settings.Files {
		if published.Path == path { // it is written with the right ones
			return DescribeAttributes(r, published.Attributes), published.Read == nil, nil
		}
	}
	has, err := r.Attributes(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	if err := phpReads(r, s, path); err != nil {
		return "", false, err
	}
	want, err := AttributesFor(r, path, false)
	if err != nil {
		return "", false, err
	}
	if want.UID == -1 {
		want.UID, want.GID = has.UID, has.GID
	}
	if has == want {
		return DescribeAttributes(r, has), false, nil
	}
	facts := fmt.Sprintf("%s is %s, not %s", s.File, DescribeAttributes(r, has), DescribeAttributes(r, want))
	severity := estate.ShouldLook
	if has.Mode&0o002 != 0 {
		facts = fmt.Sprintf("%s is %s: everyone on this host can write it", s.File, DescribeAttributes(r, has))
		severity = estate.MustFix
	}
	changeAttributes(r, path, s.File, has, want, severity, facts, r.Options.Fixes(work.FixOwnership) || r.Options.Turn != nil)
	return "", false, nil
}

// phpReads looks whether the user that PHP runs as gets as far as a settings file.
func phpReads(r *work.Run, s *estate.Settings, path string) error {
	where, err := keepsPHPOut(r, path, host.ToRead)
	if err == nil && where != "" {
		r.Plan.Differs(work.StepOwnership, estate.MustFix, "give it to that user or a group of theirs: ownership: {group: ...} for the file, chgrp and chmod g+x for a folder",
			fmt.Sprintf("PHP runs as %s, who cannot read %s: %s keeps it out", r.App.PHP.User, s.File, where))
	}
	return err
}

// keepsPHPOut gives what keeps the user that PHP runs as from a file or folder; empty where
// nothing does, or where the user is not known. Access lists are not looked into.
func keepsPHPOut(r *work.Run, path string, want fs.FileMode) (where string, err error) {
	if r.App.PHP == nil || r.App.PHP.User == "" {
		return "", nil
	}
	uid, err := r.Host.UserID(r.App.PHP.User)
	if err != nil {
		return "", nil // opening the folder has said so
	}
	groups, err := r.Host.GroupsOf(r.App.PHP.User)
	if err != nil {
		return "", err
	}
	files, err := r.Files()
	if err != nil {
		return "", err
	}
	return files.KeepsOut(path, uid, groups, want)
}

func changeAttributes(r *work.Run, path, shown string, has, want atomicfile.Attributes, severity estate.Severity, facts string, change bool) {
	if !change {
		r.Plan.Differs(work.StepOwnership, severity, "yellowfield provision "+r.App.Name+" --fix ownership", facts).MayAccept(estate.FindingFileAttributes, shown)
		return
	}
	outcome, facts := work.Fixed, shown+", "+DescribeAttributes(r, want)
	switch {
	case r.Options.Turn != nil:
		outcome, facts = work.Changed, facts+"; before: "+DescribeAttributes(r, has)
	case r.Plan.Fresh:
		outcome = work.Made
	}
	r.Plan.Change(work.Row{Step: work.StepOwnership, Outcome: outcome, Facts: facts}, AttributesSet.Of(path, has, want), nil)
}

// FolderState are folders as an effect has them, the innermost first.
type FolderState struct {
	Made []string               `json:"made,omitempty"`
	Of   *atomicfile.Attributes `json:"of,omitempty"`
}

// Kinds of change, see init.
var (
	AttributesSet = effect.Define[*work.Run, atomicfile.Attributes](&work.Kinds, "attributes")
	FolderMade    = effect.Define[*work.Run, FolderState](&work.Kinds, "folder")
)

func init() {
	AttributesSet.Means(effect.Spec[*work.Run, atomicfile.Attributes]{
		Object: func(c effect.Change[atomicfile.Attributes]) string { return "owner and mode of " + c.Subject },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[atomicfile.Attributes]) (string, error) {
			files, err := r.Files()
			if err != nil {
				return "", err
			}
			return "", files.SetAttributes(d.Subject, d.Before, d.After)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[atomicfile.Attributes]) error {
			standing, err := lookAtAttributes(r, ctx, c)
			if standing == effect.NotDone || err != nil {
				return err
			}
			has, err := r.Attributes(c.Subject)
			if err != nil {
				return err
			}
			return r.Folder.SetAttributes(c.Subject, has, c.Before)
		},
		Look: lookAtAttributes,
	})
	FolderMade.Means(effect.Spec[*work.Run, FolderState]{
		Object: func(c effect.Change[FolderState]) string { return "folder " + c.Subject },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[FolderState]) (string, error) {
			files, err := r.Files()
			if err != nil {
				return "", err
			}
			made, err := files.MakeFolder(d.Subject, *d.After.Of)
			d.Touched = len(made) > 0
			return "", err
		},
		Undo: func(r *work.Run, _ context.Context, c effect.Change[FolderState]) error {
			files, err := r.Files()
			if err != nil {
				return err
			}
			for _, folder := range c.After.Made {
				if err := files.Remove(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			return nil
		},
		Look: func(r *work.Run, _ context.Context, c effect.Change[FolderState]) (effect.Standing, error) {
			files, err := r.Files()
			if err != nil {
				return effect.Unseen, err
			}
			if !slices.ContainsFunc(c.After.Made, files.Exists) {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
	})
}

// lookAtAttributes tells how owner and mode of a file or folder stand. Changing them takes
// several steps, so that they may be those of before in part.
func lookAtAttributes(r *work.Run, _ context.Context, c effect.Change[atomicfile.Attributes]) (effect.Standing, error) {
	has, err := r.Attributes(c.Subject)
	one := func(has, before, after int) bool { return has == before || has == after }
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && has == c.Before:
		return effect.NotDone, nil
	case err != nil:
		return effect.Unseen, work.Unreadable(c.Subject, err)
	case has == c.After:
		return effect.Done, nil
	case one(has.UID, c.Before.UID, c.After.UID) && one(has.GID, c.Before.GID, c.After.GID) && one(int(has.Mode), int(c.Before.Mode), int(c.After.Mode)):
		return effect.Between, nil
	}
	return effect.ChangedElse, work.ErrChangedSince("owner and mode of "+c.Subject, writeAttributes(has), writeAttributes(c.After))
}

// planWritable takes care of the folders that the application may write to,
// and returns those that are right.
func planWritable(r *work.Run) (fine []string, err error) {
	if r.App.Ownership == nil {
		return nil, nil
	}
	files, err := r.Files()
	if err != nil {
		return nil, err
	}
	const folderMode = 0o770
	for _, name := range r.App.Ownership.Writable {
		path := r.App.InFolder(name)
		has, err := r.Attributes(path)
		absent := errors.Is(err, fs.ErrNotExist)
		if absent {
			has, err = r.Attributes(r.ExistingAncestor(path))
		}
		if err != nil {
			return nil, err
		}
		want := has
		if !absent {
			want.Mode = has.Mode&^0o002 | 0o700
		} else {
			want.Mode = folderMode
		}
		asked, err := asked(r, want)
		if err != nil {
			return nil, err
		}
		asked.Mode = want.Mode
		switch {
		case absent:
			missing := []string{path}
			for at := filepath.Dir(path); !files.Exists(at); at = filepath.Dir(at) {
				missing = append(missing, at)
			}
			r.Plan.Change(work.Row{Step: work.StepOwnership, Outcome: work.Made, Facts: name + " for the application to write to"},
				FolderMade.Of(path, FolderState{}, FolderState{missing, &asked}), nil)
		case has == asked:
			where, err := keepsPHPOut(r, path, host.ToWriteIn)
			if err == nil && where != "" {
				r.Plan.Differs(work.StepOwnership, estate.MustFix, "name that user or a group of theirs under ownership, and --fix ownership",
					fmt.Sprintf("PHP runs as %s, who cannot write in %s: %s keeps it out", r.App.PHP.User, name, where))
			} else {
				fine = append(fine, name+" writable")
			}
			if err != nil {
				return nil, err
			}
		default:
			changeAttributes(r, path, name, has, asked, estate.ShouldLook,
				fmt.Sprintf("%s is %s, so the application may not be able to write there", name, DescribeAttributes(r, has)),
				r.Plan.Fresh || r.Options.Fixes(work.FixOwnership))
		}
		if !absent && r.App.Ownership.Owner+r.App.Ownership.Group != "" {
			if err := planTree(r, name, path, asked); err != nil {
				return nil, err
			}
		}
	}
	return fine, nil
}

// writeAttributes writes owner, group and mode by their numbers.
func writeAttributes(a atomicfile.Attributes) string {
	return fmt.Sprintf("%d:%d %04o", a.UID, a.GID, a.Mode)
}

// DescribeAttributes writes owner, group and mode: www-data:www-data 0660.
func DescribeAttributes(r *work.Run, a atomicfile.Attributes) string {
	mode := fmt.Sprintf("%04o", a.Mode)
	if a.UID == -1 {
		return mode
	}
	owner, group := r.Host.NamesOf(a)
	return owner + ":" + group + " " + mode
}
