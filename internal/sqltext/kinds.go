package sqltext

import "strings"

// passedWords stand between CREATE, ALTER or DROP and the kind of object.
var passedWords = map[string]bool{
	"OR": true, "REPLACE": true, "GLOBAL": true, "LOCAL": true, "TEMP": true, "TEMPORARY": true, "UNLOGGED": true, "UNIQUE": true,
	"RECURSIVE": true, "CONSTRAINT": true, "MATERIALIZED": true, "TRUSTED": true, "PROCEDURAL": true, "DEFAULT": true,
}

// longKinds are kinds of objects that are not what their first word says, by that word and the
// one after it.
var longKinds = map[string]map[string]bool{
	"FOREIGN": {"TABLE": true, "DATA": true}, "EVENT": {"TRIGGER": true}, "TEXT": {"SEARCH": true}, "USER": {"MAPPING": true},
	"OPERATOR": {"CLASS": true, "FAMILY": true}, "ACCESS": {"METHOD": true}, "LARGE": {"OBJECT": true},
}

// readPostgresHead reads the object of a statement in PostgreSQL's dialect
// (PostgreSQL, "SQL Commands"): the kind is whatever word stands where a kind
// does, so that one not known here is seen, too.
func (h *Head) readPostgresHead(s *Scanner) {
	t, ok := s.Next()
	next := func() { t, ok = s.Next() }
	for ok && t.Kind == Word && passedWords[strings.ToUpper(string(t.Text))] && h.Verb != "TRUNCATE" {
		if h.Verb == "ALTER" && t.Is("DEFAULT") {
			h.Object = "DEFAULT PRIVILEGES"
			return
		}
		next()
	}
	if h.Verb == "TRUNCATE" {
		h.Object = "TABLE"
		if t.Is("TABLE") {
			next()
		}
	} else {
		if !ok || t.Kind != Word {
			return
		}
		h.Object = strings.ToUpper(string(t.Text))
		first := t
		next()
		if second := strings.ToUpper(string(t.Text)); ok && t.Kind == Word && longKinds[strings.ToUpper(string(first.Text))][second] {
			h.Object += " " + second
			next()
		}
	}
	for ok && (t.Is("IF") || t.Is("NOT") || t.Is("EXISTS") || t.Is("ONLY") || t.Is("CONCURRENTLY")) {
		next()
	}
	if !ok {
		return
	}
	if h.Object == "INDEX" && t.Is("ON") { // the server names it
		h.Table = tableBehind(s)
		return
	}
	behind := Token{}
	h.Name, behind = readName(s, t)
	switch {
	case h.Verb == "CREATE" && (h.Object == "TRIGGER" || h.Object == "INDEX" || h.Object == "RULE" || h.Object == "POLICY"):
		word := map[bool]string{true: "TO", false: "ON"}[h.Object == "RULE"] // CREATE RULE r AS ON INSERT TO t
		for ok := true; ok && !behind.Is(word); behind, ok = s.Next() {
		}
		h.Table = tableBehind(s)
	case h.Object == "TABLE":
		h.Table = h.Name
	}
}

// tableBehind reads the name that comes next.
func tableBehind(s *Scanner) ObjectName {
	t, ok := s.Next()
	if ok && t.Is("ONLY") {
		t, ok = s.Next()
	}
	if !ok {
		return ObjectName{}
	}
	name, _ := readName(s, t)
	return name
}

// folded is a token as a name: PostgreSQL keeps names without quotes in small
// letters.
func (s *Scanner) folded(t Token) string {
	if s.dialect.PostgreSQL && t.Kind == Word {
		return strings.ToLower(string(t.Text))
	}
	return t.Plain()
}
