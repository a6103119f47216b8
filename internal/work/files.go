package work

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

// Files is the app's folder, opened when it is first needed and held for the run.
// An error is fs.ErrNotExist while there is none.
func (r *Run) Files() (*host.Folder, error) {
	if r.Folder != nil {
		return r.Folder, nil
	}
	if r.App.Folder == "" {
		return nil, fs.ErrNotExist
	}
	options := host.Options{Links: r.App.Links}
	if r.App.Ownership != nil && r.App.Ownership.Owner != "" {
		if uid, err := r.Host.UserID(r.App.Ownership.Owner); err == nil { // else the step on ownership says so
			options.Owners = append(options.Owners, uid)
		}
	}
	if r.App.PHP != nil && r.App.PHP.User != "" {
		uid, err := r.Host.UserID(r.App.PHP.User)
		if err != nil {
			return nil, r.Estate.Fault(fault.Invalid, r.Path("php.user"), "name the user that PHP runs as, or remove the key", "there is no user %s on this host", r.App.PHP.User).With(err)
		}
		options.Owners = append(options.Owners, uid)
	}
	var err error
	r.Folder, err = r.Host.Open(r.App.Folder, options)
	return r.Folder, err
}

// HasFolder reports whether the app is unpacked.
func (r *Run) HasFolder() bool {
	_, err := r.Files()
	return !errors.Is(err, fs.ErrNotExist)
}

// OpenScript opens a script of the app.
func (r *Run) OpenScript(path string) (*os.File, error) {
	files, err := r.Files()
	if err != nil {
		return nil, err
	}
	return files.OpenFile(path)
}

// OpenSettings reads a settings file. A missing file comes back as an error that
// errors.Is(err, fs.ErrNotExist), and so does an empty one that waits for the
// application's installer.
func (r *Run) OpenSettings(path string) (*settings.File, error) {
	content, err := r.Read(path)
	if err != nil {
		return nil, err
	}
	waits := func(file string) bool { return r.App.InFolder(file) == path }
	if slices.ContainsFunc(r.App.Installer.Settings, waits) && settings.IsBlank(content) {
		return nil, Unreadable(path, fmt.Errorf("it is empty, and its installer writes it: %w", fs.ErrNotExist))
	}
	return settings.Parse(path, content)
}

// IsWritten reports whether a settings file is there and does not wait for the
// application's installer.
func (r *Run) IsWritten(path string) bool {
	_, err := r.OpenSettings(path)
	return !errors.Is(err, fs.ErrNotExist)
}

func (r *Run) Read(path string) ([]byte, error) {
	files, err := r.Files()
	var content []byte
	if err == nil {
		content, err = files.Read(path)
	}
	return content, Unreadable(path, err)
}

// Unreadable gives the error of a file that cannot be read its place.
func Unreadable(path string, err error) error {
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

// Attributes gives owner and mode of something of the app's.
func (r *Run) Attributes(path string) (atomicfile.Attributes, error) {
	files, err := r.Files()
	if err != nil {
		return atomicfile.Attributes{}, err
	}
	return files.Attributes(path)
}

// ExistingAncestor is the nearest folder above a path that is there.
func (r *Run) ExistingAncestor(path string) string {
	for filepath.Dir(path) != path {
		if files, err := r.Files(); err == nil && files.Exists(path) {
			return path
		}
		path = filepath.Dir(path)
	}
	return path
}

// Sweep removes what writing the estate file and the settings has left that was cut off.
func (r *Run) Sweep() error {
	atomicfile.SweepBeside(r.Estate.Path)
	if !r.HasFolder() {
		return nil
	}
	files, err := r.Files()
	if err != nil {
		return err
	}
	for _, s := range r.App.Settings {
		if err := files.Sweep(r.App.InFolder(s.File)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
