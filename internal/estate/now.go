package estate

import (
	"bytes"
	"context"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// Now is the estate as its files say it now: e itself where they say what was read, and the one
// that With gave, which no file holds yet. With apps, only the files are looked at in which they
// and their servers are.
func (e *Estate) Now(apps ...string) (*Estate, error) {
	if e.IsPlanned() {
		return e, nil
	}
	paths := []string{e.Path}
	for _, app := range apps {
		paths = append(paths, e.places["apps."+app].File)
		if e.Apps[app] != nil {
			paths = append(paths, e.places["servers."+e.Apps[app].Server].File)
		}
	}
	if len(apps) == 0 {
		paths = slices.Collect(maps.Keys(e.sources))
	}
	slices.Sort(paths)
	for _, path := range slices.Compact(paths) {
		if known, is := e.sources[path]; !is {
			continue // an app that is not there is in no file
		} else if content, err := e.loader.readSource(path); err != nil || !bytes.Equal(content, known) {
			return e.loader.LoadSome(e.Path)
		}
	}
	return e, nil
}

// IsPlanned reports whether the estate is one that With gave.
func (e *Estate) IsPlanned() bool { return e.loader.instead != nil }

// SaysSame reports whether the entry of an app, and those of servers, say in another estate
// what they say in this one, defaults included.
func (e *Estate) SaysSame(other *Estate, app string, servers ...string) bool {
	is, was := other.Apps[app], e.Apps[app]
	if is == nil || was == nil {
		return false
	}
	servers = append(slices.Clone(servers), was.Server)
	return reflect.DeepEqual(is, was) && !slices.ContainsFunc(servers, func(s string) bool { return !reflect.DeepEqual(e.Servers[s], other.Servers[s]) })
}

// changedMeanwhile is the fault of an entry that somebody has changed.
func (e *Estate) changedMeanwhile(app string) error {
	return e.Fault(fault.Protected, "apps."+app, "see what it says now, and run the command again", "the entry of app %s was changed by someone else in the meantime", app)
}

// CheckUnchanged is an error of class Protected where a change can no longer be made: where the
// entry that it is about, or one of the servers, says something else by now.
func (e *Estate) CheckUnchanged(ctx context.Context, c *Change, servers ...string) error {
	return e.alone(ctx, c.Path, func() error {
		_, err := e.rebased(c, servers)
		return err
	})
}

// Apply makes a change in the file as it is by now: entries of other apps may have been changed
// since e was read, by other runs or by hand. Meanwhile no other run changes an estate file in
// that folder. written is told beforehand what the file will say; without an error from it the
// file is put in place.
func (e *Estate) Apply(ctx context.Context, c *Change, servers []string, written func(*Change) error) error {
	return e.alone(ctx, c.Path, func() error {
		c, err := e.rebased(c, servers)
		if err == nil {
			err = written(c)
		}
		if err == nil {
			err = c.write()
		}
		if err == nil && bytes.Equal(e.sources[c.Path], c.Before) {
			e.sources[c.Path] = c.After // else all of it is read again for the next app
		}
		return err
	})
}

// rebased is a change made of the text of now.
func (e *Estate) rebased(c *Change, servers []string) (*Change, error) {
	now, err := e.Now()
	if err != nil || now == e {
		return c, err
	}
	whose := c.Edit.App
	if c.Edit.Of != "" {
		whose = c.Edit.Of
	}
	if !e.SaysSame(now, whose, servers...) {
		return nil, now.changedMeanwhile(whose)
	}
	if c.Edit.Of != "" {
		c, err := now.CopyEntry(whose, c.Edit.copied)
		if err != nil {
			f := fault.As(err)
			return nil, fault.At(fault.Protected, f.Place, f.Next, "%s", f.What).With(err)
		}
		return c, nil
	}
	return now.setKey(whose, c.Edit.Key, c.Edit.Value)
}

// onDisk is the estate as its files say it now, also where this is a planned one.
func (e *Estate) onDisk() (*Estate, error) {
	l := e.loader
	l.instead = nil
	return l.LoadSome(e.Path)
}

// StandingOf tells how an entry stands to an edit in the files as they are now: whether it says
// what the edit made it say, or what it said before; neither where somebody has changed it.
func (e *Estate) StandingOf(edit Edit) (made, undone bool, err error) {
	now, err := e.onDisk()
	if err == nil {
		made, undone = now.standing(edit)
	}
	return made, undone, err
}

func (e *Estate) standing(edit Edit) (made, undone bool) {
	source := e.sources[e.places["apps."+edit.App].File]
	if edit.Added != "" {
		lines, begin, end := linesOf(source, edit.App)
		return atomicfile.Digest([]byte(strings.Join(lines[begin:end], ""))) == edit.Added, e.Apps[edit.App] == nil && e.Broken[edit.App] == nil
	}
	says := ""
	if _, entry := pairOf(source, edit.App); entry != nil {
		for _, pair := range entry.Values {
			if keyOf(pair) == edit.Key {
				says = pair.Value.GetToken().Value
			}
		}
	}
	return says == edit.Value, says == edit.Was
}

// TakeBack undoes an edit in the file as it is by now. old gives what the file held before, where
// it is as the edit has left it, and nil where others have changed it since: then only the entry
// is changed. It is an error of class Protected where that no longer says what the edit made it
// say.
func (e *Estate) TakeBack(ctx context.Context, path string, edit Edit, old func(now []byte) ([]byte, error)) error {
	return e.alone(ctx, path, func() error {
		content, err := host.ReadFile(path)
		if err != nil {
			return err
		}
		before, err := old(content)
		if err != nil {
			return err
		}
		if before != nil {
			return (&Change{Path: path, Before: content, After: before}).write()
		}
		now, err := e.onDisk()
		if err != nil {
			return err
		}
		made, undone := now.standing(edit)
		var c *Change
		switch {
		case undone:
			return nil
		case !made:
			return now.changedMeanwhile(edit.App)
		case edit.Added != "":
			c, err = now.withoutEntry(edit)
		default:
			c, err = now.setKey(edit.App, edit.Key, edit.Was)
		}
		if err != nil {
			return err
		}
		return c.write()
	})
}

// write puts the changed file in place of the one that was read.
func (c *Change) write() error {
	attributes, err := atomicfile.AttributesOf(c.Path)
	if err != nil {
		return atomicfile.Failure(c.Path, "check the rights of this user on it", err)
	}
	prepared, err := atomicfile.Prepare(c.Path, c.After, attributes)
	if err == nil {
		err = prepared.Expect(c.Before)
	}
	if err != nil {
		return err
	}
	return prepared.Commit()
}

// alone holds the lock of the estate file's folder, and of the one of an included file, while
// something is done: two runs that change different entries of a file do so one after the other.
func (e *Estate) alone(ctx context.Context, path string, do func() error) error {
	var folders []string
	for _, file := range []string{e.Path, path} {
		folder, err := filepath.EvalSymlinks(filepath.Dir(file)) // by a link, too, its lock is one
		if err != nil {
			return fault.At(fault.Invalid, fault.Place{File: filepath.Dir(file)}, "check the path and its permissions", "the folder of the estate file cannot be looked at: %v", err).With(err)
		}
		folders = append(folders, folder)
	}
	slices.Sort(folders) // so that nobody waits for somebody who waits
	for _, folder := range slices.Compact(folders) {
		release, err := LockFolder(ctx, folder)
		if err != nil {
			return err
		}
		defer release()
	}
	return do()
}
