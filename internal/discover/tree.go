package discover

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
	longestSettings = 256 << 10
	longestCode     = 2 << 20
	longestScript   = 256 << 20
)

// othersFolders hold code that is not the application's own.
var othersFolders = wordset.Of("vendor vendors node_modules bower_components third_party thirdparty 3rdparty .git .svn .hg .idea .vscode cache")

// upgradeFolders hold what takes an older version to this one.
var upgradeFolders = wordset.Of("upgrade upgrades update updates upgrading migration migrations patch patches upgrade-scripts db-updates")

// ForUpgrades is the reason for which folders of upgrades are skipped.
const ForUpgrades = "it is for upgrades"

// tree is the application's files, by their paths from its folder with slashes.
type tree struct {
	root    string
	files   []string // in the order of their paths
	sizes   map[string]int64
	folders map[string]bool
	skipped []string
	// upgrades are the scripts in folders for upgrades, by these.
	upgrades map[string][]string
	// waiting are the places of files of a name, of which there are empty samples, the
	// nearest first.
	waiting map[string][]string
}

// Skipped folders and files are named with the reason.
func (t *tree) skip(path, why string) { t.skipped = append(t.skipped, path+": "+why) }

// inside is the folder in which an application lies that was unpacked with a folder of its
// own around it, which has its version. A folder such as public is a part of one.
func inside(folder string) string {
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 1 || !entries[0].IsDir() || !versionSuffix.MatchString(entries[0].Name()) {
		return folder
	}
	return filepath.Join(folder, entries[0].Name())
}

// look walks over a folder.
func look(ctx context.Context, root string) (*tree, error) {
	t := &tree{root: root, sizes: map[string]int64{}, folders: map[string]bool{}, upgrades: map[string][]string{}}
	err := filepath.WalkDir(root, func(at string, entry fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return fault.Stopped(ctx.Err())
		}
		if err != nil {
			if at == root {
				return fault.At(fault.Invalid, fault.Place{File: root}, "name the folder of an unpacked application", "the folder cannot be read: %v", err).With(err)
			}
			t.skip(t.name(at), "it cannot be read")
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
		if len(t.files) == mostFiles {
			t.skip(name, "there are too many files; this one and those after it were not looked at")
			return filepath.SkipAll
		}
		if info, err := entry.Info(); err == nil {
			t.files = append(t.files, name)
			t.sizes[name] = info.Size()
		}
		return nil
	})
	t.noteEmptySamples()
	return t, err
}

func (t *tree) name(at string) string {
	name, _ := filepath.Rel(t.root, at)
	return filepath.ToSlash(name)
}

func (t *tree) folder(name, at string) error {
	if name == "." {
		return nil
	}
	switch base := strings.ToLower(path.Base(name)); {
	case othersFolders[base]:
		t.skip(name+"/", "code of others")
		return filepath.SkipDir
	case upgradeFolders[base]:
		t.skip(name+"/", ForUpgrades)
		t.takeUpgrades(name, at)
		return filepath.SkipDir
	}
	if _, err := os.Stat(filepath.Join(at, "composer", "installed.json")); err == nil {
		t.skip(name+"/", "code of others")
		return filepath.SkipDir
	}
	t.folders[name] = true
	return nil
}

// makesAll is the name of a script that makes all tables at once, which some keep with
// those for upgrades.
var makesAll = regexp.MustCompile(`(?i)^[a-z_-]*(?:create[_-]?(?:db|database|tables|schema|all)|install|initial|structure|schema)[a-z_-]*\.sql$`)

// takeUpgrades takes the scripts of a folder for upgrades that make all tables, and notes
// the others.
func (t *tree) takeUpgrades(name, at string) {
	entries, _ := os.ReadDir(at)
	for _, entry := range entries {
		info, err := entry.Info()
		if err != nil || !info.Mode().IsRegular() || len(t.files) >= mostFiles || !isScript(entry.Name()) {
			continue
		}
		file := path.Join(name, entry.Name())
		t.sizes[file] = info.Size()
		if makesAll.MatchString(entry.Name()) {
			t.files = append(t.files, file)
		} else {
			t.upgrades[name] = append(t.upgrades[name], file)
		}
	}
}

// noteEmptySamples finds the files that installers fill where empty samples wait for them.
func (t *tree) noteEmptySamples() {
	t.waiting = map[string][]string{}
	for _, name := range t.files {
		if plain, isSample := settings.PlainName(path.Base(name)); isSample && t.isBlank(name) {
			if at := path.Join(path.Dir(name), plain); !t.has(at) {
				t.waiting[plain] = append(t.waiting[plain], at)
			}
		}
	}
	for _, places := range t.waiting {
		slices.SortStableFunc(places, func(a, b string) int { return strings.Count(a, "/") - strings.Count(b, "/") })
	}
}

// read gives a file's content; nil for one that is too long or cannot be read.
func (t *tree) read(name string, longest int64) []byte {
	if t.sizes[name] > longest {
		return nil
	}
	file, err := t.open(name)
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

// open opens a file of the tree, which no link leads out of.
func (t *tree) open(name string) (*os.File, error) {
	folder, err := os.OpenRoot(t.root)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return host.OpenIn(folder, filepath.FromSlash(name))
}

func (t *tree) has(name string) bool { _, found := t.sizes[name]; return found }

// isBlank reports whether a file is empty, but for what begins every one of its kind.
func (t *tree) isBlank(name string) bool {
	const longest = 64
	size, has := t.sizes[name]
	return has && (size == 0 || size < longest && settings.IsBlank(t.read(name, longest)))
}

// isCode reports whether a file is PHP by its name.
func isCode(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".php", ".inc", ".phtml", ".module", ".install", ".class":
		return true
	}
	return false
}

// isScript reports whether a file is SQL by its name, or a sample of that.
func isScript(name string) bool {
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

// maySet reports whether a file may be a settings file by its name, and the
// name it is used under.
func maySet(name string) (plain string, may bool) {
	base := path.Base(name)
	plain, _ = settings.PlainName(base)
	if foreignNames.MatchString(base) {
		return plain, false
	}
	extension := strings.ToLower(path.Ext(plain))
	return plain, settingsExtensions[extension] || strings.HasPrefix(plain, ".env") || templateName.MatchString(base) || slices.Contains([]string{"config", "configuration", "settings"}, strings.ToLower(plain))
}

var (
	versionSuffix = regexp.MustCompile(`(?i)[-_. ]?v?\d+(\.\d+)*([-_.](stable|final|release|rc\d*|beta\d*|alpha\d*|src|full))?$|[-_](?:master|main|trunk|latest|stable)$`)
	notInNames    = regexp.MustCompile(`[^a-z0-9]+`)
)
