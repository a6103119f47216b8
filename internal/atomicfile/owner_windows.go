package atomicfile

import (
	"io/fs"
	"os"
)

// OwnersMeanSomething tells whether files have an owner and a group here.
const OwnersMeanSomething = false

// Chown does nothing: Windows has no owner and group in the Unix sense.
// Callers tell the person so, by OwnersMeanSomething.
func Chown(string, int, int) error { return nil }

// CheckWritable cannot tell beforehand here; the write itself will.
func CheckWritable(string) error { return nil }

// OwnerOf knows none.
func OwnerOf(fs.FileInfo) (uid, gid int) { return -1, -1 }

// LinksOf is not told here.
func LinksOf(fs.FileInfo) int { return 1 }

// WithoutWaiting means nothing here: there are no pipes among files.
const WithoutWaiting = 0

func isRunning(int) bool { return true }

func syncFolder(*os.Root) {}
