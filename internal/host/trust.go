package host

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"yellowfield/internal/atomicfile"
)

// WrittenByOthers says who besides root and the user who runs the program could
// have written a file or folder, or put another in its place; empty for nobody.
// Every folder above counts, too, as each could be renamed. A folder that all may
// write to is fine where only owners may rename in it (the sticky bit, as on /tmp),
// and one that a group may write to where the group is this user's own or root's.
// Links are followed, and have to be root's or this user's.
func WrittenByOthers(path string) (who string, err error) {
	if !atomicfile.OwnersMeanSomething {
		return "", nil
	}
	path, err = filepath.Abs(path)
	if err != nil {
		return "", err
	}
	for links := 0; ; {
		info, err := os.Lstat(path)
		if err != nil {
			return "", err
		}
		if who := writer(path, info); who != "" {
			return who, nil
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			if links++; links > mostLinks {
				return "there are too many links on the way to " + path, nil
			}
			target, err := os.Readlink(path)
			if err != nil {
				return "", err
			}
			if !filepath.IsAbs(target) {
				target = filepath.Join(filepath.Dir(path), target)
			}
			if who, err := WrittenByOthers(target); err != nil || who != "" {
				return who, err
			}
		}
		if filepath.Dir(path) == path {
			return "", nil
		}
		path = filepath.Dir(path)
	}
}

func writer(path string, info fs.FileInfo) string {
	a := atomicfile.AttributesFrom(info)
	switch {
	case a.UID != 0 && a.UID != os.Geteuid():
		return fmt.Sprintf("%s belongs to the user with the number %d", path, a.UID)
	case info.Mode()&fs.ModeSymlink != 0: // whose mode means nothing
		return ""
	case info.IsDir() && info.Mode()&fs.ModeSticky != 0 && a.UID == 0:
		return ""
	case a.Mode&0o002 != 0:
		return path + " may be written by everyone on this host"
	case a.Mode&0o020 != 0 && a.GID != 0 && a.GID != os.Getegid():
		return fmt.Sprintf("%s may be written by the group with the number %d", path, a.GID)
	}
	return ""
}
