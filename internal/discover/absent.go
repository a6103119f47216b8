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

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/ini"
)

// fromCode finds settings files that are not there, and of which no sample is:
// those that code reads or writes, with the values that code logs in with, or
// with those of a text that code would write into them.
func fromCode(t *tree.Tree, c *facts.Code, typedIn []*Candidate) []*Candidate {
	var found []*Candidate
	for _, base := range slices.Sorted(maps.Keys(c.Mentions)) {
		mentions := c.Mentions[base]
		plain, may := tree.MaySet(base)
		if !may || plain != base {
			continue
		}
		target, read, written := absent(c, t, mentions)
		if written == nil {
			written = besideText(c, mentions)
		}
		named := slices.ContainsFunc(append(settings.Words(base), settings.Words(path.Base(path.Dir(target)))...), func(w string) bool { return facts.SettingsNames[w] || strings.Contains(w, "conf") })
		waits := t.Has(target) // it is empty
		if target == "" || written == nil && !waits && (!inInstaller(mentions) || slices.ContainsFunc(mentions, func(m facts.Mention) bool { return c.Deletes[m.Path] })) {
			continue // a file that is neither there nor written by code is not the one, and one that is deleted belongs to an older version
		}
		candidate := &Candidate{File: target, InstallerMakes: true, Syntax: syntaxOf(target), words: &c.Words, schemes: map[string]string{}}
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
		case c.Arrays[written.File] != "":
			candidate.valuesFromLogins(t, c, written)
		}
		candidate.Alike = alike(c, t, mentions, target, written)
		if waiting := t.Waiting[base]; len(waiting) > 1 && written != nil {
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
func overrides(t *tree.Tree, c *facts.Code, found []*Candidate) []*Candidate {
	var more []*Candidate
	best := slices.SortedStableFunc(slices.Values(found), func(a, b *Candidate) int { return cmp.Compare(b.Score, a.Score) })
	for _, defaults := range best {
		if !defaults.defaults {
			continue
		}
		names := slices.DeleteFunc(settings.Words(path.Base(defaults.File)), func(w string) bool { return !facts.SettingsNames[w] })
		for _, base := range slices.Sorted(maps.Keys(c.Mentions)) {
			words := settings.Words(base)
			alike := slices.ContainsFunc(names, func(w string) bool { return slices.Contains(words, w) }) ||
				allExtensions(base) == allExtensions(defaults.File) && slices.ContainsFunc(words, func(w string) bool { return facts.SettingsNames[w] })
			alike = alike || defaults.forbids && bytes.Contains(headOf(t.Read(defaults.Seen, tree.LongestSettings)), []byte(base)) // which it names instead
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
			target, read, written := absent(c, t, c.Mentions[base])
			beside := path.Join(path.Dir(defaults.File), base)
			named := slices.ContainsFunc(c.Mentions[base], func(m facts.Mention) bool { return slices.Contains(m.Places(), beside) })
			override := *defaults
			override.defaults = false
			override.Score = round(defaults.Score + 4)
			switch {
			case named && target == "" && !t.Has(beside):
				override.File, override.InstallerMakes = beside, true
				override.Reasons = []string{"the code names it, and " + defaults.File + " beside it has its defaults"}
			case target != "" && read != nil && written != nil:
				override.File, override.InstallerMakes = target, true
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, %s:%d writes it, and %s has its defaults", read.File, read.Line, written.File, written.Line, defaults.File)}
			case target != "" && read != nil && defaults.forbids && saysToCopy.Match(headOf(t.Read(defaults.Seen, tree.LongestSettings))):
				override.File, override.Template, override.fromDefaults = target, defaults.Seen, true
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, and %s is to be copied", read.File, read.Line, defaults.File)}
			case target != "" && read != nil && defaults.forbids && defaults.mayBegin():
				override.File, override.Add = target, true
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, and %s is not to be edited", read.File, read.Line, defaults.File)}
			case target != "" && read != nil && bytes.Contains(headOf(t.Read(defaults.Seen, tree.LongestSettings)), []byte(path.Join(path.Base(path.Dir(target)), base))):
				if override.File, override.Add = target, defaults.mayBegin(); !override.Add {
					override.Template, override.fromDefaults = defaults.Seen, true
				}
				override.Reasons = []string{fmt.Sprintf("%s:%d reads it, and the head of %s names it", read.File, read.Line, defaults.File)}
			case target == "":
				there, found := resolve(c, t, defaults.File, base)
				reads := slices.ContainsFunc(c.Mentions[path.Base(defaults.File)], func(m facts.Mention) bool { return m.File == there })
				if !found || reads || !t.Has(there) || !setsSomething(there, t.Read(there, tree.LongestSettings)) {
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
func moveToSubclasses(t *tree.Tree, c *facts.Code, found []*Candidate) {
	if len(c.Subclasses) == 0 {
		return
	}
	writes := map[string]string{} // files that are not there, by the code that writes them
	for _, base := range slices.Sorted(maps.Keys(c.Mentions)) {
		if target, _, written := absent(c, t, c.Mentions[base]); written != nil && tree.IsCode(target) {
			writes[written.File] = cmp.Or(writes[written.File], target)
		}
	}
	for _, candidate := range found {
		class, _, _ := strings.Cut(candidate.value(settings.Password).Address, "::$")
		i := slices.IndexFunc(c.Subclasses, func(s facts.Subclass) bool { return s.Of == class && writes[s.File] != "" })
		if i < 0 {
			continue
		}
		sub := c.Subclasses[i]
		candidate.File, candidate.Template, candidate.InstallerMakes, candidate.Add = writes[sub.File], "", true, false
		candidate.Reasons = append(candidate.Reasons, fmt.Sprintf("%s writes it, with a class that extends %s", sub.File, sub.Of))
		for i, v := range candidate.Values {
			candidate.Values[i].Address = sub.Name + strings.TrimPrefix(v.Address, sub.Of)
		}
	}
}

// setsSomething reports whether a file is a settings file, even an empty one.
func setsSomething(name string, content []byte) bool {
	if settings.IsBlank(content) {
		return true
	}
	file, err := settings.Parse(name, content)
	return err == nil && len(file.Settings) > 0
}

// mayBegin reports whether a new file can hold the same settings with nothing else in it. INI
// that is called PHP has a guard in front, so that nobody is shown it.
func (c *Candidate) mayBegin() bool {
	return c.Syntax == ini.Syntax.Name && path.Ext(c.File) != ".php" || c.Syntax != ini.Syntax.Name && !slices.ContainsFunc(c.Values, func(v Value) bool { return !strings.HasPrefix(v.Address, "$") })
}

// alike are the files of the same name that the code which writes one writes, too.
func alike(c *facts.Code, t *tree.Tree, mentions []facts.Mention, target string, written *facts.Mention) (files []string) {
	for _, m := range mentions {
		if written == nil || m.File != written.File || !facts.Writers[m.Verb] || slices.Contains(m.Places(), target) {
			continue
		}
		for _, at := range m.Places() {
			if at != target && t.Folders[path.Dir(at)] && (!t.Has(at) || t.IsBlank(at)) && !slices.Contains(files, at) {
				files = append(files, at)
				break
			}
		}
	}
	return files
}

// besideText is the mention in a file of code that has a text of settings, too, and so
// writes it by whatever function; nil for none.
func besideText(c *facts.Code, mentions []facts.Mention) *facts.Mention {
	for i, m := range mentions {
		if m.Verb == "" && slices.ContainsFunc(c.Texts, func(text facts.Embedded) bool { return text.File == m.File && strings.Contains(text.Text, "<?php") }) {
			return &mentions[i]
		}
	}
	return nil
}

// inInstaller reports whether code of an installer mentions a file, as it does when it
// is to write it under a name that it keeps in a variable.
func inInstaller(mentions []facts.Mention) bool {
	return slices.ContainsFunc(mentions, func(m facts.Mention) bool { return facts.IsInstallers(m.File) })
}

// allExtensions are what follows the first dot of a file's name.
func allExtensions(name string) string {
	_, after, _ := strings.Cut(path.Base(name), ".")
	return after
}

// absent gives the place of a file that code mentions and the tree lacks.
func absent(c *facts.Code, t *tree.Tree, mentions []facts.Mention) (target string, read, written *facts.Mention) {
	fitting := map[string]int{} // mentions, by the place that they can mean
	for i := range mentions {
		m := &mentions[i]
		first := ""
		places := m.Places()
		slices.SortStableFunc(places, func(a, b string) int { // one that is there comes first
			switch {
			case t.Has(a) == t.Has(b):
				return 0
			case t.Has(a):
				return -1
			}
			return 1
		})
		for _, at := range places {
			if strings.HasPrefix(at, "..") || path.Dir(at) != "." && !t.Folders[path.Dir(at)] {
				continue
			}
			if first = cmp.Or(first, at); at == first && t.Has(at) && !t.IsBlank(at) { // an empty one waits for the installer
				return "", nil, nil
			}
			fitting[at]++
		}
		if first != "" && (target == "" || facts.Readers[m.Verb]) {
			target = first
		}
		if m.Writes && first != "" {
			written = m
		}
		switch {
		case facts.Writers[m.Verb]:
			written = m
		case facts.Readers[m.Verb], facts.Askers[m.Verb]:
			if read == nil || facts.Readers[m.Verb] {
				read = m
			}
		}
	}
	if read == nil && written == nil {
		return "", nil, nil
	}
	if waiting := t.Waiting[path.Base(target)]; len(waiting) > 0 {
		return waiting[0], read, written
	}
	for _, at := range slices.Sorted(maps.Keys(fitting)) {
		if fitting[at] > fitting[target] {
			target = at
		}
	}
	return target, read, written
}
