package settings

import (
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/wordset"
)

// Role is what a connection setting is for.
type Role string

// The roles. All but Driver and DSN stand for a fact that an estate file knows.
const (
	Host      Role = "host"
	Port      Role = "port"
	Socket    Role = "socket"
	User      Role = "user"
	Password  Role = "password"
	Database  Role = "database"
	Prefix    Role = "prefix"
	Charset   Role = "charset"
	Collation Role = "collation"
	Driver    Role = "driver"
	DSN       Role = "dsn"
)

// roleWords are the last words of keys, by role, the clearest first. They are
// words of the trade, also as it is spoken in German, French, Spanish and Portuguese.
var roleWords = map[Role]string{
	Host:      "host hostname server servername hostspec srv servidor serveur address ip",
	Port:      "port portnum portnumber puerto porta",
	Socket:    "socket sock unixsocket",
	User:      "user username login uid userid usr uname usuario utilisateur benutzer",
	Password:  "password passwd passphrase passwort kennwort pass pwd pw passw pswd contrasena clave senha mdp motdepasse secret word",
	Database:  "database dbname dbase databasename defaultdb databasedefault datenbank basedatos db bdd bd banco catalog base schema name nombre nom nome",
	Prefix:    "prefix tableprefix prefixe prefixtable prefixetable pfix pfx praefix tablepre tblpre tblpfx pre pref",
	Charset:   "charset characterset encoding",
	Collation: "collation collate collat",
	Driver:    "driver dbms dbtype rdbms adapter dialect engine type",
	DSN:       "dsn url uri connectionstring",
}

// vague are words that mean a role only where something else speaks of a
// database: APP_NAME is not the name of one.
var vague = map[string]bool{"name": true, "nombre": true, "nom": true, "nome": true, "porta": true, "base": true, "schema": true, "catalog": true, "type": true, "engine": true, "address": true, "pre": true, "pref": true, "ip": true, "word": true, "secret": true, "clave": true, "url": true, "uri": true}

// DatabaseWords are words of a key, or of the group it stands in, that speak of
// a database.
var DatabaseWords = wordset.Of("db database databases sql mysql mysqli mariadb pgsql postgres postgresql pdo rdbms dbms datasource datasources " +
	"connection connections store storage dsn schema tables dbal orm datenbank bdd bd banco")

// rank is how clearly a word says its role, 0 the clearest.
type rank struct {
	role  Role
	place int
}

var roles = func() map[string]rank {
	m := map[string]rank{}
	for role, words := range roleWords {
		for i, word := range strings.Fields(words) {
			m[word] = rank{role, i}
		}
	}
	return m
}()

// joined are role words that are found at the end of a longer word: dbhost,
// sqluser. Those of two or three letters are not, but for a database's.
var joined = func() []string {
	var words []string
	for word := range roles {
		if len(word) > 3 || word == "pwd" || word == "dsn" {
			words = append(words, word)
		}
	}
	slices.SortFunc(words, func(a, b string) int { return len(b) - len(a) })
	return words
}()

var element = regexp.MustCompile(`[A-Za-z0-9_-]+`)

// Key is what an address says by its words.
type Key struct {
	Role Role // empty for none
	// Rank says how clearly the last word tells the role, 0 the clearest.
	Rank int
	// Vague says that the word means the role only where something else speaks
	// of a database.
	Vague bool
	// Container is the address without its last element, Stem the words of the
	// last element before the one that tells the role.
	Container string
	Stem      []string
}

// Words are those of the container and the stem, in small letters.
func (k Key) Words() []string { return append(Words(k.Container), k.Stem...) }

// OfDatabase reports whether the container or the stem speaks of a database.
func (k Key) OfDatabase() bool {
	return slices.ContainsFunc(k.Words(), func(word string) bool {
		return DatabaseWords[word] || strings.HasPrefix(word, "db") || strings.HasSuffix(word, "db") || strings.Contains(word, "sql")
	})
}

// Words are the words of a text in small letters, cut at all that is no letter and at
// capitals inside: db_userName, DBUser.
func Words(text string) (words []string) {
	isUpper := func(i int) bool { return i >= 0 && i < len(text) && text[i] >= 'A' && text[i] <= 'Z' }
	isLower := func(i int) bool { return i >= 0 && i < len(text) && text[i] >= 'a' && text[i] <= 'z' }
	start := 0
	take := func(end int) {
		if end > start {
			words = append(words, strings.ToLower(text[start:end]))
		}
	}
	for i := range len(text) {
		switch {
		case !isUpper(i) && !isLower(i):
			take(i)
			start = i + 1
		case isUpper(i) && (isLower(i-1) || isUpper(i-1) && isLower(i+1)):
			take(i)
			start = i
		}
	}
	take(len(text))
	return words
}

// ReadKey reads the words of an address.
func ReadKey(address string) Key {
	elements := element.FindAllStringIndex(address, -1)
	if len(elements) == 0 {
		return Key{}
	}
	last := elements[len(elements)-1]
	k := Key{Container: address[:last[0]]}
	if strings.HasSuffix(k.Container, "$") && len(elements) == 1 {
		k.Container = ""
	}
	k.Stem = Words(address[last[0]:last[1]])
	if k.Role, k.Rank, k.Vague = k.takeRole(); k.Vague && k.OfDatabase() {
		k.Vague = false
	}
	return k
}

// takeRole takes the words that tell the role off the stem.
func (k *Key) takeRole() (role Role, place int, isVague bool) {
	n := len(k.Stem)
	if n >= 2 { // table_prefix, data_base, user_name, pass_word
		if r, known := roles[k.Stem[n-2]+k.Stem[n-1]]; known && k.Stem[n-2] != "db" {
			k.Stem = k.Stem[:n-2]
			return r.role, r.place, false
		}
	}
	if n == 0 {
		return "", 0, false
	}
	last := k.Stem[n-1]
	if r, known := roles[last]; known && last != "dbname" && last != "dbtype" {
		k.Stem = k.Stem[:n-1]
		return r.role, r.place, vague[last]
	}
	for _, word := range joined {
		const longest = 10 // of what may stand before: "connection"
		if stem, has := strings.CutSuffix(last, word); has && stem != "" && len(stem) <= longest && (!vague[word] || DatabaseWords[stem]) {
			k.Stem = append(slices.Clone(k.Stem[:n-1]), stem)
			return roles[word].role, roles[word].place, false
		}
	}
	return "", 0, false
}

// RoleOf guesses the role of a setting from its address; empty for none, and
// where the word alone says too little.
func RoleOf(address string) Role {
	if k := ReadKey(address); !k.Vague {
		return k.Role
	}
	return ""
}
