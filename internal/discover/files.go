package discover

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/settings/syntax"
	"yellowfield/internal/settings/yamlfile"
)

// Candidate is a settings file that may hold the application's login.
type Candidate struct {
	File string `json:"file"`
	// Template is the sample that it is made from; empty when the file is
	// there, or when the installer makes it.
	Template string `json:"template,omitempty"`
	// Seen is the file in which the values were found.
	Seen    string   `json:"seen"`
	Syntax  string   `json:"syntax"`
	Score   float64  `json:"score"`
	Reasons []string `json:"reasons"`
	Values  []Value  `json:"values"`
	// InstallerMakes says that the file is not there, and that it is left to the installer:
	// code reads or writes it, and there is no sample, or the installer has to run anyway.
	InstallerMakes bool `json:"installer_makes,omitempty"`
	// Called says that the values stand in the code, as arguments of what logs in.
	Called bool `json:"called,omitempty"`
	// Alike are further files that the installer writes with the same text, or whose code
	// logs in with the same values.
	Alike []string `json:"alike,omitempty"`
	// Beside are further files that are there, whose code logs in with the same values under
	// other names, or with the user and the password that this one lacks.
	Beside []*Candidate `json:"beside,omitempty"`
	// Add says that keys have to be added to a file that is there.
	Add bool `json:"add,omitempty"`

	family   string
	product  string            // that it is fitted to, where that is known
	also     []string          // families of its data source names in comments
	schemes  map[string]string // of these, by family
	words    *facts.DriverWords
	defaults bool // the file holds defaults by its name
	used     bool // the code surely logs in with it
	read     bool // code reads it by its name
	// readThere says that it surely does so from its folder.
	readThere bool
	typedIn   bool // it is code of the installer, with what somebody has typed in
	rest      bool // it has a user and a password, and no database
	forbids   bool // its head says that it is not to be edited
	apart     bool // it is in a folder of parts, of examples or the like
	// fromSample says that Seen is a sample of File by its name.
	fromSample bool
	// fromDefaults says that Template is a file of defaults, which stays.
	fromDefaults bool
	// fromLogins says that its values are those that code logs in with.
	fromLogins bool
	// installerToo says that it is made from a sample, and the installer writes it, too.
	installerToo bool
	fallback     bool   // its values are in force where the environment gives none
	forEach      bool   // the file has such values for each server, and a setting chooses
	variables    bool   // the code reads its values as the environment
	prefix       string // value of the table prefix
	unchosen     bool
	group        string // the container, for messages
}

// Value is what an address should get.
type Value struct {
	Role    settings.Role `json:"role"`
	Address string        `json:"address"`
	Text    string        `json:"text"` // as in an estate file, with placeholders
	Line    int           `json:"line,omitempty"`
	// Was is the value that stands there now, masked when it is a secret.
	Was string `json:"was"`
	// Commented says that the key stands in a comment only.
	Commented bool `json:"commented,omitempty"`
	// Doubt says why this should not be taken without a look; empty for none.
	Doubt string `json:"doubt,omitempty"`
	// Others are further addresses that might have been meant.
	Others []string `json:"others,omitempty"`
	// Expression says that the value is evaluated now.
	Expression bool `json:"expression,omitempty"`

	// Replaces says that it is put in place of the expression.
	Replaces bool `json:"replaces,omitempty"`

	// Found says where the text was found, when it is not what stands there now.
	Found string `json:"found,omitempty"`
	// Wrong says that what stands there names another server, so that the application
	// would surely fail with it.
	Wrong bool `json:"wrong,omitempty"`
	// Absent says that the part is not there yet and is added.
	Absent bool `json:"absent,omitempty"`

	word       string   // for the server of the values beside it
	flag       string   // family of servers that is chosen by true
	dsn        string   // address of the data source name that this is a part of
	form       dsn.Form // of that
	was        string   // a driver as it stands there
	ifKnown    bool     // it is a driver, and is written where a word for the server is known
	near       string   // remarks beside it
	unwritable bool     // it cannot be written, whatever it should be
}

// leastScore is what a candidate must reach.
const leastScore = 9

// leastAlike is what a file must reach whose code may log in with the same values as another
// one's.
const leastAlike = 5

// loginHint is what a file must hold to be worth reading.
var loginHint = regexp.MustCompile(`(?i)pass|pwd|\bpw\b|secret|word|login|user|uid|mysql|pgsql|postgres|dsn|database|db_?name|sql|usuario|utilisateur|benutzer|clave|senha|kennwort|contrasena|mdp`)

// candidates finds the settings files, the best first.
func candidates(ctx context.Context, t *tree.Tree, c *facts.Code) ([]*Candidate, error) {
	var names []string
	for _, name := range t.Files {
		_, may := maySet(c, name)
		switch {
		case !may || tree.IsScript(name) || !facts.IsOwnCode(name):
		case t.Sizes[name] <= tree.LongestSettings:
			names = append(names, name)
		case !tree.IsCode(name):
			t.Skip(name, "it is too long for a settings file")
		}
	}
	var found []*Candidate
	err := facts.SideBySide(ctx, names, func(name string) []*Candidate {
		content := t.Read(name, tree.LongestSettings)
		if !loginHint.Match(content) {
			return nil
		}
		return readCandidates(t, c, name, content)
	}, func(_ string, more []*Candidate) { found = append(found, more...) })
	if err != nil {
		return nil, err
	}
	takeOut := func(is func(*Candidate) bool) (taken []*Candidate) {
		found = slices.DeleteFunc(found, func(c *Candidate) bool {
			if is(c) {
				taken = append(taken, c)
			}
			return is(c)
		})
		return taken
	}
	typedIn := takeOut(func(c *Candidate) bool { return c.typedIn })
	rests := takeOut(func(c *Candidate) bool { return c.rest })
	found = append(found, fromCode(t, c, typedIn)...)
	found = append(found, overrides(t, c, found)...)
	moveToSubclasses(t, c, found)
	found = besideSamples(found)
	preferEnvironment(found)
	found = withoutParts(found, c)
	slices.SortStableFunc(found, func(a, b *Candidate) int {
		switch {
		case a.Score > b.Score:
			return -1
		case a.Score < b.Score:
			return 1
		}
		return len(a.File) - len(b.File)
	})
	found = withSameValues(withoutTwins(found))
	if len(found) > 0 {
		found[0].withRest(rests)
	}
	return found, nil
}

// withRest adds the file beside that has the user and the password under the same names, if
// the candidate has none: code merges what both say.
func (c *Candidate) withRest(rests []*Candidate) {
	if c.value(settings.User).Address != "" || c.value(settings.Password).Address != "" {
		return
	}
	for _, rest := range rests {
		if rest.group == c.group && path.Dir(rest.File) == path.Dir(c.File) && rest.File != c.File {
			c.Beside = append(c.Beside, rest)
			return
		}
	}
}

// withoutParts puts files in folders of parts after the others, and takes none where only the
// code outside logs in: a plugin may well have a database of its own.
func withoutParts(found []*Candidate, code *facts.Code) []*Candidate {
	const behind = 14
	others := slices.ContainsFunc(found, func(c *Candidate) bool { return !c.apart && c.Score >= leastScore })
	return slices.DeleteFunc(found, func(c *Candidate) bool {
		if c.apart && others {
			c.Score = round(c.Score - behind)
		}
		return c.apart && (!others && len(code.Whole.Logins) > 0 || c.Score < leastScore)
	})
}

// preferEnvironment puts files that set the environment before those with the values that
// are in force without it.
func preferEnvironment(found []*Candidate) {
	for _, c := range found {
		for _, other := range found {
			if c.variables && other.fallback && other.Score >= c.Score {
				c.Score = round(other.Score + 1)
				c.Reasons = append(c.Reasons, "it sets the variables that "+other.File+" asks for")
			}
		}
	}
}

// withSameValues joins files that are there, and whose code logs in with the same values as
// with those of the best there is: all of them have to get the new ones.
func withSameValues(found []*Candidate) []*Candidate {
	if len(found) == 0 {
		return found
	}
	best := found[0]
	if !best.read { // it may be a copy that documents all settings, or an old one
		if i := slices.IndexFunc(found, func(c *Candidate) bool { return c.read && path.Dir(c.File) == path.Dir(best.File) && c.sameLogin(best) }); i > 0 {
			best = found[i]
			found[0], found = best, slices.Delete(found, i, i+1)
		}
	}
	return slices.DeleteFunc(found, func(c *Candidate) bool {
		switch {
		case c == best, c.apart && !best.apart, isCopy(c.File):
			return c.Called && c.Score < leastScore
		case best.alike(c):
			best.Alike = append(best.Alike, c.File)
			return true
		case best.beside(c):
			best.Beside = append(best.Beside, c)
			return true
		}
		return c.Called && c.Score < leastScore
	})
}

// alike reports whether two files are there, and have the same values under the same names:
// in one folder, or where the code surely logs in with both.
func (c *Candidate) alike(other *Candidate) bool {
	near := c.used && other.used || path.Dir(c.File) == path.Dir(other.File) && other.Score >= leastScore
	return near && c.isThere() && other.isThere() && c.Called == other.Called && slices.EqualFunc(c.Values, other.Values, func(a, b Value) bool {
		return a.Address == b.Address && a.Text == b.Text && a.Was == b.Was && a.Doubt == b.Doubt
	})
}

// beside reports whether another file with the same login is there, too, or is to be copied
// from its own sample, too.
func (c *Candidate) beside(other *Candidate) bool {
	copied := func(c *Candidate) bool { return c.Template != "" && c.readThere && !c.Add }
	both := c.isThere() && other.isThere() || copied(c) && copied(other) && c.File != other.File
	return both && other.Score >= leastScore && c.sameLogin(other)
}

// isCopy reports whether a file's name says that it is a backup copy.
func isCopy(name string) bool {
	return slices.ContainsFunc(settings.Words(path.Base(name)), func(w string) bool { return w == "old" || w == "bak" || w == "backup" || w == "copy" })
}

func (c *Candidate) isThere() bool { return c.File == c.Seen && !c.InstallerMakes }

// sameLogin reports whether the code logs in with two files' values, and host, user and
// database are the same.
func (c *Candidate) sameLogin(other *Candidate) bool {
	for _, role := range []settings.Role{settings.Host, settings.User, settings.Database} {
		mine, others := c.value(role), other.value(role)
		if mine.Address == "" || mine.Was == "" && mine.Address != others.Address || mine.Was != others.Was || mine.Was == secret.Mask || mine.Doubt != "" || others.Doubt != "" {
			return false
		}
	}
	return c.used && other.used
}

// IsRest reports whether it has the user and the password that another file lacks, and
// nothing else.
func (c *Candidate) IsRest() bool { return c.rest }

// HasLoginOf reports whether the login that the code of a file has in it is among the values.
func (c *Candidate) HasLoginOf(file string) bool {
	return c.Called && (file == c.Seen || slices.Contains(c.Alike, file)) || slices.ContainsFunc(c.Beside, func(b *Candidate) bool { return b.HasLoginOf(file) })
}

// WithBeside are the candidate and those that are to be written with it.
func (c *Candidate) WithBeside() []*Candidate { return append([]*Candidate{c}, c.Beside...) }

// value is that of a role; none has no address.
func (c *Candidate) value(role settings.Role) (of Value) {
	for _, v := range c.Values {
		if v.Role == role {
			return v
		}
	}
	return of
}

// besideSamples leaves out samples of files that are there and have the keys
// themselves; the file then knows its sample.
func besideSamples(found []*Candidate) []*Candidate {
	all := slices.Clone(found)
	return slices.DeleteFunc(found, func(sample *Candidate) bool {
		if !sample.Add {
			return false
		}
		i := slices.IndexFunc(all, func(c *Candidate) bool { return c.Seen == sample.File })
		if i < 0 {
			return false
		}
		if sample.fromSample {
			all[i].Template = sample.Seen
			all[i].Score = max(all[i].Score, sample.Score)
		}
		return true
	})
}

// withoutTwins keeps the best candidate of each file, and notes the others of
// the same file in it.
func withoutTwins(found []*Candidate) []*Candidate {
	kept := []*Candidate{}
	for _, candidate := range found {
		i := slices.IndexFunc(kept, func(k *Candidate) bool {
			if k.forEach && candidate.forEach && k.family != candidate.family {
				return false
			}
			return k.File == candidate.File && (k.Seen == candidate.Seen || k.family == candidate.family || k.family == "" || candidate.family == "")
		})
		switch {
		case i < 0:
			kept = append(kept, candidate)
		case candidate.isOtherWay(kept[i]):
			kept[i].Values = append(kept[i].Values, candidate.Values...)
		case candidate.InstallerMakes && kept[i].Template != "":
			kept[i].installerToo = true
		case candidate.Seen == kept[i].Seen && !candidate.unchosen && kept[i].Score-candidate.Score < closeScores && candidate.group != kept[i].group:
			kept[i].Reasons = append(kept[i].Reasons, "another group of the file could be meant: "+candidate.group)
			for n := range kept[i].Values {
				v := &kept[i].Values[n]
				if other := candidate.value(v.Role).Address; v.Doubt == "" && other != "" && other != v.Address {
					v.Others = append(v.Others, other)
				}
			}
		}
	}
	return kept
}

// isOtherWay reports whether two groups of a file are the data source names for reading and
// for writing, which both get the one server there is.
func (c *Candidate) isOtherWay(other *Candidate) bool {
	way := func(c *Candidate) (without []string, has bool) {
		for _, v := range c.Values {
			if v.dsn != "" {
				without = settings.Words(v.dsn)
				break
			}
		}
		all := len(without)
		without = slices.DeleteFunc(without, func(w string) bool { return bothWays[w] })
		return without, len(without) < all
	}
	mine, isWay := way(c)
	others, bothAre := way(other)
	return isWay && bothAre && c.Seen == other.Seen && c.family == other.family && slices.Equal(mine, others)
}

// closeScores is how close two scores must be for a person to be asked.
const closeScores = 2.5

// forbidsEditing is what the head of a file says that every new version replaces.
var forbidsEditing = regexp.MustCompile(`(?i)\b(?:do not|don't|never|must not|should not)\s+(?:\w+\s+)?(?:edit|change|modify|touch|alter)(?:\s+(?:th(?:is|e)\b|anything\b|it\b)|\s*[:!.]\s)|` +
	`\bthis file (?:should|must|may) not be (?:edited|changed|modified|touched|altered)|\byou (?:will|would) lose your changes|\b(?:your )?changes (?:here |to this file )?will be (?:lost|overwritten)`)

// forbidsCopying is what the head of a sample says that only documents the settings.
var forbidsCopying = regexp.MustCompile(`(?i)\b(?:do not|don't|never|must not|should not)\s+(?:\w+\s+)?(?:base|copy)\b[^.]*\b(?:sample|example|file)\b`)

// headOf is the part of a file where it says what it is: its beginning, and remarks there of
// whatever length, since many begin with a licence.
func headOf(content []byte) []byte {
	const most, longest = 2 << 10, 32 << 10
	end := 0
	for line := range bytes.Lines(content[:min(len(content), longest)]) {
		text := strings.TrimSpace(string(line))
		if end > most && text != "" && !facts.IsRemark(text) {
			break
		}
		end += len(line)
	}
	return content[:end]
}

// readCandidates reads one file that exists.
func readCandidates(t *tree.Tree, c *facts.Code, name string, content []byte) []*Candidate {
	plain, _ := maySet(c, name)
	file, err := settings.Parse(path.Join(path.Dir(name), plain), content)
	if err != nil {
		return nil
	}
	seen := candidateFor(t, c, name, plain)
	if seen.template == "" && forbidsEditing.Match(headOf(content)) {
		seen.defaults, seen.forbids = true, true
		seen.reasons = append(seen.reasons, "its head says that it is not to be edited")
	}
	seen.documents = seen.template != "" && forbidsCopying.Match(headOf(content))
	const mostComments = 600
	comments := bytes.Count(content, []byte("\n#")) + bytes.Count(content, []byte("//")) + bytes.Count(content, []byte("\n;"))
	keys, twins := readKeys(file, c, seen.named && comments < mostComments)
	groups := judged(keys, file)
	seen.add = seen.add || slices.ContainsFunc(keys, func(k key) bool { return k.absent })
	if seen.named && !slices.ContainsFunc(groups, (*group).sayEnough) {
		if keys := keysInBlocks(file, content, c); len(keys) > 0 {
			seen.add = true
			seen.reasons = append(seen.reasons, "the keys stand in a comment")
			groups = judged(keys, file)
		}
	}
	var found []*Candidate
	for _, g := range groups {
		if g.isRest() {
			rest := seen.with(file, g)
			rest.rest = true
			found = append(found, rest)
		}
		if !g.sayEnough() {
			continue
		}
		if reads := seen.environment(file, g, c); reads > 0 {
			g.score += float64(min(reads, 4))
			g.notes = append(g.notes, "the code reads these variables")
		}
		candidate := seen.with(file, g)
		if !candidate.fromSample && g.waits() {
			if target, reads, _ := absent(c, t, c.Mentions[path.Base(name)]); target != "" && reads != nil && target != name {
				candidate.File, candidate.Template, candidate.fromSample = target, name, true
				candidate.Reasons = append(candidate.Reasons, fmt.Sprintf("%s:%d reads it, and its values are in %s", reads.File, reads.Line, name))
			}
		}
		candidate.variables = seen.environment(file, g, c) >= len(core)
		candidate.typedIn = g.evaluated() && (seen.installers || facts.IsInstallers(name))
		for _, value := range twins[g.keys[settings.DSN].Address] {
			family := dsnFamily(value)
			candidate.also = append(candidate.also, family)
			if scheme, _, _ := dsn.Get(value, dsn.Driver); candidate.schemes[family] == "" {
				candidate.schemes[family] = scheme
			}
		}
		for i := range candidate.Values {
			if v := &candidate.Values[i]; v.Role == settings.Driver || v.Role == settings.DSN || v.dsn != "" {
				v.near = facts.CommentNear(content, v.Line)
			}
		}
		if candidate.Score >= leastScore || candidate.typedIn || candidate.Called && candidate.Score >= leastAlike {
			found = append(found, candidate)
		}
	}
	return found
}

// judged groups keys and scores the groups.
func judged(keys []key, file *settings.File) []*group {
	groups := groupKeys(keys)
	hosts := hostsOf(file.Settings)
	for _, g := range groups {
		if g.count() >= 2 {
			g.takeHosts(hosts)
		}
		g.judge()
	}
	choose(groups, file)
	return groups
}

var (
	blockComment = regexp.MustCompile(`(?s)/\*.*?\*/`)
	commentEdge  = regexp.MustCompile(`(?m)^[ \t]*(?:/?\*+/?)[ \t]?`)
	// exampleInComment is code in a comment, from its first line to the one that
	// ends it.
	hashedLines      = regexp.MustCompile(`(?m)(?:^[ \t]*#.*\n){3,}`)
	hashInFront      = regexp.MustCompile(`(?m)^[ \t]*#[ \t]?`)
	mappingInComment = regexp.MustCompile(`(?m)^[\w-]+:[ \t]*\n(?:[ \t]+[\w-]+:.*\n)+`)
	exampleInComment = regexp.MustCompile(`(?ms)^[ \t]*(?:\$\w+[^;=\n]*=|define\s*\(|return\s*[\[a]).*?;[ \t]*$`)
)

// keysInBlocks takes the keys of code that stands as an example in comments of
// several lines: some files have no others.
func keysInBlocks(file *settings.File, content []byte, c *facts.Code) []key {
	block, edge, example, name, begins := blockComment, commentEdge, exampleInComment, "comment.php", "<?php\n"
	switch file.Syntax.Name {
	case php.Syntax.Name:
	case yamlfile.Syntax.Name:
		block, edge, example, name, begins = hashedLines, hashInFront, mappingInComment, "comment.yml", ""
	default:
		return nil
	}
	var keys []key
	content = bytes.ReplaceAll(content, []byte("\r\n"), []byte("\n"))
	for _, at := range block.FindAllIndex(content, -1) {
		text := edge.ReplaceAll(content[at[0]:at[1]], nil)
		for _, example := range example.FindAll(text, -1) {
			inside, err := settings.Parse(name, append([]byte(begins), example...))
			if err != nil {
				continue
			}
			found, _ := readKeys(inside, c, false)
			for _, k := range found {
				if php.CallOf(k.Address) != "" {
					continue
				}
				_, live := file.Lookup(k.Address)
				k.commented, k.Place = live != nil, syntax.PlaceAt(content, at[0])
				keys = append(keys, k)
			}
		}
	}
	return keys
}

// with makes the candidate of a place and a group.
func (p place) with(file *settings.File, g *group) *Candidate {
	c := &Candidate{
		File: p.target, Template: p.template, Seen: p.seen, Syntax: file.Syntax.Name, Score: round(p.score + g.score), Add: p.add,
		Reasons: append(slices.Clone(p.reasons), g.notes...), Called: g.call() != "",
		fallback: g.fallback(), forEach: g.keys[settings.Driver].word != "", family: g.family, unchosen: g.unchosen, used: g.used, defaults: p.defaults, forbids: p.forbids, apart: p.apart, fromSample: p.isSample,
		read: p.read, installerToo: p.installerToo, readThere: p.readThere, words: p.words, schemes: map[string]string{},
		group: strings.TrimSpace(strings.TrimRight(g.container, "['\"$./(") + " " + g.stem),
	}
	if p.documents {
		c.Template, c.InstallerMakes = "", true
		c.Reasons = append(c.Reasons, p.seen+" says that it is not to be copied")
	}
	if c.group == "" {
		c.group = "the keys without a word in front"
	}
	for _, role := range facts.ValueOrder {
		k, has := g.keys[role]
		if !has || k.Vague && g.saidInDSN(role) {
			continue
		}
		if role == settings.Prefix {
			if c.prefix = k.Value; strings.EqualFold(c.prefix, "null") {
				c.prefix = ""
			}
		}
		c.Values = append(c.Values, g.values(role, k)...)
		if role == settings.Host {
			for _, other := range g.hosts {
				c.Values = append(c.Values, g.values(role, other)...)
			}
		}
		if role == settings.Driver && k.Kind == syntax.Boolean {
			for _, other := range g.others[role] {
				if flagFamily(other.Setting) != "" {
					c.Values = append(c.Values, g.values(role, other)...)
				}
			}
		}
	}
	return c
}

// saidInDSN reports whether the group's data source name says a part itself.
func (g *group) saidInDSN(role settings.Role) bool {
	k, has := g.keys[settings.DSN]
	if !has {
		return false
	}
	_, says, err := dsn.Get(k.Value, string(role))
	return err == nil && says
}

func round(score float64) float64 { return float64(int(score*10+0.5)) / 10 }
