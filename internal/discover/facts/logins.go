package facts

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/settings"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/wordset"
)

// Connect is a place where a value goes into a login.
type Connect struct {
	Place
	Role     settings.Role
	Address  string
	Elements []string // of the address, in small letters
	Local    bool     // to the function around
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
func (c *Code) formatted(place Place, use php.Use) {
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
			if Drivers[strings.ToLower(string(m[2]))] != "" {
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
func (c *Code) handsOver(place Place, use php.Use) {
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
	for _, role := range ValueOrder {
		if given[role] != "" {
			c.connect(place, role, given[role], false)
		}
	}
}

// noteParameters notes what functions of a file do with their parameters, where they log in
// with them; from is the first of the file's logins.
func (c *Code) noteParameters(signatures map[string][]string, from int) {
	roles := map[string]settings.Role{}
	for _, at := range c.Connects[from:] {
		if at.Local {
			roles[at.Address] = at.Role
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
func (c *Code) resolveHandovers() {
	c.aliases = nil
	for _, call := range c.handovers {
		for i, role := range c.takes[call.function] {
			if i < len(call.given) && role != "" && call.given[i] != "" {
				c.connect(call.Place, role, call.given[i], false)
			}
		}
	}
}

func (c *Code) connect(place Place, role settings.Role, address string, local bool) {
	address = c.unaliased(address)
	c.Connects = append(c.Connects, Connect{Place: place, Role: role, Address: address, Elements: Elements(address), Local: local})
}

// loginIndex are all logins of the code, for those who ask for them by an address: large
// applications have thousands of them, and hundreds of thousands of keys.
type loginIndex struct {
	Roles  map[string]settings.Role // the first in which a very address goes into a login
	As     map[RoleOfAddress]bool
	byLast map[lastOf][]Connect
	Paths  map[string]settings.Role // of elements in a variable, whatever the variable is called: empty for several
}

type (
	RoleOfAddress struct {
		Role    settings.Role
		Address string
	}
	// lastOf is a role and the last element of addresses that go into a login as that.
	lastOf struct {
		role settings.Role
		last string
	}
)

// indexLogins is for when all code has been read.
func (c *Code) indexLogins() {
	c.Logins = loginIndex{map[string]settings.Role{}, map[RoleOfAddress]bool{}, map[lastOf][]Connect{}, map[string]settings.Role{}}
	type once struct {
		RoleOfAddress
		by string
	}
	seen := map[once]bool{}
	others := slices.ContainsFunc(c.Connects, func(at Connect) bool { return !IsInstallers(at.File) })
	for _, at := range c.Connects {
		if _, has := c.Logins.Roles[at.Address]; !has {
			c.Logins.Roles[at.Address] = at.Role
		}
		if i := strings.IndexByte(at.Address, '['); i > 0 && at.Address[0] == '$' && !strings.Contains(at.Address, ">") {
			path := strings.Join(Elements(at.Address[i:]), ".")
			if was, has := c.Logins.Paths[path]; !has || was == at.Role {
				c.Logins.Paths[path] = at.Role
			} else {
				c.Logins.Paths[path] = ""
			}
		}
		as := RoleOfAddress{at.Role, at.Address}
		c.Logins.As[as] = true
		ofForm := others && IsInstallers(at.File) // whose variables are those of a form
		if len(at.Elements) > 0 && !seen[once{as, at.by}] && !ofForm {
			seen[once{as, at.by}] = true
			last := lastOf{at.Role, at.Elements[len(at.Elements)-1]}
			c.Logins.byLast[last] = append(c.Logins.byLast[last], at)
		}
	}
}

// unaliased is an address with what a variable of the file stands for in its place.
func (c *Code) unaliased(address string) string {
	address = strings.ReplaceAll(address, `"`, "'")
	if name := variableName.FindString(address); c.aliases[name] != "" {
		return c.aliases[name] + address[len(name):]
	}
	return address
}

var variableName = regexp.MustCompile(`^\$\w+`)

// Elements are the names in an address, in small letters.
func Elements(address string) []string {
	found := elementName.FindAllString(strings.ToLower(strings.ReplaceAll(address, "->", " ")), -1)
	return slices.DeleteFunc(found, func(name string) bool { return name == "this" || name == "self" || name == "static" })
}

var elementName = regexp.MustCompile(`[A-Za-z0-9_-]+`)

// GoesInto tells how surely the value at an address goes into a login, as the
// role it is said to have: 3 for the very address, 2 for its last two elements,
// 0 for none.
func (c *Code) GoesInto(address string, role settings.Role) int {
	surely, _ := c.Login(address, role)
	return surely
}

// Login is that, and what logs in with it, where that is known and the same everywhere.
func (c *Code) Login(address string, role settings.Role) (best int, by string) {
	mine := Elements(address)
	take := func(surely int, at Connect) {
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
	for _, at := range c.Logins.byLast[lastOf{role, mine[len(mine)-1]}] {
		same := 0
		for same < len(mine) && same < len(at.Elements) && mine[len(mine)-1-same] == at.Elements[len(at.Elements)-1-same] {
			same++
		}
		const sure, likely = 3, 2
		switch {
		case same == len(mine) && same == len(at.Elements):
			take(sure, at)
		case same >= 2:
			take(likely, at)
		case same == 1 && len(at.Elements) == 1 && len(mine) > 1, same == 1 && len(mine) == 1:
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

// ExtensionOf is the extension that a function or a class belongs to; empty for
// none that is told.
func ExtensionOf(function string) string {
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
	Extension, Pdo string
}

func (l login) Has(function string) bool { return l.functions[function] }

var LoginsTo = map[string]login{
	FamilyMySQL:      {wordset.Of("mysqli mysqli_connect mysqli_real_connect mysqli_init ->real_connect"), "mysqli", "pdo_mysql"},
	FamilyPostgreSQL: {wordset.Of("pg_connect pg_pconnect"), "pgsql", "pdo_pgsql"},
}
