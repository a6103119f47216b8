package discover

import (
	"fmt"
	"math/bits"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/settings/syntax"
	"yellowfield/internal/wordset"
)

// group is a set of keys of one file that belong together: at most one of each
// role.
type group struct {
	container string
	stem      string
	keys      map[settings.Role]key
	roles     uint16                  // a bit for each of the keys
	names     []string                // in the container, in small letters
	topic     string                  // what its words say that it is about, when not the application's database
	others    map[settings.Role][]key // further keys of a role that is taken
	notes     []string                // why it stands where it does, for people
	score     float64
	family    string // told by its driver, its data source name or its port,
	familyBy  string // whichever this says
	foreign   string // what it is about, when not the application's database
	hosts     []key  // for reading and for writing, beside the host itself
	selected  bool
	used      bool // the code surely logs in with it
	unchosen  bool // another one beside it is the selected one
}

// core are the roles without which no login is possible.
var core = []settings.Role{settings.Host, settings.User, settings.Password, settings.Database}

// besides are roles whose key may stand apart from the others.
var besides = []settings.Role{settings.Prefix, settings.Charset, settings.Collation, settings.Port, settings.Socket, settings.Driver, settings.Database, settings.Host}

// groupKeys puts the keys that belong together into groups.
func groupKeys(keys []key) []*group {
	var groups []*group
	at := map[string]*group{}
	for i := range keys {
		k := &keys[i]
		stem := strings.Join(k.Stem, " ")
		id := k.Container + "\x00" + stem
		g := at[id]
		if g == nil {
			g = &group{container: k.Container, stem: stem, names: facts.Elements(k.Container), topic: about(k.Container, k.Stem), keys: map[settings.Role]key{}, others: map[settings.Role][]key{}}
			at[id] = g
			groups = append(groups, g)
		}
		k.topic, k.ofDatabase = g.topic, k.OfDatabase()
		k.ofFile = slices.ContainsFunc(k.Stem, func(word string) bool { return word == "url" || word == "path" || word == "file" })
		g.Take(*k)
	}
	groups = merged(groups)
	for _, g := range groups {
		g.gather(keys)
	}
	return groups
}

// bothWays are words of keys that say for what a server is asked.
var bothWays = wordset.Of("read write reader writer reading writing readonly master slave")

// hostsOf are the keys of a file that are the host for reading or for writing.
func hostsOf(settingsOfFile []syntax.Setting) (hosts []key) {
	for _, s := range settingsOfFile {
		names := facts.Elements(php.Own(s.Address))
		if s.Kind != syntax.String || len(names) == 0 {
			continue
		}
		last := settings.Words(names[len(names)-1])
		named := slices.ContainsFunc(last, func(w string) bool { return w == "host" || w == "hostname" || w == "server" })
		if named && slices.ContainsFunc(settings.Words(php.Own(s.Address)), func(w string) bool { return bothWays[w] }) {
			hosts = append(hosts, key{Setting: s, Key: settings.ReadKey(s.Address)})
		}
	}
	return hosts
}

// takeHosts takes those of a file's hosts for reading or for writing that are the group's:
// both get the one there is.
func (g *group) takeHosts(hosts []key) {
	own, has := g.keys[settings.Host]
	for _, k := range hosts {
		near := k.Container == g.container || strings.HasPrefix(k.Container, g.container) && g.container != ""
		switch {
		case !near || has && k.Address == own.Address:
		case !has:
			k.Role = settings.Host
			g.Take(k)
			own, has = k, true
		default:
			g.hosts = append(g.hosts, k)
		}
	}
}

// Take gives the group a key; of two with one role the clearer word wins, and a
// live one over one in a comment.
func (g *group) Take(k key) {
	was, taken := g.keys[k.Role]
	switch {
	case !taken:
		g.keys[k.Role] = k
		g.roles |= bitOf(k.Role)
		return
	case better(k, was):
		g.keys[k.Role] = k
		k = was
	}
	g.others[k.Role] = append(g.others[k.Role], k)
}

// better compares two keys of one role.
func better(a, b key) bool {
	switch {
	case a.uses != b.uses:
		return a.uses > b.uses
	case a.commented != b.commented:
		return !a.commented
	case (a.Kind == syntax.Expression) != (b.Kind == syntax.Expression):
		return b.Kind == syntax.Expression
	case a.Vague != b.Vague:
		return !a.Vague
	}
	return a.Rank < b.Rank
}

// merged joins groups of a file that lie apart only by a word or a level: a
// name, a server, and the login one level below. Hostile files have thousands of groups.
func merged(groups []*group) []*group {
	for joined := true; joined; {
		joined = false
		for i := 0; i < len(groups); i++ {
			for j := 0; j < len(groups); j++ {
				a, b := groups[i], groups[j]
				if i == j || !a.belongsWith(b) {
					continue
				}
				for _, role := range facts.ValueOrder {
					if k, has := b.keys[role]; has {
						a.Take(k)
					}
					for _, k := range b.others[role] {
						a.Take(k)
					}
				}
				groups, joined = slices.Delete(groups, j, j+1), true
				if j < i {
					i--
				}
				j = -1 // what did not fit may do so now
			}
		}
	}
	return groups
}

// evaluated reports whether none of the core roles has a value of its own: code that
// passes on what somebody has typed in.
func (g *group) evaluated() bool {
	for _, role := range core {
		if k, has := g.keys[role]; has && k.Kind != syntax.Expression {
			return false
		}
	}
	return true
}

// bitOf is the bit of a role.
func bitOf(role settings.Role) uint16 { return 1 << slices.Index(facts.ValueOrder, role) }

var coreBits = bitOf(settings.Host) | bitOf(settings.User) | bitOf(settings.Password) | bitOf(settings.Database)

// count is how many of the core roles a group has.
func (g *group) count() int { return bits.OnesCount16(g.roles & coreBits) }

// belongsWith reports whether b is a part of g that stands apart.
func (g *group) belongsWith(b *group) bool {
	if g.count() < b.count() || g.roles&b.roles != 0 || g.topic != b.topic && b.topic != "" {
		return false
	}
	if b.roles&bitOf(settings.DSN) != 0 && g.topic != "" && b.topic == "" {
		return false
	}
	if whole := g.roles&bitOf(settings.DSN) != 0; whole && b.count() > 2 || g.count() == len(core) && b.count() > 0 {
		return false
	}
	if g.container == b.container {
		return akin(g.stem, b.stem)
	}
	if b.count() == 0 || g.count() == 0 {
		return false
	}
	mine, others := g.names, b.names
	shared := 0
	for shared < len(mine) && shared < len(others) && mine[shared] == others[shared] {
		shared++
	}
	if shared == len(mine) && shared > 0 && len(others) == shared+1 { // one level below
		return speaksOfDatabase(mine) || speaksOfDatabase(others) || b.count() == 2 && g.count() == 2
	}
	return shared > 0 && shared >= max(len(mine), len(others))-1 && speaksOfDatabase(mine[:shared])
}

// akin reports whether two stems of one container may mean one group: db and
// none, db and mysql, ledger and ledger sql.
func akin(a, b string) bool {
	if a == b || a == "" || b == "" || strings.HasPrefix(a, b+" ") || strings.HasPrefix(b, a+" ") {
		return true
	}
	return speaksOfDatabase(strings.Fields(a)) && speaksOfDatabase(strings.Fields(b))
}

func speaksOfDatabase(words []string) bool {
	return settings.Key{Stem: words}.OfDatabase()
}

// about is what a container and the words after it are about when they say that it is not the
// application's database.
func about(container string, stem []string) string {
	words := append(settings.Words(container), stem...)
	for _, word := range words {
		if about := facts.Foreign[word]; about != "" {
			return about
		}
	}
	for _, word := range words {
		for _, long := range facts.LongForeign { // smtphost, mailuser
			if strings.HasPrefix(word, long) && !settings.DatabaseWords[word] {
				return facts.Foreign[long]
			}
		}
	}
	return ""
}

// gather takes keys that stand outside of the group but can only mean it: a
// table prefix, a character set.
func (g *group) gather(keys []key) {
	if g.count() < 2 && g.keys[settings.DSN].Address == "" {
		return
	}
	for _, role := range besides {
		if _, has := g.keys[role]; has {
			continue
		}
		if _, whole := g.keys[settings.DSN]; whole && role != settings.Prefix {
			continue
		}
		for _, k := range keys {
			if k.Role != role || k.Vague && role != settings.Database {
				continue
			}
			if k.topic != "" || k.ofFile {
				continue
			}
			near := k.Container == g.container || g.hasFrom(k.Container) || k.Container != "" && strings.HasPrefix(g.container, strings.TrimSuffix(k.Container, "@"))
			near = near || g.container != "" && strings.HasPrefix(k.Container, g.container) && k.ofDatabase // among options of it
			ofTables := role == settings.Prefix && (k.ofDatabase || slices.ContainsFunc(k.Words(), func(w string) bool { return w == "table" || w == "tbl" }) || len(k.Stem) == 0 || strings.Contains(strings.ToLower(k.Address), "table"))
			alike := akin(g.stem, strings.Join(k.Stem, " ")) && (k.Container == g.container || len(k.Stem) == 0 || k.ofDatabase || g.stem != "")
			if near && (alike || ofTables) || ofTables || near && k.ofDatabase && role != settings.Host || k.uses == sureUse && g.topic == "" {
				g.Take(k)
			}
		}
	}
}

// hasFrom reports whether one of the group's keys stands in a container.
func (g *group) hasFrom(container string) bool {
	for _, k := range g.keys {
		if k.Container == container {
			return true
		}
	}
	return false
}

// judge scores a group by what it has, see groupRules.
func (g *group) judge() {
	j := weighed{group: g, call: g.call()}
	properties := 0
	for _, role := range facts.ValueOrder { // the order decides which of two families counts
		k, has := g.keys[role]
		if !has {
			continue
		}
		if withoutRule != "key "+string(role) {
			g.score += weightOf(role, k)
		}
		if k.uses > 1 {
			j.uses += k.uses
		}
		if k.ofObject {
			properties++
		}
		j.ofDatabase = j.ofDatabase || k.OfDatabase() && role != settings.Prefix
		g.readFamily(role, k)
	}
	g.used = j.uses >= 2*sureUse || properties > 2 || j.call != ""
	if family := facts.FamilyOf(strings.TrimSuffix(strings.ToLower(j.call), "_connect")); g.family == "" && family != "" {
		g.family, g.familyBy = family, "call"
	}
	g.foreign = g.topic
	score, notes := weigh(groupRules, j)
	g.score += score
	g.notes = append(g.notes, notes...)
}

// fallback reports whether values are in force only where nothing else gives them.
func (g *group) fallback() bool {
	return slices.ContainsFunc(core, func(role settings.Role) bool { return g.keys[role].Fallback })
}

// saysNothing reports whether none of the core roles has a value.
func (g *group) saysNothing() bool {
	return !slices.ContainsFunc(core, func(role settings.Role) bool {
		k, has := g.keys[role]
		return has && k.Kind != syntax.Null && k.Value != ""
	})
}

// waits reports whether user and password are words that an installer puts values in place
// of.
func (g *group) waits() bool {
	return placeholder.MatchString(g.keys[settings.User].Value) && placeholder.MatchString(g.keys[settings.Password].Value)
}

var placeholder = regexp.MustCompile(`^(?:\{+[$%]?[\w. -]+\}+|@@?[\w.-]+@@?|%%?[\w.-]+%%?|__\w+__|\[\[?\+?[\w.-]+\+?\]\]?|<[\w.-]+>|\$\{\w+\}|##?\w+##?)$`)

// call is what logs in with the group's values as its arguments; empty where they stand
// elsewhere.
func (g *group) call() string { return php.CallOf(g.container + "x)") }

// readFamily tells the family of servers by a driver, a data source name or a
// port.
func (g *group) readFamily(role settings.Role, k key) {
	family := ""
	switch role {
	case settings.Driver:
		if family = facts.FamilyOf(k.Value); k.Kind == syntax.Boolean && strings.EqualFold(k.Value, "true") {
			family = flagFamily(k.Setting)
		}
	case settings.DSN:
		if family = dsnFamily(k.Value); k.Kind == syntax.Expression {
			if m := leadingScheme.FindStringSubmatch(k.Value); m != nil {
				family = facts.FamilyOf(m[1])
			}
		}
	case settings.Port:
		switch k.Value {
		case "3306":
			family = facts.FamilyMySQL
		case "5432":
			family = facts.FamilyPostgreSQL
		}
	}
	if family != "" && g.family == "" { // a data source name before a driver before a port
		g.family, g.familyBy = family, map[settings.Role]string{settings.Driver: "driver", settings.DSN: "data source name", settings.Port: "port"}[role]
	}
}

// leadingScheme begins a data source name that is put together.
var leadingScheme = regexp.MustCompile(`^['"]([\w+]+):`)

// complete reports whether the group says enough to log in with.
func (g *group) complete() bool {
	has := func(role settings.Role) bool { _, has := g.keys[role]; return has }
	if has(settings.DSN) {
		return true
	}
	return has(settings.Database) && has(settings.User) && (has(settings.Password) || has(settings.Host)) || has(settings.Database) && has(settings.Host) && has(settings.Password)
}

// isRest reports whether the group is a login of a database that stands elsewhere.
func (g *group) isRest() bool {
	user, password := bitOf(settings.User), bitOf(settings.Password)
	return g.roles&(user|password) == user|password && !g.complete() && g.foreign == "" && speaksOfDatabase(append(settings.Words(g.container), strings.Fields(g.stem)...))
}

// sayEnough reports whether the group is that of a database, and whole.
func (g *group) sayEnough() bool { return g.complete() && g.certain() }

// certain reports whether something beyond the four roles says that this is a
// database: many things have a host, a user, a password and a name.
func (g *group) certain() bool {
	uses := 0
	for role, k := range g.keys {
		if k.OfDatabase() || role == settings.DSN || role == settings.Database && !k.Vague || role == settings.Prefix && strings.Contains(strings.ToLower(k.Address), "table") {
			return true
		}
		uses += k.uses
	}
	return g.family != "" || uses >= 2*sureUse
}

// choose finds which of groups that stand side by side is in force: a setting
// with the name of one of them as its value says so.
func choose(groups []*group, file *settings.File) {
	siblings := map[string][]*group{}
	for _, g := range groups {
		if len(g.names) > 0 && g.count() >= 2 {
			parent := strings.Join(g.names[:len(g.names)-1], "\x00")
			siblings[parent] = append(siblings[parent], g)
		}
	}
	selecting := slices.DeleteFunc(slices.Clone(file.Settings), func(s syntax.Setting) bool {
		return s.Kind != syntax.String && s.Kind != syntax.Expression || !isSelector(s.Address)
	})
	for _, side := range siblings {
		if len(side) < 2 {
			continue
		}
		for _, setting := range selecting {
			for _, g := range side {
				switch {
				case !g.selectedBy(setting):
				case setting.Kind == syntax.String && calledAfterServers(side):
					for _, g := range side {
						g.chosenBy(setting)
					}
					g.score++
				default:
					g.takeForce(setting, side)
				}
			}
		}
	}
}

// selectedBy reports whether a setting outside of the group, one of those that select, has
// its name as value.
func (g *group) selectedBy(s syntax.Setting) bool {
	if strings.HasPrefix(s.Address, g.container) {
		return false
	}
	name := g.names[len(g.names)-1]
	return strings.EqualFold(s.Value, name) || s.Kind == syntax.Expression && strings.HasSuffix(strings.ToLower(s.Value), "'"+name+"')")
}

// name is what a group is called itself, as the file writes it.
func (g *group) name() string {
	at := strings.LastIndex(strings.ToLower(g.container), g.names[len(g.names)-1])
	return g.container[at : at+len(g.names[len(g.names)-1])]
}

// calledAfterServers reports whether there is a group for each of several servers.
func calledAfterServers(side []*group) bool {
	families := map[string]bool{}
	for _, g := range side {
		if family := facts.FamilyOf(g.name()); family != "" {
			families[family] = true
		}
	}
	return len(families) > 1
}

// chosenBy gives a group that is called after its server the setting that chooses one: it is
// the driver's key of them all.
func (g *group) chosenBy(setting syntax.Setting) {
	family := facts.FamilyOf(g.name())
	if _, has := g.keys[settings.Driver]; has || family == "" {
		return
	}
	g.Take(key{Setting: setting, Key: settings.Key{Role: settings.Driver}, word: g.name()})
	g.score += 4 // as for any driver, see judge
	if g.family == "" {
		g.family, g.familyBy = family, "name"
	}
}

// takeForce marks a group as the one in force among those beside it.
func (g *group) takeForce(by syntax.Setting, side []*group) {
	g.selected = true
	g.score += 6
	g.notes = append(g.notes, fmt.Sprintf("%s in line %d selects it", by.Address, by.Place.Line))
	for _, other := range side {
		if other != g {
			other.unchosen = true
			other.score -= 3
		}
	}
}

func isSelector(address string) bool {
	return slices.ContainsFunc(settings.Words(address), func(word string) bool { return facts.Selectors[word] })
}
