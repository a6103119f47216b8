package discover

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/settings"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/wordset"
)

// connect is a place where a value goes into a login.
type connect struct {
	Place
	role     settings.Role
	address  string
	elements []string // of the address, in small letters
	local    bool     // to the function around
	by       string   // what logs in; empty where nothing says so
}

// loginArguments are the roles of the arguments of functions that log in.
var loginArguments = map[string][]settings.Role{
	"mysqli":              {settings.Host, settings.User, settings.Password, settings.Database, settings.Port, settings.Socket},
	"mysqli_connect":      {settings.Host, settings.User, settings.Password, settings.Database, settings.Port, settings.Socket},
	"mysqli_real_connect": {"", settings.Host, settings.User, settings.Password, settings.Database, settings.Port, settings.Socket},
	"->real_connect":      {settings.Host, settings.User, settings.Password, settings.Database, settings.Port, settings.Socket},
	"mysql_connect":       {settings.Host, settings.User, settings.Password},
	"mysql_pconnect":      {settings.Host, settings.User, settings.Password},
	"mysql_select_db":     {settings.Database},
	"mysqli_select_db":    {"", settings.Database},
	"->select_db":         {settings.Database},
	"mysqli_set_charset":  {"", settings.Charset},
	"->set_charset":       {settings.Charset},
	"pdo":                 {settings.DSN, settings.User, settings.Password},
	"pg_connect":          nil,
	"pg_pconnect":         nil,
}

// dsnPart finds what goes into the parts of a data source name that code puts
// together, by a dot or within the string; what begins with a hyphen is an option of a
// program.
var dsnPart = regexp.MustCompile(`(?:^|[^\w-])(unix_socket|host|port|dbname|user|password|charset)=(?:["']\s*\.\s*(?:\(string\)\s*)?|\{?\$)` + addressInCode)

// addressInCode is a variable, a constant or a part of one, or what a call gives for a name.
const addressInCode = `(\$?[A-Za-z_\\][\w\\]*(?:::\$?\w+|->\w+|\[\s*['"]?\w+['"]?\s*\])*(?:\(\s*'[\w.-]+'\s*\))?)`

// formatted takes what sprintf puts into the parts of a data source name, in their order (PHP
// manual, "sprintf").
func (c *code) formatted(place Place, use php.Use) {
	if len(use.Arguments) < 2 || len(use.Arguments[0].Pieces) != 1 {
		return
	}
	for i, m := range partOfFormat.FindAllStringSubmatch(use.Arguments[0].Pieces[0].Text, -1) {
		if role := dsnRoles[m[1]]; role != "" && i+1 < len(use.Arguments) {
			if address := addressIn(use.Arguments[i+1]); address != "" {
				c.connect(place, role, address, use.Arguments[i+1].Parameter)
			}
		}
	}
}

// partOfFormat is what a value is put in for, with the key before it where that has one.
var partOfFormat = regexp.MustCompile(`(?:\b(unix_socket|host|port|dbname|user|password|charset)=)?%[sd]`)

var dsnScheme = regexp.MustCompile(`["'](mysql|pgsql):(?:host|unix_socket|dbname)=`)

var dsnRoles = map[string]settings.Role{
	"unix_socket": settings.Socket, "host": settings.Host, "port": settings.Port, "dbname": settings.Database, "user": settings.User, "password": settings.Password, "charset": settings.Charset,
}

// choicesIn finds what code compares with names of drivers, and these.
func choicesIn(source []byte) (found [][2]string) {
	take := func(matches [][][]byte) {
		for _, m := range matches {
			if drivers[strings.ToLower(string(m[2]))] != "" {
				found = append(found, [2]string{string(m[1]), string(m[2])})
			}
		}
	}
	const longest = 256 // of a switch to its first case
	offset := 0
	for line := range bytes.Lines(source) {
		switch {
		case bytes.Contains(line, []byte("==")) && speaksOfDrivers(line):
			take(driverTest.FindAllSubmatch(line, -1))
		case bytes.Contains(line, []byte("switch")) || bytes.Contains(line, []byte("match")):
			if head := source[offset:min(len(source), offset+longest)]; speaksOfDrivers(head) {
				take(driverCases.FindAllSubmatch(head, 1))
			}
		}
		offset += len(line)
	}
	return found
}

func speaksOfDrivers(text []byte) bool {
	return slices.ContainsFunc([]string{"sql", "SQL", "ostgres", "aria"}, func(part string) bool { return bytes.Contains(text, []byte(part)) })
}

// driverTest and driverCases find what is compared with a word.
var (
	driverTest  = regexp.MustCompile(addressInCode + `\)?\s*[!=]==?\s*['"]([\w-]+)['"]`)
	driverCases = regexp.MustCompile(`\b(?:switch|match)\s*\(\s*(?:strtolower\s*\(\s*)?` + addressInCode + `\s*\)+\s*\{\s*(?:case\s+)?['"]([\w-]+)['"]`)
)

// addressIn is what an argument is, if it is one value; empty for all else.
func addressIn(a php.Argument) string {
	if len(a.Pieces) == 1 {
		return a.Pieces[0].Address
	}
	return keptValue.FindString(a.Source)
}

// keptValue is a call of a method that gives what is kept under a name.
var keptValue = regexp.MustCompile(`^\$?[\w\\]+(?:->|::)\w+\(['"][\w.-]+['"]\)$`)

// ofEnvironment is an argument that a variable of the environment gives.
var ofEnvironment = regexp.MustCompile(`^\(?\s*(?:getenv\s*\(|\$_(?:ENV|SERVER)\s*\[)`)

// handover is a call of the application's own function to connect.
type handover struct {
	Place
	function string
	given    []string // addresses of what it is given; empty for all else
}

// handsOver takes a call of the application's own function to connect, if what it is given
// says that it is a login; else the function may say so.
func (c *code) handsOver(place Place, use php.Use) {
	given := map[settings.Role]string{}
	call := handover{Place: place, function: use.Function}
	for _, argument := range use.Arguments {
		address := ""
		if len(argument.Pieces) == 1 && !argument.Parameter {
			address = argument.Pieces[0].Address
		}
		if call.given = append(call.given, c.unaliased(address)); address == "" {
			continue
		}
		if key := settings.ReadKey(address); key.Role != "" && given[key.Role] == "" {
			given[key.Role] = address
		}
	}
	if given[settings.Host] == "" || given[settings.User] == "" || given[settings.Password] == "" {
		c.handovers = append(c.handovers, call)
		return
	}
	for _, role := range valueOrder {
		if given[role] != "" {
			c.connect(place, role, given[role], false)
		}
	}
}

// noteParameters notes what functions of a file do with their parameters, where they log in
// with them; from is the first of the file's logins.
func (c *code) noteParameters(signatures map[string][]string, from int) {
	roles := map[string]settings.Role{}
	for _, at := range c.connects[from:] {
		if at.local {
			roles[at.address] = at.role
		}
	}
	for function, parameters := range signatures {
		var takes []settings.Role
		for _, name := range parameters {
			takes = append(takes, roles["$"+name])
		}
		if slices.Contains(takes, settings.User) && slices.Contains(takes, settings.Password) {
			c.takes[function] = takes
		}
	}
}

// resolveHandovers has what is given to functions that log in with it be part of the login.
func (c *code) resolveHandovers() {
	c.aliases = nil
	for _, call := range c.handovers {
		for i, role := range c.takes[call.function] {
			if i < len(call.given) && role != "" && call.given[i] != "" {
				c.connect(call.Place, role, call.given[i], false)
			}
		}
	}
}

func (c *code) connect(place Place, role settings.Role, address string, local bool) {
	address = c.unaliased(address)
	c.connects = append(c.connects, connect{Place: place, role: role, address: address, elements: elements(address), local: local})
}

// loginIndex are all logins of the code, for those who ask for them by an address: large
// applications have thousands of them, and hundreds of thousands of keys.
type loginIndex struct {
	roles  map[string]settings.Role // the first in which a very address goes into a login
	as     map[roleOfAddress]bool
	byLast map[lastOf][]connect
	paths  map[string]settings.Role // of elements in a variable, whatever that is called: empty for several
}

type (
	roleOfAddress struct {
		role    settings.Role
		address string
	}
	// lastOf is a role and the last element of addresses that go into a login as that.
	lastOf struct {
		role settings.Role
		last string
	}
)

// indexLogins is for when all code has been read.
func (c *code) indexLogins() {
	c.logins = loginIndex{map[string]settings.Role{}, map[roleOfAddress]bool{}, map[lastOf][]connect{}, map[string]settings.Role{}}
	type once struct {
		roleOfAddress
		by string
	}
	seen := map[once]bool{}
	others := slices.ContainsFunc(c.connects, func(at connect) bool { return !isInstallers(at.File) })
	for _, at := range c.connects {
		if _, has := c.logins.roles[at.address]; !has {
			c.logins.roles[at.address] = at.role
		}
		if i := strings.IndexByte(at.address, '['); i > 0 && at.address[0] == '$' && !strings.Contains(at.address, ">") {
			path := strings.Join(elements(at.address[i:]), ".")
			if was, has := c.logins.paths[path]; !has || was == at.role {
				c.logins.paths[path] = at.role
			} else {
				c.logins.paths[path] = ""
			}
		}
		as := roleOfAddress{at.role, at.address}
		c.logins.as[as] = true
		ofForm := others && isInstallers(at.File) // whose variables are those of a form
		if len(at.elements) > 0 && !seen[once{as, at.by}] && !ofForm {
			seen[once{as, at.by}] = true
			last := lastOf{at.role, at.elements[len(at.elements)-1]}
			c.logins.byLast[last] = append(c.logins.byLast[last], at)
		}
	}
}

// unaliased is an address with what a variable of the file stands for in its place.
func (c *code) unaliased(address string) string {
	address = strings.ReplaceAll(address, `"`, "'")
	if name := variableName.FindString(address); c.aliases[name] != "" {
		return c.aliases[name] + address[len(name):]
	}
	return address
}

var variableName = regexp.MustCompile(`^\$\w+`)

// elements are the names in an address, in small letters.
func elements(address string) []string {
	found := elementName.FindAllString(strings.ToLower(strings.ReplaceAll(address, "->", " ")), -1)
	return slices.DeleteFunc(found, func(name string) bool { return name == "this" || name == "self" || name == "static" })
}

var elementName = regexp.MustCompile(`[A-Za-z0-9_-]+`)

// goesInto tells how surely the value at an address goes into a login, as the
// role it is said to have: 3 for the very address, 2 for its last two elements,
// 0 for none.
func (c *code) goesInto(address string, role settings.Role) int {
	surely, _ := c.login(address, role)
	return surely
}

// login is that, and what logs in with it, where that is known and the same everywhere.
func (c *code) login(address string, role settings.Role) (best int, by string) {
	mine := elements(address)
	take := func(surely int, at connect) {
		switch {
		case surely == 0 || surely < best:
		case surely > best:
			best, by = surely, at.by
		case by != at.by:
			by = ""
		}
	}
	if len(mine) == 0 {
		return 0, ""
	}
	for _, at := range c.logins.byLast[lastOf{role, mine[len(mine)-1]}] {
		same := 0
		for same < len(mine) && same < len(at.elements) && mine[len(mine)-1-same] == at.elements[len(at.elements)-1-same] {
			same++
		}
		const sure, likely = 3, 2
		switch {
		case same == len(mine) && same == len(at.elements):
			take(sure, at)
		case same >= 2:
			take(likely, at)
		case same == 1 && len(at.elements) == 1 && len(mine) > 1, same == 1 && len(mine) == 1:
			take(1, at)
		}
	}
	return best, by
}

// extensionPrefixes are beginnings of functions by their extension (PHP manual,
// "Function Reference"). Extensions that are part of every PHP are left out.
var extensionPrefixes = []struct{ prefix, extension string }{
	{"mysqli_", "mysqli"}, {"pg_", "pgsql"}, {"mb_", "mbstring"}, {"curl_", "curl"}, {"ldap_", "ldap"}, {"imap_", "imap"},
	{"bcadd", "bcmath"}, {"bcmul", "bcmath"}, {"bcdiv", "bcmath"}, {"bcsub", "bcmath"}, {"bccomp", "bcmath"}, {"gmp_", "gmp"},
	{"image", "gd"}, {"simplexml_", "simplexml"}, {"xml_parser_", "xml"}, {"openssl_", "openssl"}, {"sodium_", "sodium"},
	{"iconv", "iconv"}, {"exif_", "exif"}, {"ftp_", "ftp"}, {"bindtextdomain", "gettext"}, {"ngettext", "gettext"},
	{"finfo_", "fileinfo"}, {"posix_", "posix"}, {"apcu_", "apcu"}, {"numfmt_", "intl"}, {"collator_", "intl"}, {"grapheme_", "intl"}, {"zip_", "zip"},
}

var extensionClasses = map[string]string{
	"mysqli": "mysqli", "ziparchive": "zip", "domdocument": "dom", "simplexmlelement": "simplexml", "xmlreader": "xmlreader", "xmlwriter": "xmlwriter",
	"soapclient": "soap", "intldateformatter": "intl", "numberformatter": "intl", "collator": "intl", "normalizer": "intl", "imagick": "imagick", "finfo": "fileinfo",
}

// gdFunctions are those that begin with image and belong to gd; others do, too,
// in applications' own code.
var gdFunctions = wordset.Of("imagecreate imagecreatetruecolor imagecreatefromjpeg imagecreatefrompng imagecreatefromgif imagecreatefromstring imagepng imagejpeg imagegif imagecopyresampled imagettftext imagecolorallocate")

// extensionOf is the extension that a function or a class belongs to; empty for
// none that is told.
func extensionOf(function string) string {
	if extension, known := extensionClasses[function]; known {
		return extension
	}
	for _, row := range extensionPrefixes {
		if strings.HasPrefix(function, row.prefix) && (row.extension != "gd" || gdFunctions[function]) {
			return row.extension
		}
	}
	return ""
}

// login are the functions and classes that log in to a family, and their extensions.
type login struct {
	functions      map[string]bool
	extension, pdo string
}

func (l login) has(function string) bool { return l.functions[function] }

var loginsTo = map[string]login{
	familyMySQL:      {wordset.Of("mysqli mysqli_connect mysqli_real_connect mysqli_init ->real_connect"), "mysqli", "pdo_mysql"},
	familyPostgreSQL: {wordset.Of("pg_connect pg_pconnect"), "pgsql", "pdo_pgsql"},
}
