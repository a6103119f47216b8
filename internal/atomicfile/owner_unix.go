//go:build unix

package atomicfile

import (
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// OwnersMeanSomething tells whether files have an owner and a group here.
const OwnersMeanSomething = true

// Chown sets owner and group; -1 leaves one as it is, as in chown(2).
func Chown(path string, uid, gid int) error {
	if uid == -1 && gid == -1 {
		return nil
	}
	return os.Chown(path, uid, gid)
}

// CheckWritable reports whether this user may make files in a folder, without
// touching it (access(2)).
func CheckWritable(folder string) error { return unix.Access(folder, unix.W_OK|unix.X_OK) }

func ownerOf(info fs.FileInfo) (uid, gid int) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(stat.Uid), int(stat.Gid)
	}
	return -1, -1
}

// syncFolder makes the rename itself survive a power cut.
func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return nil // a folder that may be written but not read; the rename is done
	}
	defer folder.Close()
	_ = folder.Sync() // some file systems cannot sync folders, and say so
	return nil
}
