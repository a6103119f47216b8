package provision

import (
	"errors"
	"yellowfield/internal/atomicfile"
	"yellowfield/internal/effect"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// publication is the writing of all settings files of an app: all are
// prepared, complete and synced, before the first is put in place.
type publication struct {
	files     []*publishedFile
	prepared  bool
	committed int
}

// add takes a file in.
func (p *publication) add(f *publishedFile) *publishedFile {
	f.in = p
	p.files = append(p.files, f)
	return f
}

type publishedFile struct {
	in         *publication
	of         *run // whose file it is: an account's password may be in another app's, too
	path       string
	content    []byte
	read       []byte // what it was made from; nil for a file that was not there
	attributes atomicfile.Attributes
	before     atomicfile.Attributes // of the file that was there
	prepared   *atomicfile.Prepared
	copy       string // where the old content is kept
}

func (p *publication) isPublished() bool {
	return p != nil && len(p.files) > 0 && p.committed == len(p.files)
}

// prepareFiles writes all new contents beside the files, and keeps the old ones.
func (r *run) prepareFiles(p *publication) error {
	if p.prepared {
		return nil
	}
	for _, f := range p.files {
		if err := r.prepareFile(f); err != nil {
			p.discard()
			return err
		}
	}
	p.prepared = true
	return nil
}

func (r *run) prepareFile(f *publishedFile) error {
	files, err := f.of.files()
	if err != nil {
		return err
	}
	if f.prepared, err = files.Prepare(f.path, f.content, f.attributes); err != nil {
		return err
	}
	if err := f.prepared.Expect(f.read); err != nil {
		return err
	}
	old, existed := f.prepared.Existed()
	if !existed {
		return nil
	}
	if f.before, err = files.Attributes(f.path); err != nil {
		return err
	}
	if f.copy, err = r.journal.KeepCopy(f.path, old); err != nil {
		return err
	}
	return r.journal.Record(state.Entry{Event: state.Intended, Step: stepSettings, Object: f.path, Copy: f.copy})
}

// discard removes what was prepared and not put in place.
func (p *publication) discard() {
	for _, f := range p.files[p.committed:] {
		if f.prepared != nil {
			f.prepared.Discard()
		}
	}
}

// content is what a file will hold; nil where it is not written.
func (p *publication) content(path string) []byte {
	for _, f := range p.files {
		if f.path == path {
			return f.content
		}
	}
	return nil
}

// writableFolder finds a folder that is not there or may not be written while
// nothing has been changed yet.
func (r *run) writableFolder(path string) error {
	files, err := r.files()
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

// publish puts one file in place, after all have been prepared.
func (r *run) publish(d *effect.Doing[fileState]) error {
	file := d.Material.(*publishedFile)
	p := file.in
	if err := r.prepareFiles(p); err != nil {
		return err
	}
	d.Before.Copy = file.copy
	if !d.Before.Absent {
		d.Before.Attributes = &file.before
	}
	if err := d.Record(); err != nil {
		p.discard()
		return err
	}
	if err := file.prepared.Commit(); err != nil {
		p.discard()
		return err
	}
	p.committed++
	return nil
}
