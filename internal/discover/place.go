package discover

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/settings"
	"yellowfield/internal/wordset"
)

// place is a file of the tree, and the settings file it stands for.
type place struct {
	seen, target, template string
	named                  bool // its name is that of a settings file
	add, defaults, forbids bool
	installers             bool // it is in the installer's own folder
	isSample               bool
	documents              bool // a sample that says that nobody should copy it
	read                   bool // by the code, under the name that it is used by
	readThere              bool // and surely from its folder
	installerToo           bool // an installer writes it, too
	apart                  bool // it is in a folder of parts, of examples or the like
	score                  float64
	reasons                []string
	words                  *facts.DriverWords
}

// candidateFor tells which settings file a file stands for, and how likely it
// is one by its name, its folder and what the code says of it.
func candidateFor(t *tree.Tree, c *facts.Code, name, plain string) place {
	p := place{seen: name, target: name, words: &c.Words}
	p.named = slices.ContainsFunc(settings.Words(path.Base(plain)), func(w string) bool {
		return facts.SettingsNames[w] || strings.HasSuffix(w, "config") || strings.HasSuffix(w, "conf")
	}) || !tree.IsCode(plain)
	_, isSample := settings.PlainName(path.Base(name))
	isSample = isSample || c.Copies[path.Base(name)] == plain
	filled := ""
	if isSample && isDefaults(c, name, plain) {
		filled, isSample = filledInto(c, t, name)
	}
	if isSample {
		p.named = true
		plain = withoutFamily(c, plain)
		p.target = cmp.Or(filled, p.target)
	}
	folders := settings.Words(path.Dir(name))
	if !isSample && slices.ContainsFunc(folders, func(w string) bool { return sampleFolders[w] }) {
		if target, found := resolve(c, t, name, path.Base(name)); found && target != name && !t.Has(target) {
			isSample, p.target = true, target
		}
	}
	if !isSample && slices.ContainsFunc(folders, func(w string) bool { return facts.InstallerWords[w] }) {
		if target, found := filledInto(c, t, name); found {
			isSample, p.target = true, target
		}
	}
	if !isSample {
		if target, found := copiedTo(c, t, name); found {
			isSample, p.target = true, target
		}
	}
	if isSample {
		p.sampleOf(t, c, name, plain)
	}
	p.add = p.target != name && t.Has(p.target)
	base := path.Base(p.target)
	e := placed{plain: wordsOf(plain), folders: folders, library: isLibrarys(c, p.target)}
	if i := slices.IndexFunc(c.Mentions[base], func(m facts.Mention) bool { return facts.Readers[m.Verb] || facts.Askers[m.Verb] }); i >= 0 {
		e.reader, p.read = &c.Mentions[base][i], true
	}
	p.readThere = slices.ContainsFunc(c.Mentions[base], func(m facts.Mention) bool { return facts.Readers[m.Verb] && m.Places()[0] == p.target })
	p.installerToo = p.isSample && slices.ContainsFunc(c.Mentions[base], func(m facts.Mention) bool {
		return facts.TextWriters[m.Verb] && facts.IsInstallers(m.File) && slices.Contains(m.Places(), p.target)
	})
	p.installers = p.target == name && slices.ContainsFunc(folders, func(w string) bool { return !facts.AwayFolders[w] && facts.InstallerWords[w] })
	p.apart = facts.IsApart(p.target)
	e.place = p
	words := wordsOf(name)
	common := len(words) > 0 && slices.Contains([]string{"global", "base", "common"}, words[0])
	p.defaults = p.template == "" && (common || slices.Contains(words, "default") || slices.Contains(words, "defaults"))
	score, notes := weigh(placeRules, e)
	p.score += score
	p.reasons = append(p.reasons, notes...)
	return p
}

// libraryFolders hold libraries, each in a folder of its own.
var libraryFolders = wordset.Of("lib libs library libraries packages bundles components")

// isLibrarys reports whether a file lies with a library, and only code there reads it.
func isLibrarys(c *facts.Code, name string) bool {
	folders := strings.Split(path.Dir(name), "/")
	at := slices.IndexFunc(folders, func(f string) bool { return libraryFolders[strings.ToLower(f)] })
	if at < 0 || at+1 >= len(folders) {
		return false
	}
	inside := strings.Join(folders[:at+2], "/") + "/"
	mentions := c.Mentions[path.Base(name)]
	return len(mentions) > 0 && !slices.ContainsFunc(mentions, func(m facts.Mention) bool {
		return slices.Contains(m.Places(), name) && !strings.HasPrefix(m.File, inside)
	})
}

// maySet is maySet for a file that code may copy.
func maySet(c *facts.Code, name string) (plain string, may bool) {
	if to := c.Copies[path.Base(name)]; to != "" {
		if _, may := tree.MaySet(to); may {
			return to, true
		}
	}
	return tree.MaySet(name)
}

// withoutFamily takes the name of a server out of a sample's name where code
// asks only for the name without: there is a sample for each.
func withoutFamily(c *facts.Code, plain string) string {
	if len(c.Mentions[plain]) > 0 {
		return plain
	}
	for _, at := range familyInName.FindAllStringIndex(plain, -1) {
		if short := plain[:at[0]] + plain[at[1]:]; len(c.Mentions[short]) > 0 {
			return short
		}
	}
	return plain
}

var familyInName = regexp.MustCompile(`[._-](?:mysqli?|mariadb|pgsql|postgres(?:ql)?|sqlite3?|sqlsrv|mssql)\b`)

// isDefaults reports whether what looks like a sample is itself run by code, or read by
// code that never asks for a copy of it.
func isDefaults(c *facts.Code, name, plain string) bool {
	named := slices.ContainsFunc(settings.Words(name), func(w string) bool { return w == "default" || w == "defaults" })
	return slices.ContainsFunc(c.Mentions[path.Base(name)], func(m facts.Mention) bool {
		copies := c.Mentions[plain]
		switch {
		case len(copies) == 0:
			return facts.Readers[m.Verb] || m.Verb == "fopen"
		case !facts.RunsIt[m.Verb], facts.IsInstallers(m.File): // which shows them and writes others
			return false
		case named: // defaults, and others over them
			return true
		}
		// Else it takes the place of a copy that is not there yet.
		return !slices.ContainsFunc(copies, func(p facts.Mention) bool { return p.File == m.File && facts.RunsIt[p.Verb] })
	})
}

var sampleFolders = wordset.Of("sample samples example examples dist template templates skel skeleton defaults default")

// sampleOf makes the place that of a sample's copy.
func (p *place) sampleOf(t *tree.Tree, c *facts.Code, name, plain string) {
	if p.target == name {
		p.target = path.Join(path.Dir(name), plain)
		if target, found := resolve(c, t, name, plain); found {
			p.target = target
		}
	}
	p.template, p.isSample = name, true
	score, _ := weigh(sampleRules, placed{place: *p})
	p.score += score
	p.reasons = append(p.reasons, name+" is a sample of it")
	if t.Has(p.target) {
		p.template = ""
	}
}

// resolve finds the place of a settings file that code mentions by its name:
// beside the sample, else where the code looks for it.
func resolve(c *facts.Code, t *tree.Tree, sample, base string) (target string, found bool) {
	beside := path.Join(path.Dir(sample), base)
	apart := slices.ContainsFunc(settings.Words(path.Dir(sample)), func(w string) bool { return facts.InstallerWords[w] || sampleFolders[w] })
	isKnown := slices.ContainsFunc(c.Mentions[base], func(m facts.Mention) bool { return m.Base != nil })
	if !apart && !isKnown && base != path.Base(sample) && slices.ContainsFunc(c.Mentions[base], func(m facts.Mention) bool { return m.Up == facts.BehindConstant && !strings.Contains(m.Path, "/") }) {
		return beside, true
	}
	for _, m := range c.Mentions[base] {
		for _, at := range m.Places() {
			if strings.HasPrefix(at, "..") {
				continue
			}
			folder := path.Dir(at)
			if folder != "." && !t.Folders[folder] {
				continue
			}
			if at == beside {
				return beside, true
			}
			if target == "" && (facts.Readers[m.Verb] || facts.Writers[m.Verb] || facts.Askers[m.Verb]) && at != sample {
				target = at
			}
		}
	}
	return target, target != ""
}

// copiedTo is the file that the code reads and that is not there, where one lies in another
// folder under the whole of its path: somebody copies it from there.
func copiedTo(c *facts.Code, t *tree.Tree, name string) (target string, found bool) {
	for _, m := range c.Mentions[path.Base(name)] {
		places := m.Places()
		if slices.ContainsFunc(places, t.Has) {
			continue // that one is meant
		}
		for _, at := range places {
			if strings.Contains(at, "/") && strings.HasSuffix(name, "/"+at) && facts.Readers[m.Verb] && !t.Has(at) && t.Folders[path.Dir(at)] {
				return at, true
			}
		}
	}
	return "", false
}

// filledInto is the one settings file that the code which reads a template writes.
func filledInto(c *facts.Code, t *tree.Tree, template string) (target string, found bool) {
	for _, reads := range c.Mentions[path.Base(template)] {
		if !facts.Readers[reads.Verb] && reads.Verb != "fopen" {
			continue
		}
		for base, mentions := range c.Mentions {
			if _, may := tree.MaySet(base); !may {
				continue
			}
			for _, m := range mentions {
				if m.File != reads.File || !facts.Writers[m.Verb] {
					continue
				}
				places := m.Places()
				if from := slices.Index(reads.Places(), template); from > 0 && from < len(places) && m.Up == reads.Up {
					places = places[from:] // relative to the same folder
				}
				for _, at := range places {
					switch {
					case strings.HasPrefix(at, "..") || path.Dir(at) != "." && !t.Folders[path.Dir(at)] || at == template:
						continue
					case target != "" && target != at:
						return "", false
					}
					target = at
					break
				}
			}
		}
	}
	return target, target != ""
}

// environment counts the keys of a group that code reads as environment
// variables.
func (p place) environment(file *settings.File, g *group, c *facts.Code) (n int) {
	if file.Syntax.Name != "dotenv" {
		return 0
	}
	for _, k := range g.keys {
		if c.Environ[k.Address] {
			n++
		}
	}
	return n
}
