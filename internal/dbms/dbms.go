// Package dbms says what a database server is to the rest of Yellowfield:
// products, addresses, accounts, rights and what a server's error carries.
//
// It must never know of estate files, settings files or of any one driver;
// how a product is spoken to is for the packages below it.
package dbms

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowfield/internal/secret"
)

// Address is how a server is reached: by socket, else by host and port.
type Address struct {
	Socket string
	Host   string
	Port   int
	TLS    TLSMode
	CA     string // file of certificates to trust, for TLSVerify; empty for the system's
	// Trusted is what CA holds, for a process that cannot read it; empty to read CA.
	Trusted string
	// Certificate is the fingerprint of the one certificate to trust, for TLSVerify.
	Certificate string
}

// PostgresSocket gives the folder and the port of a PostgreSQL server's socket,
// which may be written as the socket's own path or as its folder (PostgreSQL,
// "Connection Strings").
func (a Address) PostgresSocket() (folder string, port int) {
	folder, port = a.Socket, a.Port
	if name, is := strings.CutPrefix(filepath.Base(folder), ".s.PGSQL."); is {
		if n, err := strconv.Atoi(name); err == nil {
			return filepath.Dir(folder), n
		}
	}
	if port == 0 {
		port = PostgreSQL.DefaultPort()
	}
	return folder, port
}

// String gives the address for a person.
func (a Address) String() string {
	if a.Socket != "" {
		return "socket " + a.Socket
	}
	return fmt.Sprintf("%s:%d", a.Host, a.Port)
}

// Short names the way without the path.
func (a Address) Short() string {
	if a.Socket != "" {
		return "socket"
	}
	return a.String()
}

// Account is a user as the server knows it; where hosts are no part of it, Host
// is empty.
type Account struct{ User, Host string }

func (a Account) String() string {
	if a.Host == "" { // PostgreSQL's roles come from anywhere
		return a.User
	}
	return a.User + "@" + a.Host
}

// ParseAccount reads what String writes.
func ParseAccount(text string) Account {
	at := strings.LastIndexByte(text, '@')
	if at < 0 {
		return Account{User: text}
	}
	return Account{User: text[:at], Host: text[at+1:]}
}

// HostMatches reports whether an account's host, which may hold the wildcards %
// and _ or be a network with its mask, is for a client host (MySQL Reference
// Manual, "Specifying Account Names").
func HostMatches(pattern, host string) bool {
	if network, mask, is := strings.Cut(pattern, "/"); is {
		base, errBase := netip.ParseAddr(network)
		client, errClient := netip.ParseAddr(host)
		if errBase != nil || errClient != nil {
			return false
		}
		if bits, err := strconv.Atoi(mask); err == nil {
			return netip.PrefixFrom(base, bits).Contains(client)
		}
		m, err := netip.ParseAddr(mask)
		if err != nil || !m.Is4() || !base.Is4() || !client.Is4() {
			return false
		}
		b, c, bits := base.As4(), client.As4(), m.As4()
		for i := range bits {
			if b[i]&bits[i] != c[i]&bits[i] {
				return false
			}
		}
		return true
	}
	expression := strings.NewReplacer("%", ".*", "_", ".").Replace(regexp.QuoteMeta(pattern))
	matches, err := regexp.MatchString("(?i)^"+expression+"$", host)
	return err == nil && matches
}

// AccountState is what a server says of an account.
type AccountState struct {
	Account
	Verifier       secret.Verifier // with its method, which may be known by itself
	SecondMethod   bool            // a second way to log in is set up beside the first
	Older          secret.Verifier // of the second way, where it is a password's
	Changed        time.Time       // of the password; zero where the server does not know
	Locked         bool
	Expired        bool
	RequiresTLS    bool
	MaxConnections int // 0: no limit
}

// Privileges is a set of privilege names, sorted and in capitals.
type Privileges []string

// NewPrivileges makes a set.
func NewPrivileges(names ...string) Privileges {
	set := make(Privileges, 0, len(names))
	for _, name := range names {
		set = append(set, strings.ToUpper(name))
	}
	slices.Sort(set)
	return slices.Compact(set)
}

// Has reports whether the set holds a privilege.
func (p Privileges) Has(name string) bool {
	_, found := slices.BinarySearch(p, name)
	return found
}

// Minus gives what p holds and other does not.
func (p Privileges) Minus(other Privileges) Privileges {
	var rest Privileges
	for _, name := range p {
		if !other.Has(name) {
			rest = append(rest, name)
		}
	}
	return rest
}

// Plus gives the union.
func (p Privileges) Plus(other Privileges) Privileges {
	return NewPrivileges(append(slices.Clone(p), other...)...)
}

// Equal reports whether both hold the same.
func (p Privileges) Equal(other Privileges) bool { return slices.Equal(p, other) }

func (p Privileges) String() string { return strings.Join(p, ", ") }

// Grants is all that an account may do, as the server's catalogue lists it.
type Grants struct {
	Global Privileges // without USAGE
	// Databases maps the database pattern, as it is stored, to the rights.
	Databases map[string]Privileges
	// Below lists databases in which single tables, columns or routines are
	// granted.
	Below []string
	// GrantOption lists the patterns that may be passed on ("" for global).
	GrantOption []string
}

// Database is a database as the server describes it.
type Database struct {
	Name, Charset, Collation string
	// Drift says that the order of text is another now than when the database's
	// indexes were built, since the system's or the ICU library is; empty when
	// it is the same, or the server does not tell.
	Drift string
	// HalfMade says that its making was cut off, and is to be finished.
	HalfMade bool
	// HalfDropped says that dropping it was cut off: what it held is lost, and it is there
	// to be dropped again.
	HalfDropped bool
	// ReadOnly says that nobody may change what it holds, as while an app is moved.
	ReadOnly bool
}

// Contents is what a database holds.
type Contents struct {
	Tables   []Table
	Routines []Object
	Triggers []Object
	Events   []Object
	// TooMany says that there is more, which is not kept: whoever owns a database could else
	// take the memory that the others' apps need.
	TooMany bool
	size    int
}

// mostNames is how many bytes of names are kept of a database, with a hundred for each object
// beside its name.
const mostNames = 32 << 20

// Admits reports whether one more object is to be kept.
func (c *Contents) Admits(names ...string) bool {
	c.size += 100
	for _, name := range names {
		c.size += len(name)
	}
	c.TooMany = c.TooMany || c.size > mostNames
	return !c.TooMany
}

// Table is a table or a view.
type Table struct {
	Name      string
	View      bool
	Engine    string
	Collation string
}

// Object is a routine, trigger or event; Kind is its keyword.
type Object struct{ Kind, Name string }

func (o Object) String() string { return o.Kind + " " + o.Name }

// AsMade gives the object as a script would have made it: servers may store
// names in small letters, MariaDB lists sequences as tables, and PostgreSQL
// routines with their arguments. tableName is Databases.TableName.
func (o Object) AsMade(made map[Object]bool, tableName func(string) string) Object {
	bare, _, routine := strings.Cut(o.Name, "(")
	for candidate := range made {
		if name, _, _ := strings.Cut(candidate.Name, "("); routine && candidate.Kind == o.Kind && name == bare {
			return candidate
		}
		table := candidate.Kind == "TABLE" || candidate.Kind == "VIEW" || candidate.Kind == "SEQUENCE"
		if (candidate.Kind == o.Kind || table && (o.Kind == "TABLE" || o.Kind == "VIEW")) && tableName(candidate.Name) == tableName(o.Name) {
			return candidate
		}
	}
	return o
}

// Empty reports whether the database holds nothing at all.
func (c Contents) Empty() bool {
	return len(c.Tables)+len(c.Routines)+len(c.Triggers)+len(c.Events) == 0
}

// Objects lists what a database holds by keyword and name, but for triggers,
// which go with their tables.
func (c Contents) Objects() map[Object]bool {
	objects := map[Object]bool{}
	for _, t := range c.Tables {
		kind := "TABLE"
		if t.View {
			kind = "VIEW"
		}
		objects[Object{Kind: kind, Name: t.Name}] = true
	}
	for _, list := range [][]Object{c.Routines, c.Events} {
		for _, o := range list {
			objects[o] = true
		}
	}
	return objects
}

// Everything is Objects with the triggers.
func (c Contents) Everything() map[Object]bool {
	objects := c.Objects()
	for _, o := range c.Triggers {
		objects[o] = true
	}
	return objects
}

// Without is what is left without some objects; triggers go with the tables.
func (c Contents) Without(gone map[Object]bool) Contents {
	var rest Contents
	for _, t := range c.Tables {
		if !gone[Object{Kind: "TABLE", Name: t.Name}] && !gone[Object{Kind: "VIEW", Name: t.Name}] {
			rest.Tables = append(rest.Tables, t)
		}
	}
	for _, o := range c.Routines {
		if !gone[o] {
			rest.Routines = append(rest.Routines, o)
		}
	}
	for _, o := range c.Events {
		if !gone[o] {
			rest.Events = append(rest.Events, o)
		}
	}
	if len(rest.Tables) > 0 {
		rest.Triggers = c.Triggers
	}
	return rest
}

// ServerError is all that a server said when it refused something.
type ServerError struct {
	Server    string // its name in the estate file
	Statement string // what was sent, secrets masked; empty for a login
	Code      int    // the server's error number
	SQLState  string
	Message   string
	Cause     Cause
	// What PostgreSQL adds (PostgreSQL, "Error and Notice Message Fields").
	Hint     string
	Position int    // the character of the statement where it is wrong, from 1; 0 for none
	Context  string // such as "COPY hives, line 5"
}

func (e *ServerError) Error() string {
	if e.Code == 0 { // PostgreSQL knows errors by their state alone
		return fmt.Sprintf("%s (SQLSTATE %s)", e.Message, e.SQLState)
	}
	return fmt.Sprintf("%s (server error %d)", e.Message, e.Code)
}
