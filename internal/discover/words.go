package discover

import (
	"path"
	"slices"
	"strings"

	"yellowfield/internal/settings"
	"yellowfield/internal/wordset"
)

// foreign are words of groups that are not about the application's own
// database, and what they are about.
var foreign = func() map[string]string {
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

// longForeign are those words that are told at the beginning of longer ones:
// smtphost, mailuser.
var longForeign = []string{"mail", "smtp", "imap", "ldap", "redis", "memcache", "cache", "sftp", "admin"}

// always are what makes a group foreign even if it is about a database.
var always = map[string]bool{"tests": true, "a copy of the database": true, "another database": true}

// mainGroups are names of the group that is in force where several stand side
// by side.
var mainGroups = wordset.Of("default main master primary production prod live write writer")

// selectors are words of a setting that says which group is in force.
var selectors = wordset.Of("default active use current selected group connection driver type adapter environment env mode choice backend dbms engine which")

// Words of paths.
var (
	settingsNames = wordset.Of("config configuration settings setting conf cfg database db local parameters params connect connection env options site")
	awayFolders   = wordset.Of("doc docs documentation example examples demo demos contrib docker deploy github gitlab ci build tools dev " +
		"plugin plugins module modules extension extensions addon addons theme themes skin skins lang language languages locale locales i18n translations")
	installerWords = wordset.Of("install installer installation setup wizard")
)

// Families of servers, as an estate file's dbms has them. MariaDB and MySQL
// are one here, since applications do not tell them apart.
const (
	familyMySQL      = "mysql"
	familyPostgreSQL = "postgresql"
	familyOther      = "another"
)

// familyOf is the family of a driver as settings name it: mysqli, or the path of
// a class that ends in it; empty for another text.
func familyOf(driver string) string {
	driver = strings.ToLower(driver)
	return drivers[driver[strings.LastIndexAny(driver, `/\`)+1:]]
}

// drivers are names of drivers, by family.
var drivers = map[string]string{
	"mysql": familyMySQL, "mysqli": familyMySQL, "mariadb": familyMySQL, "pdo_mysql": familyMySQL, "mysql_pdo": familyMySQL, "mysqlnd": familyMySQL, "pdo:mysql": familyMySQL, "pdo-mysql": familyMySQL, "mysql2": familyMySQL, "pdomysql": familyMySQL, "mysql8": familyMySQL,
	"pgsql": familyPostgreSQL, "postgres": familyPostgreSQL, "postgresql": familyPostgreSQL, "pdo_pgsql": familyPostgreSQL, "pgsql_pdo": familyPostgreSQL, "pdo-pgsql": familyPostgreSQL, "pdopgsql": familyPostgreSQL, "postgresql8": familyPostgreSQL, "pg": familyPostgreSQL,
	"sqlite": familyOther, "sqlite3": familyOther, "pdo_sqlite": familyOther, "sqlsrv": familyOther, "mssql": familyOther, "oci8": familyOther, "oracle": familyOther, "ibm_db2": familyOther,
}

// charsets are values that name a character set of a database, not of a page.
var charsets = wordset.Of("utf8 utf8mb4 utf8mb3 latin1 ascii unicode")

// isApart reports whether a file is in a folder of parts, of examples or the like.
func isApart(name string) bool {
	return slices.ContainsFunc(settings.Words(path.Dir(name)), func(word string) bool { return awayFolders[word] })
}

// isInstallers reports whether a file is an installer's by its path.
func isInstallers(name string) bool {
	return slices.ContainsFunc(settings.Words(name), func(w string) bool { return installerWords[w] })
}

var runsIt = wordset.Of("include include_once require require_once")

// valueOrder is the order in which values are written into an entry.
var valueOrder = []settings.Role{settings.DSN, settings.Driver, settings.Host, settings.Port, settings.Socket, settings.Database, settings.User, settings.Password, settings.Prefix, settings.Charset, settings.Collation}

// Title is a family's name for people.
func Title(family string) string {
	switch family {
	case familyMySQL:
		return "MariaDB or MySQL"
	case familyPostgreSQL:
		return "PostgreSQL"
	}
	return "another server"
}
