package provision

import (
	"fmt"
	"io"

	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/state"
)

const keepsRemoved = state.KeepsRemoved

// keepRemoved keeps a file or folder of the application that is about to be removed.
func (r *run) keepRemoved(name, path string) (kept, facts string, err error) {
	files, err := r.files()
	if err != nil {
		return "", "", err
	}
	var packed host.Packed
	pack := func(out io.Writer) (err error) {
		packed, err = files.Pack(path, out)
		return err
	}
	if kept, err = r.journal.KeepRemoved(path, pack, func(in io.Reader) error { return packed.Check(in) }); err != nil {
		return "", "", err
	}
	facts = fmt.Sprintf("%s, %s, kept in the state folder for %s", name, figures.Counted(packed.Files, "file", "files"), figures.Counted(int(keepsRemoved.Hours()/24), "day", "days"))
	if packed.LeftOut > 0 {
		facts += fmt.Sprintf(", but for %s that are no files", figures.Counted(packed.LeftOut, "pipe or device", "pipes and devices"))
	}
	return kept, facts, r.journal.Record(state.Entry{Event: state.Intended, Step: stepInstaller, Object: path, Copy: kept})
}

// putBack puts back what keepRemoved has kept.
func (r *run) putBack(path, kept string) error {
	if kept == "" {
		return fault.At(fault.Protected, fault.Place{File: path}, "unpack it anew, if it is needed", "what was removed for good cannot be put back")
	}
	files, err := r.files()
	if err != nil {
		return err
	}
	archive, err := r.State.OpenRemoved(kept)
	if err != nil {
		return err
	}
	defer archive.Close()
	_, err = files.Unpack(path, archive)
	return err
}
