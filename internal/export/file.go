package export

import (
	"io"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
)

// File is an export on the disk, packed as its name says.
type File struct {
	stream *atomicfile.Stream
	pack   io.WriteCloser // nil for plain text
}

// Endings are those that exports can have.
var Endings = []string{".sql", ".sql.gz", ".sql.zst", ".sql.xz"}

// CheckName refuses a name whose ending says how it should be packed, and cannot be.
func CheckName(path string) error {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".bz2", ".zip", ".7z", ".rar", ".lz", ".lz4", ".tar", ".tgz":
		return fault.At(fault.Invalid, fault.Place{File: path}, "name it with one of these endings: "+strings.Join(Endings, ", "), "exports are not packed in that way")
	}
	return nil
}

// Create begins an export in a file that must not be there yet.
func Create(path string) (*File, error) {
	if err := CheckName(path); err != nil {
		return nil, err
	}
	stream, err := atomicfile.Create(path)
	if err != nil {
		return nil, err
	}
	f := &File{stream: stream}
	switch strings.ToLower(filepath.Ext(path)) {
	case ".gz":
		f.pack, err = gzip.NewWriterLevel(stream, gzip.BestSpeed)
	case ".zst":
		f.pack, err = zstd.NewWriter(stream, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true))
	case ".xz":
		f.pack, err = xz.NewWriter(stream)
	}
	if err != nil {
		stream.Discard()
		return nil, err
	}
	return f, nil
}

func (f *File) Write(p []byte) (int, error) {
	if f.pack != nil {
		return f.pack.Write(p)
	}
	return f.stream.Write(p)
}

// Finish puts the file in its place.
func (f *File) Finish() (atomicfile.Stored, error) {
	if f.pack != nil {
		if err := f.pack.Close(); err != nil {
			f.stream.Discard()
			return atomicfile.Stored{}, err
		}
	}
	return f.stream.Finish()
}

// Discard removes what was not finished.
func (f *File) Discard() {
	if f.pack != nil {
		_ = f.pack.Close()
	}
	f.stream.Discard()
}
