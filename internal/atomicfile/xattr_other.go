//go:build !linux

package atomicfile

// copyExtended does nothing where extended attributes are not those of Linux.
func copyExtended(_, _ string) error { return nil }
