//go:build linux || darwin || freebsd

package host

import "syscall"

// Room is how many bytes this user can still write in a folder; known is false where the
// system does not tell.
func Room(folder string) (bytes int64, known bool) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(folder, &s); err != nil {
		return 0, false
	}
	return int64(s.Bavail) * int64(s.Bsize), true
}
