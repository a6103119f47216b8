package atomicfile

import (
	"errors"
	"fmt"
	"strings"

	"golang.org/x/sys/unix"
)

// copyExtended gives a file the extended attributes of another: labels, access
// control lists and whatever a user has put there (xattr(7)). What the system
// alone may set is left out where this user may not.
func copyExtended(from, to string) error {
	list, err := read(func(buffer []byte) (int, error) { return unix.Listxattr(from, buffer) })
	if err != nil || len(list) == 0 {
		return ignoreUnsupported(err)
	}
	for name := range strings.SplitSeq(strings.TrimSuffix(string(list), "\x00"), "\x00") {
		value, err := read(func(buffer []byte) (int, error) { return unix.Getxattr(from, name, buffer) })
		if err == nil {
			err = unix.Setxattr(to, name, value, 0)
		}
		needed := strings.HasPrefix(name, "user.") || strings.HasPrefix(name, "system.posix_acl")
		if err = ignoreUnsupported(err); err != nil && needed {
			return fmt.Errorf("the extended attribute %s cannot be kept: %w", name, err)
		}
	}
	return nil
}

// read asks for a length first, and again while the value grows.
func read(get func([]byte) (int, error)) ([]byte, error) {
	for {
		n, err := get(nil)
		if err != nil || n == 0 {
			return nil, err
		}
		buffer := make([]byte, n)
		n, err = get(buffer)
		if errors.Is(err, unix.ERANGE) {
			continue
		}
		return buffer[:max(n, 0)], err
	}
}

func ignoreUnsupported(err error) error {
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENODATA) {
		return nil
	}
	return err
}
