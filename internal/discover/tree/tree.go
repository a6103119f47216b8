// Package tree is the files of an unpacked application, within limits.
package tree

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/script"
	"yellowfield/internal/settings"
	"yellowfield/internal/wordset"
)

// Limits of what is looked at. What goes past them is told in Findings.Skipped.
const (
	mostFiles       = 60_000
	LongestSettings = 256 << 10
	LongestCode     = 2 << 20
	LongestScript   = 256 << 20
)

// othersFolders hold code that is not the application's own.
var othersFolders = wordset.Of("vendor vendors node_modules bower_components third_party thirdparty 3rdparty .git .svn .hg .idea .vscode cache")

// UpgradeFolders hold what takes an older version to this one.
var UpgradeFolders = wordset.Of("upgrade upgrades update updates upgrading migration migrations patch patches upgrade-scripts db-updates")

// ForUpgrades is the reason for which folders of upgrades are skipped.
const ForUpgrades = "it is for upgrades"

// Tree is the application's files, by their paths from its folder with slashes.
type Tree struct {
	Root    string
	Files   []string // in the order of their paths
	Sizes   map[string]int64
	Folders map[string]bool
	Skipped []string
	// Upgrades are the scripts in folders for upgrades, by these.
	Upgrades map[string][]string
	// Waiting are the places of files of a name, of which there are empty samples, the
	// nearest first.
	Waiting map[string][]string
	// Names is how many names of tables are kept of its scripts.
	Names int
}

// Skipped folders and files are named with the reason.
func (t *Tree) Skip(path, why string) { t.Skipped = append(t.Skipped, path+": "+why) }

// Inside is the folder in which an application lies that was unpacked with a folder of its
// own around it, which has its version. A folder such as public is a part of one.
func Inside(folder string) string {
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 1 || !entries[0].IsDir() || !VersionSuffix.MatchString(entries[0].Name()) {
		return folder
	}
	return filepath.Join(folder, entries[0].Name())
}

// Look walks over a folder.
func Look(ctx context.Context, root string) (*Tree, error) {
	t := &Tree{Root: root, Sizes: map[string]int64{}, Folders: map[string]bool{}, Upgrades: map[string][]string{}}
	err := filepath.WalkDir(root, func(at string, entry fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return fault.Stopped(ctx.Err())
		}
		if err != nil {
			if at == root {
				return fault.At(fault.Invalid, fault.Place{File: root}, "name the folder of an unpacked application", "the folder cannot be read: %v", err).With(err)
			}
			t.Skip(t.name(at), "it cannot be read")
			if entry.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		name := t.name(at)
		if entry.IsDir() {
			return t.folder(name, at)
		}
		if !entry.Type().IsRegular() {
			return nil
		}
		if len(t.Files) == mostFiles {
			t.Skip(name, "there are too many files; this one and those after it were not looked at")
			return filepath.SkipAll
		}
		if info, err := entry.Info(); err == nil {
			t.Files = append(t.Files, name)
			t.Sizes[name] = info.Size()
		}
		return nil
	})
	t.noteEmptySamples()
	return t, err
}

func (t *Tree) name(at string) string {
	name, _ := filepath.Rel(t.Root, at)
	return filepath.ToSlash(name)
}

func (t *Tree) folder(name, at string) error {
	if name == "." {
		return nil
	}
	switch base := strings.ToLower(path.Base(name)); {
	case othersFolders[base]:
		t.Skip(name+"/", "code of others")
		return filepath.SkipDir
	case UpgradeFolders[base]:
		t.Skip(name+"/", ForUpgrades)
		t.takeUpgrades(name, at)
		return filepath.SkipDir
	}
	if _, err := os.Stat(filepath.Join(at, "composer", "installed.json")); err == nil {
		t.Skip(name+"/", "code of others")
		return filepath.SkipDir
	}
	t.Folders[name] = true
	return nil
}

// MakesAll is the name of a script that makes all tables at once, which some keep with
// those for upgrades.
var MakesAll = regexp.MustCompile(`(?i)^[a-z_-]*(?:create[_-]?(?:db|database|tables|schema|all)|install|initial|structure|schema)[a-z_-]*\.sql$`)

// takeUpgrades takes the scripts of a folder for upgrades that make all tables, and notes
// the others.
func (t *Tree) takeUpgrades(name, at string) {
	entries, _ := os.ReadDir(at)
	for _, entry := range entries {
		info, err := entry.Info()
		if err != nil || !info.Mode().IsRegular() || len(t.Files) >= mostFiles || !IsScript(entry.Name()) {
			continue
		}
		file := path.Join(name, entry.Name())
		t.Sizes[file] = info.Size()
		if MakesAll.MatchString(entry.Name()) {
			t.Files = append(t.Files, file)
		} else {
			t.Upgrades[name] = append(t.Upgrades[name], file)
		}
	}
}

// noteEmptySamples finds the files that installers fill where empty samples wait for them.
func (t *Tree) noteEmptySamples() {
	t.Waiting = map[string][]string{}
	for _, name := range t.Files {
		if plain, isSample := settings.PlainName(path.Base(name)); isSample && t.IsBlank(name) {
			if at := path.Join(path.Dir(name), plain); !t.Has(at) {
				t.Waiting[plain] = append(t.Waiting[plain], at)
			}
		}
	}
	for _, places := range t.Waiting {
		slices.SortStableFunc(places, func(a, b string) int { return strings.Count(a, "/") - strings.Count(b, "/") })
	}
}

// Read gives a file's content; nil for one that is too long or cannot be read.
func (t *Tree) Read(name string, longest int64) []byte {
	if t.Sizes[name] > longest {
		return nil
	}
	file, err := t.Open(name)
	if err != nil {
		return nil
	}
	defer file.Close()
	content, err := io.ReadAll(io.LimitReader(file, longest))
	if err != nil {
		return nil
	}
	return content
}

// Open opens a file of the tree, which no link leads out of.
func (t *Tree) Open(name string) (*os.File, error) {
	folder, err := os.OpenRoot(t.Root)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return host.OpenIn(folder, filepath.FromSlash(name))
}

func (t *Tree) Has(name string) bool { _, found := t.Sizes[name]; return found }

// IsBlank reports whether a file is empty, but for what begins every one of its kind.
func (t *Tree) IsBlank(name string) bool {
	const longest = 64
	size, has := t.Sizes[name]
	return has && (size == 0 || size < longest && settings.IsBlank(t.Read(name, longest)))
}

// IsCode reports whether a file is PHP by its name.
func IsCode(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".php", ".inc", ".phtml", ".module", ".install", ".class":
		return true
	}
	return false
}

// IsScript reports whether a file is SQL by its name, or a sample of that.
func IsScript(name string) bool {
	base := path.Base(strings.ToLower(name))
	plain, _ := settings.PlainName(base)
	return !strings.HasPrefix(base, ".env") && (script.HasName(name) || script.HasName(plain))
}

// settingsExtensions are those of files that may hold settings.
var settingsExtensions = wordset.Of(".php .inc .ini .conf .cfg .cnf .config .env .yml .yaml .json .xml .properties .local .params")

// foreignNames are files that hold settings of other programs than the
// application.
var foreignNames = regexp.MustCompile(`(?i)^(composer|package|package-lock|bower|tsconfig|phpunit|phpcs|phpstan|psalm|docker|compose|codeception|behat|build|pom|karma|gruntfile|web)\b.*\.(json|ya?ml|xml|dist|neon|config)`)

// templateName is the name of a template of settings that does not say of what kind they are.
var templateName = regexp.MustCompile(`(?i)^[\w.-]*(?:conf|settings|database|db)[\w-]*\.(?:tpl|tmpl|template)$`)

// MaySet reports whether a file may be a settings file by its name, and the
// name it is used under.
func MaySet(name string) (plain string, may bool) {
	base := path.Base(name)
	plain, _ = settings.PlainName(base)
	if foreignNames.MatchString(base) {
		return plain, false
	}
	extension := strings.ToLower(path.Ext(plain))
	return plain, settingsExtensions[extension] || strings.HasPrefix(plain, ".env") || templateName.MatchString(base) || slices.Contains([]string{"config", "configuration", "settings"}, strings.ToLower(plain))
}

var (
	VersionSuffix = regexp.MustCompile(`(?i)[-_. ]?v?\d+(\.\d+)*([-_.](stable|final|release|rc\d*|beta\d*|alpha\d*|src|full))?$|[-_](?:master|main|trunk|latest|stable)$`)
	NotInNames    = regexp.MustCompile(`[^a-z0-9]+`)
)
