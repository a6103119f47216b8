// Package host reaches the files of an application on the host it runs on. Whoever
// owns these files may be hostile while this program is root, so everything goes
// through one handle on the application's folder that no link leads out of, files
// are opened without waiting and have to be regular ones of a bounded size, and
// owners and modes are set through descriptors, never by name.
//
// Callers must not assume that a path is local. It must never know what the files hold or what
// they are for.
package host

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
)

// Options say what of an application's files may be touched.
type Options struct {
	// Links are absolute folders that links out of the application's folder may
	// lead into.
	Links []string
	// Owners are users, by their number, that files may belong to, beside the
	// folder's own, root and the one who runs the program.
	Owners []int
}

// Folder is an application's folder, held open.
type Folder struct {
	path   string
	mayGo  []string // the folder, and those that links may lead into
	owners []int
	roots  map[string]*os.Root // by the absolute path of each
}

// LongestSettings is how long a file may be that is read as a whole.
const LongestSettings = 4 << 20

// Open opens an application's folder. Links on the way to it count only where root
// or the user who runs the program made them: another could change where they
// lead. An error is fs.ErrNotExist where there is no such folder.
func Open(path string, o Options) (*Folder, error) {
	f := &Folder{path: filepath.Clean(path), mayGo: append([]string{filepath.Clean(path)}, o.Links...), roots: map[string]*os.Root{}}
	root, err := f.root(f.path)
	if err != nil {
		return nil, err
	}
	info, err := root.Stat(".")
	if err != nil {
		f.Close()
		return nil, at(path, err)
	}
	uid, _ := atomicfile.OwnerOf(info)
	f.owners = append(slices.Clone(o.Owners), uid, 0, os.Geteuid())
	return f, nil
}

// Close lets go of the folder. It may be nil.
func (f *Folder) Close() {
	if f == nil {
		return
	}
	for path, root := range f.roots {
		_ = root.Close()
		delete(f.roots, path)
	}
}

// root opens a folder by its absolute path, once.
func (f *Folder) root(path string) (*os.Root, error) {
	if root := f.roots[path]; root != nil {
		return root, nil
	}
	root, err := walk(path)
	if err == nil {
		f.roots[path] = root
	}
	return root, err
}

const mostLinks = 40 // on the way to a file, as the system counts them

// walk opens a folder step by step from the top. Each step is opened by the name
// that was looked at, and has to be the same folder then: a link that somebody put
// there in the meantime is not followed.
func walk(path string) (*os.Root, error) {
	volume := filepath.VolumeName(path)
	top, err := os.OpenRoot(volume + string(filepath.Separator))
	if err != nil {
		return nil, at(path, err)
	}
	rest := strings.Split(strings.Trim(path[len(volume):], string(filepath.Separator)), string(filepath.Separator))
	here, gone, links := top, volume+string(filepath.Separator), 0
	for len(rest) > 0 {
		name := rest[0]
		rest = rest[1:]
		if name == "" || name == "." {
			continue
		}
		info, err := here.Lstat(name)
		if err != nil {
			_ = here.Close()
			return nil, at(path, err)
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			link := filepath.Join(gone, name)
			target, err := here.Readlink(name)
			_ = here.Close()
			if err != nil {
				return nil, at(path, err)
			}
			if uid, _ := atomicfile.OwnerOf(info); uid != 0 && uid != os.Geteuid() && uid != -1 {
				return nil, refused(link, target, "the link belongs to neither root nor the user who runs this")
			}
			if links++; links > mostLinks {
				return nil, refused(link, target, "there are too many links on the way")
			}
			if !filepath.IsAbs(target) {
				target = filepath.Join(gone, target)
			}
			return walk(filepath.Join(append([]string{target}, rest...)...))
		}
		next, err := here.OpenRoot(name)
		if err != nil {
			_ = here.Close()
			return nil, at(path, err)
		}
		opened, err := next.Stat(".")
		_ = here.Close()
		if err != nil || !os.SameFile(info, opened) {
			_ = next.Close()
			return nil, fault.At(fault.Protected, fault.Place{File: filepath.Join(gone, name)}, "find out who changes it, and run the command again", "the folder was exchanged while it was opened")
		}
		here, gone = next, filepath.Join(gone, name)
	}
	return here, nil
}

func at(path string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return &fs.PathError{Op: "open", Path: path, Err: err}
}

func refused(link, target, why string) error {
	return fault.At(fault.Protected, fault.Place{File: link}, "name the target itself in the estate file, or list its folder under links",
		"a link leads to %s: %s", target, why)
}

// place is where a file is: below an open folder, and without a link on the way
// when it was looked for. One that is put there later cannot lead out either.
type place struct {
	root *os.Root
	base string // the root's path
	name string
}

// place finds a file by the path that the estate file has, in the folder or by an
// absolute path outside of it. Links inside the folder are followed; one that leads
// out is refused, unless it leads into a folder that may be entered so.
func (f *Folder) place(path string) (place, error) {
	shown := path
	base := f.baseOf(path)
	if base == "" {
		base = filepath.Dir(path) // the estate file itself has named it
	}
	for links := 0; ; {
		root, err := f.root(base)
		if err != nil {
			return place{}, err
		}
		rest, err := filepath.Rel(base, path)
		if err != nil {
			return place{}, at(shown, err)
		}
		link, target, err := firstLink(root, rest)
		switch {
		case err != nil:
			return place{}, at(shown, err)
		case link == "":
			return place{root: root, base: base, name: rest}, nil
		}
		if links++; links > mostLinks {
			return place{}, refused(filepath.Join(base, link), target, "there are too many links on the way")
		}
		from := filepath.Join(base, link)
		behind := strings.TrimPrefix(strings.TrimPrefix(rest, link), string(filepath.Separator))
		absolute := target
		if !filepath.IsAbs(target) {
			absolute = filepath.Join(filepath.Dir(from), target)
		}
		path = filepath.Join(absolute, behind)
		if base = f.baseOf(path); base == "" {
			return place{}, refused(from, absolute, "that is outside of the application's folder")
		}
	}
}

// baseOf is the folder that a path is opened from: the application's, or one that
// links may lead into; empty for a path in none of them.
func (f *Folder) baseOf(path string) string {
	for _, folder := range f.mayGo {
		if _, inside := Below(folder, path); inside {
			return folder
		}
	}
	return ""
}

// Below gives a path as it is written from a folder, if it is that folder or below
// it by its name. Links are not looked at.
func Below(folder, path string) (rest string, inside bool) {
	rest, err := filepath.Rel(folder, path)
	return rest, err == nil && filepath.IsLocal(rest)
}

// firstLink is the first part of a path that is a link, and where it leads; empty
// when none is. What is not there has no link.
func firstLink(root *os.Root, path string) (link, target string, err error) {
	parts := strings.Split(path, string(filepath.Separator))
	for i := range parts {
		name := filepath.Join(parts[:i+1]...)
		info, err := root.Lstat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return "", "", nil
		case err != nil:
			return "", "", err
		case info.Mode()&fs.ModeSymlink != 0:
			target, err := root.Readlink(name)
			return name, target, err
		}
	}
	return "", "", nil
}

// OpenFile opens a regular file for reading. It does not wait for the other end of
// a pipe, and takes no device, no file of a stranger's, and none of root's that has
// a second name: whoever could make that name may mean a file of somebody else.
func (f *Folder) OpenFile(path string) (*os.File, error) {
	file, err := f.open(path)
	if err != nil {
		return nil, err
	}
	if err := f.check(file, path); err != nil { // a folder is none
		_ = file.Close()
		return nil, err
	}
	return file, nil
}

func (f *Folder) check(file *os.File, path string) error {
	info, err := file.Stat()
	if err != nil {
		return at(path, err)
	}
	if !info.Mode().IsRegular() {
		return fault.At(fault.Protected, fault.Place{File: path}, "put a regular file there", "this is not a regular file (%s)", info.Mode().Type())
	}
	uid, _ := atomicfile.OwnerOf(info)
	if uid != -1 && !slices.Contains(f.owners, uid) {
		return fault.At(fault.Protected, fault.Place{File: path}, "name its owner under ownership, or give the file to one that may have it",
			"the file belongs to the user with the number %d, who has nothing to do with this application", uid)
	}
	if (uid == 0 || uid == os.Geteuid()) && atomicfile.LinksOf(info) > 1 {
		return fault.At(fault.Protected, fault.Place{File: path}, "make a copy of the file in its place",
			"the file is one of this user's or root's with a second name elsewhere: it may be another's file that was linked here")
	}
	return nil
}

// Read reads a file of at most LongestSettings bytes.
func (f *Folder) Read(path string) ([]byte, error) {
	file, err := f.OpenFile(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return ReadAll(file, path)
}

// ReadAll reads an open file, if it is not too long.
func ReadAll(file io.Reader, path string) ([]byte, error) {
	content, err := io.ReadAll(io.LimitReader(file, LongestSettings+1))
	if err != nil {
		return nil, at(path, err)
	}
	if len(content) > LongestSettings {
		return nil, fault.At(fault.Invalid, fault.Place{File: path}, "is this the right file?", "the file is longer than %d MiB, which no settings file is", LongestSettings>>20)
	}
	return content, nil
}

// ReadFile reads a file that its administrator has named, wherever it is: a regular
// one of at most LongestSettings bytes, without waiting for anything.
func ReadFile(path string) ([]byte, error) {
	file, err := OpenNamed(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return ReadAll(file, path)
}

// WriteNew writes a file that its administrator has named and that is not there yet, for
// nobody else to read.
func WriteNew(path string, content []byte) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(content)
	return errors.Join(err, file.Close())
}

// ChangeFile puts content in place of what a file of the system's configuration holds, for all
// to read, if that is what it was. nil stands for no file, both times.
func ChangeFile(path string, was, content []byte) error {
	now, err := ReadFile(path)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	case string(now) != string(was):
		return fault.At(fault.Protected, fault.Place{File: path}, "look at it, and run the command again", "the file was changed by someone else in the meantime")
	case content != nil:
		return atomicfile.Write(path, content, atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o644})
	case err == nil:
		return os.Remove(path)
	}
	return nil
}

// OpenNamed opens a regular file that its administrator has named.
func OpenNamed(path string) (*os.File, error) {
	file, err := os.OpenFile(path, os.O_RDONLY|atomicfile.WithoutWaiting, 0)
	return regular(path, file, err)
}

// OpenIn opens a regular file in an open folder, whoever owns it: what is read from
// it must be data, and change nothing.
func OpenIn(root *os.Root, name string) (*os.File, error) {
	file, err := root.OpenFile(name, os.O_RDONLY|atomicfile.WithoutWaiting, 0)
	return regular(filepath.Join(root.Name(), name), file, err)
}

func regular(path string, file *os.File, err error) (*os.File, error) {
	if err != nil {
		return nil, err
	}
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		_ = file.Close()
		if err != nil {
			return nil, err
		}
		return nil, fault.At(fault.Protected, fault.Place{File: path}, "name a regular file", "this is not a regular file (%s)", info.Mode().Type())
	}
	return file, nil
}

// LeadsOut gives where a link out of the application's folder leads to, for a file
// below it; empty for one that stays inside.
func (f *Folder) LeadsOut(path string) string {
	p, err := f.place(path)
	if _, inside := Below(f.path, path); err != nil || !inside || p.root == f.roots[f.path] {
		return ""
	}
	return filepath.Join(p.base, p.name)
}

// Exists reports whether there is something at a path, even if it may not be opened.
func (f *Folder) Exists(path string) bool {
	p, err := f.place(path)
	if err == nil {
		_, err = p.root.Lstat(p.name)
	}
	return !errors.Is(err, fs.ErrNotExist)
}

// Attributes gives the owner and mode of a file or folder.
func (f *Folder) Attributes(path string) (atomicfile.Attributes, error) {
	file, err := f.open(path)
	if err != nil {
		return atomicfile.Attributes{}, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return atomicfile.Attributes{}, at(path, err)
	}
	return atomicfile.AttributesFrom(info), nil
}

// open opens a file or folder that is one, to look at it or change its owner.
func (f *Folder) open(path string) (*os.File, error) {
	p, err := f.place(path)
	if err != nil {
		return nil, err
	}
	file, err := p.root.OpenFile(p.name, os.O_RDONLY|atomicfile.WithoutWaiting, 0)
	if err != nil {
		return nil, at(path, err)
	}
	info, err := file.Stat()
	if err == nil && !info.IsDir() {
		err = f.check(file, path)
	}
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return file, nil
}

// SetAttributes sets owner and mode of a file or folder, through its descriptor. was is what
// it has to be now: somebody could have replaced it meanwhile.
func (f *Folder) SetAttributes(path string, was, want atomicfile.Attributes) error {
	file, err := f.open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err == nil && atomicfile.AttributesFrom(info) != was {
		return fault.At(fault.Protected, fault.Place{File: path}, "run the command again", "owner or mode were changed by someone else in the meantime")
	}
	if err == nil {
		err = atomicfile.Set(file, want)
	}
	if err != nil {
		return fault.At(fault.Failed, fault.Place{File: path}, "run as root or as its owner", "owner and mode cannot be set: %v", err).With(err)
	}
	return nil
}

// MakeFolder makes a folder, and those above it that are missing, and gives them all
// the owner and mode: whoever is to use the one has to come through the others. made
// are those that it has made, the innermost first, also beside an error.
func (f *Folder) MakeFolder(path string, want atomicfile.Attributes) (made []string, err error) {
	missing := []string{path}
	for at := filepath.Dir(path); !f.Exists(at); at = filepath.Dir(at) {
		missing = append(missing, at)
	}
	for i, at := range slices.Backward(missing) {
		p, err := f.place(at)
		if err == nil {
			err = p.root.Mkdir(p.name, 0o700)
		}
		if err != nil {
			return missing[i+1:], fault.At(fault.Failed, fault.Place{File: at}, "make the folder by hand, or run as root", "the folder cannot be made: %v", err).With(err)
		}
	}
	for _, at := range missing { // the innermost first: until then nobody else gets there
		was, err := f.Attributes(at)
		if err == nil {
			err = f.SetAttributes(at, was, want)
		}
		if err != nil {
			return missing, err
		}
	}
	return missing, nil
}

// Remove removes a file, or an empty folder; a link is removed itself.
func (f *Folder) Remove(path string) error {
	p, err := f.place(filepath.Dir(path))
	if err != nil {
		return err
	}
	return p.root.Remove(filepath.Join(p.name, filepath.Base(path)))
}

// Prepare writes new content beside a file, as atomicfile.Prepare does, and refuses
// a file that may not be touched.
func (f *Folder) Prepare(path string, content []byte, attributes atomicfile.Attributes) (*atomicfile.Prepared, error) {
	p, err := f.place(path)
	if err != nil {
		return nil, err
	}
	file, err := p.root.OpenFile(p.name, os.O_RDONLY|atomicfile.WithoutWaiting, 0)
	switch {
	case err == nil:
		err = f.check(file, path)
		_ = file.Close()
		if err != nil {
			return nil, err
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, at(path, err)
	}
	folder, err := p.root.OpenRoot(filepath.Dir(p.name))
	if err != nil {
		return nil, atomicfile.Failure(path, "make its folder, or correct the path", err)
	}
	return atomicfile.PrepareIn(folder, filepath.Base(p.name), path, content, attributes)
}

// Sweep removes what writes of the file at a path have left that were cut off.
func (f *Folder) Sweep(path string) error {
	p, err := f.place(path)
	if err != nil {
		return err
	}
	folder, err := p.root.OpenRoot(filepath.Dir(p.name))
	if err != nil {
		return at(path, err)
	}
	defer folder.Close()
	atomicfile.Sweep(folder)
	return nil
}

// Write prepares and commits in one go.
func (f *Folder) Write(path string, content []byte, attributes atomicfile.Attributes) error {
	p, err := f.Prepare(path, content, attributes)
	if err != nil {
		return err
	}
	return p.Commit()
}

// CheckWritable finds a folder for a file that is not there or may not be written.
func (f *Folder) CheckWritable(path string) error {
	p, err := f.place(path)
	if err != nil {
		return err
	}
	folder, err := p.root.OpenRoot(filepath.Dir(p.name))
	if err != nil {
		return at(filepath.Dir(path), err)
	}
	defer folder.Close()
	return atomicfile.CheckWritable(folder.Name())
}

// What a user may want to do with a file, or with a folder, as a mode has it for others.
const (
	ToRead    = 0o4
	ToWriteIn = 0o3 // in a folder
)

// KeepsOut gives the first folder on the way to a file or folder, or itself, that keeps a
// user of some groups from what they want to do with it; empty when none does.
func (f *Folder) KeepsOut(path string, uid int, groups []int, want fs.FileMode) (where string, err error) {
	if uid == 0 || !atomicfile.OwnersMeanSomething {
		return "", nil
	}
	p, err := f.place(path)
	if err != nil {
		return "", err
	}
	file := filepath.Join(p.base, p.name)
	info, err := p.root.Stat(p.name)
	if err != nil {
		return "", at(path, err)
	}
	var way []string
	for folder := filepath.Dir(file); ; folder = filepath.Dir(folder) {
		way = append(way, folder)
		if filepath.Dir(folder) == folder {
			break
		}
	}
	slices.Reverse(way)
	const search = 0o1
	for _, folder := range way {
		info, err := os.Stat(folder)
		if err != nil {
			return "", err
		}
		if !allows(info, uid, groups, search) {
			return folder, nil
		}
	}
	if !allows(info, uid, groups, want) {
		return file, nil
	}
	return "", nil
}

// allows reports whether mode bits let a user in; the owner's count for the owner
// alone, and the group's for the group (POSIX.1, "File Access Permissions").
func allows(info fs.FileInfo, uid int, groups []int, want fs.FileMode) bool {
	a := atomicfile.AttributesFrom(info)
	switch {
	case a.UID == uid:
		want <<= 6
	case slices.Contains(groups, a.GID):
		want <<= 3
	}
	return info.Mode()&want == want
}
