//go:build unix && !linux

package throwaway

import "syscall"

// endWithParent has no counterpart here.
func endWithParent(*syscall.SysProcAttr) {}
