package dbms

import (
	"context"
	"errors"
	"maps"
	"net"
	"slices"
	"strings"

	"yellowfield/internal/secret"
)

// Login is what a connection is made with.
type Login struct {
	Server   string // the server's name in messages
	Address  Address
	User     string
	Password secret.Password
	Database string // to use at once; may be empty
	Charset  string // of the connection; empty for the product's whole Unicode
	// AsApplication makes the session as the application's own: with what the
	// server has set for this account and database. Without it nothing that the
	// application can set reaches the session, which an administrator's needs.
	AsApplication bool
	// Unvouched is for an address that only a file of the application names: whoever is there
	// is told no password that it could use elsewhere.
	Unvouched bool
	// Dial connects to the server, where that is to be done as somebody else than who runs
	// this program; nil for a plain connection.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Found is how many rows of a column hold what was looked for.
type Found struct {
	Column string // with its table
	Rows   int64
}

// Connection is somebody's to the server.
type Connection struct {
	Who         string // account, where from, number, since when: for a person
	Administers bool   // the account may administer others', so that its locks count
	End         Statement
}

// About is what a server says of itself. Those that a product does not have
// are zero.
type About struct {
	Product               Product
	Version               string // "10.11.19"
	Socket                string // the socket it listens on, in its own view of the files
	LoopbackPort          int    // where it listens on 127.0.0.1; 0 for nowhere, or where that is not told
	BinaryLog             bool
	TrustFunctionCreators bool
	PartialRevokes        bool // MySQL: _ and % in grants stand for themselves
	ReadOnly              bool
	LowerCaseTables       bool // table names are stored in small letters
	// Cluster names the Galera cluster that the server is a node of, the same on
	// each of them; empty for a server by itself.
	Cluster string
}

// Server is a server with an open login: what every product can do in its own way. Statements
// are built apart from being sent, so that they can be shown first. Who needs one part of it
// asks for that interface alone.
type Server interface {
	Session
	Locks
	Inspector
	SQL
}

// Session is an open login: it tells what it meets and sends what changes something.
type Session interface {
	About() About
	// CurrentUser is the account the server took the login for.
	CurrentUser() string
	// OnChange has every statement that changes something told, before it is sent.
	OnChange(tell func(Statement))
	Close()
	// Exec sends statements that change something, one after the other.
	Exec(ctx context.Context, statements ...Statement) error
	// RemoveObjects drops, of the objects that a script made in a database, those
	// that are there now and were not before, with what depends on them.
	RemoveObjects(ctx context.Context, database string, made, before map[Object]bool) error
	// Encrypted reports whether what is sent stays unseen on the way.
	Encrypted() bool
	// Unavailable says why the server cannot be provisioned now; nil when it can.
	Unavailable() error
	// SessionState tells what this login meets.
	SessionState(ctx context.Context) (SessionState, error)
}

// Locks keep others out, and others' sessions.
type Locks interface {
	// Lock takes a named lock on the server without waiting; held is false when
	// someone else has it.
	Lock(ctx context.Context, name string) (release func(), held bool, err error)
	// LockHolder gives the connection that has a named lock, which any account may
	// take; nil when nobody has it any more.
	LockHolder(ctx context.Context, name string) (*Connection, error)
	// EndSessions ends the open connections of an account.
	EndSessions(ctx context.Context, a Account) error
}

// Inspector reads what the server holds. It changes nothing.
type Inspector interface {
	// ReadCatalogue reads what the server holds in a few queries; accounts and
	// everyone's rights need an administrator.
	ReadCatalogue(ctx context.Context, administrator bool, databases []string) (*Catalogue, error)
	// Reread reads as administrator anew, of a catalogue, what has to do with some databases and
	// the accounts of some names; all else stays as it was known.
	Reread(ctx context.Context, known *Catalogue, databases, users []string) (*Catalogue, error)
	// OwnRightsOnServer names the rights of this login's account that reach beyond single
	// databases, those of its roles included; none for an application's own account.
	OwnRightsOnServer(ctx context.Context) ([]string, error)
	// Contents reads what databases hold.
	Contents(ctx context.Context, databases ...string) (map[string]Contents, error)
	// Tables lists the tables and views of a database, as this login sees them.
	Tables(ctx context.Context, database string) ([]Table, error)
	// LacksPasswordKey reports whether logins over TCP without TLS work only as long
	// as the server remembers an earlier one.
	LacksPasswordKey(ctx context.Context) (bool, error)
	// StoredVerifiers gives what the server keeps of the passwords by which an account can
	// log in, its own first; none when this login may not read them.
	StoredVerifiers(ctx context.Context, a Account) ([]secret.Verifier, error)
	// Mentions names what lies beside a database on the server and speaks of it: programs and
	// views in others, or rules for logins.
	Mentions(ctx context.Context, database string) ([]string, error)
	// RowsWith counts the rows whose text holds some text, by table and column, as this login
	// sees them.
	RowsWith(ctx context.Context, database, text string) ([]Found, error)
	// LacksForReading names what an export has to read of a database and this login, which
	// has the grants g, may not.
	LacksForReading(ctx context.Context, database string, g Grants, contents Contents) ([]string, error)
	// Sessions lists an account's open sessions.
	Sessions(ctx context.Context, a Account) ([]OpenSession, error)
}

// SQL is what needs no connection: the statements of a product, and what its grants
// mean.
type SQL interface {
	Databases
	Accounts
	Rights
}

// Databases are the statements that make and drop them.
type Databases interface {
	CreateDatabase(d Database) []Statement
	// FinishDatabase goes on with a making that was cut off, see Database.HalfMade.
	FinishDatabase(name string) []Statement
	// LeftOfMaking removes what a making has left that was cut off before the database.
	LeftOfMaking(name string) []Statement
	// LeftOfDropping removes what a dropping has left that was cut off after the database.
	LeftOfDropping(name string) []Statement
	DropDatabase(name string) []Statement
	// TableName is a table's name as the server stores it.
	TableName(name string) string
}

// Accounts are the statements about accounts.
type Accounts interface {
	// Verifier makes a fresh one of an account's password, for a method or, where
	// none is named, the one that suits PHP's clients.
	Verifier(a Account, p secret.Password, method string) secret.Verifier
	// CreateAccount makes an account whose password is sent as a verifier.
	CreateAccount(a Account, v secret.Verifier, o AccountOptions) Statement
	// CreateAccountInPlain sends the password itself, for servers whose policy
	// refuses verifiers.
	CreateAccountInPlain(a Account, p secret.Password, o AccountOptions) Statement
	// SetVerifier replaces all ways to log in by the one password.
	SetVerifier(a Account, v secret.Verifier) []Statement
	SetPasswordInPlain(a Account, p secret.Password) Statement
	// AddVerifier has an account log in by either of two passwords, a new one and the one
	// that it has; none where the product keeps one password only (Traits.TwoPasswords).
	AddVerifier(a Account, v, own secret.Verifier) []Statement
	// DropOlder ends the older of two passwords; v is the other one.
	DropOlder(a Account, v secret.Verifier) []Statement
	SetOptions(a Account, o AccountOptions) Statement
	DropAccount(a Account) Statement
	// LockAccount and UnlockAccount stop and allow new logins.
	LockAccount(a Account) Statement
	UnlockAccount(a Account) Statement
}

// Rights are what grants mean, and the statements that change them.
type Rights interface {
	// Resolve turns levels and privilege names into the privileges they mean for
	// a database with the given contents.
	Resolve(rights []string, contents Contents) Privileges
	// HeldOn gives the rights that an account really has on a database, and
	// other grants that leak into it.
	HeldOn(database string, g Grants) (held Privileges, leaking []string)
	// Elsewhere lists what else an account may touch.
	Elsewhere(database string, g Grants) []string
	// AdministratorLacks names the rights that an administrator with grants g
	// would lack for provisioning.
	AdministratorLacks(g Grants, database string, rights Privileges) []string
	// LacksForEndingSessions is the same for ending others' sessions.
	LacksForEndingSessions(g Grants) []string
	// ChangeRights gives the statements that turn the held rights into the
	// wanted ones; lowers tells whether open sessions would keep some.
	ChangeRights(a Account, database string, g Grants, want Privileges) (statements []Statement, lowers bool)
	// Reading are the privileges that reading all of a database takes, definitions and all.
	Reading(contents Contents) Privileges
	// Pattern is how a database is written in a grant.
	Pattern(database string) string
	Grant(p Privileges, pattern string, a Account) []Statement
	Revoke(p Privileges, pattern string, a Account) []Statement
	// RevokeGlobal takes a right on the whole server.
	RevokeGlobal(right string, a Account) Statement
}

// HasVariables are servers with global variables that an import may need
// (Traits.Variables).
type HasVariables interface {
	// Variables reads global variables; one that the product does not have is left
	// out.
	Variables(ctx context.Context, names ...string) (map[string]string, error)
	// SetVariable is the statement that sets one.
	SetVariable(name, value string) Statement
}

// Freezes are servers on which a whole database can be made read-only.
type Freezes interface {
	// ReadOnly makes a database read-only, or writable again; nil where the server has nothing
	// like it.
	ReadOnly(database string, yes bool) []Statement
	// Events lists a database's scheduled events, which would go on when accounts may only
	// read.
	Events(ctx context.Context, database string) ([]Event, error)
	// RunsEvents reports whether the server runs events at all.
	RunsEvents(ctx context.Context) (bool, error)
	// SwitchEvent enables or disables an event and keeps its definer.
	SwitchEvent(e Event, runs bool) Statement
}

// Event is a statement that the server runs on a schedule.
type Event struct {
	Database string  `json:"database"`
	Name     string  `json:"name"`
	Definer  Account `json:"definer"` // in whose name it runs
	Enabled  bool    `json:"enabled"`
}

// ConvertsCharsets are servers on which tables have character sets of their own.
type ConvertsCharsets interface {
	// Conversions tells which tables have another character set than the wanted one, and
	// what giving them that would meet.
	Conversions(ctx context.Context, database, charset, collation string) (Conversions, error)
	// HasForeignKey reports whether a table has one of this name.
	HasForeignKey(ctx context.Context, database, table, name string) (bool, error)
	// ForeignKeys lists those of text in a database: ask as the application.
	ForeignKeys(ctx context.Context, database string) ([]ForeignKey, error)
	// TextSum is the same before and after a conversion that has changed no text.
	TextSum(ctx context.Context, database, table string) (string, error)
}

// Conversions are those of a database's tables, and what is to be sent around them.
type Conversions struct {
	// Database has later tables made so, and DatabaseBack as before.
	Database, DatabaseBack Statement
	Tables                 []Conversion
	// Keys are the foreign keys of text that have to be dropped before, and added again.
	Keys []ForeignKey
}

// ForeignKey is one of a table, with the statements that drop and add it.
type ForeignKey struct {
	Table, Name, References string
	Drop, Add               Statement
}

// Conversion is what giving a table another character set involves.
type Conversion struct {
	Table     string
	From      string // its collation
	Statement Statement
	// Back gives it its own again, if Troubles is empty.
	Back     Statement
	Troubles []Trouble
}

// Trouble is something that stands in the way of a conversion, in a column or an index.
type Trouble struct {
	Where string
	Kind  TroubleKind
	// Count is that of rows, of values of an index that collide, or the bytes of a key.
	Count      int64
	NotCounted bool // it took too long
}

// TroubleKind is what stands in the way of a conversion.
type TroubleKind string

// Kinds of troubles.
const (
	HoldsUTF8    TroubleKind = "holds UTF-8 in latin1"
	EncodedTwice TroubleKind = "encoded twice"
	DoesNotFit   TroubleKind = "does not fit"
	KeyTooLong   TroubleKind = "key too long"
	Collides     TroubleKind = "collides"
	OwnCollation TroubleKind = "has its own" // another than its table's, which converting takes
)

// Statement is one SQL statement. Print it with String, which masks secrets.
type Statement struct {
	Text string
	// Shown is Text with secrets masked; empty when Text holds none.
	Shown string
	// Database is the one it has to be sent in; empty for any.
	Database string
	// ChangesNothing says that it only prepares for other statements.
	ChangesNothing bool
}

// String gives the statement as it may be shown.
func (s Statement) String() string {
	if s.Shown != "" {
		return s.Shown
	}
	return s.Text
}

// AccountOptions are the conditions on an account's logins.
type AccountOptions struct {
	RequireTLS     bool
	MaxConnections int // 0: no limit
}

// SessionState is what an application meets right after its login.
type SessionState struct {
	Database    string
	CurrentUser string
	Charset     string // of the connection
	ReadOnly    string // why it takes no writes; empty where it takes them
}

// OpenSession is an open session of an account.
type OpenSession struct {
	From     string // the client's address, or what stands for the socket
	Database string
	Seconds  int // since it does what it does
}

// Catalogue is what a server holds, read in a few queries for all applications
// at once.
type Catalogue struct {
	Databases map[string]Database
	// Collations maps each collation to its character set.
	Collations map[string]string
	Accounts   map[Account]AccountState
	// Granted are the rights by account.
	Granted  map[Account]*Grants
	Contents map[string]Contents
	// Presets are the settings that somebody has given to a database or an account for their
	// sessions, without those that provisioning sets.
	Presets []Preset
}

// Preset is a setting that the server gives to sessions in a database, of an
// account, or of the account in the database; the other is empty then.
type Preset struct{ Database, User, Setting string }

func (p Preset) String() string {
	switch {
	case p.User == "":
		return "the database " + p.Database + " sets " + p.Setting
	case p.Database == "":
		return "the role " + p.User + " sets " + p.Setting
	}
	return "the role " + p.User + " in the database " + p.Database + " sets " + p.Setting
}

// NewCatalogue makes an empty one.
func NewCatalogue() *Catalogue {
	return &Catalogue{
		Databases: map[string]Database{}, Collations: map[string]string{},
		Accounts: map[Account]AccountState{}, Granted: map[Account]*Grants{},
	}
}

// Without is a copy that knows nothing of some databases and the accounts of some names.
func (c *Catalogue) Without(databases, users []string) *Catalogue {
	rest := *c
	rest.Databases, rest.Accounts, rest.Granted = maps.Clone(c.Databases), maps.Clone(c.Accounts), maps.Clone(c.Granted)
	rest.Contents = map[string]Contents{}
	maps.DeleteFunc(rest.Databases, func(name string, _ Database) bool { return slices.Contains(databases, name) })
	maps.DeleteFunc(rest.Accounts, func(a Account, _ AccountState) bool { return slices.Contains(users, a.User) })
	maps.DeleteFunc(rest.Granted, func(a Account, _ *Grants) bool { return slices.Contains(users, a.User) })
	rest.Presets = slices.DeleteFunc(slices.Clone(c.Presets), func(p Preset) bool { return slices.Contains(databases, p.Database) || slices.Contains(users, p.User) })
	return &rest
}

// Grants gives an account's rights; empty for an account without any.
func (c *Catalogue) Grants(a Account) Grants {
	if g := c.Granted[a]; g != nil {
		return *g
	}
	return Grants{}
}

// GrantsOf is Grants for the server's own spelling of an account.
func (c *Catalogue) GrantsOf(currentUser string) Grants { return c.Grants(ParseAccount(currentUser)) }

// OwnNames are a character set and a collation as the server calls them, which lists one
// of utf8 and utf8mb3.
func (c *Catalogue) OwnNames(charset, collation string) (ownCharset, ownCollation string) {
	if c.HasCharset(charset) {
		return charset, collation
	}
	for _, own := range c.Collations {
		if SameCharset(own, charset) {
			if rest, has := strings.CutPrefix(collation, charset+"_"); has {
				collation = own + "_" + rest
			}
			return own, collation
		}
	}
	return charset, collation
}

// SameCharset compares names of character sets: utf8 and utf8mb3 are the same (MySQL
// Reference Manual, "The utf8 Character Set"; MariaDB, "Supported Character Sets and
// Collations").
func SameCharset(a, b string) bool {
	real := func(name string) string {
		if name = strings.ToLower(name); name == "utf8" {
			return "utf8mb3"
		}
		return name
	}
	return real(a) == real(b)
}

// HasCharset reports whether the server knows a character set.
func (c *Catalogue) HasCharset(charset string) bool {
	for _, known := range c.Collations {
		if known == charset {
			return true
		}
	}
	return false
}

// Cause is why a server refused something, where that matters to what is done
// next.
type Cause int

// Causes.
const (
	OtherCause    Cause = iota
	WrongLogin          // wrong password, unknown account, or one that may not come from here
	NoRightThere        // no right on the database, or it is not there
	NoDatabase          // the database is not there
	PolicyRefuses       // the password policy, or an option, refuses a verifier
	NoSuchGrant         // there is nothing to revoke
	SessionEnded        // the server has closed the connection
	TooMany             // there are as many connections as there may be
	NoRoom              // a disk of the server is full
)

// CauseOf is why a server refused something; OtherCause too when none spoke.
func CauseOf(err error) Cause {
	var spoken *ServerError
	if errors.As(err, &spoken) {
		return spoken.Cause
	}
	return OtherCause
}

// IsRefusal reports whether an error is what a server said: it refused, and is still there.
func IsRefusal(err error) bool {
	var spoken *ServerError
	return errors.As(err, &spoken)
}
