package overview

import (
	"bytes"
	"context"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/script"
	"yellowfield/internal/wordset"
	"yellowfield/internal/work"
)

// LookOver looks through the application's folder for what should not lie there: files
// that everybody may write, copies of settings files, repositories, dumps.
func LookOver(r *work.Run, _ context.Context) {
	if r.Plan.Absent || !r.HasFolder() {
		return
	}
	files, err := r.Files()
	if err != nil {
		return // an earlier step has reported it
	}
	found := lookedOver{Run: r, words: wordsInSettings(r)}
	more, err := files.Walk(r.App.Folder, found.take)
	if err != nil {
		r.TellFault(work.StepOwnership, err)
		return
	}
	found.Tell(more)
}

// lookedOver is what is found in a folder, by its kind.
type lookedOver struct {
	*work.Run
	words                                        [][]byte // passwords in the settings
	writable, readable, copies, secret, versions []string
	dumps                                        []string
}

// wordsInSettings are the passwords that the settings files hold.
func wordsInSettings(r *work.Run) (words [][]byte) {
	for _, s := range r.App.Settings {
		if facts, _ := r.ReadFacts(r.App.InFolder(s.File), s.Values); facts["password"] != "" {
			words = append(words, []byte(facts["password"]))
		}
	}
	return words
}

// mostCopies is how many copies are read: there are no more that anybody has made by hand.
const mostCopies = 100

// repositories are the folders of version control.
var repositories = wordset.Of(".git .svn .hg .bzr")

// dumpName matches names of scripts that say they are a database dump; a date alone may be an
// upgrade's, and a database's name its first script's.
var (
	dumpName = regexp.MustCompile(`(?i)dump|backup|sicherung`)
	dated    = regexp.MustCompile(`(?:19|20)\d\d[-_]?\d\d[-_]?\d\d`)
)

func (l *lookedOver) take(e host.Entry) error {
	name, shown := filepath.Base(e.Path), l.App.Shown(e.Path)
	mode := e.Info.Mode()
	switch {
	case mode&fs.ModeSymlink != 0 || e.Path == l.App.Folder:
		return nil
	case mode.IsDir() && repositories[name]:
		l.versions = append(l.versions, shown+"/")
		return fs.SkipDir
	}
	if mode.Perm()&0o002 != 0 && mode&fs.ModeSticky == 0 && !isSettings(l.Run, e.Path) { // whose row has said it
		l.writable = append(l.writable, shown)
	}
	if !mode.IsRegular() {
		return nil
	}
	if isSettings(l.Run, e.Path) && mode.Perm()&0o004 != 0 {
		l.readable = append(l.readable, shown)
	}
	switch {
	case isCopy(l.Run, e.Path):
		var content []byte
		err := fs.ErrNotExist
		if len(l.copies)+len(l.secret) < mostCopies {
			content, err = l.Read(e.Path)
		}
		if err == nil && slices.ContainsFunc(l.words, func(word []byte) bool { return bytes.Contains(content, word) }) {
			l.secret = append(l.secret, shown)
		} else {
			l.copies = append(l.copies, shown)
		}
	case script.HasName(name) && !imports(l.Run, e.Path) && (dumpName.MatchString(name) || dated.MatchString(name) && strings.Contains(strings.ToLower(name), l.App.Database.Name)):
		l.dumps = append(l.dumps, shown)
	}
	return nil
}

func isSettings(r *work.Run, path string) bool {
	return slices.ContainsFunc(r.App.Settings, func(s *estate.Settings) bool { return r.App.InFolder(s.File) == path })
}

func imports(r *work.Run, path string) bool {
	return slices.ContainsFunc(r.App.Import, func(s estate.Script) bool { return r.App.InFolder(s.File) == path })
}

// isCopy reports whether a file is a copy of a settings file in its folder, by its name: an
// editor's, or somebody's. Samples are none: every copy of the application has them.
func isCopy(r *work.Run, path string) bool {
	return !isSettings(r, path) && slices.ContainsFunc(r.App.Settings, func(s *estate.Settings) bool {
		of := r.App.InFolder(s.File)
		return filepath.Dir(path) == filepath.Dir(of) && (s.Template == "" || path != r.App.InFolder(s.Template)) && Copies(filepath.Base(path), filepath.Base(of))
	})
}

var (
	beforeCopied = regexp.MustCompile(`(?i)^(?:[.#_ -]*|(?:copy of|kopie von|old|bak|backup)[ ._-]*)$`)
	behindCopied = regexp.MustCompile(`(?i)^(?:[~#]|[ ._-]*\(?(?:bak|backup|old|orig|saved?|sw[a-p]|tmp|copy|kopie)\)?\d*|[._-]\d[\d._-]*|[ _-]*\(\d+\))+$`)
)

// Copies reports whether a name is that of a copy of another file.
func Copies(name, of string) bool {
	if before, behind, has := strings.Cut(name, of); has && name != of {
		return beforeCopied.MatchString(before) && (behind == "" || behindCopied.MatchString(behind))
	}
	extension := filepath.Ext(of)
	stem := strings.TrimSuffix(of, extension)
	middle, begins := strings.CutPrefix(strings.TrimSuffix(name, extension), stem)
	return begins && stem != "" && filepath.Ext(name) == extension && behindCopied.MatchString(middle)
}

// Tell names what was found, a row for each kind.
func (l *lookedOver) Tell(more bool) {
	row := func(names []string, severity estate.Severity, finding, facts, remedy string) {
		if len(names) == 0 {
			return
		}
		slices.Sort(names)
		rest := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return l.App.Accepts(finding, name) != "" })
		if len(rest) > 0 { // each is accepted by itself, and is a note when there is nothing else
			names = rest
		}
		l.Run.Tell(work.Row{Step: work.StepOwnership, Outcome: work.Differs, Severity: severity, Finding: finding, On: names[0], Facts: work.JoinSome(names) + ": " + facts, Remedy: remedy})
	}
	row(l.secret, estate.MustFix, estate.FindingSettingsCopy, "a copy of the settings with the password that is in use, which a web server may serve as text", "remove it, then yellowfield rotate "+l.App.Name+" --leaked if it could be fetched")
	row(l.copies, estate.ShouldLook, estate.FindingSettingsCopy, "a copy of a settings file, which a web server may serve as text", "remove it, if nobody needs it")
	row(l.writable, estate.ShouldLook, estate.FindingWorldWritable, "everyone on this host can write there ("+figures.Counted(len(l.writable), "file or folder", "files and folders")+")", "chmod o-w, and name its owner under ownership")
	row(l.versions, estate.ShouldLook, estate.FindingRepository, "a web server may serve its history", "move it out of the folder, or have the web server refuse it")
	row(l.dumps, estate.ShouldLook, estate.FindingDump, "it looks like a copy of a database, which a web server may serve", "move it out of the folder")
	if len(l.readable) > 0 {
		slices.Sort(l.readable)
		l.Run.Tell(work.Row{Step: work.StepOwnership, Outcome: work.Note, Facts: work.JoinSome(l.readable) + ": everyone on this host can read the password", Remedy: "ownership: {group: ..., modes: {installing: \"0640\", running: \"0440\"}} in the estate file, then --fix ownership"})
	}
	if more {
		l.Run.Tell(work.Row{Step: work.StepOwnership, Outcome: work.Note, Facts: "the folder holds more files than were looked at"})
	}
}
