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
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

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

// Prepared is new content that lies beside its target, complete and synced,
// and waits for its rename. Preparing all files of a step before the first
// rename finds a full disk or a read-only folder while nothing has changed.
type Prepared struct {
	target, temporary string
	before            []byte // what the target held; nil when it was absent
	existed           bool
}

// Prepare writes content to a temporary file beside path. A symbolic link at
// path is followed: the file it points to is the one replaced. Errors name
// path and what to do; nothing is left behind.
func Prepare(path string, content []byte, attributes Attributes) (*Prepared, error) {
	target, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		target = path
	} else if err != nil {
		return nil, failure(path, "check the link", err)
	}
	p := &Prepared{target: target}
	switch p.before, err = os.ReadFile(target); {
	case err == nil:
		p.existed = true
	case !errors.Is(err, fs.ErrNotExist):
		return nil, failure(path, "check the file's permissions", err)
	}
	temporary, err := os.CreateTemp(filepath.Dir(target), ".yellowfield-*")
	if err != nil {
		return nil, failure(path, "make the folder writable for this user, or run as the user who owns it", err)
	}
	p.temporary = temporary.Name()
	like := ""
	if p.existed {
		like = target
	}
	if err := fill(temporary, content, attributes, like); err != nil {
		p.Discard()
		return nil, failure(path, "make room on the disk, or check the rights of this user", err)
	}
	return p, nil
}

// fill writes content and attributes; extended attributes are those of the file
// like, if there is one.
func fill(file *os.File, content []byte, attributes Attributes, like string) error {
	_, err := file.Write(content)
	// Owner before mode: changing the owner clears set-id bits, and until the
	// mode is set the temporary file is readable by its maker alone.
	if err == nil {
		err = Chown(file.Name(), attributes.UID, attributes.GID)
	}
	// Before the mode as well: an access control list brings one of its own.
	if err == nil && like != "" {
		err = copyExtended(like, file.Name())
	}
	if err == nil {
		err = file.Chmod(attributes.Mode)
	}
	if err == nil {
		err = file.Sync()
	}
	return errors.Join(err, file.Close())
}

func failure(path, next string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return fault.At(fault.Failed, fault.Place{File: path}, next, "the file cannot be written: %v", err).With(err)
}

// Commit puts the new content in place. It refuses with ErrChanged when the
// target is not what it was at Prepare.
func (p *Prepared) Commit() error {
	now, err := os.ReadFile(p.target)
	absent := errors.Is(err, fs.ErrNotExist)
	if absent == p.existed || !absent && !bytes.Equal(now, p.before) {
		p.Discard()
		return changed(p.target)
	}
	if err := os.Rename(p.temporary, p.target); err != nil {
		p.Discard()
		return failure(p.target, "check the rights of this user on the folder", err)
	}
	return syncFolder(filepath.Dir(p.target))
}

// Expect refuses with ErrChanged when the target was not, at Prepare, what the
// caller had read before: the new content was made from that. A nil content
// stands for a file that was not there.
func (p *Prepared) Expect(content []byte) error {
	if p.existed == (content != nil) && bytes.Equal(p.before, content) {
		return nil
	}
	p.Discard()
	return changed(p.target)
}

func changed(target string) error {
	return fault.At(fault.Protected, fault.Place{File: target}, "look at the file and run the command again", "%v", ErrChanged).With(ErrChanged)
}

// Discard removes the temporary file; the target stays as it is.
func (p *Prepared) Discard() { _ = os.Remove(p.temporary) }

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

// AttributesOf gives the owner and mode of a file or folder.
func AttributesOf(path string) (Attributes, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Attributes{}, fmt.Errorf("looking at the owner and mode of %s: %w", path, err)
	}
	uid, gid := ownerOf(info)
	return Attributes{UID: uid, GID: gid, Mode: info.Mode().Perm()}, nil
}
