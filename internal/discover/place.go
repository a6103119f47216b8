package discover

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

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
	words                  *driverWords
}

// candidateFor tells which settings file a file stands for, and how likely it
// is one by its name, its folder and what the code says of it.
func candidateFor(t *tree, c *code, name, plain string) place {
	p := place{seen: name, target: name, words: &c.words}
	p.named = slices.ContainsFunc(settings.Words(path.Base(plain)), func(w string) bool {
		return settingsNames[w] || strings.HasSuffix(w, "config") || strings.HasSuffix(w, "conf")
	}) || !isCode(plain)
	_, isSample := settings.PlainName(path.Base(name))
	isSample = isSample || c.copies[path.Base(name)] == plain
	filled := ""
	if isSample && c.isDefaults(name, plain) {
		filled, isSample = c.filledInto(t, name)
	}
	if isSample {
		p.named = true
		plain = c.withoutFamily(plain)
		p.target = cmp.Or(filled, p.target)
	}
	folders := settings.Words(path.Dir(name))
	if !isSample && slices.ContainsFunc(folders, func(w string) bool { return sampleFolders[w] }) {
		if target, found := c.resolve(t, name, path.Base(name)); found && target != name && !t.has(target) {
			isSample, p.target = true, target
		}
	}
	if !isSample && slices.ContainsFunc(folders, func(w string) bool { return installerWords[w] }) {
		if target, found := c.filledInto(t, name); found {
			isSample, p.target = true, target
		}
	}
	if !isSample {
		if target, found := c.copiedTo(t, name); found {
			isSample, p.target = true, target
		}
	}
	if isSample {
		p.sampleOf(t, c, name, plain)
	}
	p.add = p.target != name && t.has(p.target)
	base := path.Base(p.target)
	if p.named {
		p.score += 2
	}
	for _, m := range c.mentions[base] {
		if verb := m.verb; readers[verb] || askers[verb] {
			p.read = true
			p.score += 2
			p.reasons = append(p.reasons, fmt.Sprintf("%s:%d reads it", m.File, m.Line))
			break
		}
	}
	p.readThere = slices.ContainsFunc(c.mentions[base], func(m mention) bool { return readers[m.verb] && m.places()[0] == p.target })
	p.installerToo = p.isSample && slices.ContainsFunc(c.mentions[base], func(m mention) bool {
		return textWriters[m.verb] && isInstallers(m.File) && slices.Contains(m.places(), p.target)
	})
	words := settings.Words(path.Base(name))
	if p.template == "" && len(words) > 0 && (words[0] == "global" || words[0] == "base" || words[0] == "common") {
		p.defaults = true
	}
	if p.template == "" && (slices.Contains(words, "default") || slices.Contains(words, "defaults")) {
		p.defaults = true
		p.score -= 3
		p.reasons = append(p.reasons, "it holds defaults by its name")
	}
	if !p.named && len(p.reasons) == 0 {
		p.score -= 3
	}
	p.score -= 0.3 * float64(strings.Count(name, "/"))
	for _, word := range folders {
		switch {
		case awayFolders[word]:
			p.score -= 6
		case installerWords[word] && p.target == name:
			p.score -= 5
			p.installers = true
		}
	}
	if c.isLibrarys(p.target) {
		p.score -= 5
		p.reasons = append(p.reasons, "only the library around it reads it")
	}
	p.apart = isApart(p.target)
	for _, word := range settings.Words(path.Base(plain)) {
		switch foreign[word] {
		case "":
		case "tests":
			p.score -= 12
		default:
			p.score -= 6
		}
	}
	return p
}

// libraryFolders hold libraries, each in a folder of its own.
var libraryFolders = wordset.Of("lib libs library libraries packages bundles components")

// isLibrarys reports whether a file lies with a library, and only code there reads it.
func (c *code) isLibrarys(name string) bool {
	folders := strings.Split(path.Dir(name), "/")
	at := slices.IndexFunc(folders, func(f string) bool { return libraryFolders[strings.ToLower(f)] })
	if at < 0 || at+1 >= len(folders) {
		return false
	}
	inside := strings.Join(folders[:at+2], "/") + "/"
	mentions := c.mentions[path.Base(name)]
	return len(mentions) > 0 && !slices.ContainsFunc(mentions, func(m mention) bool {
		return slices.Contains(m.places(), name) && !strings.HasPrefix(m.File, inside)
	})
}

// maySet is maySet for a file that code may copy.
func (c *code) maySet(name string) (plain string, may bool) {
	if to := c.copies[path.Base(name)]; to != "" {
		if _, may := maySet(to); may {
			return to, true
		}
	}
	return maySet(name)
}

// withoutFamily takes the name of a server out of a sample's name where code
// asks only for the name without: there is a sample for each.
func (c *code) withoutFamily(plain string) string {
	if len(c.mentions[plain]) > 0 {
		return plain
	}
	for _, at := range familyInName.FindAllStringIndex(plain, -1) {
		if short := plain[:at[0]] + plain[at[1]:]; len(c.mentions[short]) > 0 {
			return short
		}
	}
	return plain
}

var familyInName = regexp.MustCompile(`[._-](?:mysqli?|mariadb|pgsql|postgres(?:ql)?|sqlite3?|sqlsrv|mssql)\b`)

// isDefaults reports whether what looks like a sample is itself run by code, or read by
// code that never asks for a copy of it.
func (c *code) isDefaults(name, plain string) bool {
	named := slices.ContainsFunc(settings.Words(name), func(w string) bool { return w == "default" || w == "defaults" })
	return slices.ContainsFunc(c.mentions[path.Base(name)], func(m mention) bool {
		copies := c.mentions[plain]
		switch {
		case len(copies) == 0:
			return readers[m.verb] || m.verb == "fopen"
		case !runsIt[m.verb], isInstallers(m.File): // which shows them and writes others
			return false
		case named: // defaults, and others over them
			return true
		}
		// Else it takes the place of a copy that is not there yet.
		return !slices.ContainsFunc(copies, func(p mention) bool { return p.File == m.File && runsIt[p.verb] })
	})
}

var sampleFolders = wordset.Of("sample samples example examples dist template templates skel skeleton defaults default")

// sampleOf makes the place that of a sample's copy.
func (p *place) sampleOf(t *tree, c *code, name, plain string) {
	if p.target == name {
		p.target = path.Join(path.Dir(name), plain)
		if target, found := c.resolve(t, name, plain); found {
			p.target = target
		}
	}
	p.template, p.isSample = name, true
	p.score += 2
	p.reasons = append(p.reasons, name+" is a sample of it")
	if t.has(p.target) {
		p.template = ""
	}
}

// resolve finds the place of a settings file that code mentions by its name:
// beside the sample, else where the code looks for it.
func (c *code) resolve(t *tree, sample, base string) (target string, found bool) {
	beside := path.Join(path.Dir(sample), base)
	apart := slices.ContainsFunc(settings.Words(path.Dir(sample)), func(w string) bool { return installerWords[w] || sampleFolders[w] })
	isKnown := slices.ContainsFunc(c.mentions[base], func(m mention) bool { return m.base != nil })
	if !apart && !isKnown && base != path.Base(sample) && slices.ContainsFunc(c.mentions[base], func(m mention) bool { return m.up == behindConstant && !strings.Contains(m.path, "/") }) {
		return beside, true
	}
	for _, m := range c.mentions[base] {
		for _, at := range m.places() {
			if strings.HasPrefix(at, "..") {
				continue
			}
			folder := path.Dir(at)
			if folder != "." && !t.folders[folder] {
				continue
			}
			if at == beside {
				return beside, true
			}
			if target == "" && (readers[m.verb] || writers[m.verb] || askers[m.verb]) && at != sample {
				target = at
			}
		}
	}
	return target, target != ""
}

// copiedTo is the file that the code reads and that is not there, where one lies in another
// folder under the whole of its path: somebody copies it from there.
func (c *code) copiedTo(t *tree, name string) (target string, found bool) {
	for _, m := range c.mentions[path.Base(name)] {
		places := m.places()
		if slices.ContainsFunc(places, t.has) {
			continue // that one is meant
		}
		for _, at := range places {
			if strings.Contains(at, "/") && strings.HasSuffix(name, "/"+at) && readers[m.verb] && !t.has(at) && t.folders[path.Dir(at)] {
				return at, true
			}
		}
	}
	return "", false
}

// filledInto is the one settings file that the code which reads a template writes.
func (c *code) filledInto(t *tree, template string) (target string, found bool) {
	for _, reads := range c.mentions[path.Base(template)] {
		if !readers[reads.verb] && reads.verb != "fopen" {
			continue
		}
		for base, mentions := range c.mentions {
			if _, may := maySet(base); !may {
				continue
			}
			for _, m := range mentions {
				if m.File != reads.File || !writers[m.verb] {
					continue
				}
				places := m.places()
				if from := slices.Index(reads.places(), template); from > 0 && from < len(places) && m.up == reads.up {
					places = places[from:] // relative to the same folder
				}
				for _, at := range places {
					switch {
					case strings.HasPrefix(at, "..") || path.Dir(at) != "." && !t.folders[path.Dir(at)] || at == template:
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
func (p place) environment(file *settings.File, g *group, c *code) (n int) {
	if file.Syntax.Name != "dotenv" {
		return 0
	}
	for _, k := range g.keys {
		if c.environ[k.Address] {
			n++
		}
	}
	return n
}
