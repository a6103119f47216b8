//go:build unix && !linux

package applogin

import (
	"errors"
	"os"
	"syscall"
)

// confine takes the identity; see confine_linux.go for what is possible elsewhere.
func confine(as Identity) error {
	if err := syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}); err != nil {
		return err
	}
	if !as.Switch {
		return nil
	}
	if as.UID <= 0 || as.GID <= 0 {
		return errors.New("root logs in for nobody")
	}
	if err := syscall.Setgroups(as.Groups); err != nil {
		return err
	}
	if err := syscall.Setgid(as.GID); err != nil {
		return err
	}
	if err := syscall.Setuid(as.UID); err != nil {
		return err
	}
	if syscall.Setuid(0) == nil || os.Getuid() != as.UID {
		return errors.New("the user was not changed for good")
	}
	return nil
}
