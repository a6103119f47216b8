//go:build unix

package estate

import (
	"context"
	"errors"
	"os"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"yellowfield/internal/fault"
)

// LockFolder takes the lock under which estate files in a folder are changed. It is the folder's
// own (flock(2)), so that every user's runs meet in it and no file is left behind; whoever may
// read the folder can take it, so that it is not waited for without end. On a file system that
// has no such locks for folders it is done without: then a file that another run has changed in
// between is still seen when it is put in place.
func LockFolder(ctx context.Context, folder string) (release func(), err error) {
	const patience, again = 20 * time.Second, 50 * time.Millisecond
	waiting, stop := context.WithTimeout(ctx, patience)
	defer stop()
	lock := flock.New(folder, flock.SetFlag(os.O_RDONLY))
	held, err := lock.TryLockContext(waiting, again)
	switch {
	case held:
		return func() { _ = lock.Close() }, nil // it ends with the program anyway
	case ctx.Err() != nil:
		return nil, fault.Stopped(ctx.Err())
	case errors.Is(err, context.DeadlineExceeded):
		return nil, fault.At(fault.Busy, fault.Place{File: folder}, "see who holds it (lslocks), and run the command again", "another program has held the lock of the estate file's folder for %s", patience)
	case errors.Is(err, syscall.EBADF) || errors.Is(err, syscall.ENOLCK) || errors.Is(err, syscall.EOPNOTSUPP):
		return func() {}, nil // such as NFS
	}
	return nil, fault.At(fault.Invalid, fault.Place{File: folder}, "check the rights of this user on it", "the folder of the estate file cannot be locked: %v", err).With(err)
}
