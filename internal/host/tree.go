package host

import (
	"archive/tar"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
)

// Packed is what a file or a folder came to that was packed.
type Packed struct {
	Files int
	Bytes int64
	// LeftOut counts what cannot be packed: pipes, sockets, devices.
	LeftOut int
	sums    map[string][sha256.Size]byte
}

// Limits of what is packed: no installer is larger.
const (
	mostPacked    = 100_000
	longestPacked = 4 << 30
	setgid        = 0o2000 // as an archive has it
)

// Pack writes a file, or a folder with all below it, as a tar archive (POSIX.1, "pax").
// Links are packed as links, and none is followed.
func (f *Folder) Pack(tree string, out io.Writer) (Packed, error) {
	packed := Packed{sums: map[string][sha256.Size]byte{}}
	p, err := f.place(filepath.Dir(tree))
	if err != nil {
		return packed, err
	}
	folder, err := p.root.OpenRoot(p.name)
	if err != nil {
		return packed, at(tree, err)
	}
	defer folder.Close()
	archive := tar.NewWriter(out)
	err = fs.WalkDir(folder.FS(), filepath.Base(tree), func(name string, _ fs.DirEntry, err error) error {
		if err == nil {
			err = packed.take(archive, folder, name)
		}
		return err
	})
	if err == nil {
		err = archive.Close()
	}
	if err != nil {
		return packed, fault.At(fault.Failed, fault.Place{File: tree}, "make room on the disk, or look at the file it names", "it cannot be packed: %v", err).With(err)
	}
	return packed, nil
}

func (p *Packed) take(archive *tar.Writer, folder *os.Root, name string) error {
	info, err := folder.Lstat(name)
	if err != nil {
		return err
	}
	if p.Files++; p.Files > mostPacked {
		return fmt.Errorf("it holds more than %d files", mostPacked)
	}
	target := ""
	switch mode := info.Mode(); {
	case mode&fs.ModeSymlink != 0:
		if target, err = folder.Readlink(name); err != nil {
			return err
		}
	case mode.IsDir():
		p.Files--
	case !mode.IsRegular():
		p.Files--
		p.LeftOut++
		return nil
	}
	header, err := tar.FileInfoHeader(info, target)
	if err != nil {
		return err
	}
	header.Name, header.Mode, header.Uname, header.Gname = name, int64(info.Mode().Perm()), "", ""
	if info.IsDir() {
		header.Name += "/"
		if info.Mode()&fs.ModeSetgid != 0 { // what is made in it belongs to its group
			header.Mode |= setgid
		}
	}
	if !info.Mode().IsRegular() {
		return archive.WriteHeader(header)
	}
	file, err := OpenIn(folder, name)
	if err != nil {
		return err
	}
	defer file.Close()
	if opened, err := file.Stat(); err != nil || !os.SameFile(info, opened) {
		return errors.Join(err, fmt.Errorf("%s was exchanged while it was opened", name))
	}
	if p.Bytes += header.Size; p.Bytes > longestPacked {
		return fmt.Errorf("it holds more than %d GiB", longestPacked>>30)
	}
	if err := archive.WriteHeader(header); err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.CopyN(io.MultiWriter(archive, sum), file, header.Size); err != nil {
		return err
	}
	p.sums[name] = [sha256.Size]byte(sum.Sum(nil))
	return nil
}

// Check reads an archive back that Pack has written: all of it has to be there.
func (p Packed) Check(in io.Reader) error {
	seen := 0
	err := entries(in, func(header *tar.Header, content io.Reader) error {
		if header.Typeflag != tar.TypeReg {
			return nil
		}
		seen++
		sum := sha256.New()
		if _, err := io.Copy(sum, content); err != nil {
			return err
		}
		if p.sums[header.Name] != [sha256.Size]byte(sum.Sum(nil)) {
			return fmt.Errorf("%s is not in it as it was", header.Name)
		}
		return nil
	})
	if err == nil && seen != len(p.sums) {
		err = fmt.Errorf("it holds %d files of %d", seen, len(p.sums))
	}
	return err
}

func entries(in io.Reader, each func(*tar.Header, io.Reader) error) error {
	archive := tar.NewReader(in)
	for {
		header, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = each(header, archive)
		}
		if err != nil {
			return err
		}
	}
}

// Unpack puts back what Pack has taken from a path, with owners and modes. What is there
// is left as it is, and named.
func (f *Folder) Unpack(tree string, in io.Reader) (stood []string, err error) {
	p, err := f.place(filepath.Dir(tree))
	if err != nil {
		return nil, err
	}
	folder, err := p.root.OpenRoot(p.name)
	if err != nil {
		return nil, at(tree, err)
	}
	defer folder.Close()
	var folders []*tar.Header // their modes come last: they may keep us out
	err = entries(in, func(header *tar.Header, content io.Reader) error {
		name := filepath.FromSlash(path.Clean(header.Name))
		if first, _, _ := strings.Cut(path.Clean(header.Name), "/"); first != filepath.Base(tree) || !filepath.IsLocal(name) {
			return fmt.Errorf("it holds %q, which does not belong there", header.Name)
		}
		if _, err := folder.Lstat(name); err == nil {
			if header.Typeflag != tar.TypeDir {
				stood = append(stood, filepath.Join(filepath.Dir(tree), name))
			}
			return nil
		}
		switch header.Typeflag {
		case tar.TypeDir:
			folders = append(folders, header)
			return folder.Mkdir(name, 0o700)
		case tar.TypeSymlink:
			return folder.Symlink(header.Linkname, name)
		}
		file, err := folder.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		defer file.Close()
		if _, err = io.Copy(file, content); err == nil {
			err = atomicfile.Set(file, attributesOf(header))
		}
		if err == nil {
			err = file.Sync()
		}
		_ = folder.Chtimes(name, time.Time{}, header.ModTime) // it is as old as it was, or not
		return err
	})
	for _, header := range slices.Backward(folders) {
		if err == nil {
			err = setFolder(folder, filepath.FromSlash(path.Clean(header.Name)), attributesOf(header))
		}
	}
	if err != nil {
		return stood, fault.At(fault.Failed, fault.Place{File: tree}, "make room on the disk, or run as root", "it cannot be put back: %v", err).With(err)
	}
	return stood, nil
}

func setFolder(root *os.Root, name string, a atomicfile.Attributes) error {
	folder, err := root.Open(name)
	if err != nil {
		return err
	}
	defer folder.Close()
	return atomicfile.Set(folder, a)
}

func attributesOf(header *tar.Header) atomicfile.Attributes {
	a := atomicfile.Attributes{UID: header.Uid, GID: header.Gid, Mode: fs.FileMode(header.Mode).Perm()}
	if header.Typeflag == tar.TypeDir && header.Mode&setgid != 0 {
		a.Mode |= fs.ModeSetgid
	}
	if os.Geteuid() != 0 { // only root gives files away
		a.UID, a.GID = -1, -1
	}
	return a
}

// RemoveTree removes a file, or a folder with all below it. Links are removed themselves.
func (f *Folder) RemoveTree(tree string) error {
	p, err := f.place(filepath.Dir(tree))
	if err == nil {
		err = p.root.RemoveAll(filepath.Join(p.name, filepath.Base(tree)))
	}
	if err != nil {
		return fault.At(fault.Failed, fault.Place{File: tree}, "remove it by hand, or run as root or as its owner", "it cannot be removed: %v", err).With(err)
	}
	return nil
}

// Entry is a file or folder below another, as it is found: a link is one itself.
type Entry struct {
	Path string
	Info fs.FileInfo
}

// mostEntries is how many files of a tree are looked at.
const mostEntries = 60_000

// Walk tells of a folder and of all below it, and follows no link. What cannot be read is
// left out. more says that it ended before the end: the tree is too large.
func (f *Folder) Walk(tree string, each func(Entry) error) (more bool, err error) {
	p, err := f.place(tree)
	if err != nil {
		return false, err
	}
	folder, err := p.root.OpenRoot(p.name)
	if err != nil {
		return false, at(tree, err)
	}
	defer folder.Close()
	seen := 0
	err = fs.WalkDir(folder.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry == nil {
			return nil
		}
		if seen++; seen > mostEntries {
			more = true
			return fs.SkipAll
		}
		info, err := entry.Info()
		if err != nil {
			return nil
		}
		return each(Entry{filepath.Join(tree, filepath.FromSlash(name)), info})
	})
	return more, err
}

// Given is something whose owner or mode was changed, and what it was.
type Given struct {
	Path string
	Was  atomicfile.Attributes
	Is   atomicfile.Attributes
}

// GiveTree gives a folder and all below it the owner and mode that want says, through
// descriptors, and follows no link. What may not be touched, such as a stranger's file, is
// left as it is, and named. given is also there beside an error.
func (f *Folder) GiveTree(tree string, want func(Entry) atomicfile.Attributes) (given []Given, left []string, err error) {
	_, err = f.Walk(tree, func(e Entry) error {
		was, is := atomicfile.AttributesFrom(e.Info), want(e)
		switch {
		case was == is:
			return nil
		case !e.Info.IsDir() && !e.Info.Mode().IsRegular():
			return nil
		}
		err := f.SetAttributes(e.Path, was, is)
		if known := fault.As(err); err != nil && known.Class == fault.Protected {
			left = append(left, e.Path)
			return nil
		}
		if err == nil {
			given = append(given, Given{e.Path, was, is})
		}
		return err
	})
	return given, left, err
}
