package state

import (
	"errors"
	"io/fs"
	"os"

	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// MakeExports makes a folder for exports, which nobody else may read, and says who else could
// write to it; empty for nobody.
func MakeExports(folder string) (who string, err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", fault.New(fault.Failed, "check the rights of this user on it", "the folder of exports %s cannot be made: %v", folder, err).With(err)
	}
	return host.WrittenByOthers(folder)
}

// RemoveExport removes an export; it is no error when it is gone.
func RemoveExport(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.At(fault.Failed, fault.Place{File: path}, "remove the file by hand", "the export cannot be removed: %v", err).With(err)
	}
	return nil
}
