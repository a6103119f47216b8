package discover

import (
	"cmp"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/dumps"
	"yellowfield/internal/discover/facts"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/settings/syntax"
	"yellowfield/internal/settings/xmlfile"
)

// key is one setting of a file with what its address says.
type key struct {
	syntax.Setting
	settings.Key
	commented bool
	absent    bool   // no line has it
	word      string // what a driver's key is to have for its group's server
	uses      int    // how surely its value goes into a login, see code.goesInto
	ofObject  bool   // it is a property that objects of its class log in with

	// What its words say, once for all questions that are asked of it.
	topic      string // as of a group that has it alone
	ofDatabase bool
	ofFile     bool // a path or an address of a page
}

// readKeys takes the keys of a file, live ones and those that stand in comments.
// twins are values in comments of addresses that are live, too.
func readKeys(file *settings.File, c *facts.Code, withComments bool) (keys []key, twins map[string][]string) {
	twins = map[string][]string{}
	pairs, first := pairsOf(file), rolesFirst(file)
	times := map[string]int{}
	for _, s := range file.Settings {
		times[s.Address]++
	}
	passed := passedOn(file)
	take := func(s syntax.Setting, commented bool) {
		if _, is := passed.from[s.Address]; is {
			return
		}
		address, used := named(c, cmp.Or(pairs[s.Address], s.Address), file)
		k := key{Setting: s, Key: settings.ReadKey(cmp.Or(first[s.Address], address)), commented: commented}
		if k.Role == "" && flagFamily(s) != "" || choosesServer(c, used) && (k.Role == "" || k.Role == settings.Database) {
			k.Role, k.Stem, k.Vague = settings.Driver, nil, false
		}
		if k.Vague && c.GoesInto(used, k.Role) == 0 {
			if role := roleOf(c, used); role != "" {
				k.Role, k.Stem, k.Vague = role, nil, false
			}
		}
		if fromEnvironment.MatchString(s.Value) && s.Kind == syntax.String {
			k.Kind, k.Refusal = syntax.Expression, "taken from the environment"
		}
		if _, constant, of := strings.Cut(s.Address, "::"); of && constant == s.Value {
			return // the name of a setting, and no value
		}
		twice := php.CallOf(s.Address) != "" && times[s.Address] > 1 // whichever of them is in force
		if twice || requestValue.MatchString(s.Address) || strings.EqualFold(s.Address, "null") {
			return
		}
		switch family := facts.FamilyOf(s.Value); {
		case family != "" && s.Kind == syntax.String && (k.Role == "" || k.Role == settings.Driver || k.Role == settings.Database && k.Vague):
			k.Role, k.Vague = settings.Driver, false
		case dsnFamily(s.Value) != "" && s.Kind == syntax.String:
			k.Role, k.Vague = settings.DSN, false
		case k.Role == settings.DSN && s.Kind == syntax.String && s.Value != "" && c.GoesInto(used, settings.DSN) < sureUse:
			return // the address of a page
		case k.Role == settings.Charset && s.Kind == syntax.String && s.Value != "" && !facts.Charsets[strings.ToLower(s.Value)] && !k.OfDatabase():
			return // that of a page
		case k.Role == settings.Driver && (k.Vague || strings.EqualFold(s.Value, "pdo") || dumps.Engines[strings.ToLower(s.Value)]):
			return // PDO speaks to each of them, and how tables are stored is no driver
		case k.Kind == syntax.Integer && slices.Contains([]settings.Role{settings.Host, settings.User, settings.Database, settings.Prefix}, k.Role):
			return // none of them is a number: it says something about the key
		}
		nothing := k.Kind == syntax.Boolean && strings.EqualFold(k.Value, "false") && !k.Vague && (k.Role == settings.User || k.Role == settings.Password)
		if k.Role != "" && (k.Kind != syntax.Boolean || nothing || flagFamily(s) != "") {
			k.uses, k.ofObject = c.GoesInto(used, k.Role), ofObject(c, used, k.Role)
			if to := passed.to[s.Address]; to != "" {
				k.uses = max(k.uses, c.GoesInto(to, k.Role))
			}
			if strings.HasSuffix(php.CallOf(s.Address), "select_db") {
				k.uses = sureUse // for whoever logs in beside it
			}
			keys = append(keys, k)
		} else if role := cmp.Or(roleOf(c, s.Address), roleOf(c, passed.to[s.Address]), roleByPath(c, file, s.Address)); role != "" && k.Kind != syntax.Boolean {
			k.Role, k.Stem, k.uses = role, nil, sureUse
			keys = append(keys, k)
		}
	}
	for _, s := range file.Settings {
		take(s, false)
	}
	if withComments {
		live := map[string]bool{}
		for _, s := range file.Settings {
			live[s.Address] = true
		}
		for _, s := range file.Commented() {
			if live[s.Address] {
				twins[s.Address] = append(twins[s.Address], s.Value)
				continue
			}
			take(s.Setting, true)
		}
	}
	return settled(withVariables(c, keys)), twins
}

// withVariables adds the variables of the environment that a file does not set, where it
// sets others, and code puts their names together from the same beginning and constants
// that are called like them.
func withVariables(c *facts.Code, keys []key) []key {
	const call, end = "putenv(", ")"
	// The longest first: of two that a name ends with it is the one that is meant.
	constants := slices.SortedFunc(maps.Keys(c.SelfNamed), func(a, b string) int { return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b)) })
	beginning, has := "", map[string]bool{}
	for _, k := range keys {
		name, is := strings.CutPrefix(k.Address, call)
		if has[k.Address] = true; !is {
			continue
		}
		for _, constant := range constants {
			if before, ends := strings.CutSuffix(strings.TrimSuffix(name, end), constant); ends && beginning == "" && c.Literals[before] {
				beginning = before
			}
		}
	}
	if beginning == "" {
		return keys
	}
	for _, constant := range slices.Sorted(maps.Keys(c.SelfNamed)) {
		address := call + beginning + constant + end
		if k := (key{Setting: syntax.Setting{Address: address}, Key: settings.ReadKey(address), commented: true, absent: true}); k.Role != "" && !has[address] {
			keys = append(keys, k)
		}
	}
	return keys
}

// settled looks again at keys that others beside them say more about: a schema of PostgreSQL
// is no database where that has a key of its own, and neither is what has a driver's name;
// what names no driver is none where another one does.
func settled(keys []key) []key {
	isSchema := func(k key) bool {
		words := settings.Words(k.Address)
		return k.Role == settings.Database && len(words) > 0 && words[len(words)-1] == "schema"
	}
	namesDriver := func(k key) bool { return k.Kind == syntax.String && facts.FamilyOf(k.Value) != "" }
	names, hosts, drivers := map[string]bool{}, map[string]bool{}, map[string]bool{} // containers that have them
	for _, k := range keys {
		hosts[k.Container] = hosts[k.Container] || k.Role == settings.Host && !namesDriver(k)
		names[k.Container] = names[k.Container] || k.Role == settings.Database && !isSchema(k) && !namesDriver(k)
		drivers[k.Container] = drivers[k.Container] || k.Role == settings.Driver && namesDriver(k)
	}
	var kept []key
	for _, k := range keys {
		switch {
		case isSchema(k) && names[k.Container], k.Role == settings.Driver && !namesDriver(k) && drivers[k.Container]:
			continue
		case (k.Role == settings.Database && names[k.Container] || k.Role == settings.Host && hosts[k.Container]) && namesDriver(k) && !drivers[k.Container]:
			k.Role, k.Stem = settings.Driver, nil
		}
		kept = append(kept, k)
	}
	return kept
}

// passing is what a file sets to another of its own values: from whose address to whose, and
// back.
type passing struct{ from, to map[string]string }

func passedOn(file *settings.File) passing {
	p := passing{map[string]string{}, map[string]string{}}
	plain := map[string]bool{}
	for _, s := range file.Settings {
		plain[s.Address] = plain[s.Address] || s.Kind == syntax.String
	}
	for _, s := range file.Settings {
		if value := strings.TrimSpace(s.Value); s.Kind == syntax.Expression && value != s.Address && plain[value] && !plain[s.Address] {
			p.from[s.Address], p.to[value] = value, s.Address
		}
	}
	return p
}

// flagFamily is the family of servers that a setting chooses by true: it is called after it.
func flagFamily(s syntax.Setting) string {
	if s.Kind != syntax.Boolean {
		return ""
	}
	names := facts.Elements(s.Address)
	return facts.Drivers[names[len(names)-1]]
}

// rolesFirst are the addresses of settings whose names say the role first, where at least
// three of a login do so and end alike (USER_DB, PASS_DB, HOST_DB), with what they would be
// the other way round.
func rolesFirst(file *settings.File) map[string]string {
	type ending struct{ container, word string }
	found, turned := map[ending]map[settings.Role]bool{}, map[string]string{}
	each := func(take func(s syntax.Setting, e ending, first string)) {
		for _, s := range file.Settings {
			at := strings.LastIndexByte(s.Address, '_')
			if at < 0 {
				continue
			}
			words := settings.Words(s.Address)
			if n := len(words); n >= 2 {
				if strings.HasSuffix(strings.ToLower(s.Address[:at]), words[n-2]) {
					take(s, ending{strings.ToLower(s.Address[:at-len(words[n-2])]), words[n-1]}, words[n-2])
				}
			}
		}
	}
	each(func(s syntax.Setting, e ending, first string) {
		if found[e] == nil {
			found[e] = map[settings.Role]bool{}
		}
		if role := settings.RoleOf("db_" + first); slices.Contains(core, role) {
			found[e][role] = true
		}
	})
	each(func(s syntax.Setting, e ending, first string) {
		if len(found[e]) >= 3 && found[e][settings.Password] {
			turned[s.Address] = e.container + e.word + "_" + first
		}
	})
	return turned
}

const sureUse = 3

// named is an address by whose words its role is told, with the name of a parameter in
// place of its number, and the address that the value has where it is used; empty where
// nobody knows it.
func named(c *facts.Code, address string, file *settings.File) (by, used string) {
	call, number, is := php.NumberedArgument(address)
	if !is {
		by = address
		for _, value := range []string{"['value']", "->value", ".value"} { // beside a label, a type
			by = strings.TrimSuffix(by, value)
		}
		return by, php.Own(address)
	}
	parameters, known := c.Signatures[strings.ToLower(call)]
	if !known && speaksOfDatabase(settings.Words(call)) {
		// A class of others: mostly in the order of mysqli, and then a host comes first.
		if first, err := file.Lookup(call + "(1)"); err == nil && hostName.MatchString(first.Value) {
			parameters = []string{"host", "username", "password", "database", "port"}
		}
	}
	if number > len(parameters) {
		return "", ""
	}
	return call + "(" + parameters[number-1] + ")", "$" + parameters[number-1]
}

// hostName is a value that names a host.
var hostName = regexp.MustCompile(`^(?:localhost|::1|[\w-]+(?:\.[\w-]+)+)(?::\d+)?$`)

// pairsOf are the addresses of XML that says the name of a setting in one attribute, and
// its value in another one or as text, with what they would be if the name were an
// element's.
func pairsOf(file *settings.File) map[string]string {
	pairs := map[string]string{}
	if file.Syntax.Name != xmlfile.Syntax.Name {
		return pairs
	}
	for _, s := range file.Settings {
		for _, attribute := range []string{"/@name", "/@key", "/@id"} {
			if element, is := strings.CutSuffix(s.Address, attribute); is {
				named := path.Dir(element) + "/" + s.Value
				pairs[element], pairs[element+"/@value"] = named, named
			}
		}
	}
	return pairs
}

// fromEnvironment is a value that stands for a variable of the environment.
var fromEnvironment = regexp.MustCompile(`^%env\(.*\)%$|^\$\{[A-Z][A-Z0-9_]*(?::-?[^}]*)?\}$`)

// requestValue is an address that a request or a session fills.
var requestValue = regexp.MustCompile(`^\$_(POST|GET|REQUEST|SESSION|COOKIE|SERVER)\b`)

// roleOf is the role in which the very address goes into a login, or the property of an
// object that has what a class says; empty for none.
func roleOf(c *facts.Code, address string) settings.Role {
	if address == "" {
		return ""
	}
	if role := c.Logins.Roles[php.Own(address)]; role != "" && !strings.HasPrefix(address, "$this") {
		return role
	}
	if _, property, ofClass := strings.Cut(address, "::$"); ofClass {
		return c.Logins.Roles["$this->"+property]
	}
	return ""
}

// roleByPath is the role in which an element goes into a login that code takes out of what a
// file returns, or of what it reads from one of another syntax.
func roleByPath(c *facts.Code, file *settings.File, address string) settings.Role {
	rest, isReturned := strings.CutPrefix(address, "return[")
	switch {
	case isReturned:
		return c.Logins.Paths[strings.Join(facts.Elements(rest), ".")]
	case file.Syntax.Name != php.Syntax.Name:
		return c.Logins.Paths[strings.Join(facts.Elements(address), ".")]
	}
	return ""
}

// choosesServer reports whether code compares the very address with names of drivers, or
// runs files that are called after one by it.
func choosesServer(c *facts.Code, address string) bool {
	return (len(c.Words.Tested[address]) > 0 || c.Words.Chooses[address]) && !strings.HasPrefix(address, "$this")
}

// ofObject reports whether objects of a class log in with its property.
func ofObject(c *facts.Code, address string, role settings.Role) bool {
	_, property, isProperty := strings.Cut(address, "::$")
	return isProperty && c.Logins.As[facts.RoleOfAddress{Role: role, Address: "$this->" + property}]
}

// dsnFamily is the family of servers of a data source name; empty for another
// text.
func dsnFamily(value string) string {
	driver, found, err := dsn.Get(value, dsn.Driver)
	if err != nil || !found {
		if err == nil { // keywords of libpq have no driver
			if _, names, _ := dsn.Get(value, dsn.Database); names {
				return facts.FamilyPostgreSQL
			}
		}
		return ""
	}
	return facts.FamilyOf(driver)
}
