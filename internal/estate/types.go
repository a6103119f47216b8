// Package estate is the estate file: its types, its strict loading with a
// place in every error, its validation, and its JSON Schema.
//
// It knows what the file may say and whether that is consistent in itself. It must never know
// of connections, of what a server or a settings file really holds, or of terminals.
package estate

import (
	"yellowfield/internal/dbms"
	"yellowfield/internal/secret"
)

// File is an estate file as it is written.
type File struct {
	Include  []string           `yaml:"include" jsonschema_description:"Further estate files, as paths or patterns from this file. They may hold servers and apps."`
	Defaults Defaults           `yaml:"defaults" jsonschema_description:"What all apps share unless they say otherwise."`
	Servers  map[string]*Server `yaml:"servers" jsonschema_description:"The database servers, by a name of your own."`
	Apps     map[string]*App    `yaml:"apps" jsonschema_description:"The applications, by a name of your own."`
	// KeepHistory is 0 when nothing was said.
	KeepHistory Days   `yaml:"keep_history" jsonschema_description:"How long journals, and the copies of settings files with them, are kept, in days such as 400d; for ever by default."`
	Exports     string `yaml:"exports" jsonschema_description:"The folder of exports that name no file, from this file; in the state folder by default. Nobody else may be able to write to it, and no app's folder may hold it."`
	// LongestStatement is 0 when nothing was said.
	LongestStatement Size `yaml:"longest_statement" jsonschema_description:"How long a statement of an SQL script may be, such as 256M; 64M by default."`
}

// Defaults is what all apps share. An app's own value replaces one of these
// whole; lists and maps are not added up.
type Defaults struct {
	Server    string          `yaml:"server" jsonschema_description:"The server of apps that name none."`
	Database  DatabaseDefault `yaml:"database" jsonschema_description:"Character set and collation of databases that name none."`
	Account   AccountDefault  `yaml:"account" jsonschema_description:"What accounts have that do not say it themselves."`
	Ownership *Ownership      `yaml:"ownership" jsonschema_description:"Owner, group and modes of what is written."`
	PHP       *PHP            `yaml:"php" jsonschema_description:"What the applications need of PHP."`
}

// DatabaseDefault is the part of Database that apps can share.
type DatabaseDefault struct {
	Charset   string `yaml:"charset" jsonschema_description:"Character set, utf8mb4 by default."`
	Collation string `yaml:"collation" jsonschema_description:"Collation, utf8mb4_unicode_ci by default."`
}

// AccountDefault is the part of Account that apps can share.
type AccountDefault struct {
	ClientHosts []string `yaml:"client_hosts" jsonschema_description:"Hosts the accounts may come from."`
	Rights      Rights   `yaml:"rights" jsonschema_description:"Rights on the app's database."`
	Limits      Limits   `yaml:"limits" jsonschema_description:"Limits of the accounts."`
}

// Server is one database server.
type Server struct {
	Name   string       `yaml:"-" json:"-"`
	DBMS   dbms.Product `yaml:"dbms" jsonschema:"required,enum=mariadb,enum=mysql,enum=postgresql" jsonschema_description:"The product."`
	Socket string       `yaml:"socket" jsonschema_description:"Path of the server's socket, or for PostgreSQL its folder; else host and port."`
	Host   string       `yaml:"host" jsonschema_description:"Name or address of the server's host."`
	Port   int          `yaml:"port" jsonschema:"minimum=1,maximum=65535" jsonschema_description:"TCP port, the product's own by default."`
	TLS    dbms.TLSMode `yaml:"tls" jsonschema:"enum=none,enum=prefer,enum=require,enum=verify" jsonschema_description:"Encryption of TCP connections. If nothing is said, the administrator prefers it on this host, and over a network the server has to show who it is (verify)."`
	CA     string       `yaml:"ca" jsonschema_description:"File of certificates to trust with tls: verify."`
	// Certificate is as dbms.Fingerprint gives it, once it is loaded.
	Certificate string      `yaml:"certificate" jsonschema_description:"The one certificate to trust with tls: verify, whoever signed it: sha256: and its fingerprint, as openssl x509 -noout -fingerprint -sha256 prints it."`
	Admin       *Admin      `yaml:"admin" jsonschema_description:"The administrator's login. Without it only what says existing: true can be used."`
	SeenByApps  *SeenByApps `yaml:"seen_by_apps" jsonschema_description:"How the applications reach the server, where that differs from how we do."`
}

// Admin is the administrator's login. Without a password source the file is read that
// the product's clients read, and then the socket login tried.
type Admin struct {
	User     string          `yaml:"user" jsonschema_description:"The administrator's account; else that of the option file, else root, or postgres on PostgreSQL."`
	Password *PasswordSource `yaml:"password" jsonschema_description:"Where its password comes from; never the password itself."`
	Options  string          `yaml:"options" jsonschema_description:"Path of the clients' option file, ~/.my.cnf by default, or on PostgreSQL of the password file."`
}

// SeenByApps is the server's address as the applications see it.
type SeenByApps struct {
	Host   string `yaml:"host" jsonschema_description:"What the applications are to write as host."`
	Port   int    `yaml:"port" jsonschema:"minimum=1,maximum=65535" jsonschema_description:"What they are to write as port."`
	Socket string `yaml:"socket" jsonschema_description:"The socket that localhost means to their PHP."`
}

// App is one application.
type App struct {
	Name     string   `yaml:"-" json:"-"`
	Retired  string   `yaml:"retired" jsonschema_description:"The day since when it is out of use, as retire writes it: provision leaves it alone."`
	Server   string   `yaml:"server" jsonschema_description:"The server its database is on."`
	Folder   string   `yaml:"folder" jsonschema_description:"The application's folder, from the estate file; it may not exist yet."`
	URL      string   `yaml:"url" jsonschema_description:"Where its web site is: closing looks there whether the installer still answers."`
	Links    []string `yaml:"links" jsonschema_description:"Absolute folders outside of the application's that links in it may lead into."`
	Labels   []string `yaml:"labels" jsonschema_description:"Words of your own, for choosing apps with --label."`
	Database Database `yaml:"database" jsonschema_description:"The application's database."`
	// Databases take the place of Database where there are several; the first
	// one is then Database, too.
	Databases Databases  `yaml:"databases" jsonschema_description:"Its databases, where it has several, by names of your own; the first is the main one. {database:NAME} stands for one in settings, into: NAME sends a script there."`
	Accounts  []*Account `yaml:"accounts" jsonschema_description:"Its accounts; the settings get the first one."`
	Shared    bool       `yaml:"shared" jsonschema_description:"Another app that says so too may use the same database or account, with another prefix."`
	HostRule  bool       `yaml:"host_rule" jsonschema_description:"Write a host-based rule on PostgreSQL where a login would be refused; the server must be on this host."`
	Prefix    string     `yaml:"prefix" jsonschema_description:"Table prefix, for settings values and imports."`
	PHP       *PHP       `yaml:"php" jsonschema_description:"What the application needs of PHP."`
	Import    []Script   `yaml:"import" jsonschema_description:"SQL scripts to import into an empty database, in this order."`
	// ServerDuringImport are global variables of the server, by their names.
	ServerDuringImport map[string]Variable `yaml:"server_during_import" jsonschema_description:"Global variables of the server that are set for the import only, and restored whatever happens."`
	Settings           []*Settings         `yaml:"settings" jsonschema_description:"The application's settings files."`
	// AfterSettingsChange are commands as lists of a program and its arguments.
	AfterSettingsChange [][]string `yaml:"after_settings_change" jsonschema_description:"Commands, each a list of program and arguments, to run when a settings file was written. No shell reads them."`
	Installer           Installer  `yaml:"installer" jsonschema_description:"What the application's own web installer makes."`
	// InstallerFiles are folders, with a slash at the end, and files.
	InstallerFiles []string   `yaml:"installer_files" jsonschema_description:"Installer and samples, from the app's folder, to be removed when its installation is done; shown with the connection facts."`
	Ownership      *Ownership `yaml:"ownership" jsonschema_description:"Owner, group and modes of what is written."`
	Notes          []string   `yaml:"notes" jsonschema_description:"What the administrator has to remember; shown with the connection facts."`
	Accept         []Accepted `yaml:"accept" jsonschema_description:"Differences that are meant to be: verify tells them as notes."`
}

// Accepted is a difference that is meant to be.
type Accepted struct {
	Finding string `yaml:"finding" jsonschema:"required" jsonschema_description:"What is found, by its code, which verify --details shows."`
	Object  string `yaml:"object" jsonschema:"required" jsonschema_description:"On what it is found: a table, a database, an account, a file."`
	Why     string `yaml:"why" jsonschema:"required" jsonschema_description:"Why it is meant to be, for whoever comes next."`
}

// The codes of findings that can be accepted.
const (
	FindingTableCollation    = "table-collation"    // another than its database's
	FindingNotExported       = "not-exported"       // of a kind that exports do not hold
	FindingDatabaseCollation = "database-collation" // another than the estate file's
	FindingLocaleRules       = "locale-rules"       // of another version than when indexes were built
	FindingConnectionCharset = "connection-charset" // another than the database's
	FindingAccountLimits     = "account-limits"     // others than the estate file's
	FindingSecondPassword    = "second-password"    // beside the account's own
	FindingProviderRights    = "provider-rights"    // others than the estate file's, where no administrator is known
	FindingFileAttributes    = "file-attributes"    // owner or mode of a file or folder
	FindingWorldWritable     = "world-writable"     // a file or folder in the application's
	FindingSettingsCopy      = "settings-copy"      // a copy of a settings file beside it
	FindingRepository        = "repository"         // a folder of version control
	FindingDump              = "dump"               // a script that looks like a copy of a database
)

// Findings lists them for validation and help.
var Findings = []string{FindingTableCollation, FindingNotExported, FindingDatabaseCollation, FindingLocaleRules, FindingConnectionCharset, FindingAccountLimits, FindingSecondPassword, FindingProviderRights, FindingFileAttributes,
	FindingWorldWritable, FindingSettingsCopy, FindingRepository, FindingDump}

// Accepts gives the reason for which a finding on an object is meant to be; empty for
// one that is not.
func (a *App) Accepts(finding, object string) (why string) {
	for _, one := range a.Accept {
		if one.Finding == finding && one.Object == object {
			return one.Why
		}
	}
	return ""
}

// Databases are in the order of the estate file.
type Databases []*Database

// Database is a database of the application.
type Database struct {
	Key       string `yaml:"-" json:"-"` // its name in the estate file, where there are several
	Name      string `yaml:"name" jsonschema:"required" jsonschema_description:"Its name."`
	Charset   string `yaml:"charset" jsonschema_description:"Its character set."`
	Collation string `yaml:"collation" jsonschema_description:"Its collation."`
	Existing  bool   `yaml:"existing" jsonschema_description:"It was made by someone else, and is used as it is."`
}

// Account is a name with the hosts it may come from.
type Account struct {
	Name        string          `yaml:"name" jsonschema:"required" jsonschema_description:"Its name."`
	ClientHosts []string        `yaml:"client_hosts" jsonschema_description:"Hosts it may come from, localhost by default. % and _ are wildcards."`
	Rights      Rights          `yaml:"rights" jsonschema_description:"Rights on the app's database, structure by default."`
	Databases   []string        `yaml:"databases" jsonschema_description:"Which of the app's databases it has these rights on, by their names under databases; all of them by default."`
	Auth        string          `yaml:"auth" jsonschema_description:"How it logs in, for old clients: mysql_native_password, caching_sha2_password, scram-sha-256 or md5, as the server has it; what suits PHP by default."`
	Limits      Limits          `yaml:"limits" jsonschema_description:"Limits of the account."`
	RequireTLS  bool            `yaml:"require_tls" jsonschema_description:"It may log in over TLS only."`
	Password    *PasswordSource `yaml:"password" jsonschema_description:"Where its password comes from; else one is made."`
	Existing    bool            `yaml:"existing" jsonschema_description:"It was made by someone else, and is used as it is."`
}

// Limits of an account.
type Limits struct {
	Connections int `yaml:"connections" jsonschema:"minimum=0" jsonschema_description:"Connections it may have at once; 0 for no limit."`
}

// Rights are levels and privilege names for the two states of an app. Where
// the estate file gives one list, both states have it.
type Rights struct {
	Installing []string
	Running    []string
}

// IsZero reports whether nothing was said.
func (r Rights) IsZero() bool { return r.Installing == nil && r.Running == nil }

// Split reports whether the states have rights of their own.
func (r Rights) Split() bool {
	return !equal(r.Installing, r.Running)
}

func equal(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// PasswordSource is where a password comes from.
type PasswordSource struct{ secret.Source }

// PHP is what an application needs of PHP.
type PHP struct {
	User          string               `yaml:"user" jsonschema_description:"The user that PHP runs as; files of the application that it has made, and owns, may be read and changed."`
	Configuration string               `yaml:"configuration" jsonschema_description:"Folder of the php.ini in force, such as /etc/php/8.2/fpm; else it is looked for."`
	Scan          string               `yaml:"scan" jsonschema_description:"Folder of the files that PHP reads after php.ini; conf.d beside it by default."`
	DropIn        bool                 `yaml:"drop_in" jsonschema_description:"Write a file into that folder with the settings that the application needs and PHP does not have."`
	Extensions    []string             `yaml:"extensions" jsonschema_description:"Extensions it needs."`
	INI           map[string]Condition `yaml:"ini" jsonschema_description:"Limits and switches: \">= 256M\", \"on\", or a map of want and severity."`
}

// Severity of a finding.
type Severity string

// Severities, gravest first.
const (
	MustFix    Severity = "must-fix"
	ShouldLook Severity = "should-look"
	GoodToKnow Severity = "good-to-know"
)

// Severities lists them for validation and help.
var Severities = []string{string(MustFix), string(ShouldLook), string(GoodToKnow)}

// Condition is what a php.ini setting has to be.
type Condition struct {
	Want     string   // "on", "off", "utf-8", "= On", ">= 40", "<= 2M"
	Severity Severity // MustFix by default
}

// Script is one SQL file to import.
type Script struct {
	File           string `yaml:"file" jsonschema:"required" jsonschema_description:"The file, from the app's folder; plain, or packed with gzip, bzip2, xz, zstd or zip."`
	Into           string `yaml:"into" jsonschema_description:"The one of the app's databases that it goes into, by its name under databases."`
	Encoding       string `yaml:"encoding" jsonschema_description:"Its encoding, utf-8 by default; binary for bytes that are not looked at."`
	PrefixToken    string `yaml:"prefix_token" jsonschema_description:"What stands for the table prefix in the script."`
	Retarget       bool   `yaml:"retarget" jsonschema_description:"The script makes or chooses a database of a fixed name, or accounts for it: leave that out, and import into the app's."`
	MapCollations  bool   `yaml:"map_collations" jsonschema_description:"Put the nearest collation in place of one that the server lacks."`
	ConvertCharset bool   `yaml:"convert_charset" jsonschema_description:"Convert tables in latin1 or utf8 to utf8mb4, and MyISAM tables to InnoDB."`
	Fast           bool   `yaml:"fast" jsonschema_description:"On PostgreSQL: several sessions side by side instead of one transaction, also where something was there before."`
}

// Variable is the value of a server variable, as text.
type Variable string

// Settings is one settings file.
type Settings struct {
	File     string `yaml:"file" jsonschema:"required" jsonschema_description:"The file, from the app's folder."`
	Template string `yaml:"template" jsonschema_description:"What it is made from while it is absent."`
	Add      bool   `yaml:"add" jsonschema_description:"Add addresses that the file does not have, as in a file that only overrides others."`
	// Account is a name of the app's accounts; empty for the first one.
	Account string `yaml:"account" jsonschema_description:"The account whose facts the file gets, if not the first one."`
	// ReplaceExpression allows a plain value in place of one that is evaluated.
	ReplaceExpression bool   `yaml:"replace_expression" jsonschema_description:"Put values in place of ones that are evaluated: conditions, concatenations, what comes from elsewhere."`
	Values            Values `yaml:"values" jsonschema:"required" jsonschema_description:"What to write: address in the file's own notation, and text with placeholders."`
}

// Values are in the order of the estate file.
type Values []Value

// Value is what one address gets.
type Value struct {
	Address string
	Text    Text
}

// Installer is what the application's own web installer makes.
type Installer struct {
	Tables   bool     `yaml:"tables" jsonschema_description:"It makes the tables."`
	Settings []string `yaml:"settings" jsonschema_description:"Settings files it writes; settings must say which values to look for in them."`
}

// Ownership is who owns what is written, and with which modes.
type Ownership struct {
	Owner    string   `yaml:"owner" jsonschema_description:"User name of the owner."`
	Group    string   `yaml:"group" jsonschema_description:"Name of the group."`
	Modes    Modes    `yaml:"modes" jsonschema_description:"Modes of the settings files."`
	Folders  Modes    `yaml:"folders" jsonschema_description:"Modes of the folders that hold settings files."`
	Writable []string `yaml:"writable" jsonschema_description:"Folders the application may write to, from its own or anywhere: they are made where they are missing, and what is below them is the owner's."`
}

// Modes of files or folders in the two states, as file permission bits; 0 when
// nothing was said.
type Modes struct {
	Installing Mode `yaml:"installing" jsonschema_description:"While the app is open for its installer."`
	Running    Mode `yaml:"running" jsonschema_description:"While the app is closed."`
}

// Split reports whether the states have modes of their own.
func (m Modes) Split() bool { return m.Installing != 0 && m.Running != 0 && m.Installing != m.Running }

// Mode is a file mode such as "0440".
type Mode uint32

// Size is a number of bytes, written with K, M or G for powers of 1024.
type Size int64

// Days is a number of them, written with a d after it.
type Days int

// All gives the app's databases, the main one first.
func (a *App) All() []*Database {
	all := []*Database{&a.Database}
	for i, d := range a.Databases {
		if i > 0 {
			all = append(all, d)
		}
	}
	return all
}

// DatabaseFor gives a database by its name in the estate file, the main one for
// no name; nil for an unknown one.
func (a *App) DatabaseFor(key string) *Database {
	for _, d := range a.All() {
		if key == "" || d.Key == key {
			return d
		}
	}
	return nil
}

// DatabasesOf gives those of the app's databases that an account has rights on.
func (a *App) DatabasesOf(account *Account) []*Database {
	if len(account.Databases) == 0 {
		return a.All()
	}
	var some []*Database
	for _, key := range account.Databases {
		some = append(some, a.DatabaseFor(key))
	}
	return some
}

// Path is where the estate file describes the database, below its app.
func (d *Database) Path() string {
	if d.Key == "" {
		return "database"
	}
	return "databases." + d.Key
}
