package settings

import (
	"regexp"
	"strings"
)

// Role is what a connection setting is for, as far as its key tells.
type Role string

// roleWords are the last words of keys, by role. They are words of the trade.
var roleWords = map[Role]string{
	"host":     "host hostname server hostspec address",
	"port":     "port",
	"socket":   "socket",
	"user":     "user username login uid",
	"password": "password passwd pass pwd word passphrase secret",
	"database": "database dbname db base schema name",
	"prefix":   "prefix",
	"charset":  "charset encoding",
	"driver":   "driver dbms dbtype adapter engine",
	"dsn":      "dsn url uri",
}

var roles = func() map[string]Role {
	m := map[string]Role{}
	for role, words := range roleWords {
		for word := range strings.FieldsSeq(words) {
			m[word] = role
		}
	}
	return m
}()

var (
	camel    = regexp.MustCompile(`([a-z0-9])([A-Z])`)
	keyWords = regexp.MustCompile(`[A-Za-z]+`)
)

// RoleOf guesses the role from the last word of an address; empty for none.
func RoleOf(address string) Role {
	words := keyWords.FindAllString(camel.ReplaceAllString(address, "$1 $2"), -1)
	if len(words) == 0 {
		return ""
	}
	last := strings.ToLower(words[len(words)-1])
	if role := roles[last]; role != "" {
		return role
	}
	for _, short := range []string{"host", "user", "pass", "port", "prefix", "charset", "name"} { // dbhost, sqluser
		if strings.HasSuffix(last, short) && len(last)-len(short) <= 5 {
			return roles[short]
		}
	}
	return ""
}
