package dbms

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/secret"
)

// Product is the kind of a server, spelled as in the estate file.
type Product string

// The products that Yellowfield can provision.
const (
	MariaDB    Product = "mariadb"
	MySQL      Product = "mysql"
	PostgreSQL Product = "postgresql"
)

// Products lists them for validation and help.
var Products = []string{string(MariaDB), string(MySQL), string(PostgreSQL)}

// Traits are what is true of every server of a product. Callers ask for a trait, never for the
// product's name.
type Traits struct {
	Title string // as its makers write it
	Port  int    // that its servers listen on unless told otherwise
	// Family is the product whose clients and scripts it takes, as far as an
	// application can tell.
	Family string
	// LongestDatabase and LongestUser are in characters (MariaDB, "Identifier
	// Names"; MySQL Reference Manual, "Identifier Length Limits"; PostgreSQL,
	// "Identifiers and Key Words").
	LongestDatabase, LongestUser int
	// DriverWords are what applications and their installers call the way to it, PHP's own
	// names first.
	DriverWords []string
	// LoginMethods are the ways to log in that PHP's clients and a stored verifier
	// can have, the usual one first.
	LoginMethods []string
	// HostsInAccounts: an account is a name and where it comes from; else rules of
	// the server decide about hosts, and about TLS.
	HostsInAccounts bool
	// LocalhostIsSocket: clients take the host localhost for the socket; else the
	// socket's folder can be a host, and sslmode is a word of theirs.
	LocalhostIsSocket bool
	// Privileges: each of a database's can be granted by itself; else by level.
	Privileges bool
	// Variables: some of the server's own matter to an import.
	Variables bool
	// TwoPasswords: an account can have two for a while.
	TwoPasswords bool
	// BindsChannel: a login over TLS can prove that the server knows the password.
	BindsChannel bool
	// WhereCollations tells a person how to list them.
	WhereCollations string
}

var traits = map[Product]Traits{
	MariaDB: {
		Title: "MariaDB", Port: 3306, Family: string(MySQL), LongestDatabase: 64, LongestUser: 80, DriverWords: []string{"mysqli", "pdo_mysql", "mysql", "mariadb"}, LoginMethods: []string{secret.MethodNative},
		HostsInAccounts: true, LocalhostIsSocket: true, Privileges: true, Variables: true, TwoPasswords: true, WhereCollations: "SHOW COLLATION lists those there are",
	},
	MySQL: {
		Title: "MySQL", Port: 3306, Family: string(MySQL), LongestDatabase: 64, LongestUser: 32, DriverWords: []string{"mysqli", "pdo_mysql", "mysql"}, LoginMethods: []string{secret.MethodCachingSHA2, secret.MethodNative},
		HostsInAccounts: true, LocalhostIsSocket: true, Privileges: true, Variables: true, TwoPasswords: true, WhereCollations: "SHOW COLLATION lists those there are",
	},
	PostgreSQL: {
		Title: "PostgreSQL", Port: 5432, Family: string(PostgreSQL), LongestDatabase: 63, LongestUser: 63, DriverWords: []string{"pgsql", "pdo_pgsql", "postgresql", "postgres"}, LoginMethods: []string{secret.MethodSCRAM, secret.MethodMD5},
		BindsChannel: true, WhereCollations: "SELECT collcollate FROM pg_collation lists the system's; icu:de-DE names one of the ICU library",
	},
}

// Traits gives what the product is like; zero for one that is not known.
func (p Product) Traits() Traits { return traits[p] }

// DefaultPort is the TCP port that servers of the product listen on unless told
// otherwise; that of MySQL for a product that is not known.
func (p Product) DefaultPort() int {
	if t, known := traits[p]; known {
		return t.Port
	}
	return traits[MySQL].Port
}

// Title is the product's name as its makers write it.
func (p Product) Title() string {
	if t, known := traits[p]; known {
		return t.Title
	}
	return string(p)
}

// Accounts gives the accounts that a name has: one for each host that it may come
// from, where hosts are a part of accounts.
func (p Product) Accounts(name string, hosts []string) []Account {
	if !traits[p].HostsInAccounts {
		return []Account{{User: name}}
	}
	accounts := make([]Account, len(hosts))
	for i, host := range hosts {
		accounts[i] = Account{User: name, Host: host}
	}
	return accounts
}

// CompleteDatabase gives the character set and collation of a database as the product
// calls them, with what goes without saying, so that one estate file serves several
// products: UTF8 for utf8mb4, and the order of code points for a collation that only
// other products have.
func (p Product) CompleteDatabase(charset, collation string) (string, string) {
	if p == PostgreSQL {
		switch strings.ToLower(charset) {
		case "", "utf8", "utf-8", "utf8mb4":
			charset = "UTF8"
		}
		if collation == "" || strings.HasPrefix(collation, "utf8mb4_") || strings.HasPrefix(collation, "utf8_") {
			collation = "C.UTF-8"
		}
		return charset, collation
	}
	if charset == "" && (collation == "" || strings.HasPrefix(collation, "utf8mb4_")) {
		charset = "utf8mb4"
	}
	if charset == "utf8mb4" && collation == "" {
		collation = "utf8mb4_unicode_ci"
	}
	return charset, collation
}

var (
	charsetish = regexp.MustCompile(`^[a-z0-9_]+$`)
	localeish  = regexp.MustCompile(`^(icu:)?[A-Za-z0-9_.@-]+$`)
)

// CheckCharset and CheckCollation say what is wrong with a name, and what to write
// instead; empty when it can be one.
func (p Product) CheckCharset(charset string) (what, next string) {
	switch {
	case p == PostgreSQL && charset != "UTF8":
		return fmt.Sprintf("on PostgreSQL the character set %q is not made", charset), "leave it out: a database there is UTF8"
	case p != PostgreSQL && !charsetish.MatchString(charset):
		return fmt.Sprintf("%q cannot be a character set", charset), "write for instance charset: utf8mb4"
	}
	return "", ""
}

// CheckCollation is CheckCharset for collations.
func (p Product) CheckCollation(collation string) (what, next string) {
	switch {
	case p == PostgreSQL && !localeish.MatchString(collation):
		return fmt.Sprintf("%q cannot be a locale", collation), "a locale of the server, such as C.UTF-8, de_DE.UTF-8 or icu:de-DE"
	case p != PostgreSQL && !charsetish.MatchString(collation):
		return fmt.Sprintf("%q cannot be a collation", collation), "write for instance collation: utf8mb4_unicode_ci"
	}
	return "", ""
}

// LacksCollation reports whether a collation is one of the newer ones that only the other
// of MariaDB and MySQL makes (MariaDB 10.11 and MySQL 9.7, information_schema.COLLATIONS).
func (p Product) LacksCollation(collation string) bool {
	return p == MariaDB && strings.Contains(collation, "_0900_") || p == MySQL && strings.Contains(collation, "_uca1400_")
}

// IsRight reports whether a word is a level, or a privilege that the product grants
// on one database.
func (p Product) IsRight(word string) bool {
	return slices.Contains(Levels, word) || traits[p].Privileges && structure.Has(strings.ToUpper(word))
}
