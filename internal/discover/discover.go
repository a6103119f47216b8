// Package discover looks through the folder of an unpacked PHP application and
// tells what its entry in an estate file would have to say: which settings file
// holds the login and which keys of it, which SQL is to be imported, for which
// servers the application is made, and what its own installer does.
//
// It reads files and runs none of them. It must never know of servers, of an estate file, or
// of how its findings are shown. How it decides is told in docs/proposing.md.
package discover

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/dumps"
	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings"
	"yellowfield/internal/wordset"
)

// Findings are what a look through a folder tells.
type Findings struct {
	Folder string `json:"folder"`
	// Name is what the application could be called in an estate file.
	Name string `json:"name"`
	// Settings are the candidates for its settings file, the best first.
	Settings []*Candidate `json:"settings"`
	// Scripts are all SQL scripts: those to import first, in their order.
	Scripts []*dumps.Script `json:"scripts"`
	// DBMS are the families of servers it can use, the likeliest first.
	DBMS   []Family `json:"dbms"`
	Prefix string   `json:"prefix,omitempty"`
	// Database is how it is to be made on MariaDB or MySQL; nil where the usual will do.
	Database  *facts.Asked `json:"database,omitempty"`
	Installer Installer    `json:"installer"`
	// Lacking are tables that are used, and that nothing here makes.
	Lacking    []facts.Lacking `json:"lacking,omitempty"`
	Extensions []Extension     `json:"extensions"`
	// LogsInWithLiterals are lines of code that have a login in them.
	LogsInWithLiterals []facts.Place `json:"logs_in_with_literals,omitempty"`
	// LogsInByEnvironment are lines of code that log in with variables of the environment.
	LogsInByEnvironment []facts.Place `json:"logs_in_by_environment,omitempty"`
	// Outside are files of the system that code reads settings from, if they are there.
	Outside []facts.Outside `json:"outside,omitempty"`
	// Skipped are folders and files that were not looked at, and why.
	Skipped []string `json:"skipped"`

	// OnlyFor is the one family of servers that the code logs in to, whatever SQL is there;
	// empty where that cannot be told.
	OnlyFor string `json:"only_for,omitempty"`
	// OnlyForAt is where it does so; nil where only a data source name tells.
	OnlyForAt *facts.Place `json:"only_for_at,omitempty"`

	// as they were found, before they were fitted to a family of servers
	candidates []*Candidate
	scripts    []*dumps.Script
	// installerFiles are the installer's own, without the sample that the settings are
	// made from.
	installerFiles []string
	asked          *facts.Asked
	tables         *facts.TablesInCode
	extensions     func(best *Candidate, family string) []Extension
}

// Family is a family of servers with what speaks for it.
type Family struct {
	Name    string   `json:"name"` // mysql for MariaDB and MySQL, or postgresql
	Score   int      `json:"score"`
	Reasons []string `json:"reasons"`
}

// Installer is what the application's own installer seems to make.
type Installer struct {
	// Tables says that no SQL is there to be imported, so that the application
	// has to make its tables itself.
	Tables bool `json:"tables,omitempty"`
	// TablesIn is where code makes tables.
	TablesIn []facts.Place `json:"tables_in,omitempty"`
	// Files are installer and samples, to be removed when the application is
	// closed.
	Files []string `json:"files,omitempty"`
}

// Import lists the scripts to import.
func (f *Findings) Import() []*dumps.Script {
	return slices.DeleteFunc(slices.Clone(f.Scripts), func(s *dumps.Script) bool { return s.LeftOut != "" })
}

// Accounts lists the scripts that only make a database and its account.
func (f *Findings) Accounts() []*dumps.Script {
	return slices.DeleteFunc(slices.Clone(f.Scripts), func(s *dumps.Script) bool { return s.Account == nil })
}

// SpeaksToServer reports whether anything speaks of a database on a server: settings with
// its login, SQL to import, or code that makes tables there. Code alone that can log in
// may be one backend among several, or a library's.
func (f *Findings) SpeaksToServer() bool {
	settings := slices.ContainsFunc(f.candidates, func(c *Candidate) bool { return c.family != facts.FamilyOther || c.offersServer() })
	scripts := slices.ContainsFunc(f.scripts, func(s *dumps.Script) bool {
		return (s.LeftOut == "" || s.Account != nil) && s.DBMS != facts.FamilyOther
	})
	return settings || scripts || len(f.DBMS) > 0 && len(f.Installer.TablesIn) > 0
}

// offersServer reports whether settings that name another kind of store have all that a
// server's login needs, and the code a word for one.
func (c *Candidate) offersServer() bool {
	has := map[settings.Role]Value{}
	for _, v := range c.Values {
		has[v.Role] = v
	}
	for _, role := range []settings.Role{settings.Host, settings.User, settings.Password, settings.Driver} {
		if _, there := has[role]; !there {
			return false
		}
	}
	driver := has[settings.Driver]
	return slices.ContainsFunc([]string{facts.FamilyMySQL, facts.FamilyPostgreSQL}, func(family string) bool {
		found, others := c.words.Of(family, "", driver.was, driver.near, driver.Address)
		return found.Word != "" || len(others) > 0
	})
}

// NamesOther reports whether the settings name another kind of store now, so that a
// server is one choice of several.
func (c *Candidate) NamesOther() bool { return c.family == facts.FamilyOther }

// Look looks through a folder. family is the known family of the server; empty to derive it
// from the application.
func Look(ctx context.Context, folder, family string) (*Findings, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	folder = tree.Inside(folder)
	t, err := tree.Look(ctx, folder)
	if err != nil {
		return nil, err
	}
	if len(t.Files) == 0 {
		return nil, fault.At(fault.Invalid, fault.Place{File: folder}, "name the folder of an unpacked application", "there are no files in the folder")
	}
	c, err := facts.ReadCode(ctx, t)
	if err != nil {
		return nil, err
	}
	f := &Findings{Folder: folder, Name: nameOf(t), Skipped: []string{}}
	if f.candidates, err = candidates(ctx, t, c); err != nil {
		return nil, err
	}
	if f.scripts, err = dumps.ReadScripts(ctx, t, c); err != nil {
		return nil, err
	}
	f.extensions = func(best *Candidate, family string) []Extension { return extensions(t, c, best, family) }
	f.DBMS = families(t, c, f.candidates, f.scripts)
	if family == "" && len(f.DBMS) > 0 {
		family = f.DBMS[0].Name
	}
	f.tables = &c.Tables
	settingsSay := func(v Value) bool { return v.Role == settings.DSN || v.Role == settings.Driver || v.dsn != "" }
	if !slices.ContainsFunc(f.candidates, func(c *Candidate) bool { return slices.ContainsFunc(c.Values, settingsSay) }) {
		f.OnlyFor, f.OnlyForAt = c.SpeaksOnlyTo()
	}
	f.installer(t, c)
	f.asked = askedFor(t, c, f.scripts)
	f.FitTo(family, "")
	f.Skipped, f.LogsInWithLiterals, f.LogsInByEnvironment, f.Outside = append(f.Skipped, t.Skipped...), c.Fixed, c.Variables, c.Outside
	return f, nil
}

// FitTo fits settings, scripts and extensions to a family of servers and to the product
// in it, each empty when that is not known.
func (f *Findings) FitTo(family, product string) {
	f.Scripts, f.Settings = []*dumps.Script{}, []*Candidate{}
	for _, s := range f.scripts {
		fitting := *s
		f.Scripts = append(f.Scripts, &fitting)
	}
	f.Scripts = arranged(f.Scripts, family)
	for _, c := range f.candidates {
		f.Settings = append(f.Settings, c.fitTo(family, product))
	}
	preferFamily(f.Settings, family)
	f.preferProgram()
	if len(f.Settings) > 0 && f.Settings[0].installerToo && len(f.Installer.TablesIn) > 0 && !slices.ContainsFunc(f.Scripts, (*dumps.Script).IsForAll) {
		// An installer that has to run mostly refuses to if the settings are already there.
		best := f.Settings[0]
		best.InstallerMakes, best.Template = true, ""
		best.Reasons = append(slices.Clone(best.Reasons), "its installer makes the tables, and writes it")
	}
	f.Prefix = f.prefix()
	f.Lacking = lacking(f.Import(), f.tables)
	f.Database = nil
	if family != facts.FamilyPostgreSQL {
		f.Database = f.asked
	}
	var best *Candidate
	if len(f.Settings) > 0 {
		best = f.Settings[0]
	}
	f.Extensions = f.extensions(best, family)
	f.fitInstaller()
}

// preferFamily puts candidates for the family that is wanted before those for
// another one that are about as good.
func preferFamily(found []*Candidate, family string) {
	slices.SortStableFunc(found, func(a, b *Candidate) int {
		other := func(c *Candidate) float64 {
			if c.family != "" && family != "" && c.family != family && !(c.NamesOther() && c.offersServer()) {
				return c.Score - closeScores
			}
			return c.Score
		}
		return cmp.Compare(other(b), other(a))
	})
}

// preferProgram puts the settings of the program whose SQL is imported before those of
// another one, where each has a folder of its own.
func (f *Findings) preferProgram() {
	top := func(name string) string {
		first, _, inside := strings.Cut(name, "/")
		if !inside {
			return ""
		}
		return first
	}
	program := ""
	for _, s := range f.Scripts {
		if s.IsForAll() {
			if at := top(s.File); at == "" || program != "" && at != program {
				return
			} else {
				program = at
			}
		}
	}
	if program == "" || len(f.Settings) == 0 || top(f.Settings[0].File) == "" || top(f.Settings[0].File) == program {
		return
	}
	own := slices.IndexFunc(f.Settings, func(c *Candidate) bool { return top(c.File) == program && c.read && c.used })
	if own > 0 {
		c := f.Settings[own]
		f.Settings = slices.Insert(slices.Delete(f.Settings, own, own+1), 0, c)
		c.Reasons = append(slices.Clone(c.Reasons), "the SQL is that of its folder")
	}
}

// nameOf is the application's name by its manifest or its folder, without a
// version, in small letters, digits and hyphens.
func nameOf(t *tree.Tree) string {
	plain := func(name string) string {
		for tree.VersionSuffix.MatchString(name) {
			name = tree.VersionSuffix.ReplaceAllString(name, "")
		}
		name = strings.Trim(tree.NotInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
		return strings.TrimLeft(name, "0123456789-")
	}
	base := plain(filepath.Base(t.Root))
	var manifest struct {
		Name string `json:"name"`
	}
	if common := wordset.Of("www html htdocs public public_html app web src application trunk master main"); base == "" || common[base] {
		if json.Unmarshal(t.Read("composer.json", tree.LongestSettings), &manifest) == nil && manifest.Name != "" {
			base = plain(path.Base(manifest.Name))
		}
	}
	const longest = 24
	base = cmp.Or(base, "app")
	return strings.Trim(base[:min(longest, len(base))], "-")
}

// families tells for which servers the application is made.
func families(t *tree.Tree, c *facts.Code, found []*Candidate, all []*dumps.Script) []Family {
	scores := map[string]*Family{}
	add := func(name string, score int, reason string, args ...any) {
		if name == "" || name == facts.FamilyOther {
			return
		}
		if scores[name] == nil {
			scores[name] = &Family{Name: name}
		}
		scores[name].Score += score
		scores[name].Reasons = append(scores[name].Reasons, fmt.Sprintf(reason, args...))
	}
	if len(found) > 0 {
		add(found[0].family, 6, "%s names it", found[0].Seen)
		for _, family := range found[0].also {
			if family != found[0].family {
				add(family, 1, "a comment of %s names it", found[0].Seen)
			}
		}
	}
	counted := map[string]int{}
	for _, s := range all {
		if s.LeftOut == "" || s.Account != nil {
			counted[s.DBMS]++
			if counted[s.DBMS] == 1 {
				add(s.DBMS, 4, "%s is written for it", s.File)
			}
		}
	}
	for family, uses := range c.DriverUses().Families {
		add(family, min(uses, 3), "the code uses its functions")
	}
	for _, e := range extensions(t, c, nil, "") {
		if family := driverExtensions[e.Name]; !e.Optional && e.Place.File == "composer.json" {
			add(family, 2, "composer.json names %s", e.Name)
		}
	}
	for _, at := range slices.Sorted(maps.Keys(c.Schemes)) {
		add(at, 2, "the code has a data source name for it")
	}
	for _, family := range []string{facts.FamilyMySQL, facts.FamilyPostgreSQL} {
		if c.Dialects[family] && !(c.Dialects[facts.FamilyMySQL] && c.Dialects[facts.FamilyPostgreSQL]) {
			add(family, 1, "the code makes tables in its SQL")
		}
	}
	list := make([]Family, 0, len(scores))
	for _, name := range slices.Sorted(maps.Keys(scores)) {
		list = append(list, *scores[name])
	}
	slices.SortStableFunc(list, func(a, b Family) int { return b.Score - a.Score })
	return list
}

// prefix is the table prefix: where the settings have a key for it, what all tables of a
// script begin with, else the key's own value; and one of the application's name for a
// script that has a token in its place.
func (f *Findings) prefix() string {
	imported := f.Import()
	isPrefix := func(v Value) bool { return v.Role == settings.Prefix }
	if len(f.Settings) > 0 && slices.ContainsFunc(f.Settings[0].Values, isPrefix) {
		all := map[string]bool{}
		for _, s := range imported {
			if s.PrefixToken == "" {
				maps.Copy(all, s.Makes)
			}
		}
		if prefix := dumps.CommonPrefix(all); prefix != "" {
			return prefix
		}
		for _, s := range imported {
			if s.Prefix != "" {
				return s.Prefix
			}
		}
	}
	if len(f.Settings) > 0 && plainPrefix.MatchString(f.Settings[0].prefix) && !slices.ContainsFunc(imported, func(s *dumps.Script) bool { return lacks(s, f.Settings[0].prefix) }) {
		return f.Settings[0].prefix
	}
	for _, s := range imported {
		if s.PrefixToken != "" {
			return f.Name[:min(3, len(f.Name))] + "_"
		}
	}
	return ""
}

var plainPrefix = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]{0,20}$`)

// installer tells what the application's own installer does.
func (f *Findings) installer(t *tree.Tree, c *facts.Code) {
	const shown = 3
	for _, place := range c.Makes {
		if len(f.Installer.TablesIn) < shown {
			f.Installer.TablesIn = append(f.Installer.TablesIn, place)
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(t.Folders)) {
		words := settings.Words(path.Base(folder))
		inside := slices.ContainsFunc(f.Installer.Files, func(of string) bool { return strings.HasPrefix(folder+"/", of) })
		if !inside && len(words) <= 2 && slices.ContainsFunc(words, func(w string) bool { return facts.InstallerWords[w] || w == "first" && len(words) == 2 }) && hasCode(t, folder) && (!strings.Contains(folder, "/") || isProgram(t, folder)) {
			f.Installer.Files = append(f.Installer.Files, folder+"/")
		}
	}
	for _, name := range t.Files {
		base := strings.TrimSuffix(path.Base(name), path.Ext(name))
		words := settings.Words(base)
		inside := slices.ContainsFunc(f.Installer.Files, func(of string) bool { return strings.HasPrefix(name, of) })
		if !inside && tree.IsCode(name) && strings.Count(name, "/") <= 1 && len(words) <= 2 && len(words) > 0 && facts.InstallerWords[words[0]] && path.Ext(name) == ".php" && !isPartOf(c, name) && !isClass(t, name) {
			f.Installer.Files = append(f.Installer.Files, name)
		}
	}
	f.installerFiles = f.Installer.Files
}

// fitInstaller tells what is left to the installer, and what goes with it, now that
// settings and scripts are fitted.
func (f *Findings) fitInstaller() {
	f.Installer.Tables = !slices.ContainsFunc(f.Scripts, (*dumps.Script).IsForAll)
	f.Installer.Files = slices.Clone(f.installerFiles)
	if len(f.Settings) == 0 {
		return
	}
	for _, c := range f.Settings[0].WithBeside() {
		if c.Template != "" && !c.fromDefaults && !slices.ContainsFunc(f.Installer.Files, func(of string) bool { return strings.HasPrefix(c.Template, of) }) {
			f.Installer.Files = append(f.Installer.Files, c.Template)
		}
	}
}

// isProgram reports whether browsers are sent to a folder, so that it is more than a part of
// the code.
func isProgram(t *tree.Tree, folder string) bool {
	return slices.ContainsFunc(t.Files, func(name string) bool {
		return path.Dir(name) == folder && tree.IsCode(name) && (strings.HasPrefix(path.Base(name), "index.") || facts.InstallerWords[strings.TrimSuffix(path.Base(name), path.Ext(name))])
	})
}

// isPartOf reports whether other code of the application includes a file, so that it is
// no program of its own.
func isPartOf(c *facts.Code, name string) bool {
	base := path.Base(name)
	for _, list := range c.Words.Paths {
		for _, around := range list { // of a variable
			if before := around[0][strings.LastIndexByte(around[0], '/')+1:]; before != "" && strings.HasPrefix(base, before) && strings.HasSuffix(base, around[1]) {
				return true
			}
		}
	}
	return slices.ContainsFunc(c.Mentions[path.Base(name)], func(m facts.Mention) bool {
		return strings.HasPrefix(m.Verb, "include") || strings.HasPrefix(m.Verb, "require")
	})
}

// isClass reports whether a file of a folder is a class of its name, which no browser asks
// for.
func isClass(t *tree.Tree, name string) bool {
	base := strings.TrimSuffix(path.Base(name), path.Ext(name))
	return strings.Contains(name, "/") && regexp.MustCompile(`(?m)^\s*(?:(?:final|abstract)\s+)?class\s+`+regexp.QuoteMeta(base)+`\b`).Match(t.Read(name, tree.LongestCode))
}

func hasCode(t *tree.Tree, folder string) bool {
	return slices.ContainsFunc(t.Files, func(name string) bool { return strings.HasPrefix(name, folder+"/") && tree.IsCode(name) })
}

// lacking are the tables that imported scripts or the code use and nothing makes, by
// their names; none where the scripts make no tables, or where most names in the code are
// others than theirs, so that they cannot be compared.
func lacking(imported []*dumps.Script, code *facts.TablesInCode) []facts.Lacking {
	made := maps.Clone(code.Makes)
	found := map[string]facts.Place{}
	for _, s := range imported {
		for table := range s.Makes {
			made[strings.ToLower(strings.TrimPrefix(table, dumps.StandIn))] = true
		}
	}
	if len(made) == len(code.Makes) {
		return nil
	}
	for _, s := range imported {
		for table := range s.Needs {
			if name := strings.ToLower(strings.TrimPrefix(table, dumps.StandIn)); !made[name] && s.Doubt == "" {
				found[name] = facts.Place{File: s.File}
			}
		}
	}
	inCode, shared := map[string]facts.Place{}, 0
	for name, place := range code.Uses {
		if made[name] {
			shared++
		} else {
			inCode[name] = place
		}
	}
	if !code.Others && len(inCode) <= shared {
		maps.Copy(inCode, found)
		found = inCode
	}
	var list []facts.Lacking
	for _, name := range slices.Sorted(maps.Keys(found)) {
		list = append(list, facts.Lacking{Table: name, Place: found[name]})
	}
	return list
}
