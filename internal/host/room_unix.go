//go:build linux || darwin || freebsd

package host

import (
	"errors"
	"path/filepath"
	"syscall"
)

// Room is how many bytes this user can still write in a folder, which may have to be made;
// known is false where the system does not tell.
func Room(folder string) (bytes int64, known bool) {
	for {
		bytes, err := roomIn(folder)
		if err == nil {
			return bytes, true
		}
		if !errors.Is(err, syscall.ENOENT) || filepath.Dir(folder) == folder {
			return 0, false
		}
		folder = filepath.Dir(folder)
	}
}

// RoomIn is Room for a folder that is there; known is false where it is not.
func RoomIn(folder string) (bytes int64, known bool) {
	bytes, err := roomIn(folder)
	return bytes, err == nil
}

func roomIn(folder string) (int64, error) {
	var s syscall.Statfs_t
	err := syscall.Statfs(folder, &s)
	return int64(s.Bavail) * int64(s.Bsize), err
}
