// Package atomicfile replaces a file as a whole: a reader sees the old content
// or the new one, with the right owner and mode from the first moment, and a
// crash leaves one of the two.
//
// It exists because the usual libraries either do not build on every system
// that Yellowfield is built for or cannot set an owner before the rename. It
// must never know what the files are for.
package atomicfile

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"yellowfield/internal/crash"
	"yellowfield/internal/fault"
)

// Attributes of the file to write. UID and GID of -1 mean "leave".
type Attributes struct {
	UID, GID int
	Mode     fs.FileMode
}

// Private is for files that only the person running the program may read.
var Private = Attributes{UID: -1, GID: -1, Mode: 0o600}

// ErrChanged is returned when the file no longer holds what the caller read.
var ErrChanged = errors.New("the file was changed by someone else in the meantime")

// Prepared is new content that lies beside its target, complete and synced, and waits for its
// rename. Preparing all files of a step before the first rename detects a full disk or a
// read-only folder while nothing has changed yet.
//
// All is done through an opened folder and descriptors: whoever may write to the folder can
// swap names in it, and gains nothing from that. The file belongs to the user who runs the
// program, and to nobody else's eyes, until just before it is put in place.
type Prepared struct {
	folder     *os.Root
	name       string // of the target in its folder
	path       string // of the target, for a person
	temporary  string
	file       *os.File // the temporary one
	attributes Attributes
	before     []byte // what the target held; nil when it was absent
	existed    bool
}

// Prepare writes content to a temporary file beside path. A symbolic link at
// path is followed: the file it points to is the one replaced. Errors name
// path and what to do; nothing is left behind.
func Prepare(path string, content []byte, attributes Attributes) (*Prepared, error) {
	target, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		target = path
	} else if err != nil {
		return nil, Failure(path, "check the link", err)
	}
	folder, err := os.OpenRoot(filepath.Dir(target))
	if err != nil {
		return nil, Failure(path, "make the folder, or correct the path", err)
	}
	return PrepareIn(folder, filepath.Base(target), path, content, attributes)
}

// PrepareIn is Prepare for a file in an opened folder, which it closes when all is
// over. path is the file's for a person.
func PrepareIn(folder *os.Root, name, path string, content []byte, attributes Attributes) (*Prepared, error) {
	p := &Prepared{folder: folder, name: name, path: path, attributes: attributes}
	var err error
	if p.before, p.existed, err = p.now(); err != nil {
		p.Discard()
		return nil, Failure(path, "check the file's permissions", err)
	}
	if err := p.write(content); err != nil {
		return nil, err
	}
	return p, nil
}

// write makes the temporary file; it is discarded where that fails.
func (p *Prepared) write(content []byte) (err error) {
	folder, path := p.folder, p.path
	Sweep(folder)
	p.temporary = fmt.Sprintf("%s%d-%s", Prefix, os.Getpid(), rand.Text())
	if p.file, err = folder.OpenFile(p.temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
		p.Discard()
		return Failure(path, "make the folder writable for this user, or run as the user who owns it", err)
	}
	if _, err = p.file.Write(content); err == nil {
		err = p.file.Sync()
	}
	if err != nil {
		p.Discard()
		return Failure(path, "make room on the disk, or check the rights of this user", err)
	}
	return nil
}

// now is what the target holds at the moment.
func (p *Prepared) now() (content []byte, existed bool, err error) {
	file, err := p.folder.OpenFile(p.name, os.O_RDONLY|WithoutWaiting, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, false, errors.Join(err, errors.New("it is not a regular file"))
	}
	content, err = io.ReadAll(file)
	return content, true, err
}

// Prefix begins the names of temporary files.
const Prefix = ".yellowfield-"

// Sweep removes temporary files of runs that were cut off: those of processes that no longer
// exist.
func Sweep(folder *os.Root) {
	here, err := folder.Open(".")
	if err != nil {
		return // a folder that may be written but not read
	}
	defer here.Close()
	names, _ := here.Readdirnames(-1)
	for _, name := range names {
		rest, ours := strings.CutPrefix(name, Prefix)
		number, _, _ := strings.Cut(rest, "-")
		if pid, err := strconv.Atoi(number); ours && err == nil && pid != os.Getpid() && !isRunning(pid) {
			_ = folder.Remove(name)
		}
	}
}

// SweepBeside is Sweep for the folder of a file.
func SweepBeside(path string) {
	if folder, err := os.OpenRoot(filepath.Dir(path)); err == nil {
		Sweep(folder)
		_ = folder.Close()
	}
}

// Failure is the error of a file that cannot be written.
func Failure(path, next string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return fault.At(fault.Failed, fault.Place{File: path}, next, "the file cannot be written: %v", err).With(err)
}

// Commit puts the new content in place. It refuses with ErrChanged when the
// target is not what it was at Prepare.
func (p *Prepared) Commit() error {
	defer p.Discard()
	now, exists, err := p.now()
	if err != nil || exists != p.existed || !bytes.Equal(now, p.before) {
		return changed(p.path)
	}
	return p.putInPlace()
}

func (p *Prepared) putInPlace() (err error) {
	// Owner before mode: changing the owner clears set-id bits. Extended attributes
	// before the mode as well: an access control list brings one of its own.
	err = Set(p.file, Attributes{UID: p.attributes.UID, GID: p.attributes.GID, Mode: 0o600})
	if err == nil && p.existed {
		err = p.copyExtended()
	}
	if err == nil {
		err = p.file.Chmod(p.attributes.Mode)
	}
	if err == nil {
		err = p.file.Sync()
	}
	crash.Point("before a file is put in place")
	if err == nil {
		err = p.folder.Rename(p.temporary, p.name)
	}
	crash.Point("behind a file put in place")
	if err != nil {
		return Failure(p.path, "check the rights of this user on the folder", err)
	}
	ours, err := p.file.Stat()
	there, errThere := p.folder.Lstat(p.name)
	if err != nil || errThere != nil || !os.SameFile(ours, there) {
		return changed(p.path)
	}
	p.temporary = "" // it is the target now
	syncFolder(p.folder)
	return nil
}

func (p *Prepared) copyExtended() error {
	from, err := p.folder.OpenFile(p.name, os.O_RDONLY|WithoutWaiting, 0)
	if err != nil {
		return err
	}
	defer from.Close()
	return copyExtended(from, p.file)
}

// Expect refuses with ErrChanged when the target was not, at Prepare, what the
// caller had read before: the new content was made from that. A nil content
// stands for a file that was not there.
func (p *Prepared) Expect(content []byte) error {
	if p.existed == (content != nil) && bytes.Equal(p.before, content) {
		return nil
	}
	p.Discard()
	return changed(p.path)
}

func changed(target string) error {
	return fault.At(fault.Protected, fault.Place{File: target}, "look at the file and run the command again", "%v", ErrChanged).With(ErrChanged)
}

// Discard removes the temporary file; the target stays as it is.
func (p *Prepared) Discard() {
	if p.file != nil {
		_ = p.file.Close()
		p.file = nil
	}
	if p.folder == nil {
		return
	}
	if p.temporary != "" {
		_ = p.folder.Remove(p.temporary)
	}
	_ = p.folder.Close()
	p.folder = nil
}

// Existed tells whether the target was there, and what it held.
func (p *Prepared) Existed() (content []byte, existed bool) { return p.before, p.existed }

// Write prepares and commits in one go.
func Write(path string, content []byte, attributes Attributes) error {
	p, err := Prepare(path, content, attributes)
	if err != nil {
		return err
	}
	return p.Commit()
}

// Replace puts content in place of whatever has the path's name. Nothing of that is read, and
// a link is replaced itself: the folder may belong to somebody who would have another file
// written, or a large one read.
func Replace(path string, content []byte, attributes Attributes) error {
	folder, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return Failure(path, "make the folder, or correct the path", err)
	}
	p := &Prepared{folder: folder, name: filepath.Base(path), path: path, attributes: attributes}
	if err := p.write(content); err != nil {
		return err
	}
	defer p.Discard()
	return p.putInPlace()
}

// AttributesOf gives the owner and mode of a file or folder.
func AttributesOf(path string) (Attributes, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Attributes{}, fmt.Errorf("looking at the owner and mode of %s: %w", path, err)
	}
	return AttributesFrom(info), nil
}

// AttributesFrom gives the owner and mode that the system told.
func AttributesFrom(info fs.FileInfo) Attributes {
	uid, gid := OwnerOf(info)
	return Attributes{UID: uid, GID: gid, Mode: info.Mode().Perm()}
}

// Set gives an open file or folder its owner and mode.
func Set(file *os.File, a Attributes) error {
	if OwnersMeanSomething && (a.UID != -1 || a.GID != -1) {
		if err := file.Chown(a.UID, a.GID); err != nil {
			return err
		}
	}
	return file.Chmod(a.Mode)
}

// Digest tells contents apart where none of them may be kept.
func Digest(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}
