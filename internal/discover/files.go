package discover

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/settings/syntax"
	"yellowfield/internal/wordset"
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
	// InstallerMakes says that neither the file nor a sample is there, but that
	// code reads or writes it.
	InstallerMakes bool `json:"installer_makes,omitempty"`
	// Alike are further files that the installer writes with the same text.
	Alike []string `json:"alike,omitempty"`
	// Add says that keys have to be added to a file that is there.
	Add bool `json:"add,omitempty"`

	family   string
	product  string            // that it is fitted to, where that is known
	also     []string          // families of its data source names in comments
	schemes  map[string]string // of these, by family
	words    *driverWords
	defaults bool // the file holds defaults by its name
	typedIn  bool // it is code of the installer, with what somebody has typed in
	forbids  bool // its head says that it is not to be edited
	// fromSample says that Seen is a sample of File by its name.
	fromSample bool
	prefix     string // value of the table prefix
	unchosen   bool
	group      string // the container, for messages
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

	// Found says where the text was found, when it is not what stands there now.
	Found string `json:"found,omitempty"`
	// Wrong says that what stands there names another server, so that the application
	// would surely fail with it.
	Wrong bool `json:"wrong,omitempty"`
	// Absent says that the part is not there yet and is added.
	Absent bool `json:"absent,omitempty"`

	dsn   string   // address of the data source name that this is a part of
	form  dsn.Form // of that
	was   string   // a driver as it stands there
	near  string   // remarks beside it
	stuck bool     // it cannot be written, whatever it should be
}

// leastScore is what a candidate must reach.
const leastScore = 9

// speaks is what a file must hold to be worth reading.
var speaks = regexp.MustCompile(`(?i)pass|pwd|\bpw\b|secret|word|login|user|uid|mysql|pgsql|postgres|dsn|database|db_?name|sql`)

// candidates finds the settings files, the best first.
func candidates(ctx context.Context, t *tree, c *code) ([]*Candidate, error) {
	var names []string
	for _, name := range t.files {
		_, may := maySet(name)
		switch {
		case !may || isScript(name) || !isOwnCode(name):
		case t.sizes[name] <= longestSettings:
			names = append(names, name)
		case !isCode(name):
			t.skip(name, "it is too long for a settings file")
		}
	}
	var found []*Candidate
	err := sideBySide(ctx, names, func(name string) []*Candidate {
		content := t.read(name, longestSettings)
		if !speaks.Match(content) {
			return nil
		}
		return readCandidates(t, c, name, content)
	}, func(_ string, more []*Candidate) { found = append(found, more...) })
	if err != nil {
		return nil, err
	}
	var typedIn []*Candidate
	found = slices.DeleteFunc(found, func(c *Candidate) bool {
		if c.typedIn {
			typedIn = append(typedIn, c)
		}
		return c.typedIn
	})
	found = append(found, fromCode(t, c, typedIn)...)
	found = append(found, overrides(t, c, found)...)
	found = besideSamples(found)
	slices.SortStableFunc(found, func(a, b *Candidate) int {
		switch {
		case a.Score > b.Score:
			return -1
		case a.Score < b.Score:
			return 1
		}
		return len(a.File) - len(b.File)
	})
	return withoutTwins(found), nil
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
			return k.File == candidate.File && (k.Seen == candidate.Seen || k.family == candidate.family || k.family == "" || candidate.family == "")
		})
		switch {
		case i < 0:
			kept = append(kept, candidate)
		case candidate.Seen == kept[i].Seen && !candidate.unchosen && kept[i].Score-candidate.Score < closeScores && candidate.group != kept[i].group:
			kept[i].Reasons = append(kept[i].Reasons, "another group of the file could be meant: "+candidate.group)
			for n := range kept[i].Values {
				if kept[i].Values[n].Doubt == "" {
					kept[i].Values[n].Others = append(kept[i].Values[n].Others, candidate.address(kept[i].Values[n].Role)...)
				}
			}
		}
	}
	return kept
}

// closeScores is how near two scores must be for a choice between them to be a
// person's.
const closeScores = 2.5

func (c *Candidate) address(role settings.Role) []string {
	for _, v := range c.Values {
		if v.Role == role {
			return []string{v.Address}
		}
	}
	return nil
}

// forbidsEditing is what the head of a file says that every new version replaces.
var forbidsEditing = regexp.MustCompile(`(?i)\b(?:do not|don't|never|must not|should not)\s+(?:\w+\s+)?(?:edit|change|modify|touch|alter)\s+(?:th(?:is|e)\b|anything\b|it\b)`)

const longestHead = 2 << 10

// readCandidates reads one file that exists.
func readCandidates(t *tree, c *code, name string, content []byte) []*Candidate {
	plain, _ := maySet(name)
	file, err := settings.Parse(path.Join(path.Dir(name), plain), content)
	if err != nil {
		return nil
	}
	seen := candidateFor(t, c, name, plain)
	if seen.template == "" && forbidsEditing.Match(content[:min(len(content), longestHead)]) {
		seen.defaults, seen.forbids = true, true
		seen.reasons = append(seen.reasons, "its head says that it is not to be edited")
	}
	const mostComments = 600
	comments := bytes.Count(content, []byte("\n#")) + bytes.Count(content, []byte("//")) + bytes.Count(content, []byte("\n;"))
	keys, twins := readKeys(file, c, seen.named && comments < mostComments)
	groups := judged(keys, file)
	if seen.named && file.Syntax.Name == php.Syntax.Name && !slices.ContainsFunc(groups, (*group).sayEnough) {
		if keys := keysInBlocks(content, c); len(keys) > 0 {
			seen.add = true
			seen.reasons = append(seen.reasons, "the keys stand in a comment")
			groups = judged(keys, file)
		}
	}
	var found []*Candidate
	for _, g := range groups {
		if !g.sayEnough() {
			continue
		}
		if reads := seen.environment(file, g, c); reads > 0 {
			g.score += float64(min(reads, 4))
			g.notes = append(g.notes, "the code reads these variables")
		}
		candidate := seen.with(file, g)
		candidate.typedIn = seen.installers && g.evaluated()
		for _, value := range twins[g.keys[settings.DSN].Address] {
			family := dsnFamily(value)
			candidate.also = append(candidate.also, family)
			if scheme, _, _ := dsn.Get(value, dsn.Driver); candidate.schemes[family] == "" {
				candidate.schemes[family] = scheme
			}
		}
		for i := range candidate.Values {
			if v := &candidate.Values[i]; v.Role == settings.Driver || v.Role == settings.DSN || v.dsn != "" {
				v.near = commentNear(content, v.Line)
			}
		}
		if candidate.Score >= leastScore || candidate.typedIn {
			found = append(found, candidate)
		}
	}
	return found
}

// judged groups keys and scores the groups.
func judged(keys []key, file *settings.File) []*group {
	groups := groupKeys(keys)
	for _, g := range groups {
		if g.count() >= 2 {
			g.takeHosts(file.Settings)
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
	exampleInComment = regexp.MustCompile(`(?ms)^[ \t]*(?:\$\w+[^;=\n]*=|define\s*\(|return\s*[\[a]).*?;[ \t]*$`)
)

// keysInBlocks takes the keys of code that stands as an example in comments of
// several lines: some files have no others.
func keysInBlocks(content []byte, c *code) []key {
	var keys []key
	for _, at := range blockComment.FindAllIndex(content, -1) {
		text := commentEdge.ReplaceAll(content[at[0]:at[1]], nil)
		for _, example := range exampleInComment.FindAll(text, -1) {
			file, err := settings.Parse("comment.php", append([]byte("<?php\n"), example...))
			if err != nil {
				continue
			}
			found, _ := readKeys(file, c, false)
			for _, k := range found {
				k.commented, k.Place = true, syntax.PlaceAt(content, at[0])
				keys = append(keys, k)
			}
		}
	}
	return keys
}

// place is a file of the tree, and the settings file it stands for.
type place struct {
	seen, target, template string
	named                  bool // its name is that of a settings file
	add, defaults, forbids bool
	installers             bool // it is in the installer's own folder
	isSample               bool
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
		if target, found := c.resolve(t, name, path.Base(name)); found && target != name {
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
			p.score += 2
			p.reasons = append(p.reasons, fmt.Sprintf("%s:%d reads it", m.File, m.Line))
			break
		}
	}
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
	for _, word := range settings.Words(path.Base(plain)) {
		if foreign[word] != "" {
			p.score -= 6
		}
	}
	return p
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

var runsIt = wordset.Of("include include_once require require_once")

// isDefaults reports whether what looks like a sample is itself run by code, or read by
// code that never asks for a copy of it.
func (c *code) isDefaults(name, plain string) bool {
	return slices.ContainsFunc(c.mentions[path.Base(name)], func(m mention) bool {
		return runsIt[m.verb] || len(c.mentions[plain]) == 0 && readers[m.verb]
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
	if !apart && base != path.Base(sample) && slices.ContainsFunc(c.mentions[base], func(m mention) bool { return m.up == behindConstant && !strings.Contains(m.path, "/") }) {
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

// filledInto is the one settings file that the code which reads a template writes.
func (c *code) filledInto(t *tree, template string) (target string, found bool) {
	for _, reads := range c.mentions[path.Base(template)] {
		if !readers[reads.verb] {
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
				for _, at := range m.places() {
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

// with makes the candidate of a place and a group.
func (p place) with(file *settings.File, g *group) *Candidate {
	c := &Candidate{
		File: p.target, Template: p.template, Seen: p.seen, Syntax: file.Syntax.Name, Score: round(p.score + g.score), Add: p.add,
		Reasons: append(slices.Clone(p.reasons), g.notes...), family: g.family, unchosen: g.unchosen, defaults: p.defaults, forbids: p.forbids, fromSample: p.isSample, words: p.words, schemes: map[string]string{}, group: strings.TrimSpace(strings.TrimRight(g.container, "['\"$./") + " " + g.stem),
	}
	if c.group == "" {
		c.group = "the keys without a word in front"
	}
	for _, role := range valueOrder {
		k, has := g.keys[role]
		if !has || role == settings.Database && k.Vague && g.saidInDSN(role) {
			continue
		}
		if role == settings.Prefix {
			c.prefix = k.Value
		}
		c.Values = append(c.Values, g.values(role, k)...)
		if role == settings.Host {
			for _, other := range g.hosts {
				c.Values = append(c.Values, g.values(role, other)...)
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

// valueOrder is the order in which values are written into an entry.
var valueOrder = []settings.Role{settings.DSN, settings.Driver, settings.Host, settings.Port, settings.Socket, settings.Database, settings.User, settings.Password, settings.Prefix, settings.Charset, settings.Collation}

// values are what a key of a role should get: one value, or the parts of a data
// source name.
func (g *group) values(role settings.Role, k key) []Value {
	v := Value{Role: role, Address: k.Address, Text: "{" + string(role) + "}", Line: k.Place.Line, Was: k.Value, Commented: k.commented, Expression: k.Kind == syntax.Expression}
	if v.Was = settings.Shown(k.Setting); role == settings.Password && v.Was != "" {
		v.Was = secret.Mask
	}
	for _, other := range g.others[role] {
		if other.Address != k.Address {
			v.Others = append(v.Others, other.Address)
		}
	}
	switch {
	case k.Fixed:
		v.Doubt = "it stands " + k.Refusal
	case k.Kind == syntax.Expression:
		v.Doubt = "it is " + k.Refusal + "; replace_expression: true would put a plain value there"
	}
	v.stuck = v.Doubt != ""
	switch role {
	case settings.DSN:
		return g.parts(v, k)
	case settings.Driver:
		v.Text, v.was = k.Value, k.Value
		if familyOf(k.Value) == "" {
			v.Text = settings.Shown(k.Setting)
			v.Doubt = cmp.Or(v.Doubt, "it names no driver yet")
		}
	case settings.Host:
		if hostAndPort.MatchString(k.Value) {
			v.Text = "{host}:{port}"
		}
	case settings.Socket:
		if k.Value == "" || k.commented || k.Kind == syntax.Null {
			v.Doubt = "it is empty, and localhost is enough in most cases"
		}
	case settings.Port:
		if k.commented {
			v.Doubt = "it stands in a comment, and the usual port is taken without it"
		}
	case settings.Charset, settings.Collation:
		if k.commented {
			v.Doubt = "it stands in a comment"
		}
	}
	return []Value{v}
}

// hostAndPort is a host with its port behind it, which the application takes apart.
var hostAndPort = regexp.MustCompile(`^[\w.-]+:\d+$`)

// dsnParts are the parts of a data source name with their roles.
var dsnParts = []struct {
	name string
	role settings.Role
}{{dsn.Host, settings.Host}, {dsn.Port, settings.Port}, {dsn.Socket, settings.Socket}, {dsn.Database, settings.Database}, {dsn.User, settings.User}, {dsn.Password, settings.Password}, {dsn.Charset, settings.Charset}}

// parts are the values of a data source name: part by part where it names a
// server that can be used, else as a whole. What a login needs, and neither it nor a
// key beside it has, is added.
func (g *group) parts(v Value, k key) []Value {
	family := dsnFamily(k.Value)
	v.form, v.dsn, v.was = dsn.FormOf(k.Value), v.Address, k.Value
	if v.Doubt != "" || k.commented || family == "" || family == familyOther {
		v.Text = wholeURL(family)
		if _, apart := g.keys[settings.Host]; v.Doubt == "" && k.Value == "" && apart {
			v.Doubt = "it is empty, and other keys say the same"
		}
		if v.Doubt == "" && family == familyOther {
			v.Doubt = "it names another server than MariaDB, MySQL or PostgreSQL"
		}
		v.dsn = ""
		return []Value{v}
	}
	var values []Value
	found := 0
	for _, part := range dsnParts {
		was, has, _ := dsn.Get(k.Value, part.name)
		value := Value{dsn: v.Address, form: v.form, was: k.Value, Role: part.role, Address: v.Address + "#" + part.name, Text: "{" + string(part.role) + "}", Line: v.Line, Was: was, Absent: !has}
		if has {
			found++
		} else if !g.needs(part.role, k.Value) {
			continue
		}
		if was != "" {
			value.Was = settings.Shown(syntax.Setting{Address: value.Address, Value: was})
		}
		if !has && part.role == settings.Port {
			value.Doubt = usualPort
		}
		values = append(values, value)
	}
	if found == 0 {
		v.Text, v.Doubt, v.dsn = wholeURL(family), "it names no part yet, and the application may want another form", ""
		return []Value{v}
	}
	return values
}

// usualPort is why a port is not written.
const usualPort = "the usual port is taken without it"

// needs reports whether a data source name lacks a part that a login takes.
func (g *group) needs(role settings.Role, value string) bool {
	if _, apart := g.keys[role]; apart {
		return false
	}
	_, socket, _ := dsn.Get(value, dsn.Socket)
	switch role {
	case settings.Port:
		return !socket
	case settings.Host:
		return !socket
	case settings.Database:
		return true
	case settings.User, settings.Password:
		return dsn.FormOf(value) != dsn.PDO // whose login is given beside it
	}
	return false
}

// wholeURL is a data source name for a family of servers.
func wholeURL(family string) string {
	scheme := "mysql"
	if family == familyPostgreSQL {
		scheme = "postgresql"
	}
	return urlOf(scheme)
}

func urlOf(scheme string) string {
	return scheme + "://{user|url}:{password|url}@{host|url}:{port}/{database|url}"
}

// pdoOf is PDO's form for a family, whose driver's name is PDO's own. libpq takes no
// charset there.
func pdoOf(family string) string {
	if family == familyPostgreSQL {
		return "pgsql:host={host};port={port};dbname={database}"
	}
	return "mysql:host={host};port={port};dbname={database};charset={charset}"
}

// fit fits the values to the family of servers that is wanted: a driver and a data
// source name for another one get the word for this one, where the application knows
// it.
func (c *Candidate) fit(family string) {
	if family == "" {
		return
	}
	var fitting []Value
	done := map[string]bool{} // data source names that are written as a whole
	for _, v := range c.Values {
		switch {
		case done[v.dsn] && v.dsn != "":
			continue
		case v.Role == settings.Driver:
			v = c.fitDriver(v, family)
		case v.dsn != "" && dsnFamily(v.was) != family:
			first := c.fitDSN(v, family)
			if first.Role == settings.DSN {
				done[v.dsn] = true
				fitting = append(fitting, first)
				continue
			}
			if !slices.ContainsFunc(fitting, func(of Value) bool { return of.Address == first.Address }) {
				fitting = append(fitting, first)
			}
		case v.Role == settings.DSN && c.family == familyOther && !v.stuck:
			v = c.fitDSN(v, family)
		}
		fitting = append(fitting, v)
	}
	c.Values = fitting
}

// fitDriver gives a driver's key the word for a family.
func (c *Candidate) fitDriver(v Value, family string) Value {
	if v.stuck || familyOf(v.was) == family {
		return v
	}
	was := v.was
	if familyOf(was) == "" {
		was = ""
	}
	found, others := c.words.of(family, c.product, was, v.near)
	if found.word == "" {
		v.Doubt, v.Wrong = doubtOf(family, others), was != ""
		return v
	}
	v.Text, v.Found, v.Doubt = found.word, found.where, ""
	return v
}

// fitDSN gives a data source name the scheme for a family: as one more part of a URL, or
// as a whole in PDO's form.
func (c *Candidate) fitDSN(v Value, family string) Value {
	address := v.dsn
	if address == "" {
		address = v.Address
	}
	whole := Value{Role: settings.DSN, Address: address, Text: wholeURL(family), Line: v.Line, Was: secret.Mask}
	if v.form == dsn.PDO || v.form == "" && pdoPath.MatchString(v.was) {
		whole.Text = pdoOf(family)
		return whole
	}
	scheme, _, _ := dsn.Get(v.was, dsn.Driver)
	found, others := wordFound{c.schemes[family], "a comment beside it has it"}, []string(nil)
	if found.word == "" {
		found, others = c.words.of(family, c.product, scheme, v.near)
	}
	if found.word == "" && family == familyMySQL && len(c.words.inFile) == 0 {
		found = wordFound{"mysql", "it is the usual one, and the code names none"} // PostgreSQL has three
	}
	if v.form == dsn.URL && dsnFamily(v.was) != familyOther {
		part := Value{Role: settings.Driver, Address: address + "#" + dsn.Driver, Text: found.word, Line: v.Line, Was: scheme, Found: found.where, dsn: address}
		if found.word == "" {
			part.Text, part.Doubt, part.Wrong = "", doubtOf(family, others), true
		}
		return part
	}
	whole.Found = found.where
	if whole.Text = urlOf(found.word); found.word == "" {
		whole.Text, whole.Doubt, whole.Wrong = wholeURL(family), doubtOf(family, others), true
	}
	return whole
}

// pdoPath is PDO's form of a database in a file.
var pdoPath = regexp.MustCompile(`^sqlite:[^/]|^sqlite:/[^/]`)
