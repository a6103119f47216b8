package work

import (
	"errors"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// Publication is the writing of all settings files of an app: all are
// prepared, complete and synced, before the first is put in place.
type Publication struct {
	Files     []*PublishedFile
	prepared  bool
	committed int
}

// Add takes a file in.
func (p *Publication) Add(f *PublishedFile) *PublishedFile {
	f.In = p
	p.Files = append(p.Files, f)
	return f
}

type PublishedFile struct {
	In         *Publication
	Of         *Run // whose file it is: an account's password may be in another app's, too
	Path       string
	Content    []byte
	Read       []byte // what it was made from; nil for a file that was not there
	Attributes atomicfile.Attributes
	before     atomicfile.Attributes // of the file that was there
	prepared   *atomicfile.Prepared
	copy       string // where the old content is kept
}

func (p *Publication) IsPublished() bool {
	return p != nil && len(p.Files) > 0 && p.committed == len(p.Files)
}

// PrepareFiles writes all new contents beside the files, and keeps the old ones.
func (r *Run) PrepareFiles(p *Publication) error {
	if p.prepared {
		return nil
	}
	for _, f := range p.Files {
		if err := r.prepareFile(f); err != nil {
			p.Discard()
			return err
		}
	}
	p.prepared = true
	return nil
}

func (r *Run) prepareFile(f *PublishedFile) error {
	files, err := f.Of.Files()
	if err != nil {
		return err
	}
	if f.prepared, err = files.Prepare(f.Path, f.Content, f.Attributes); err != nil {
		return err
	}
	if err := f.prepared.Expect(f.Read); err != nil {
		return err
	}
	old, existed := f.prepared.Existed()
	if !existed {
		return nil
	}
	if f.before, err = files.Attributes(f.Path); err != nil {
		return err
	}
	if f.copy, err = r.Journal.KeepCopy(f.Path, old); err != nil {
		return err
	}
	return r.Journal.Record(state.Entry{Event: state.Intended, Step: StepSettings, Object: f.Path, Copy: f.copy})
}

// Discard removes what was prepared and not put in place.
func (p *Publication) Discard() {
	for _, f := range p.Files[p.committed:] {
		if f.prepared != nil {
			f.prepared.Discard()
		}
	}
}

// Content is what a file will hold; nil where it is not written.
func (p *Publication) Content(path string) []byte {
	for _, f := range p.Files {
		if f.Path == path {
			return f.Content
		}
	}
	return nil
}

// WritableFolder finds a folder that is not there or may not be written while
// nothing has been changed yet.
func (r *Run) WritableFolder(path string) error {
	files, err := r.Files()
	if err == nil {
		err = files.CheckWritable(path)
	}
	var known *fault.Error
	if err == nil || errors.As(err, &known) {
		return err
	}
	return fault.At(fault.Invalid, fault.Place{File: path}, "make the folder writable for this user, or run as the user who owns it",
		"the settings file cannot be written, because its folder cannot: %v", err).With(err)
}

// Publish puts one file in place, after all have been prepared.
func (r *Run) Publish(d *effect.Doing[FileState]) error {
	file := d.Material.(*PublishedFile)
	p := file.In
	if err := r.PrepareFiles(p); err != nil {
		return err
	}
	d.Before.Copy = file.copy
	if !d.Before.Absent {
		d.Before.Attributes = &file.before
	}
	if err := d.Record(); err != nil {
		p.Discard()
		return err
	}
	if err := file.prepared.Commit(); err != nil {
		p.Discard()
		return err
	}
	p.committed++
	return nil
}
