package state

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/fault"
)

// Result says how a run ended.
type Result string

// Results of runs.
const (
	WasDone   Result = "done"
	WasFailed Result = "failed"
	WasCutOff Result = "cut off" // killed, whether or not another run has continued it
	IsAtWork  Result = "at work"
)

// Record is one run as its journal tells it.
type Record struct {
	ID      string       `json:"id"`
	App     string       `json:"app"`
	Command string       `json:"command"`
	Server  string       `json:"server,omitempty"`
	Estate  string       `json:"estate,omitempty"`
	Who     string       `json:"who,omitempty"` // login name, and sudo's
	Began   time.Time    `json:"began"`
	Seconds float64      `json:"seconds"` // to its last entry
	Result  Result       `json:"result"`
	Detail  string       `json:"detail,omitempty"`
	Steps   []StepRecord `json:"steps"`
	Copies  []Copy       `json:"copies,omitempty"`
}

// StepRecord is one step of a run. Event is the last that is known of it.
type StepRecord struct {
	Step    string  `json:"step"`
	Object  string  `json:"object"`
	Event   Event   `json:"event"`
	Detail  string  `json:"detail,omitempty"`
	Seconds float64 `json:"seconds"`
	began   time.Time
}

// Copy is the old content of a file, or what was removed.
type Copy struct {
	Of    string `json:"of"`
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	// Until is how long something that was removed is kept; nil for the content of a file,
	// which is kept as long as its run.
	Until *time.Time `json:"until,omitempty"`
}

// History gives the runs on the apps of an estate file, the newest first; those of some
// apps where these are named. Journals that cannot be read are left out and named.
func (f *Folder) History(estate string, apps []string) (runs []Record, unread []string, err error) {
	journals, err := f.journals()
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for app, of := range journals {
		if len(apps) == 0 || slices.Contains(apps, app) {
			names = append(names, of...)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		record, ended, err := read(name)
		switch {
		case err != nil:
			unread = append(unread, name)
			continue
		case record.Estate != "" && record.Estate != estate, len(apps) > 0 && !slices.Contains(apps, record.App):
			continue
		}
		if !ended && record.Result == WasCutOff {
			if release, held, err := f.Lock(record.App + "@" + record.Estate); err == nil && held {
				release()
			} else {
				record.Result = IsAtWork
			}
		}
		runs = append(runs, record)
	}
	slices.SortStableFunc(runs, func(a, b Record) int { return cmp.Or(b.Began.Compare(a.Began), strings.Compare(b.ID, a.ID)) })
	return runs, unread, nil
}

// journals lists the files of runs by their apps, each in the order of time. The folder is
// read again only when it has changed: a command on many apps asks for each of them.
func (f *Folder) journals() (map[string][]string, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	folder := filepath.Join(f.path, "journal")
	info, err := os.Stat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, unreadable(folder, err)
	}
	if f.byApp != nil && info.ModTime().Equal(f.listed) {
		return f.byApp, nil
	}
	began := time.Now()
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, unreadable(folder, err)
	}
	f.byApp = map[string][]string{}
	for _, entry := range entries { // sorted by name, which begins with the time
		name, is := strings.CutSuffix(entry.Name(), ".jsonl")
		from, to := strings.IndexByte(name, '-'), strings.LastIndexByte(name, '-')
		if is && from >= 0 && from < to {
			f.byApp[name[from+1:to]] = append(f.byApp[name[from+1:to]], filepath.Join(folder, entry.Name()))
		}
	}
	// What changes again in the same tick of the file system's clock would not show.
	const tick = 100 * time.Millisecond
	if f.listed = info.ModTime(); began.Sub(f.listed) < tick {
		f.listed = time.Time{}
	}
	return f.byApp, nil
}

func unreadable(folder string, err error) error {
	return fault.New(fault.Failed, "check the rights of this user on it", "the folder of journals %s cannot be read: %v", folder, err).With(err)
}

// Entries gives one run on the apps of an estate file by its ID, or a beginning of it that
// no other run shares, with all that its journal says.
func (f *Folder) Entries(estate, id string) (record Record, entries []Entry, err error) {
	runs, _, err := f.History(estate, nil)
	if err != nil {
		return record, nil, err
	}
	runs = slices.DeleteFunc(runs, func(r Record) bool { return id == "" || !strings.HasPrefix(r.ID, id) })
	switch len(runs) {
	case 1:
	case 0:
		return record, nil, fault.New(fault.Invalid, "yellowfield history --steps lists them", "there is no run %q", id)
	default:
		return record, nil, fault.New(fault.Invalid, "give more of it: yellowfield history --steps lists them", "%q is the beginning of %d runs", id, len(runs))
	}
	content, err := os.ReadFile(filepath.Join(f.path, "journal", runs[0].ID+".jsonl"))
	if err != nil {
		return record, nil, fault.New(fault.Failed, "check the rights of this user on it", "the journal cannot be read: %v", err).With(err)
	}
	return runs[0], parse(content), nil
}

// LastDone is when one of some objects of an app was made or changed last; zero where no
// journal says so.
func (f *Folder) LastDone(estate, app string, objects ...string) (last time.Time, err error) {
	runs, _, err := f.History(estate, []string{app})
	for _, run := range runs {
		for _, step := range run.Steps {
			if step.Event == Done && slices.Contains(objects, step.Object) && step.began.After(last) {
				last = step.began
			}
		}
	}
	return last, err
}

// parse reads the entries of a journal; none where it is none.
func parse(content []byte) (entries []Entry) {
	for _, line := range bytes.Split(bytes.TrimSpace(content), []byte("\n")) {
		var e Entry
		if json.Unmarshal(line, &e) == nil { // the last one may be torn
			entries = append(entries, e)
		} else if len(entries) == 0 {
			return nil
		}
	}
	return entries
}

// Prune removes the journals and copies of runs on the apps of an estate file that ended
// before some time. One that was cut off and not gone on with stays.
func (f *Folder) Prune(estate string, before time.Time) error {
	names, err := filepath.Glob(filepath.Join(f.path, "journal", "*.jsonl"))
	if err != nil {
		return err
	}
	for _, name := range names {
		record, ended, err := read(name)
		if err != nil || !ended || record.Estate != "" && record.Estate != estate || !record.Began.Before(before) {
			continue
		}
		if err = os.RemoveAll(filepath.Join(f.path, "copies", record.ID)); err == nil {
			err = os.Remove(name)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "check the rights of this user on it", "an old entry of the history cannot be removed: %v", err).With(err)
		}
	}
	return nil
}

var errNoJournal = errors.New("this is no journal")

// read reads one journal; ended tells that it has an end.
func read(path string) (record Record, ended bool, err error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return record, false, err
	}
	record = Record{ID: strings.TrimSuffix(filepath.Base(path), ".jsonl"), Result: WasCutOff, Steps: []StepRecord{}}
	var last time.Time
	for i, line := range bytes.Split(bytes.TrimSpace(content), []byte("\n")) {
		var e Entry
		if json.Unmarshal(line, &e) != nil {
			if i == 0 {
				return record, false, errNoJournal
			}
			continue // torn by a crash
		}
		switch {
		case i == 0 && e.Version > journalLayout:
			return record, false, fromNewer(path, e.Version, journalLayout)
		case i == 0:
			record.App, record.Command, record.Server, record.Estate, record.Who, record.Began = e.App, e.Command, e.Server, e.Detail, e.Who, e.Time
		case e.Event == Left:
			record.Result, record.Detail, last = WasFailed, e.Detail, e.Time
		case e.Event == Ended:
			ended = true
			if record.Detail = e.Detail; e.Detail != goneOnWith {
				record.Result = WasFailed
				if e.Detail == "" || e.Detail == "exit 0" || e.Detail == "exit 3" { // which differs, and has done what it should
					record.Result = WasDone
				}
				last = e.Time
			}
		case e.Note != "", e.Again: // it says more of the step that was begun
		case e.Copy != "":
			copied := Copy{Of: e.Object, Path: e.Copy}
			if info, err := os.Stat(e.Copy); err == nil {
				copied.Bytes = info.Size()
				if kept, automatic := filepath.Base(e.Copy), strings.HasPrefix(filepath.Base(e.Copy), Automatic); strings.HasSuffix(kept, Packed) || automatic {
					until := e.Time.Add(KeepsRemoved)
					copied.Until = &until
				}
				record.Copies = append(record.Copies, copied)
			}
			last = e.Time
		default:
			record.take(e)
			last = e.Time
		}
	}
	if !last.IsZero() {
		record.Seconds = max(0, last.Sub(record.Began).Seconds()) // the clock may have been set back
	}
	return record, ended, nil
}

// take takes what became of a step.
func (r *Record) take(e Entry) {
	i := -1
	if e.Event != Intended {
		for n, s := range slices.Backward(r.Steps) {
			if s.Step == e.Step && s.Object == e.Object {
				i = n
				break
			}
		}
	}
	if i < 0 {
		r.Steps = append(r.Steps, StepRecord{Step: e.Step, Object: e.Object, Event: e.Event, Detail: e.Detail, began: e.Time})
		return
	}
	s := &r.Steps[i]
	if e.Event == Undone && s.Event == Failed {
		s.Detail += "; taken back"
		return
	}
	s.Event, s.Detail = e.Event, e.Detail
	if e.Event != Undone {
		s.Seconds = max(0, e.Time.Sub(s.began).Seconds())
	}
}

// who is the login name of whoever runs this, and the one that sudo was called by.
func who() string {
	name := ""
	if current, err := user.Current(); err == nil {
		name = current.Username
	}
	if by := os.Getenv("SUDO_USER"); by != "" && by != name {
		return by + " as " + name
	}
	return name
}
