package applogin

import (
	"bufio"
	"errors"
	"os"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// confine takes the identity, and gives up all that a login does not need. What becomes of
// this process is then what becomes of one of the application's own user.
//
// Until its identity is taken the process is root's, so that the application's user can
// neither trace nor read it; and what has changed its user is not dumpable (prctl(2),
// PR_SET_DUMPABLE), which keeps that user out afterwards, too.
func confine(as Identity) error {
	limits := map[int]uint64{syscall.RLIMIT_CORE: 0, syscall.RLIMIT_FSIZE: 0, syscall.RLIMIT_NOFILE: mostFiles}
	if mostMemory > 0 {
		limits[syscall.RLIMIT_DATA] = mostMemory
	}
	for which, most := range limits {
		if err := syscall.Setrlimit(which, &syscall.Rlimit{Cur: most, Max: most}); err != nil {
			return err
		}
	}
	// An attribute of each thread; a program with C in it has no way to set it for all.
	if _, _, err := syscall.AllThreadsSyscall(syscall.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0); err != 0 && err != syscall.ENOTSUP {
		return err
	}
	if as.Switch {
		if as.UID <= 0 || as.GID <= 0 {
			return errors.New("root logs in for nobody")
		}
		if err := syscall.Setgroups(as.Groups); err != nil {
			return err
		}
		if err := syscall.Setresgid(as.GID, as.GID, as.GID); err != nil {
			return err
		}
		if err := syscall.Setresuid(as.UID, as.UID, as.UID); err != nil {
			return err
		}
		if syscall.Setuid(0) == nil || os.Getuid() != as.UID || os.Geteuid() != as.UID {
			return errors.New("the user was not changed for good")
		}
	}
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return err
	}
	return untraced()
}

// mostFiles are the two ends of a login, what resolving a name takes, and the runtime's own.
const mostFiles = 32

// untraced makes sure that nobody has attached to the process before it was closed to
// others; status is /proc's word for that (proc(5), TracerPid).
func untraced() error {
	status, err := os.Open("/proc/self/status")
	if err != nil {
		return nil // no /proc, no tracer by it
	}
	defer status.Close()
	for lines := bufio.NewScanner(status); lines.Scan(); {
		if name, value, _ := strings.Cut(lines.Text(), ":"); name == "TracerPid" && strings.TrimSpace(value) != "0" {
			return errors.New("another process looks into this one")
		}
	}
	return nil
}
