package atomicfile

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// copyExtended gives a file the extended attributes of another: access control lists and
// whatever a user has put there (xattr(7)). Capabilities, labels and what else the system
// decides by (security.*, trusted.*) are not copied: the old file's owner may have obtained
// them in ways that the new content must not inherit.
func copyExtended(from, to *os.File) error {
	list, err := read(func(buffer []byte) (int, error) { return unix.Flistxattr(int(from.Fd()), buffer) })
	if err != nil || len(list) == 0 {
		return ignoreUnsupported(err)
	}
	for name := range strings.SplitSeq(strings.TrimSuffix(string(list), "\x00"), "\x00") {
		if !strings.HasPrefix(name, "user.") && !strings.HasPrefix(name, "system.posix_acl") {
			continue
		}
		value, err := read(func(buffer []byte) (int, error) { return unix.Fgetxattr(int(from.Fd()), name, buffer) })
		if err == nil {
			err = unix.Fsetxattr(int(to.Fd()), name, value, 0)
		}
		if err = ignoreUnsupported(err); err != nil {
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
