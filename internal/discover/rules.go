package discover

import (
	"fmt"
	"path"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/syntax"
)

// rule is one thing that speaks for a candidate or against it, on evidence that was gathered
// before. No rule knows a file's name or a key of one application.
type rule[E any] struct {
	name   string
	points float64
	// times is how often it holds; 0 for not at all.
	times func(e E) int
	// says tells it to people, and about what it is for docs/proposing.md; nil for nothing.
	says  func(e E) string
	about string
}

// once has a rule hold once or not at all.
func once[E any](holds func(e E) bool) func(e E) int {
	return func(e E) int {
		if holds(e) {
			return 1
		}
		return 0
	}
}

// text is the same for all that a rule holds for.
func text[E any](words string) func(E) string { return func(E) string { return words } }

// withoutRule is left out of every table; tests see so what each rule is for.
var withoutRule string

// weigh adds up the rules that hold, and what they say.
func weigh[E any](rules []rule[E], e E) (score float64, notes []string) {
	for _, r := range rules {
		times := r.times(e)
		if times == 0 || r.name == withoutRule {
			continue
		}
		score += r.points * float64(times)
		if r.says != nil {
			notes = append(notes, r.says(e))
		}
	}
	return score, notes
}

// keyWeights are what a key of each role is worth.
var keyWeights = map[settings.Role]float64{
	settings.Database: 3, settings.Password: 3, settings.User: 2, settings.Host: 2, settings.Prefix: 2, settings.Socket: 1, settings.DSN: 8,
}

// weightOf is what a key is worth: less where its value is not simply in force.
func weightOf(role settings.Role, k key) float64 {
	const vague, fixed, computed, commented = 0.5, 0.25, 0.5, 0.7
	weight := keyWeights[role]
	if k.Vague {
		weight *= vague
	}
	switch {
	case k.Refusal != "" && k.Fixed:
		weight *= fixed
	case k.Kind == syntax.Expression, k.Fallback:
		weight *= computed
	case k.commented:
		weight *= commented
	}
	return weight
}

// weighed is a group with what its keys tell together.
type weighed struct {
	*group
	uses       int    // how surely code logs in with them
	ofDatabase bool   // their words speak of one
	call       string // what logs in with them as its arguments
}

// isForeign reports whether a group is about something else, and no code logs in with it.
func (j weighed) isForeign() bool { return j.foreign != "" && j.uses < 2*sureUse }

const mostUses = 12

// groupRules are the rules for a group of keys, beside what the keys are worth.
var groupRules = []rule[weighed]{
	{"fallback", 0, once(func(j weighed) bool { return j.fallback() }), text[weighed]("its values are in force where nothing else gives them"), ""},
	{"logs in", 1, func(j weighed) int { return min(j.uses, mostUses) }, text[weighed]("the code logs in with it"),
		"code hands its values to `mysqli`, PDO, `pg_connect` and the like: for each, by how sure it is, up to 12"},
	{"words of databases", 4, once(func(j weighed) bool { return j.ofDatabase || j.call != "" }), text[weighed]("its keys speak of a database"), "its words speak of a database"},
	{"call", 0, once(func(j weighed) bool { return j.call != "" }), func(j weighed) string { return j.call + "() has the values in the code itself" }, ""},
	{"parameters", -14, once(func(j weighed) bool { return strings.Contains(j.container, "()") && j.saysNothing() }), text[weighed]("a function takes them"), "a function takes its values, and nobody gives them"},
	{"inside a function", -8, once(func(j weighed) bool { return strings.Contains(j.container, "()") && !j.saysNothing() }), text[weighed]("it is inside a function"), "it stands inside a function"},
	{"arguments", -4, once(func(j weighed) bool {
		return !strings.Contains(j.container, "()") && strings.Contains(j.container, "(") && !strings.HasPrefix(j.container, "putenv(")
	}), nil, "they are arguments of a call"},
	{"about something else", -12, once(func(j weighed) bool { return j.isForeign() }),
		func(j weighed) string { return "it is about " + j.foreign }, "its words are of mail, a directory, a cache, a service or the like, of tests, copies or older databases"},
}

// placed is a file with what its name, its folder and the code tell of it.
type placed struct {
	place
	reader  *facts.Mention // the first line of code that reads it
	plain   []string       // of the name that it is used under
	folders []string       // words of its folders
	library bool           // only the library around it reads it
}

// count is how many words are such.
func count(words []string, such func(string) bool) (n int) {
	for _, word := range words {
		if such(word) {
			n++
		}
	}
	return n
}

// placeRules are the rules for a file.
var placeRules = []rule[placed]{
	{"name", 2, once(func(p placed) bool { return p.named }), nil, "its name is that of settings, such as `config`, `settings`, `database`, or it is a sample"},
	{"read", 2, once(func(p placed) bool { return p.reader != nil }), func(p placed) string { return fmt.Sprintf("%s:%d reads it", p.reader.File, p.reader.Line) }, "code reads it"},
	{"unnamed", -3, once(func(p placed) bool { return !p.named && p.reader == nil }), nil, "neither its name nor code says that it holds settings"},
	{"folder of parts", -6, func(p placed) int { return count(p.folders, func(w string) bool { return facts.AwayFolders[w] }) }, nil, "a folder of documentation, examples, languages or plugins"},
	{"library", -5, once(func(p placed) bool { return p.library }), text[placed]("only the library around it reads it"), "only the library around it reads it"},
	{"name of tests", -12, func(p placed) int { return count(p.plain, func(w string) bool { return facts.Foreign[w] == "tests" }) }, nil, "a word of tests in its name"},
}

// sampleRules are the rules for a sample, once it is known what it is one of.
var sampleRules = []rule[placed]{
	{"sample", 2, once(func(p placed) bool { return p.isSample }), nil, "it is a sample of a file that is to be made"},
}

// wordsOf are the words of a file's own name.
func wordsOf(name string) []string { return settings.Words(path.Base(name)) }

// Rules tells all rules as the rows of a table, for docs/proposing.md.
func Rules() (rows [][2]string) {
	add := func(points float64, about string) {
		if about != "" {
			rows = append(rows, [2]string{fmt.Sprintf("%+g", points), about})
		}
	}
	for _, role := range facts.ValueOrder {
		if keyWeights[role] == 0 {
			continue
		}
		add(keyWeights[role], "a key for the "+string(role)+"; less where its value is not simply in force")
	}
	for _, r := range groupRules {
		add(r.points, r.about)
	}
	for _, r := range placeRules {
		add(r.points, "the file: "+r.about)
	}
	for _, r := range sampleRules {
		add(r.points, "the file: "+r.about)
	}
	return rows
}
