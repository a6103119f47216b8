package provision

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/settings"
)

// files is the app's folder, opened when it is first needed and held for the run.
// An error is fs.ErrNotExist while there is none.
func (r *run) files() (*host.Folder, error) {
	if r.folder != nil {
		return r.folder, nil
	}
	if r.app.Folder == "" {
		return nil, fs.ErrNotExist
	}
	options := host.Options{Links: r.app.Links}
	if r.app.Ownership != nil && r.app.Ownership.Owner != "" {
		if uid, err := r.Host.UserID(r.app.Ownership.Owner); err == nil { // else the step on ownership says so
			options.Owners = append(options.Owners, uid)
		}
	}
	if r.app.PHP != nil && r.app.PHP.User != "" {
		uid, err := r.Host.UserID(r.app.PHP.User)
		if err != nil {
			return nil, r.Estate.Fault(fault.Invalid, r.path("php.user"), "name the user that PHP runs as, or remove the key", "there is no user %s on this host", r.app.PHP.User).With(err)
		}
		options.Owners = append(options.Owners, uid)
	}
	var err error
	r.folder, err = r.Host.Open(r.app.Folder, options)
	return r.folder, err
}

// hasFolder reports whether the app is unpacked.
func (r *run) hasFolder() bool {
	_, err := r.files()
	return !errors.Is(err, fs.ErrNotExist)
}

// openScript opens a script of the app.
func (r *run) openScript(path string) (*os.File, error) {
	files, err := r.files()
	if err != nil {
		return nil, err
	}
	return files.OpenFile(path)
}

// openSettings reads a settings file. A missing file comes back as an error that
// errors.Is(err, fs.ErrNotExist), and so does an empty one that waits for the
// application's installer.
func (r *run) openSettings(path string) (*settings.File, error) {
	content, err := r.read(path)
	if err != nil {
		return nil, err
	}
	waits := func(file string) bool { return r.app.InFolder(file) == path }
	if slices.ContainsFunc(r.app.Installer.Settings, waits) && settings.IsBlank(content) {
		return nil, unreadable(path, fmt.Errorf("it is empty, and its installer writes it: %w", fs.ErrNotExist))
	}
	return settings.Parse(path, content)
}

// isWritten reports whether a settings file is there and does not wait for the
// application's installer.
func (r *run) isWritten(path string) bool {
	_, err := r.openSettings(path)
	return !errors.Is(err, fs.ErrNotExist)
}

func (r *run) read(path string) ([]byte, error) {
	files, err := r.files()
	var content []byte
	if err == nil {
		content, err = files.Read(path)
	}
	return content, unreadable(path, err)
}

// unreadable gives the error of a file that cannot be read its place.
func unreadable(path string, err error) error {
	var known *fault.Error
	if err == nil || errors.As(err, &known) {
		return err
	}
	cause := err
	for errors.Unwrap(cause) != nil {
		cause = errors.Unwrap(cause)
	}
	return fault.At(fault.Invalid, fault.Place{File: path}, "check the path and its permissions", "the settings file cannot be read: %v", cause).With(err)
}

// attributes gives owner and mode of something of the app's.
func (r *run) attributes(path string) (atomicfile.Attributes, error) {
	files, err := r.files()
	if err != nil {
		return atomicfile.Attributes{}, err
	}
	return files.Attributes(path)
}

// existingAncestor is the nearest folder above a path that is there.
func (r *run) existingAncestor(path string) string {
	for filepath.Dir(path) != path {
		if files, err := r.files(); err == nil && files.Exists(path) {
			return path
		}
		path = filepath.Dir(path)
	}
	return path
}

// sweep removes what writing the estate file and the settings has left that was cut off.
func (r *run) sweep() error {
	atomicfile.SweepBeside(r.Estate.Path)
	if !r.hasFolder() {
		return nil
	}
	files, err := r.files()
	if err != nil {
		return err
	}
	for _, s := range r.app.Settings {
		if err := files.Sweep(r.app.InFolder(s.File)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
