// Package state is the folder in which Yellowfield keeps what it cannot read
// back from servers and files: the journal of runs, pending passwords, copies
// of settings files for undo, and locks.
//
// Losing it loses history, pending passwords and what could still be undone; everything that
// works goes on working. Everything in it is readable by its owner alone. The package must
// never know what the steps of a run mean.
package state

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/adrg/xdg"
	"github.com/gofrs/flock"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/crash"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/secret"
)

// Folder is an opened state folder.
type Folder struct {
	path string

	noting sync.Mutex
	mutex  sync.Mutex
	byApp  map[string][]string // the journals, as they were when the folder was changed at listed
	listed time.Time
}

// DefaultPath is $XDG_STATE_HOME/yellowfield, or for root, unless that
// variable is set, /var/lib/yellowfield.
func DefaultPath() string {
	if os.Geteuid() == 0 && !isRoots(os.Getenv("XDG_STATE_HOME")) {
		return "/var/lib/yellowfield"
	}
	return filepath.Join(xdg.StateHome, "yellowfield")
}

// isRoots reports whether a folder named by the environment is root's, or would be if it were
// made: sudo may have kept the one of whoever called it. A relative one counts for nothing
// (XDG Base Directory Specification).
func isRoots(folder string) bool {
	if !filepath.IsAbs(folder) {
		return false
	}
	info, err := os.Stat(folder)
	for errors.Is(err, fs.ErrNotExist) && folder != "/" {
		folder = filepath.Dir(folder)
		info, err = os.Stat(folder)
	}
	if err != nil {
		return false
	}
	uid, _ := atomicfile.OwnerOf(info)
	return uid == 0
}

// Open makes the folder if need be, and refuses one that others could have put something into.
// In its errors, {state} stands for the option that names another folder.
func Open(path string) (*Folder, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(path, 0o700); err != nil {
		return nil, fault.New(fault.Invalid, "name a folder you may write to with {state}",
			"the state folder %s cannot be made: %v", path, err).With(err)
	}
	info, err := os.Lstat(path)
	if err != nil {
		return nil, fault.New(fault.Invalid, "check the rights of this user on it", "the state folder %s cannot be looked at: %v", path, err).With(err)
	}
	who, err := host.WrittenByOthers(path)
	uid, _ := atomicfile.OwnerOf(info)
	switch {
	case err != nil:
		return nil, fault.New(fault.Invalid, "check the rights of this user on it", "the state folder %s cannot be looked at: %v", path, err).With(err)
	case !info.IsDir():
		who = "it is a link or no folder"
	case who == "" && uid != -1 && uid != os.Geteuid():
		who = "it belongs to another user"
	case who == "" && atomicfile.OwnersMeanSomething && info.Mode().Perm()&0o077 != 0:
		who = "others may read or write it"
	}
	if who != "" {
		return nil, fault.New(fault.Protected, "give it to the user who runs this, with mode 0700, or name another with {state}",
			"what stands in the state folder %s is done as the servers' administrator, and it is not this user's alone: %s", path, who)
	}
	f := &Folder{path: path}
	f.sweep()
	return f, nil
}

// sweep removes what writing has left that was cut off: copies of settings among it, with their
// passwords.
func (f *Folder) sweep() {
	for _, below := range []string{"", "*", "*/*"} {
		left, _ := filepath.Glob(filepath.Join(f.path, below, atomicfile.Prefix+"*"))
		for _, name := range left {
			atomicfile.SweepBeside(name)
		}
	}
}

// Path of the folder.
func (f *Folder) Path() string { return f.path }

func (f *Folder) subfolder(names ...string) (string, error) {
	path := filepath.Join(append([]string{f.path}, names...)...)
	if err := os.MkdirAll(path, 0o700); err != nil {
		return "", fault.New(fault.Failed, "check the rights of this user on it", "the state folder %s cannot be written: %v", f.path, err).With(err)
	}
	return path, nil
}

// Lock takes the lock of a name on this host without waiting. held is false
// when another process has it; release gives it back.
func (f *Folder) Lock(name string) (release func(), held bool, err error) {
	folder, err := f.subfolder("locks")
	if err != nil {
		return nil, false, err
	}
	lock := flock.New(filepath.Join(folder, url.PathEscape(name)), flock.SetPermissions(0o600))
	if held, err = lock.TryLock(); err != nil {
		return nil, false, fmt.Errorf("locking %s: %w", lock.Path(), err)
	}
	return func() { _ = lock.Close() }, held, nil
}

// ForgetLock removes the lock of a name that nobody will use again.
func (f *Folder) ForgetLock(name string) error {
	err := os.Remove(filepath.Join(f.path, "locks", url.PathEscape(name)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Account names whose password is pending: where the server is, and the
// account's name without its hosts, since those share one password.
type Account struct{ Address, User string }

func (f *Folder) pendingPath(a Account) string {
	return filepath.Join(f.path, "pending", url.PathEscape(a.Address), url.PathEscape(a.User))
}

// Pending gives a password that was made and is in no settings file yet.
func (f *Folder) Pending(a Account) (p secret.Password, found bool, err error) {
	content, err := os.ReadFile(f.pendingPath(a))
	if errors.Is(err, fs.ErrNotExist) {
		return p, false, nil
	}
	if err != nil {
		return p, false, fault.New(fault.Failed, "check the rights of this user on it", "the pending password of %s cannot be read: %v", a.User, err).With(err)
	}
	return secret.NewPassword(string(content)), true, nil
}

// SetPending keeps a password until a settings file logs in with it.
func (f *Folder) SetPending(a Account, p secret.Password) error {
	if _, err := f.subfolder("pending", url.PathEscape(a.Address)); err != nil {
		return err
	}
	return atomicfile.Write(f.pendingPath(a), []byte(p.Reveal()), atomicfile.Private)
}

// DropPending forgets a pending password; it is no error when there is none.
func (f *Folder) DropPending(a Account) error {
	crash.Point("dropping a pending password")
	if err := os.Remove(f.pendingPath(a)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.Failed, "remove the file by hand", "the pending password of %s cannot be removed: %v", a.User, err).With(err)
	}
	return nil
}

// The layout versions of journals and notes. A program that finds a higher one is older than
// the program that wrote it, and must not guess.
const (
	journalLayout = 2 // 1 had sentences in the place of effects
	noteLayout    = 1
)

// fromNewer is the error for a layout that this program does not know.
func fromNewer(path string, version, known int) error {
	return fault.At(fault.Protected, fault.Place{File: path}, "use the newer Yellowfield that has worked here",
		"this was written by a newer Yellowfield (layout %d, and this one knows %d)", version, known)
}

// versioned is a note as it is kept.
type versioned struct {
	Version int             `json:"version"`
	Note    json.RawMessage `json:"note"`
}

// SetNote keeps what has to be known by the next run if this program dies: an import that is
// under way, a server's settings as they were. kind and name say whose it is; it is on the
// disk when SetNote returns.
func (f *Folder) SetNote(kind, name string, note any) error {
	if _, err := f.subfolder(kind); err != nil {
		return err
	}
	f.noting.Lock() // two workers may write the same note
	defer f.noting.Unlock()
	content, err := json.Marshal(note)
	if err == nil {
		content, err = json.Marshal(versioned{noteLayout, content})
	}
	if err == nil {
		err = atomicfile.Write(f.notePath(kind, name), content, atomicfile.Private)
	}
	if err != nil {
		return fault.New(fault.Failed, "make room on the disk; nothing is changed without a note of it", "the state folder cannot be written: %v", err).With(err)
	}
	return nil
}

func (f *Folder) notePath(kind, name string) string {
	return filepath.Join(f.path, kind, url.PathEscape(name)+".json")
}

// Note reads a note back; found is false when there is none.
func (f *Folder) Note(kind, name string, note any) (found bool, err error) {
	content, err := os.ReadFile(f.notePath(kind, name))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	var kept versioned
	if err == nil {
		err = json.Unmarshal(content, &kept)
	}
	if err == nil && kept.Version > noteLayout {
		return false, fromNewer(f.notePath(kind, name), kept.Version, noteLayout)
	}
	if err == nil {
		err = json.Unmarshal(kept.Note, note)
	}
	if err != nil {
		return false, fault.New(fault.Failed, "look at the file, and remove it if it means nothing", "the note %s cannot be read: %v", f.notePath(kind, name), err).With(err)
	}
	return true, nil
}

// Notes lists the names of the notes of a kind.
func (f *Folder) Notes(kind string) (names []string, err error) {
	found, err := filepath.Glob(filepath.Join(f.path, kind, "*.json"))
	for _, path := range found {
		if name, err := url.PathUnescape(strings.TrimSuffix(filepath.Base(path), ".json")); err == nil {
			names = append(names, name)
		}
	}
	return names, err
}

// DropNote forgets a note; it is no error when there is none.
func (f *Folder) DropNote(kind, name string) error {
	crash.Point("dropping a note")
	if err := os.Remove(f.notePath(kind, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.Failed, "remove the file by hand", "the note %s cannot be removed: %v", f.notePath(kind, name), err).With(err)
	}
	return nil
}

// Event says what a journal entry reports.
type Event string

// Events, in the order in which they occur.
const (
	Begun    Event = "begun"    // a run begins
	Intended Event = "intended" // written and synced before a change is made
	Done     Event = "done"     // the change is made
	Failed   Event = "failed"
	Undone   Event = "undone"
	Ended    Event = "ended"
	Left     Event = "left" // it ended without undoing everything
)

// Entry is one line of the journal. It never holds a secret.
type Entry struct {
	Time    time.Time `json:"time"`
	Version int       `json:"version,omitempty"` // of the journal's layout, in its first entry
	Who     string    `json:"who,omitempty"`     // runs the command, in the first entry
	Event   Event     `json:"event"`
	Command string    `json:"command,omitempty"`
	App     string    `json:"app,omitempty"`
	Server  string    `json:"server,omitempty"`
	Address string    `json:"address,omitempty"`
	Step    string    `json:"step,omitempty"`
	Object  string    `json:"object,omitempty"` // what the step makes or changes, for people
	Detail  string    `json:"detail,omitempty"`
	Copy    string    `json:"copy,omitempty"` // where the old content of a file is kept
	// Number tells the effects of a run apart; Effect is the one that the entry is about.
	Number int     `json:"n,omitempty"`
	Effect *Effect `json:"effect,omitempty"`
	// Again says that more is known of an effect that was begun.
	Again bool `json:"again,omitempty"`

	// Before, After and Note are what layout 1 had in the place of effects.
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	Note   string `json:"note,omitempty"`
}

// Effect is one change, as data. What its parts mean is known where its kind is registered.
type Effect struct {
	Kind    string          `json:"kind"`
	Subject string          `json:"subject"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
}

// Run is the journal of one command on one app. Nil is a run that records
// nothing, for dry runs.
type Run struct {
	folder *Folder
	name   string
	file   *os.File
}

// nameTime is how the name of a run begins.
const nameTime = "20060102T150405.000Z"

// Begin opens a new journal, with one JSON object per line.
func (f *Folder) Begin(first Entry) (*Run, error) {
	folder, err := f.subfolder("journal")
	if err != nil {
		return nil, err
	}
	earlier, err := f.journals()
	if err != nil {
		return nil, err
	}
	// What is taken back is taken back newest first, so that a run's name is later than those
	// before it, also where the clock was set back in between.
	at := time.Now().UTC()
	if names := earlier[first.App]; len(names) > 0 {
		last, _, _ := strings.Cut(filepath.Base(names[len(names)-1]), "-")
		if newest, err := time.Parse(nameTime, last); err == nil && !at.After(newest) {
			at = newest.Add(time.Millisecond)
		}
	}
	var name string
	var file *os.File
	for ; ; at = at.Add(time.Millisecond) { // the previous run may have begun in the same one
		name = fmt.Sprintf("%s-%s-%d", at.Format(nameTime), first.App, os.Getpid())
		file, err = os.OpenFile(filepath.Join(folder, name+".jsonl"), os.O_CREATE|os.O_EXCL|os.O_WRONLY|os.O_APPEND, 0o600)
		if !errors.Is(err, fs.ErrExist) {
			break
		}
	}
	if err != nil {
		return nil, fault.New(fault.Failed, "make room on the disk, or check the rights of this user", "the journal cannot be begun: %v", err).With(err)
	}
	run := &Run{folder: f, name: name, file: file}
	first.Event, first.Version, first.Who = Begun, journalLayout, who()
	return run, run.Record(first)
}

// ID is the run's name.
func (r *Run) ID() string { return r.name }

// Record writes an entry and returns once it is on the disk.
func (r *Run) Record(e Entry) error {
	if r == nil {
		return nil
	}
	crash.Point("before the journal")
	e.Time = time.Now().UTC()
	line, err := json.Marshal(e)
	if err == nil {
		_, err = r.file.Write(append(line, '\n'))
	}
	if err == nil {
		err = r.file.Sync()
	}
	if err != nil {
		return fault.New(fault.Failed, "make room on the disk; nothing is changed without a journal", "the journal cannot be written: %v", err).With(err)
	}
	crash.Point("behind the journal")
	return nil
}

// End closes the journal.
func (r *Run) End(detail string) {
	if r != nil {
		r.folder.forgetSecrets(r.name)
	}
	r.close(Entry{Event: Ended, Detail: detail})
}

// Leave closes the journal of a run that could not take everything back; the next one goes
// on from there as if it had been cut off.
func (r *Run) Leave(detail string) { r.close(Entry{Event: Left, Detail: detail}) }

func (r *Run) close(last Entry) {
	if r == nil {
		return
	}
	_ = r.Record(last)
	_ = r.file.Close()
}

// KeepCopy keeps the content of a file for undo and gives the copy's path.
func (r *Run) KeepCopy(path string, content []byte) (string, error) {
	if _, err := r.folder.subfolder("copies", r.name); err != nil {
		return "", err
	}
	return r.CopyOf(path), atomicfile.Write(r.CopyOf(path), content, atomicfile.Private)
}

// CopyOf is where the run keeps the content of a file.
func (r *Run) CopyOf(path string) string {
	return filepath.Join(r.folder.path, "copies", r.name, url.PathEscape(path))
}

// secretPrefix begins the names of what is kept for undo and no longer than a run lasts.
const secretPrefix = "secret-"

// KeepSecret keeps what undo takes and nobody needs once the run has ended, such as what a
// server had of a password, and gives its path.
func (r *Run) KeepSecret(name string, content []byte) (string, error) {
	return r.KeepCopy(secretPrefix+name, content)
}

// forgetSecrets removes what KeepSecret has kept.
func (f *Folder) forgetSecrets(run string) {
	kept, _ := filepath.Glob(filepath.Join(f.path, "copies", run, secretPrefix+"*"))
	for _, path := range kept {
		_ = os.Remove(path) // it is no longer of use, and goes with its run at last
	}
}

// Packed is the ending of copies of files and folders that were removed.
const Packed = ".tar"

// Automatic is how the names of exports begin that a command makes by itself, of what it is
// about to change.
const Automatic = "before-"

// KeepsRemoved is how long what was removed can be put back.
const KeepsRemoved = 30 * 24 * time.Hour

// KeepRemoved keeps what is about to be removed, as pack writes it, and gives the place.
// What was written is read back, and check looks at what it holds.
func (r *Run) KeepRemoved(path string, pack func(io.Writer) error, check func(io.Reader) error) (kept string, err error) {
	folder, err := r.folder.subfolder("copies", r.name)
	if err != nil {
		return "", err
	}
	kept = filepath.Join(folder, url.PathEscape(path)+Packed)
	file, err := os.OpenFile(kept, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return "", fault.New(fault.Failed, "make room on the disk, or check the rights of this user", "the copy cannot be made: %v", err).With(err)
	}
	defer file.Close()
	written, there := sha256.New(), sha256.New()
	if err = pack(io.MultiWriter(file, written)); err == nil {
		err = file.Sync()
	}
	for _, read := range []func(io.Reader) error{func(in io.Reader) error { _, err := io.Copy(there, in); return err }, check} {
		if err == nil {
			if _, err = file.Seek(0, io.SeekStart); err == nil {
				err = read(file)
			}
		}
	}
	if err == nil && !bytes.Equal(written.Sum(nil), there.Sum(nil)) {
		err = errors.New("it holds something else than was written")
	}
	if err != nil {
		_ = os.Remove(kept)
		var known *fault.Error
		if !errors.As(err, &known) {
			err = fault.New(fault.Failed, "make room on the disk, and run the command again: nothing was removed", "the copy %s is not what it should be: %v", kept, err).With(err)
		}
		return "", err
	}
	return kept, nil
}

// OpenRemoved opens what KeepRemoved has kept.
func (f *Folder) OpenRemoved(kept string) (*os.File, error) {
	if err := f.isCopy(kept); err != nil {
		return nil, err
	}
	file, err := os.Open(kept)
	if err != nil {
		return nil, fault.New(fault.Failed, "it may be older than it is kept", "what was removed cannot be read: %v", err).With(err)
	}
	return file, nil
}

// DropOldRemoved forgets what was removed or changed long ago: files and folders, and the
// exports that commands have made by themselves, which lie in the folder of an app each.
func (f *Folder) DropOldRemoved(exports string) error {
	var names []string
	for _, pattern := range []string{filepath.Join(f.path, "copies", "*", "*"+Packed), filepath.Join(exports, "*", Automatic+"*.sql.zst")} {
		found, err := filepath.Glob(pattern)
		if err != nil {
			return err
		}
		names = append(names, found...)
	}
	for _, name := range names {
		info, err := os.Lstat(name)
		if err != nil || time.Since(info.ModTime()) < KeepsRemoved {
			continue
		}
		if err := os.Remove(name); err != nil {
			return fault.New(fault.Failed, "remove the file by hand", "an old copy cannot be removed: %v", err).With(err)
		}
	}
	return nil
}

// CutOff is a run that was killed, so that its journal has no end, or could not take back
// what it had done.
type CutOff struct {
	Command string
	Began   time.Time
	// Last is what the run had written last: mostly what it was about to do.
	Last Entry
	// Entries are those of all runs that were cut off since one had an end, in their
	// order.
	Entries []Entry
	folder  *Folder
	paths   []string
}

// On is the part of it that worked on a server; nil for none.
func (c *CutOff) On(server string) *CutOff {
	if c == nil {
		return nil
	}
	part := &CutOff{Command: c.Command, Began: c.Began, Last: c.Last}
	there := false
	for _, e := range c.Entries {
		if e.Event == Begun {
			there = e.Server == server
		}
		if there {
			part.Entries = append(part.Entries, e)
		}
	}
	if len(part.Entries) == 0 {
		return nil
	}
	return part
}

// CutOff gives the runs on an app of an estate file that were cut off and not gone on with,
// whenever that was: the clock may have been set back since. It is nil where there are none.
// The caller holds the app's lock, so the run is no longer at work. A journal that cannot be
// read is none: what is found on the servers counts, and not what is written about it. One of
// a newer program's is an error.
func (f *Folder) CutOff(app, estate string) (cut *CutOff, err error) {
	journals, err := f.journals()
	if err != nil {
		return nil, err
	}
	names := journals[app]
	for _, name := range slices.Backward(names) {
		content, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		entries := parse(content)
		if len(entries) == 0 || entries[0].App != app || entries[0].Detail != estate {
			continue
		}
		first, last := entries[0], entries[len(entries)-1]
		switch {
		case first.Version > journalLayout:
			return nil, fromNewer(name, first.Version, journalLayout)
		case last.Event == Ended:
			continue
		case cut == nil:
			cut = &CutOff{Command: first.Command, Began: first.Time, Last: last, folder: f}
		}
		cut.Entries, cut.paths = append(entries, cut.Entries...), append(cut.paths, name)
	}
	return cut, nil
}

// Copy gives the old content of a file that a run has kept.
func (f *Folder) Copy(path string) ([]byte, error) {
	if err := f.isCopy(path); err != nil {
		return nil, err
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.New(fault.Failed, "look at the file by hand", "the old content cannot be read: %v", err).With(err)
	}
	return content, nil
}

func (f *Folder) isCopy(path string) error {
	inside, err := filepath.Rel(filepath.Join(f.path, "copies"), path)
	if err != nil || !filepath.IsLocal(inside) {
		return fault.New(fault.Protected, "look at the journal", "%s is not a copy in this state folder", path)
	}
	return nil
}

// goneOnWith is written after what a run that was killed has left of its journal.
const goneOnWith = "cut off, and continued by a later run"

// End records that another run has continued these.
func (c *CutOff) End() error {
	line, err := json.Marshal(Entry{Time: time.Now().UTC(), Event: Ended, Detail: goneOnWith})
	if err != nil {
		return err
	}
	for _, path := range c.paths {
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
		if err == nil {
			_, err = file.Write(append([]byte("\n"), append(line, '\n')...))
			err = errors.Join(err, file.Close())
		}
		if err != nil {
			return err
		}
		c.folder.forgetSecrets(strings.TrimSuffix(filepath.Base(path), ".jsonl"))
	}
	return nil
}
