package discover

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/settings"
	"yellowfield/internal/settings/ini"
)

// fromCode finds settings files that are not there, and of which no sample is:
// those that code reads or writes, with the values that code logs in with, or
// with those of a text that code would write into them.
func fromCode(t *tree, c *code, typedIn []*Candidate) []*Candidate {
	var found []*Candidate
	for _, base := range slices.Sorted(maps.Keys(c.mentions)) {
		mentions := c.mentions[base]
		plain, may := maySet(base)
		if !may || plain != base {
			continue
		}
		target, read, written := c.absent(t, mentions)
		if written == nil {
			written = c.besideText(mentions)
		}
		named := slices.ContainsFunc(append(settings.Words(base), settings.Words(path.Base(path.Dir(target)))...), func(w string) bool { return settingsNames[w] || strings.Contains(w, "conf") })
		waits := t.has(target) // it is empty
		if target == "" || written == nil && !waits && (!inInstaller(mentions) || slices.ContainsFunc(mentions, func(m mention) bool { return c.deletes[m.path] })) {
			continue // what is not there and is written nowhere is not the file, and one that is deleted is that of an older version
		}
		candidate := &Candidate{File: target, InstallerMakes: true, Syntax: syntaxOf(target), words: &c.words, schemes: map[string]string{}}
		switch {
		case written != nil && read != nil:
			candidate.Score, candidate.Reasons = 8, []string{fmt.Sprintf("%s:%d reads it, %s:%d writes it", read.File, read.Line, written.File, written.Line)}
		case written != nil:
			candidate.Score, candidate.Reasons = 7, []string{fmt.Sprintf("%s:%d writes it", written.File, written.Line)}
		case waits:
			candidate.Score, candidate.Reasons = 7, []string{fmt.Sprintf("%s:%d reads it, and it is empty", read.File, read.Line)}
		default:
			candidate.Score, candidate.Reasons = 6, []string{fmt.Sprintf("%s:%d reads it, and it is not there", read.File, read.Line)}
		}
		switch {
		case named:
			candidate.valuesFromCode(t, c, target, written, typedIn)
		case written == nil || read == nil:
			continue
		case candidate.valuesFromText(c, target, written): // which alone says that it is one
			candidate.Score--
		case c.arrays[written.File] != "":
			candidate.valuesFromLogins(t, c, written)
		}
		candidate.Alike = c.alike(t, mentions, target, written)
		if waiting := t.waiting[base]; len(waiting) > 1 && written != nil {
			candidate.Alike = waiting[1:]
		}
		if len(candidate.Values) >= 3 {
			found = append(found, candidate)
		}
	}
	return found
}

// overrides finds files that override a file of defaults: code reads both, and
// they share a word of their names. The keys are those of the defaults.
func overrides(t *tree, c *code, found []*Candidate) []*Candidate {
	var more []*Candidate
	best := slices.SortedStableFunc(slices.Values(found), func(a, b *Candidate) int { return cmp.Compare(b.Score, a.Score) })
	for _, defaults := range best {
		if !defaults.defaults {
			continue
		}
		names := slices.DeleteFunc(settings.Words(path.Base(defaults.File)), func(w string) bool { return !settingsNames[w] })
		for _, base := range slices.Sorted(maps.Keys(c.mentions)) {
			words := settings.Words(base)
			alike := slices.ContainsFunc(names, func(w string) bool { return slices.Contains(words, w) }) ||
				allExtensions(base) == allExtensions(defaults.File) && slices.ContainsFunc(words, func(w string) bool { return settingsNames[w] })
			alike = alike || defaults.forbids && bytes.Contains(headOf(t.read(defaults.Seen, longestSettings)), []byte(base)) // which it names instead
			if base == path.Base(defaults.File) || !alike {
				continue
			}
			if i := slices.IndexFunc(found, func(f *Candidate) bool { return path.Base(f.File) == base }); i >= 0 {
				if defaults.forbids && (found[i].InstallerMakes || found[i].fromSample) {
					if found[i].fromLogins && (found[i].Syntax == defaults.Syntax || allExtensions(base) == allExtensions(defaults.File)) {
						found[i].Syntax, found[i].Values, found[i].family, found[i].prefix = defaults.Syntax, defaults.Values, defaults.family, defaults.prefix
						found[i].fromLogins = false
					}
					found[i].Score = max(found[i].Score, round(defaults.Score+4))
					found[i].Reasons = append(found[i].Reasons, defaults.File+" is not to be edited")
				}
				continue
			}
			target, read, written := c.absent(t, c.mentions[base])
			beside := path.Join(path.Dir(defaults.File), base)
			named := slices.ContainsFunc(c.mentions[base], func(m mention) bool { return slices.Contains(m.places(), beside) })
			override := *defaults
			override.defaults = false
			override.Score = round(defaults.Score + 4)
			switch {
			case named && target == "" && !t.has(beside):
				override.File, override.InstallerMakes = beside, true
				override.Reasons = []string{"the code names it, and " + defaults.File + " beside it has its defaults"}
			case target != "" && read != nil && written != nil:
				override.File, override.InstallerMakes = target, true
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, %s:%d writes it, and %s has its defaults", read.File, read.Line, written.File, written.Line, defaults.File)}
			case target != "" && read != nil && defaults.forbids && saysToCopy.Match(headOf(t.read(defaults.Seen, longestSettings))):
				override.File, override.Template, override.fromDefaults = target, defaults.Seen, true
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, and %s is to be copied", read.File, read.Line, defaults.File)}
			case target != "" && read != nil && defaults.forbids && defaults.mayBegin():
				override.File, override.Add = target, true
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, and %s is not to be edited", read.File, read.Line, defaults.File)}
			case target != "" && read != nil && bytes.Contains(headOf(t.read(defaults.Seen, longestSettings)), []byte(path.Join(path.Base(path.Dir(target)), base))):
				if override.File, override.Add = target, defaults.mayBegin(); !override.Add {
					override.Template, override.fromDefaults = defaults.Seen, true
				}
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, and the head of %s names it", read.File, read.Line, defaults.File)}
			case target == "":
				there, found := c.resolve(t, defaults.File, base)
				reads := slices.ContainsFunc(c.mentions[path.Base(defaults.File)], func(m mention) bool { return m.File == there })
				if !found || reads || !t.has(there) || !setsSomething(there, t.read(there, longestSettings)) {
					continue
				}
				override.File, override.Add = there, true
				override.Reasons = []string{"the code reads it, and " + defaults.File + " has its defaults"}
			default:
				continue
			}
			more = append(more, &override)
		}
	}
	return more
}

// saysToCopy is what a file says that is to be edited in a copy.
var saysToCopy = regexp.MustCompile(`(?i)\b(?:make|create|take)\s+a\s+copy\b|\bcopy\s+(?:this|the)\s+file\b`)

// moveToSubclasses has the properties of a class set in the one that extends it, where code
// has the text of that and writes a file which is not there: a program's own class holds no
// settings.
func moveToSubclasses(t *tree, c *code, found []*Candidate) {
	if len(c.subclasses) == 0 {
		return
	}
	writes := map[string]string{} // files that are not there, by the code that writes them
	for _, base := range slices.Sorted(maps.Keys(c.mentions)) {
		if target, _, written := c.absent(t, c.mentions[base]); written != nil && isCode(target) {
			writes[written.File] = cmp.Or(writes[written.File], target)
		}
	}
	for _, candidate := range found {
		class, _, _ := strings.Cut(candidate.value(settings.Password).Address, "::$")
		i := slices.IndexFunc(c.subclasses, func(s subclass) bool { return s.of == class && writes[s.file] != "" })
		if i < 0 {
			continue
		}
		sub := c.subclasses[i]
		candidate.File, candidate.Template, candidate.InstallerMakes, candidate.Add = writes[sub.file], "", true, false
		candidate.Reasons = append(candidate.Reasons, fmt.Sprintf("%s writes it, with a class that extends %s", sub.file, sub.of))
		for i, v := range candidate.Values {
			candidate.Values[i].Address = sub.name + strings.TrimPrefix(v.Address, sub.of)
		}
	}
}

// setsSomething reports whether a file is one of settings, be it empty.
func setsSomething(name string, content []byte) bool {
	if settings.IsBlank(content) {
		return true
	}
	file, err := settings.Parse(name, content)
	return err == nil && len(file.Settings) > 0
}

// mayBegin reports whether another file can say the same with nothing else in it. INI that
// is called PHP has a guard in front, so that nobody is shown it.
func (c *Candidate) mayBegin() bool {
	return c.Syntax == ini.Syntax.Name && path.Ext(c.File) != ".php" || c.Syntax != ini.Syntax.Name && !slices.ContainsFunc(c.Values, func(v Value) bool { return !strings.HasPrefix(v.Address, "$") })
}

// alike are the files of the same name that the code which writes one writes, too.
func (c *code) alike(t *tree, mentions []mention, target string, written *mention) (files []string) {
	for _, m := range mentions {
		if written == nil || m.File != written.File || !writers[m.verb] || slices.Contains(m.places(), target) {
			continue
		}
		for _, at := range m.places() {
			if at != target && t.folders[path.Dir(at)] && (!t.has(at) || t.isBlank(at)) && !slices.Contains(files, at) {
				files = append(files, at)
				break
			}
		}
	}
	return files
}

// besideText is the mention in a file of code that has a text of settings, too, and so
// writes it by whatever function; nil for none.
func (c *code) besideText(mentions []mention) *mention {
	for i, m := range mentions {
		if m.verb == "" && slices.ContainsFunc(c.texts, func(text embedded) bool { return text.File == m.File && strings.Contains(text.text, "<?php") }) {
			return &mentions[i]
		}
	}
	return nil
}

// inInstaller reports whether code of an installer mentions a file, as it does when it
// is to write it under a name that it keeps in a variable.
func inInstaller(mentions []mention) bool {
	return slices.ContainsFunc(mentions, func(m mention) bool { return isInstallers(m.File) })
}

// allExtensions are what follows the first dot of a file's name.
func allExtensions(name string) string {
	_, after, _ := strings.Cut(path.Base(name), ".")
	return after
}

// absent gives the place of a file that code mentions and the tree lacks.
func (c *code) absent(t *tree, mentions []mention) (target string, read, written *mention) {
	fitting := map[string]int{} // mentions, by the place that they can mean
	for i := range mentions {
		m := &mentions[i]
		first := ""
		places := m.places()
		slices.SortStableFunc(places, func(a, b string) int { // one that is there comes first
			switch {
			case t.has(a) == t.has(b):
				return 0
			case t.has(a):
				return -1
			}
			return 1
		})
		for _, at := range places {
			if strings.HasPrefix(at, "..") || path.Dir(at) != "." && !t.folders[path.Dir(at)] {
				continue
			}
			if first = cmp.Or(first, at); at == first && t.has(at) && !t.isBlank(at) { // an empty one waits for the installer
				return "", nil, nil
			}
			fitting[at]++
		}
		if first != "" && (target == "" || readers[m.verb]) {
			target = first
		}
		if m.writes && first != "" {
			written = m
		}
		switch {
		case writers[m.verb]:
			written = m
		case readers[m.verb], askers[m.verb]:
			if read == nil || readers[m.verb] {
				read = m
			}
		}
	}
	if read == nil && written == nil {
		return "", nil, nil
	}
	if waiting := t.waiting[path.Base(target)]; len(waiting) > 0 {
		return waiting[0], read, written
	}
	for _, at := range slices.Sorted(maps.Keys(fitting)) {
		if fitting[at] > fitting[target] {
			target = at
		}
	}
	return target, read, written
}
