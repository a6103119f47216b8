//go:build unix

package host

import "syscall"

// withoutWaiting opens a pipe although nobody is at its other end.
const withoutWaiting = syscall.O_NONBLOCK
