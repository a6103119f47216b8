package estate

import (
	"bytes"
	"maps"
	"path/filepath"
	"reflect"
	"slices"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
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
			continue // what the entry of no file says
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
func (e *Estate) CheckUnchanged(c *Change, servers ...string) error {
	return e.alone(c.Path, func() error {
		_, err := e.rebased(c, servers)
		return err
	})
}

// Apply makes a change in the file as it is by now: entries of other apps may have been changed
// since e was read, by other runs or by hand. Meanwhile no other run changes an estate file in
// that folder. written is told beforehand what the file will say; without an error from it the
// file is put in place.
func (e *Estate) Apply(c *Change, servers []string, written func(*Change) error) error {
	return e.alone(c.Path, func() error {
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
			return nil, fault.At(fault.Protected, fault.As(err).Place, fault.As(err).Next, "%s", fault.As(err).What).With(err)
		}
		return c, nil
	}
	return now.setKey(whose, c.Edit.Key, c.Edit.Value)
}

// TakeBack undoes an edit in the file as it is by now. old gives what the file held before, where
// it is as the edit has left it, and nil where others have changed it since: then only the entry
// is changed. It is an error of class Protected where that no longer says what the edit made it
// say.
func (e *Estate) TakeBack(path string, edit Edit, old func(now []byte) ([]byte, error)) error {
	return e.alone(path, func() error {
		l := e.loader
		l.instead = nil
		content, err := l.readSource(path)
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
		now, err := l.LoadSome(e.Path)
		if err != nil {
			return err
		}
		var c *Change
		switch {
		case edit.Added != "" && now.Apps[edit.App] == nil && now.Broken[edit.App] == nil:
			return nil
		case edit.Added != "":
			c, err = now.withoutEntry(edit)
		case now.Says(edit) == edit.Was:
			return nil
		case now.Says(edit) != edit.Value:
			return now.changedMeanwhile(edit.App)
		default:
			c, err = now.setKey(edit.App, edit.Key, edit.Was)
		}
		if err == nil {
			err = c.write()
		}
		return err
	})
}

// Says is what an entry says for the key of an edit; empty where it has none.
func (e *Estate) Says(edit Edit) string {
	_, entry := pairOf(e.sources[e.places["apps."+edit.App].File], edit.App)
	if entry != nil {
		for _, pair := range entry.Values {
			if keyOf(pair) == edit.Key {
				return pair.Value.GetToken().Value
			}
		}
	}
	return ""
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
func (e *Estate) alone(path string, do func() error) error {
	folders := []string{filepath.Dir(e.Path), filepath.Dir(path)}
	slices.Sort(folders) // so that nobody waits for somebody who waits
	for _, folder := range slices.Compact(folders) {
		release, err := LockFolder(folder)
		if err != nil {
			return err
		}
		defer release()
	}
	return do()
}
