package atomicfile

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/maphash"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"yellowfield/internal/fault"
)

// Stream is a new file that is written piece by piece, and is there only once it is whole.
// Nobody but the user who runs the program can read it.
type Stream struct {
	folder          *os.Root
	name, temporary string
	path            string
	file            *os.File
	checksum        hash.Hash
	written         maphash.Hash // of the same, and quick
	bytes           int64
}

// Stored is what a Stream has come to.
type Stored struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Create begins a file that must not be there yet.
func Create(path string) (*Stream, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	folder, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return nil, Failure(path, "make the folder, or correct the path", err)
	}
	s := &Stream{folder: folder, name: filepath.Base(path), path: path, checksum: sha256.New()}
	if _, err := folder.Lstat(s.name); !errors.Is(err, fs.ErrNotExist) {
		s.Discard()
		return nil, s.isThere(err)
	}
	Sweep(folder)
	s.temporary = fmt.Sprintf("%s%d-%s", Prefix, os.Getpid(), rand.Text())
	if s.file, err = folder.OpenFile(s.temporary, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600); err != nil {
		s.temporary = ""
		s.Discard()
		return nil, Failure(path, "make the folder writable for this user, or name another", err)
	}
	return s, nil
}

func (s *Stream) isThere(err error) error {
	return fault.At(fault.Protected, fault.Place{File: s.path}, "name another file, or move this one away", "the file is there already").With(err)
}

func (s *Stream) Write(p []byte) (int, error) {
	n, err := s.file.Write(p)
	s.checksum.Write(p[:n])
	_, _ = s.written.Write(p[:n])
	s.bytes += int64(n)
	if err != nil {
		err = Failure(s.path, "make room on the disk", err)
	}
	return n, err
}

// Finish reads back what was written, and puts the file in its place.
func (s *Stream) Finish() (Stored, error) {
	defer s.Discard()
	var there maphash.Hash
	there.SetSeed(s.written.Seed())
	err := s.file.Sync()
	if err == nil {
		_, err = s.file.Seek(0, io.SeekStart)
	}
	if err == nil {
		_, err = io.Copy(&there, s.file)
	}
	if err == nil && there.Sum64() != s.written.Sum64() {
		err = errors.New("it holds something else than was written")
	}
	if err != nil {
		return Stored{}, Failure(s.path, "make room on the disk, and run the command again", err)
	}
	// A hard link never replaces a file; where there are none, this rename is the only check.
	if err = s.folder.Link(s.temporary, s.name); errors.Is(err, fs.ErrExist) {
		return Stored{}, s.isThere(err)
	}
	if err != nil {
		if _, errThere := s.folder.Lstat(s.name); !errors.Is(errThere, fs.ErrNotExist) {
			return Stored{}, s.isThere(err)
		}
		if err = s.folder.Rename(s.temporary, s.name); err != nil {
			return Stored{}, Failure(s.path, "check the rights of this user on the folder", err)
		}
		s.temporary = ""
	}
	syncFolder(s.folder)
	return Stored{Path: s.path, Bytes: s.bytes, SHA256: hex.EncodeToString(s.checksum.Sum(nil))}, nil
}

// Discard removes what was not finished.
func (s *Stream) Discard() {
	if s.file != nil {
		_ = s.file.Close()
		s.file = nil
	}
	if s.folder == nil {
		return
	}
	if s.temporary != "" {
		_ = s.folder.Remove(s.temporary)
	}
	_ = s.folder.Close()
	s.folder = nil
}
