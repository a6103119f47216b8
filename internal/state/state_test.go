package state

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/secret"
)

func open(t *testing.T) *Folder {
	t.Helper()
	f, err := Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	return f
}

func TestPendingPasswordsAreKeptApartAndForgotten(t *testing.T) {
	f := open(t)
	here, there := Account{"socket /run/a.sock", "comb_app"}, Account{"db:3307", "comb_app"}
	_, found, err := f.Pending(here)
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, f.SetPending(here, secret.NewPassword("one")))
	require.NoError(t, f.SetPending(there, secret.NewPassword("two")))
	require.NoError(t, f.SetPending(Account{"db:3307", "../../etc/passwd"}, secret.NewPassword("three")))
	p, found, err := f.Pending(here)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "one", p.Reveal())
	require.NoError(t, f.DropPending(here))
	require.NoError(t, f.DropPending(here), "twice is no error")
	p, _, _ = f.Pending(there)
	assert.Equal(t, "two", p.Reveal())

	files := 0
	require.NoError(t, filepath.WalkDir(f.Path(), func(path string, entry fs.DirEntry, err error) error {
		info, _ := entry.Info()
		assert.Zero(t, info.Mode().Perm()&0o077, path)
		if !entry.IsDir() {
			files++
		}
		return err
	}))
	assert.Equal(t, 2, files, "no name leads out of the folder")
}

func TestALockIsHeldByOne(t *testing.T) {
	f := open(t)
	release, held, err := f.Lock("app@/etc/estate.yaml")
	require.NoError(t, err)
	assert.True(t, held)
	_, again, err := f.Lock("app@/etc/estate.yaml")
	require.NoError(t, err)
	assert.False(t, again)
	release()
	release, again, err = f.Lock("app@/etc/estate.yaml")
	require.NoError(t, err)
	assert.True(t, again)
	release()
}

func TestTheJournalIsOneObjectALine(t *testing.T) {
	f := open(t)
	run, err := f.Begin(Entry{Command: "provision", App: "combledger"})
	require.NoError(t, err)
	require.NoError(t, run.Record(Entry{Event: Intended, Step: "database", Object: "database x"}))
	kept, err := run.KeepCopy("/srv/www/s.php", []byte("old"))
	require.NoError(t, err)
	run.End("exit 0")
	content, err := os.ReadFile(kept)
	require.NoError(t, err)
	assert.Equal(t, "old", string(content))

	journals, err := filepath.Glob(filepath.Join(f.Path(), "journal", "*.jsonl"))
	require.NoError(t, err)
	require.Len(t, journals, 1)
	text, err := os.ReadFile(journals[0])
	require.NoError(t, err)
	var events []Event
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		var e Entry
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		assert.False(t, e.Time.IsZero())
		events = append(events, e.Event)
	}
	assert.Equal(t, []Event{Begun, Intended, Ended}, events)

	var none *Run // a dry run records nothing
	require.NoError(t, none.Record(Entry{Event: Done}))
	none.End("")
}

func TestAFolderThatCannotBeMade(t *testing.T) {
	_, err := Open("/proc/yellowfield")
	assert.ErrorContains(t, err, "the state folder /proc/yellowfield cannot be made")
	assert.ErrorContains(t, err, "{state}")
}

func TestARunThatWasCutOffIsFound(t *testing.T) {
	f, err := Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	cutOff := func() *CutOff {
		cut, err := f.CutOff("hives", "/e.yaml")
		require.NoError(t, err)
		return cut
	}
	assert.Nil(t, cutOff())
	begin := func(app, estate string) *Run {
		run, err := f.Begin(Entry{Command: "provision", App: app, Detail: estate})
		require.NoError(t, err)
		require.NoError(t, run.Record(Entry{Event: Intended, Step: "account", Object: "account of " + app}))
		return run
	}
	begin("hives", "/e.yaml")
	begin("hives", "/other.yaml").End("exit 0")
	begin("old-hives", "/e.yaml").End("exit 0")
	cut := cutOff()
	require.NotNil(t, cut)
	assert.Equal(t, "provision", cut.Command)
	assert.Equal(t, "account of hives", cut.Last.Object)

	// Torn in the middle of a line, and without any sense.
	begin("hives", "/e.yaml")
	cut = cutOff()
	content, err := os.ReadFile(cut.paths[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(cut.paths[0], content[:len(content)-10], 0o600))
	cut = cutOff()
	require.NotNil(t, cut)
	assert.Equal(t, Begun, cut.Last.Event)
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(cut.paths[0]), "29990101T000000.000Z-hives-1.jsonl"), []byte("{nonsense"), 0o600))
	cut = cutOff()
	require.NotNil(t, cut, "a journal that cannot be read is none")
	require.NoError(t, cut.End())
	assert.Nil(t, cutOff())

	// What a newer program has written is not guessed at.
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(cut.paths[0]), "29990102T000000.000Z-hives-1.jsonl"), []byte(`{"event":"begun","app":"hives","detail":"/e.yaml","version":99}`), 0o600))
	_, err = f.CutOff("hives", "/e.yaml")
	assert.ErrorContains(t, err, "this was written by a newer Yellowfield (layout 99, and this one knows 2)")
	require.NoError(t, f.SetNote("servers", "barn", 7))
	path := f.notePath("servers", "barn")
	require.NoError(t, os.WriteFile(path, []byte(`{"version":2,"note":{"other":"shape"}}`), 0o600))
	var note int
	_, err = f.Note("servers", "barn", &note)
	assert.ErrorContains(t, err, "newer Yellowfield (layout 2")
}

// TestARunThatCouldNotTakeEverythingBack is gone on with like one that was cut off, and has
// ended all the same.
func TestARunThatCouldNotTakeEverythingBack(t *testing.T) {
	f, err := Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	run, err := f.Begin(Entry{Command: "move", App: "hives", Detail: "/e.yaml"})
	require.NoError(t, err)
	run.Leave("exit 1")
	cut, err := f.CutOff("hives", "/e.yaml")
	require.NoError(t, err)
	require.NotNil(t, cut)
	assert.Equal(t, Left, cut.Last.Event)
	release, held, err := f.Lock("hives@/e.yaml") // somebody goes on with it
	require.NoError(t, err)
	require.True(t, held)
	defer release()
	result := func() Result {
		runs, _, err := f.History("/e.yaml", nil)
		require.NoError(t, err)
		require.Len(t, runs, 1)
		return runs[0].Result
	}
	assert.Equal(t, WasFailed, result())
	require.NoError(t, f.Prune("/e.yaml", time.Now().Add(time.Hour)))
	require.NoError(t, cut.End())
	assert.Equal(t, WasFailed, result())
	cut, err = f.CutOff("hives", "/e.yaml")
	require.NoError(t, err)
	assert.Nil(t, cut)
}

func TestHistory(t *testing.T) {
	f, err := Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	t.Setenv("SUDO_USER", "ann")
	begin := func(app, estate string) *Run {
		run, err := f.Begin(Entry{Command: "provision", App: app, Detail: estate})
		require.NoError(t, err)
		require.NoError(t, run.Record(Entry{Event: Intended, Step: "database", Object: "database " + app}))
		time.Sleep(2 * time.Millisecond) // names are times
		return run
	}
	failed := begin("hives", "/e.yaml")
	require.NoError(t, failed.Record(Entry{Event: Done, Step: "database", Object: "database hives"}))
	kept, err := failed.KeepCopy("/www/c.php", []byte("old"))
	require.NoError(t, err)
	require.NoError(t, failed.Record(Entry{Event: Intended, Step: "settings", Object: "/www/c.php", Copy: kept}))
	require.NoError(t, failed.Record(Entry{Event: Failed, Step: "settings", Object: "settings", Detail: "no room"}))
	require.NoError(t, failed.Record(Entry{Event: Undone, Step: "database", Object: "database hives"}))
	failed.End("exit 1")
	begin("combs", "/e.yaml").End("exit 0")
	begin("hives", "/other.yaml").End("exit 0")
	release, held, err := f.Lock("hives@/e.yaml")
	require.NoError(t, err)
	require.True(t, held)
	begin("hives", "/e.yaml")
	torn := filepath.Join(f.path, "journal", "29990101T000000.000Z-hives-1.jsonl")
	require.NoError(t, os.WriteFile(torn, []byte("{nonsense"), 0o600))

	runs, unread, err := f.History("/e.yaml", []string{"hives"})
	require.NoError(t, err)
	assert.Equal(t, []string{torn}, unread)
	require.Len(t, runs, 2)
	assert.Equal(t, IsAtWork, runs[0].Result)
	release()
	first := runs[1]
	assert.Equal(t, WasFailed, first.Result)
	assert.Regexp(t, "^ann as ", first.Who)
	require.Len(t, first.Steps, 2)
	assert.Equal(t, []Event{Undone, Failed}, []Event{first.Steps[0].Event, first.Steps[1].Event})
	assert.Equal(t, "no room", first.Steps[1].Detail)
	assert.Equal(t, []Copy{{Of: "/www/c.php", Path: kept, Bytes: 3}}, first.Copies)

	require.NoError(t, f.Prune("/e.yaml", time.Now().Add(-time.Hour)))
	runs, _, err = f.History("/e.yaml", nil)
	require.NoError(t, err)
	assert.Len(t, runs, 3)
	require.NoError(t, f.Prune("/e.yaml", time.Now().Add(time.Hour)))
	runs, _, err = f.History("/e.yaml", nil)
	require.NoError(t, err)
	require.Len(t, runs, 1, "what was cut off stays until it was gone on with")
	assert.Equal(t, WasCutOff, runs[0].Result)
	assert.NoFileExists(t, kept)
	runs, _, err = f.History("/other.yaml", nil)
	require.NoError(t, err)
	assert.Len(t, runs, 1, "of another estate file")
}

func TestNotesThatSeveralWriteAtOnce(t *testing.T) {
	folder, err := Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	var writers sync.WaitGroup
	for range 8 {
		writers.Go(func() {
			for range 20 {
				assert.NoError(t, folder.SetNote("clusters", "a node", "meadow"))
			}
		})
	}
	writers.Wait()
	var cluster string
	found, err := folder.Note("clusters", "a node", &cluster)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "meadow", cluster)
}

// sudo may have kept the environment of whoever called it; what root has set counts, also
// before the folder is there.
func TestRootsStateIsWhereRootSays(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("NOT TESTED: this test has to run as root")
	}
	roots, others := t.TempDir(), t.TempDir()
	require.NoError(t, os.Chown(others, 65534, 65534))
	for folder, want := range map[string]bool{roots: true, filepath.Join(roots, "not", "yet"): true, others: false, filepath.Join(others, "not", "yet"): false, "not/absolute": false, "": false} {
		t.Setenv("XDG_STATE_HOME", folder)
		xdg.Reload()
		if want {
			assert.Equal(t, filepath.Join(folder, "yellowfield"), DefaultPath())
		} else {
			assert.Equal(t, "/var/lib/yellowfield", DefaultPath(), folder)
		}
	}
	t.Setenv("XDG_STATE_HOME", "")
	xdg.Reload()
}

func TestWhatAKillLeftOfACopyIsRemoved(t *testing.T) {
	path := t.TempDir()
	require.NoError(t, os.Chmod(path, 0o700))
	f, err := Open(path)
	require.NoError(t, err)
	run, err := f.Begin(Entry{Detail: "rotate"})
	require.NoError(t, err)
	kept, err := run.KeepCopy("/www/settings.php", []byte("kept"))
	require.NoError(t, err)
	dead := exec.Command("true")
	require.NoError(t, dead.Run())
	of := func(pid int) string {
		return filepath.Join(filepath.Dir(kept), fmt.Sprintf("%s%d-123", atomicfile.Prefix, pid))
	}
	living := os.Getppid()
	for _, pid := range []int{dead.Process.Pid, living} {
		require.NoError(t, os.WriteFile(of(pid), []byte("$password = 'secret';"), 0o600))
	}
	_, err = Open(path)
	require.NoError(t, err)
	assert.NoFileExists(t, of(dead.Process.Pid))
	assert.FileExists(t, of(living), "which is at work")
	assert.FileExists(t, kept)
}

// TestRunsStayInOrderWhenTheClockIsSetBack: what they left is taken back newest first.
func TestRunsStayInOrderWhenTheClockIsSetBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state")
	f, err := Open(path)
	require.NoError(t, err)
	first, err := f.Begin(Entry{Command: "provision", App: "combs", Detail: "/e.yaml"})
	require.NoError(t, err)
	later := filepath.Join(path, "journal", "29990101T000000.000Z-combs-1.jsonl")
	require.NoError(t, os.Rename(filepath.Join(path, "journal", first.ID()+".jsonl"), later))
	f, err = Open(path)
	require.NoError(t, err)
	for range 2 {
		run, err := f.Begin(Entry{Command: "rotate", App: "combs", Detail: "/e.yaml"})
		require.NoError(t, err)
		assert.Greater(t, run.ID()+".jsonl", filepath.Base(later))
		f, err = Open(path)
		require.NoError(t, err)
	}
	cut, err := f.CutOff("combs", "/e.yaml")
	require.NoError(t, err)
	assert.Equal(t, "rotate", cut.Command)
	assert.Equal(t, "provision", cut.Entries[0].Command)
}
