package provision

import (
	"path/filepath"

	"yellowfield/internal/host"
	"yellowfield/internal/settings"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// Edit is one settings file edited by hand: what would change, and the change.
type Edit struct {
	Path    string `json:"path"`
	Changed bool   `json:"changed"`
	Diff    string `json:"diff,omitempty"` // secrets masked
	Copy    string `json:"copy,omitempty"` // where the old content is kept

	before, after *settings.File
}

// PlanEdit works out an edit and changes nothing.
func PlanEdit(path string, changes []settings.Change) (*Edit, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	// The file's own folder is the one that nothing may lead out of.
	files, err := (host.Host{}).OpenAround(path)
	if err != nil {
		return nil, work.Unreadable(path, err)
	}
	defer files.Close()
	content, err := files.Read(path)
	if err != nil {
		return nil, work.Unreadable(path, err)
	}
	file, err := settings.Parse(path, content)
	if err != nil {
		return nil, err
	}
	after, err := file.With(changes)
	if err != nil {
		return nil, err
	}
	e := &Edit{Path: path, before: file, after: after, Changed: string(file.Bytes()) != string(after.Bytes())}
	if e.Changed {
		e.Diff = file.Named(filepath.Base(path)).Difference(after.Named(filepath.Base(path)), changes)
	}
	return e, nil
}

// Apply writes the edit. The file keeps its owner and its mode, but for a
// right for everyone to write; the old content is kept in the state folder.
func (e *Edit) Apply(folder *state.Folder) error {
	if !e.Changed {
		return nil
	}
	files, err := (host.Host{}).OpenAround(e.Path)
	if err != nil {
		return work.Unreadable(e.Path, err)
	}
	defer files.Close()
	attributes, err := files.Attributes(e.Path)
	if err != nil {
		return err
	}
	attributes.Mode &^= 0o002
	prepared, err := files.Prepare(e.Path, e.after.Bytes(), attributes)
	if err != nil {
		return err
	}
	if err := prepared.Expect(e.before.Bytes()); err != nil {
		return err
	}
	journal, err := folder.Begin(state.Entry{Command: "settings set", App: filepath.Base(e.Path)})
	if err != nil {
		prepared.Discard()
		return err
	}
	old, _ := prepared.Existed()
	if e.Copy, err = journal.KeepCopy(e.Path, old); err == nil {
		err = journal.Record(state.Entry{Event: state.Intended, Step: work.StepSettings, Object: e.Path, Copy: e.Copy})
	}
	if err != nil {
		prepared.Discard()
		return err
	}
	err = prepared.Commit()
	journal.End("written")
	return err
}
