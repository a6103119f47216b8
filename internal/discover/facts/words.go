package facts

import (
	"path"
	"slices"
	"strings"

	"yellowfield/internal/settings"
	"yellowfield/internal/wordset"
)

// Foreign are words of groups that are not about the application's own
// database, and what they are about.
var Foreign = func() map[string]string {
	m := map[string]string{}
	for about, words := range map[string]string{
		"mail":                    "mail mailer email smtp imap pop pop3 sendmail",
		"a directory":             "ldap directory ad radius saml cas sso auth oauth",
		"a cache or queue":        "cache redis memcache memcached queue amqp broker session",
		"a file transfer":         "ftp ftps sftp ssh webdav s3 bucket",
		"a service":               "api proxy sms xmpp jabber irc captcha payment gateway vault http https search recaptcha push",
		"an administrator":        "admin administrator root superuser",
		"tests":                   "test tests testing phpunit travis ci fixture",
		"a copy of the database":  "slave slaves replica replicas readonly secondary standby reader backup archive",
		"another database":        "legacy old import external remote foreign migrate bridge",
		"another kind of account": "cookie logging guest",
	} {
		for word := range wordset.Of(words) {
			m[word] = about
		}
	}
	return m
}()

// LongForeign are those words that are told at the beginning of longer ones:
// smtphost, mailuser.
var LongForeign = []string{"mail", "smtp", "imap", "ldap", "redis", "memcache", "cache", "sftp", "admin"}

// Selectors are words of a setting that says which group is in force.
var Selectors = wordset.Of("default active use current selected group connection driver type adapter environment env mode choice backend dbms engine which")

// Words of paths.
var (
	SettingsNames = wordset.Of("config configuration settings setting conf cfg database db local parameters params connect connection env options site")
	AwayFolders   = wordset.Of("doc docs documentation example examples demo demos contrib docker deploy github gitlab ci build tools dev " +
		"plugin plugins module modules extension extensions addon addons theme themes skin skins lang language languages locale locales i18n translations")
	InstallerWords = wordset.Of("install installer installation setup wizard")
)

// Families of servers, as an estate file's dbms has them. MariaDB and MySQL
// are one here, since applications do not tell them apart.
const (
	FamilyMySQL      = "mysql"
	FamilyPostgreSQL = "postgresql"
	FamilyOther      = "another"
)

// FamilyOf is the family of a driver as settings name it: mysqli, or the path of
// a class that ends in it; empty for another text.
func FamilyOf(driver string) string {
	driver = strings.ToLower(driver)
	return Drivers[driver[strings.LastIndexAny(driver, `/\`)+1:]]
}

// Drivers are names of drivers, by family.
var Drivers = map[string]string{
	"mysql": FamilyMySQL, "mysqli": FamilyMySQL, "mariadb": FamilyMySQL, "pdo_mysql": FamilyMySQL, "mysql_pdo": FamilyMySQL, "mysqlnd": FamilyMySQL, "pdo:mysql": FamilyMySQL, "pdo-mysql": FamilyMySQL, "mysql2": FamilyMySQL, "pdomysql": FamilyMySQL, "mysql8": FamilyMySQL,
	"pgsql": FamilyPostgreSQL, "postgres": FamilyPostgreSQL, "postgresql": FamilyPostgreSQL, "pdo_pgsql": FamilyPostgreSQL, "pgsql_pdo": FamilyPostgreSQL, "pdo-pgsql": FamilyPostgreSQL, "pdopgsql": FamilyPostgreSQL, "postgresql8": FamilyPostgreSQL, "pg": FamilyPostgreSQL,
	"sqlite": FamilyOther, "sqlite3": FamilyOther, "pdo_sqlite": FamilyOther, "sqlsrv": FamilyOther, "mssql": FamilyOther, "oci8": FamilyOther, "oracle": FamilyOther, "ibm_db2": FamilyOther,
}

// Charsets are values that name a character set of a database, not of a page.
var Charsets = wordset.Of("utf8 utf8mb4 utf8mb3 latin1 ascii unicode")

// IsApart reports whether a file is in a folder of parts, examples or the like.
func IsApart(name string) bool {
	return slices.ContainsFunc(settings.Words(path.Dir(name)), func(word string) bool { return AwayFolders[word] })
}

// IsInstallers reports whether a file is an installer's by its path.
func IsInstallers(name string) bool {
	return slices.ContainsFunc(settings.Words(name), func(w string) bool { return InstallerWords[w] })
}

var RunsIt = wordset.Of("include include_once require require_once")

// ValueOrder is the order in which values are written into an entry.
var ValueOrder = []settings.Role{settings.DSN, settings.Driver, settings.Host, settings.Port, settings.Socket, settings.Database, settings.User, settings.Password, settings.Prefix, settings.Charset, settings.Collation}

// Title is a family's name for people.
func Title(family string) string {
	switch family {
	case FamilyMySQL:
		return "MariaDB or MySQL"
	case FamilyPostgreSQL:
		return "PostgreSQL"
	}
	return "another server"
}
