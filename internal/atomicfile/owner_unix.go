//go:build unix

package atomicfile

import (
	"errors"
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

// OwnerOf gives the owner and the group of a file.
func OwnerOf(info fs.FileInfo) (uid, gid int) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(stat.Uid), int(stat.Gid)
	}
	return -1, -1
}

// LinksOf is how many names a file has.
func LinksOf(info fs.FileInfo) int {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(stat.Nlink)
	}
	return 1
}

// WithoutWaiting opens a pipe although nobody is at its other end (open(2)).
const WithoutWaiting = syscall.O_NONBLOCK

func isRunning(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }

// syncFolder makes the rename itself survive a power cut. Some file systems cannot
// sync folders, and say so; some folders may be written but not read.
func syncFolder(folder *os.Root) {
	if here, err := folder.Open("."); err == nil {
		_ = here.Sync()
		_ = here.Close()
	}
}
