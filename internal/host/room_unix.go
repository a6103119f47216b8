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
	var s syscall.Statfs_t
	for {
		err := syscall.Statfs(folder, &s)
		if err == nil {
			return int64(s.Bavail) * int64(s.Bsize), true
		}
		if !errors.Is(err, syscall.ENOENT) || filepath.Dir(folder) == folder {
			return 0, false
		}
		folder = filepath.Dir(folder)
	}
}
