package provision

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
)

// defaultMode is that of a settings file for which nothing was said: the owner
// writes, the group reads, nobody else sees the password.
const defaultMode = 0o640

// attributesFor gives owner and mode of a settings file: as the estate file
// asks, else as the file has them, else those of the folder it goes into. A
// right for everyone to write is never kept.
func (r *run) attributesFor(path string, absent bool) (atomicfile.Attributes, error) {
	source := path
	if absent {
		source = filepath.Dir(path)
	}
	a, err := r.attributes(source)
	if err != nil {
		return a, fault.At(fault.Invalid, fault.Place{File: path}, "make its folder, or correct the path", "the settings file has no place: %v", err).With(err)
	}
	if absent {
		a.Mode = defaultMode
	}
	a.Mode &^= 0o002
	owned, err := r.asked(a)
	if err != nil {
		return a, err
	}
	if !r.Host.MayGive(owned) {
		if r.app.Ownership == nil || r.app.Ownership.Owner == "" && r.app.Ownership.Group == "" {
			// Nothing was asked for: the file stays with whoever runs this.
			owned.UID, owned.GID = -1, -1
			return owned, nil
		}
		return a, r.Estate.Fault(fault.Invalid, r.path("ownership"), "run as root, or remove owner and group", "only root can give files to %s:%s", r.app.Ownership.Owner, r.app.Ownership.Group)
	}
	return owned, nil
}

// asked puts what the estate file asks for over attributes.
func (r *run) asked(a atomicfile.Attributes) (atomicfile.Attributes, error) {
	o := r.app.Ownership
	if o == nil {
		return a, nil
	}
	if o.Owner != "" && atomicfile.OwnersMeanSomething {
		uid, err := r.Host.UserID(o.Owner)
		if err != nil {
			return a, r.Estate.Fault(fault.Invalid, r.path("ownership.owner"), "name a user of this host", "there is no user %s", o.Owner).With(err)
		}
		a.UID = uid
	}
	if o.Group != "" && atomicfile.OwnersMeanSomething {
		gid, err := r.Host.GroupID(o.Group)
		if err != nil {
			return a, r.Estate.Fault(fault.Invalid, r.path("ownership.group"), "name a group of this host", "there is no group %s", o.Group).With(err)
		}
		a.GID = gid
	}
	if mode := r.modeNow(o.Modes); mode != 0 {
		a.Mode = mode
	}
	return a, nil
}

// modeNow is the mode of the app's state; 0 where nothing was said.
func (r *run) modeNow(m estate.Modes) fs.FileMode {
	if r.plan.open && m.Installing != 0 || m.Running == 0 {
		return fs.FileMode(m.Installing)
	}
	return fs.FileMode(m.Running)
}

// planFolders takes care of the folders that hold settings files, where something is said
// of them.
func (r *run) planFolders() error {
	if r.app.Ownership == nil || r.modeNow(r.app.Ownership.Folders) == 0 {
		return nil
	}
	seen := map[string]bool{}
	for _, s := range r.app.Settings {
		path := filepath.Dir(r.app.InFolder(s.File))
		if seen[path] {
			continue
		}
		seen[path] = true
		has, err := r.attributes(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		want, err := r.asked(has)
		if err != nil {
			return err
		}
		if want.Mode = r.modeNow(r.app.Ownership.Folders); has != want {
			shown := r.app.Shown(path) + "/"
			r.changeAttributes(path, shown, has, want, estate.ShouldLook, fmt.Sprintf("%s is %s, not %s", shown, r.describeAttributes(has), r.describeAttributes(want)),
				r.plan.fresh || r.options.fixes(fixOwnership) || r.options.Turn != nil)
		}
	}
	return nil
}

// planOwnership checks owner and mode of settings files that are there, and of
// the folders that the application may write to.
func (r *run) planOwnership(context.Context) error {
	if r.plan.absent || len(r.app.Settings) == 0 && r.app.Ownership == nil {
		return nil
	}
	if r.app.Ownership != nil && !atomicfile.OwnersMeanSomething {
		r.plan.note(stepOwnership, "set the rights on the files by the means of this system", "owners and modes mean nothing on this system")
		return nil
	}
	var made, fine []string
	for _, s := range r.app.Settings {
		summary, isNew, err := r.planFileOwnership(s)
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
		r.plan.prove(stepOwnership, "owner and mode of the settings", func(context.Context) error { return nil })
		last := r.plan.steps[len(r.plan.steps)-1]
		last.Row, last.silent = Row{Step: stepOwnership, Outcome: Made, Facts: strings.Join(made, ", ")}, false
	}
	if err := r.planFolders(); err != nil {
		return err
	}
	writable, err := r.planWritable()
	if err != nil {
		return err
	}
	if fine = append(fine, writable...); len(fine) > 0 {
		r.plan.keep(stepOwnership, strings.Join(fine, ", "))
	}
	return nil
}

// planFileOwnership returns the attributes in words when they are right; isNew says
// that this run makes the file.
func (r *run) planFileOwnership(s *estate.Settings) (right string, isNew bool, err error) {
	path := r.app.InFolder(s.File)
	for _, published := range r.plan.settings.files {
		if published.path == path { // it is written with the right ones
			return r.describeAttributes(published.attributes), published.read == nil, nil
		}
	}
	has, err := r.attributes(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	if err := r.phpReads(s, path); err != nil {
		return "", false, err
	}
	want, err := r.attributesFor(path, false)
	if err != nil {
		return "", false, err
	}
	if want.UID == -1 {
		want.UID, want.GID = has.UID, has.GID
	}
	if has == want {
		return r.describeAttributes(has), false, nil
	}
	facts := fmt.Sprintf("%s is %s, not %s", s.File, r.describeAttributes(has), r.describeAttributes(want))
	severity := estate.ShouldLook
	if has.Mode&0o002 != 0 {
		facts = fmt.Sprintf("%s is %s: everyone on this host can write it", s.File, r.describeAttributes(has))
		severity = estate.MustFix
	}
	r.changeAttributes(path, s.File, has, want, severity, facts, r.options.fixes(fixOwnership) || r.options.Turn != nil)
	return "", false, nil
}

// phpReads looks whether the user that PHP runs as gets as far as a settings file.
func (r *run) phpReads(s *estate.Settings, path string) error {
	where, err := r.keepsPHPOut(path, host.ToRead)
	if err == nil && where != "" {
		r.plan.differs(stepOwnership, estate.MustFix, "give it to that user or a group of theirs: ownership: {group: ...} for the file, chgrp and chmod g+x for a folder",
			fmt.Sprintf("PHP runs as %s, who cannot read %s: %s keeps it out", r.app.PHP.User, s.File, where))
	}
	return err
}

// keepsPHPOut gives what keeps the user that PHP runs as from a file or folder; empty where
// nothing does, or where the user is not known. Access lists are not looked into.
func (r *run) keepsPHPOut(path string, want fs.FileMode) (where string, err error) {
	if r.app.PHP == nil || r.app.PHP.User == "" {
		return "", nil
	}
	uid, err := r.Host.UserID(r.app.PHP.User)
	if err != nil {
		return "", nil // opening the folder has said so
	}
	groups, err := r.Host.GroupsOf(r.app.PHP.User)
	if err != nil {
		return "", err
	}
	files, err := r.files()
	if err != nil {
		return "", err
	}
	return files.KeepsOut(path, uid, groups, want)
}

func (r *run) changeAttributes(path, shown string, has, want atomicfile.Attributes, severity estate.Severity, facts string, change bool) {
	if !change {
		r.plan.differs(stepOwnership, severity, "yellowfield provision "+r.app.Name+" --fix ownership", facts).mayAccept(estate.FindingFileAttributes, shown)
		return
	}
	outcome, facts := Fixed, shown+", "+r.describeAttributes(want)
	switch {
	case r.options.Turn != nil:
		outcome, facts = Changed, facts+"; before: "+r.describeAttributes(has)
	case r.plan.fresh:
		outcome = Made
	}
	r.plan.change(Row{Step: stepOwnership, Outcome: outcome, Facts: facts}, attributesSet.Of(path, has, want), nil)
}

// folderState are folders as an effect has them, the innermost first.
type folderState struct {
	Made []string               `json:"made,omitempty"`
	Of   *atomicfile.Attributes `json:"of,omitempty"`
}

// Kinds of change, see init.
var (
	attributesSet = effect.Define[*run, atomicfile.Attributes](&kinds, "attributes")
	folderMade    = effect.Define[*run, folderState](&kinds, "folder")
)

func init() {
	attributesSet.Means(effect.Spec[*run, atomicfile.Attributes]{
		Object: func(c effect.Change[atomicfile.Attributes]) string { return "owner and mode of " + c.Subject },
		Do: func(r *run, _ context.Context, d *effect.Doing[atomicfile.Attributes]) (string, error) {
			files, err := r.files()
			if err != nil {
				return "", err
			}
			return "", files.SetAttributes(d.Subject, d.Before, d.After)
		},
		Undo: func(r *run, ctx context.Context, c effect.Change[atomicfile.Attributes]) error {
			standing, err := r.lookAtAttributes(ctx, c)
			if standing == effect.NotDone || err != nil {
				return err
			}
			has, err := r.attributes(c.Subject)
			if err != nil {
				return err
			}
			return r.folder.SetAttributes(c.Subject, has, c.Before)
		},
		Look: (*run).lookAtAttributes,
	})
	folderMade.Means(effect.Spec[*run, folderState]{
		Object: func(c effect.Change[folderState]) string { return "folder " + c.Subject },
		Do: func(r *run, _ context.Context, d *effect.Doing[folderState]) (string, error) {
			files, err := r.files()
			if err != nil {
				return "", err
			}
			made, err := files.MakeFolder(d.Subject, *d.After.Of)
			d.Touched = len(made) > 0
			return "", err
		},
		Undo: func(r *run, _ context.Context, c effect.Change[folderState]) error {
			files, err := r.files()
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
		Look: func(r *run, _ context.Context, c effect.Change[folderState]) (effect.Standing, error) {
			files, err := r.files()
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
func (r *run) lookAtAttributes(_ context.Context, c effect.Change[atomicfile.Attributes]) (effect.Standing, error) {
	has, err := r.attributes(c.Subject)
	one := func(has, before, after int) bool { return has == before || has == after }
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && has == c.Before:
		return effect.NotDone, nil
	case err != nil:
		return effect.Unseen, unreadable(c.Subject, err)
	case has == c.After:
		return effect.Done, nil
	case one(has.UID, c.Before.UID, c.After.UID) && one(has.GID, c.Before.GID, c.After.GID) && one(int(has.Mode), int(c.Before.Mode), int(c.After.Mode)):
		return effect.Between, nil
	}
	return effect.ChangedElse, wasChanged("owner and mode of "+c.Subject, writeAttributes(has), writeAttributes(c.After))
}

// planWritable takes care of the folders that the application may write to,
// and returns those that are right.
func (r *run) planWritable() (fine []string, err error) {
	if r.app.Ownership == nil {
		return nil, nil
	}
	files, err := r.files()
	if err != nil {
		return nil, err
	}
	const folderMode = 0o770
	for _, name := range r.app.Ownership.Writable {
		path := r.app.InFolder(name)
		has, err := r.attributes(path)
		absent := errors.Is(err, fs.ErrNotExist)
		if absent {
			has, err = r.attributes(r.existingAncestor(path))
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
		asked, err := r.asked(want)
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
			r.plan.change(Row{Step: stepOwnership, Outcome: Made, Facts: name + " for the application to write to"},
				folderMade.Of(path, folderState{}, folderState{missing, &asked}), nil)
		case has == asked:
			where, err := r.keepsPHPOut(path, host.ToWriteIn)
			if err == nil && where != "" {
				r.plan.differs(stepOwnership, estate.MustFix, "name that user or a group of theirs under ownership, and --fix ownership",
					fmt.Sprintf("PHP runs as %s, who cannot write in %s: %s keeps it out", r.app.PHP.User, name, where))
			} else {
				fine = append(fine, name+" writable")
			}
			if err != nil {
				return nil, err
			}
		default:
			r.changeAttributes(path, name, has, asked, estate.ShouldLook,
				fmt.Sprintf("%s is %s, so the application may not be able to write there", name, r.describeAttributes(has)),
				r.plan.fresh || r.options.fixes(fixOwnership))
		}
		if !absent && r.app.Ownership.Owner+r.app.Ownership.Group != "" {
			if err := r.planTree(name, path, asked); err != nil {
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

// describeAttributes writes owner, group and mode: www-data:www-data 0660.
func (r *run) describeAttributes(a atomicfile.Attributes) string {
	mode := fmt.Sprintf("%04o", a.Mode)
	if a.UID == -1 {
		return mode
	}
	owner, group := r.Host.NamesOf(a)
	return owner + ":" + group + " " + mode
}
