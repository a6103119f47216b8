package discover

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/settings"
)

var update = flag.Bool("update", false, "write what was found into the trees")

// tell is what was found, a line a fact.
func tell(f *Findings) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	if len(f.Settings) > 0 {
		best := f.Settings[0]
		line("file %s", best.File)
		if best.Template != "" {
			line("template %s", best.Template)
		}
		for _, alike := range best.Alike {
			line("and %s", alike)
		}
		if best.InstallerMakes {
			line("the installer makes it")
		}
		if best.Add {
			line("keys are added")
		}
		for _, c := range best.WithBeside() {
			if c != best {
				line("beside %s", c.File)
			}
			for _, v := range c.Values {
				note := ""
				if v.Commented {
					note += ", commented"
				}
				if v.Doubt != "" {
					note += ", in doubt"
				}
				line("  %s = %s%s", v.Address, v.Text, note)
			}
		}
	}
	for _, place := range f.LogsInByEnvironment {
		line("by the environment: %s", place)
	}
	if len(f.DBMS) > 0 {
		line("for %s", f.DBMS[0].Name)
	}
	if d := f.Database; d != nil {
		line("database %s %s", d.Charset, d.Collation)
	}
	for _, outside := range f.Outside {
		line("outside %s", outside.File)
	}
	for _, s := range f.Import() {
		note := ""
		if s.PrefixToken != "" {
			note += " with " + s.PrefixToken
		}
		if s.Retarget {
			note += ", retargeted"
		}
		if s.Encoding != "" {
			note += ", in " + s.Encoding
		}
		if s.Doubt != "" {
			note += ", in doubt"
		}
		line("import %s%s", s.File, note)
	}
	for _, l := range f.Lacking {
		line("lacks %s, used by %s", l.Table, l.Place)
	}
	for _, s := range f.Accounts() {
		line("facts %s: %s %s %s", s.File, s.Account.Database, s.Account.User, s.Account.Charset)
	}
	if f.Installer.Tables {
		line("the installer makes the tables")
	}
	if f.Prefix != "" {
		line("prefix %s", f.Prefix)
	}
	for _, e := range f.Extensions {
		if !e.Optional {
			line("extension %s", e.Name)
		}
	}
	for _, file := range f.Installer.Files {
		line("remove %s", file)
	}
	return b.String()
}

func unpack(t *testing.T, archive *txtar.Archive, name string) string {
	folder := filepath.Join(t.TempDir(), name)
	for _, file := range archive.Files {
		if file.Name == "want" || file.Name == "server" {
			continue
		}
		path := filepath.Join(folder, file.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, file.Data, 0o644))
	}
	return folder
}

// TestTrees looks through made-up applications of every shape that settings are
// known to have, each with decoys.
func TestTrees(t *testing.T) {
	trees, err := filepath.Glob("testdata/trees/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(trees), 20)
	for _, path := range trees {
		name := strings.TrimSuffix(filepath.Base(path), ".txtar")
		t.Run(name, func(t *testing.T) {
			archive, err := txtar.ParseFile(path)
			require.NoError(t, err)
			folder := unpack(t, archive, name)
			family := "" // told from the tree, unless the archive names the server that it goes to
			for _, file := range archive.Files {
				if file.Name == "server" {
					family = strings.TrimSpace(string(file.Data))
				}
			}
			found, err := Look(context.Background(), folder, family)
			require.NoError(t, err)
			requireWritable(t, found.Folder, found)
			for i := range archive.Files {
				if archive.Files[i].Name == "want" {
					if *update {
						archive.Files[i].Data = []byte(tell(found))
						require.NoError(t, os.WriteFile(path, txtar.Format(archive), 0o644))
					}
					assert.Equal(t, string(archive.Files[i].Data), tell(found), "%v", found.Settings)
					return
				}
			}
			t.Fatal("the tree does not say what is wanted")
		})
	}
}

// TestWhatElseIsThereChangesNothing looks through all trees again: with what libraries, parts,
// tests and tools bring along, with the ends of lines and the mark of another system, and
// with a licence in front of all code.
func TestWhatElseIsThereChangesNothing(t *testing.T) {
	trees, err := filepath.Glob("testdata/trees/*.txtar")
	require.NoError(t, err)
	decoys, err := txtar.ParseFile("testdata/decoys.txtar")
	require.NoError(t, err)
	licence := "<?php\n/*\n" + strings.Repeat(" * You may do with it what the licence allows: host, user, password, database.\n", 40) + " */\n"
	ofCode := map[string]func(data string) string{
		"crlf":    func(data string) string { return strings.ReplaceAll(data, "\n", "\r\n") },
		"mark":    func(data string) string { return "\ufeff" + data },
		"licence": func(data string) string { return strings.Replace(data, "<?php\n", licence, 1) },
	}
	// Only one word for the server is known there, and the decoys have another one.
	except := map[string]bool{"decoys defaults-and-local-file": true}
	login := func(archive *txtar.Archive) string {
		family := ""
		for _, file := range archive.Files {
			if file.Name == "server" {
				family = strings.TrimSpace(string(file.Data))
			}
		}
		found, err := Look(context.Background(), unpack(t, archive, "app"), family)
		require.NoError(t, err)
		kept := strings.Split(tell(found), "\n")
		return strings.Join(slices.DeleteFunc(kept, func(line string) bool {
			first, _, _ := strings.Cut(line, " ")
			return slices.Contains([]string{"extension", "remove", "for", "lacks", "by"}, first)
		}), "\n")
	}
	for _, path := range trees {
		archive, err := txtar.ParseFile(path)
		require.NoError(t, err)
		want, name := login(archive), strings.TrimSuffix(filepath.Base(path), ".txtar")
		more := *archive
		more.Files = slices.Clone(archive.Files)
		for _, decoy := range decoys.Files {
			if !slices.ContainsFunc(archive.Files, func(f txtar.File) bool { return f.Name == decoy.Name }) {
				more.Files = append(more.Files, decoy)
			}
		}
		variants := map[string]*txtar.Archive{"decoys": &more}
		for how, change := range ofCode {
			other := &txtar.Archive{}
			for _, file := range archive.Files {
				if file.Name != "composer.json" && file.Name != "server" && len(file.Data) > 0 {
					file.Data = []byte(change(string(file.Data)))
				}
				other.Files = append(other.Files, file)
			}
			variants[how] = other
		}
		for how, variant := range variants {
			if id := how + " " + name; !except[id] {
				assert.Equal(t, want, login(variant), id)
			}
		}
	}
}

// requireWritable writes what was proposed: each address must take a value.
func requireWritable(t *testing.T, folder string, found *Findings) {
	if len(found.Settings) == 0 || found.Settings[0].InstallerMakes {
		return
	}
	for _, c := range found.Settings[0].WithBeside() {
		requireTakes(t, folder, c)
	}
}

func requireTakes(t *testing.T, folder string, best *Candidate) {
	source := best.File
	if best.Template != "" {
		source = best.Template
	}
	content, err := os.ReadFile(filepath.Join(folder, source))
	if errors.Is(err, fs.ErrNotExist) && best.Add {
		content, err = settings.Blank(source), nil
	}
	require.NoError(t, err)
	file, err := settings.Parse(best.File, content)
	require.NoError(t, err)
	var changes []settings.Change
	for _, v := range best.Values {
		if v.Doubt == "" {
			value := "4711"
			if v.Role == settings.Driver {
				value = v.Text
			}
			changes = append(changes, settings.Change{Address: v.Address, Value: value, Add: best.Add, ReplaceExpression: v.Replaces})
		}
	}
	after, err := file.With(changes)
	require.NoError(t, err)
	for _, change := range changes {
		s, err := after.Lookup(change.Address)
		require.NoError(t, err)
		assert.Equal(t, change.Value, s.Value)
	}
}

// TestTreesWithoutDatabase has what looks like a login and is none.
func TestTreesWithoutDatabase(t *testing.T) {
	trees, err := filepath.Glob("testdata/none/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(trees), 5)
	for _, path := range trees {
		archive, err := txtar.ParseFile(path)
		require.NoError(t, err)
		found, err := Look(context.Background(), unpack(t, archive, "app"), "")
		require.NoError(t, err)
		for _, c := range found.Settings {
			assert.True(t, c.NamesOther(), "%s: %s", path, c.File)
		}
		assert.Empty(t, found.Import(), path)
		assert.False(t, found.SpeaksToServer(), path)
	}
}

// TestLimits has files that are too long, odd code and links: each is told or
// passed over, and nothing is run.
func TestLimits(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "Hive-App_2.4.1-stable")
	write := func(name, content string) {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	login := "<?php $db = ['host' => 'h', 'user' => 'u', 'password' => 'p', 'name' => 'n'];\n"
	write("config.ini", "[db]\nhost=h\nuser=u\npassword=p\nname=n\n"+strings.Repeat("; more\n", tree.LongestSettings/7))
	write("code.php", "<?php //"+strings.Repeat("x", tree.LongestCode))
	write("broken.php", "<?php mysqli_connect('a', \"b")
	write("deep/lib/composer/installed.json", "[]")
	write("deep/lib/config.php", login)
	write("sql/empty.sql", "-- nothing\n")
	write("sql/broken.sql.gz", "\x1f\x8bno")
	require.NoError(t, os.Symlink("/etc", filepath.Join(folder, "link")))
	found, err := Look(context.Background(), folder, "")
	require.NoError(t, err)
	assert.Equal(t, "hive-app", found.Name)
	assert.Empty(t, found.Settings)
	assert.Empty(t, found.Import())
	told := strings.Join(found.Skipped, "\n")
	for _, want := range []string{"config.ini: it is too long", "code.php: it is too long", "deep/lib/: code of others"} {
		assert.Contains(t, told, want)
	}
	for _, s := range found.Scripts {
		assert.NotEmpty(t, s.LeftOut, s.File)
	}
	stopped, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Look(stopped, folder, "")
	assert.ErrorIs(t, err, context.Canceled)
}

// FuzzCandidates: whatever stands in a file, it is read or passed over.
func FuzzCandidates(f *testing.F) {
	for _, seed := range []string{"<?php $db = ['host' => 'h', 'user' => 'u', 'password' => 'p', 'name' => 'n'];", "DATABASE_URL=mysql://u:p@h/b\n", "/*\n * $db['x'] = [ 'host' => 'h' ];\n */ <?php", "[db]\nhost=h\nuser=u\npassword=p\nname=n\n"} {
		f.Add("config.php", []byte(seed))
		f.Add("a/.env.example", []byte(seed))
		f.Add("c.sample.ini", []byte(seed))
	}
	f.Fuzz(func(t *testing.T, name string, content []byte) {
		tree := &tree.Tree{Sizes: map[string]int64{name: int64(len(content))}, Folders: map[string]bool{}}
		read := facts.NewCode()
		for _, candidate := range readCandidates(tree, read, name, content) {
			candidate.fit(facts.FamilyPostgreSQL)
			require.NotEmpty(t, candidate.Values)
		}
	})
}

// TestThousandsOfGroups has files that would take minutes if all their groups were held
// against one another again and again: four times the groups have to be about four times the
// work. Work is counted in what is allocated for it, which is the same on a busy machine.
func TestThousandsOfGroups(t *testing.T) {
	const few, times = 60, 4
	for name, form := range map[string][3]string{
		"a part each":  {"<?php return ['db' => [", "'d%[1]d' => ['user' => 'a'], 'e%[1]d' => ['password' => 'b'], 'f%[1]d' => ['host' => 'l'], ", "]];"},
		"apart":        {"<?php return ['db' => [", "'d%[1]d' => ['user' => 'a', 'password' => 'b', 'host' => 'l', 'name' => 'x'], 'p%[1]d' => ['port' => 1], ", "]];"},
		"selected":     {"<?php ", "$db%[1]d_host = 'a'; $db%[1]d_default = 'm%[1]d'; $x['m%[1]d']['host'] = 'l'; $x['m%[1]d']['user'] = 'l'; ", ""},
		"with titles":  {"<?php $c['db_password'] = 'l'; ", strings.Repeat("$k%[1]d['title'] = 'x'; ", 10), ""},
		"in functions": {"<?php class Database {", "function a%[1]d($user = 'a', $password = 'b', $host = 'localhost', $dbname = 'x') {} ", "}"},
	} {
		work := func(groups int) float64 {
			folder := t.TempDir()
			text := form[0]
			for n := range groups {
				text += fmt.Sprintf(form[1], n)
			}
			require.NoError(t, os.WriteFile(filepath.Join(folder, "config.php"), []byte(text+form[2]), 0o600))
			if name == "with titles" {
				choices := []byte("<?php\n")
				for n := range 80 * groups {
					choices = fmt.Appendf(choices, "if ($of%d->kind == 'mysql') {}\n", n)
				}
				require.NoError(t, os.WriteFile(filepath.Join(folder, "choices.php"), choices, 0o600))
			}
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := Look(context.Background(), folder, "")
			require.NoError(t, err)
			runtime.ReadMemStats(&after)
			return float64(after.Mallocs - before.Mallocs)
		}
		work(few) // what is made once
		least, most := work(few), work(few*times)
		t.Logf("%s: %.0f for %d groups, %.1f times that for %d times as many", name, least, few, most/least, times)
		assert.Less(t, most/least, 1.5*times, name)
	}
}
