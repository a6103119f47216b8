package postgres

import (
	"slices"
	"strings"

	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// omission is a kind of statement that is left out, and why.
type omission struct {
	verbs string
	is    func(j *judge, head sqltext.Head, tokens sqltext.Tokens) bool
	why   string
}

// omissions are tried in their order; the first that fits counts.
var omissions = []omission{
	{"ALTER", changesOwner, rolesElsewhere},
	{"ALTER", ofKind("DEFAULT PRIVILEGES"), rightsByEstate},
	{"ALTER", func(_ *judge, _ sqltext.Head, tokens sqltext.Tokens) bool { return presets(tokens) }, laterSessions},
	{"GRANT", always, rightsByEstate},
	{"REVOKE", takesRights, rightsByEstate},
	{"SET RESET", setsRole, rolesElsewhere},
	{"CREATE", isThere("SCHEMA", "public"), "the schema public is there"},
	{"CREATE", isThere("LANGUAGE", "plpgsql"), "the language plpgsql is there"},
	{"CREATE", isThere("EXTENSION", "plpgsql"), "the language plpgsql is there"},
	{"COMMENT", commentsOn("EXTENSION", "LANGUAGE", "DATABASE"), "a comment on what does not belong to the application"},
	{"COMMENT", standardComment, "the schema public is there"},
	{"CREATE COMMENT DROP", retargeted, "it makes or removes a database of a fixed name"},
	{"CREATE ALTER DROP", ofAccount, "retargeted: accounts and rights are those of the estate file"},
	{"VACUUM", inTransaction, "VACUUM cannot run in a transaction, and has nothing to tidy up here"},
	{"CLUSTER", inTransaction, "CLUSTER cannot run in a transaction, and has nothing to tidy up here"},
	{"COPY", copiesOut, "COPY ... TO STDOUT shows rows to someone who is not here"},
	{"SHOW", always, "SHOW shows something to someone who is not here"},
	{"EXPLAIN", always, "EXPLAIN shows something to someone who is not here"},
}

// drop says why a statement is left out; empty if it is not.
func (j *judge) drop(head sqltext.Head, tokens sqltext.Tokens) string {
	for _, o := range omissions {
		if slices.Contains(strings.Fields(o.verbs), head.Verb) && o.is(j, head, tokens) {
			return o.why
		}
	}
	if head.Verb == "SET" || head.Verb == "RESET" {
		if name := settingName(tokens); j.isUnknown(name) {
			return "SET " + name + ", which this server does not know"
		}
	}
	return ""
}

// isUnknown reports whether the server has no such setting; those with a dot in their
// names may be anybody's.
func (j *judge) isUnknown(setting string) bool {
	return j.server.Settings != nil && setting != "" && !strings.Contains(setting, ".") && !j.server.Settings[setting] && !notSettings[setting]
}

func always(*judge, sqltext.Head, sqltext.Tokens) bool { return true }

func inTransaction(j *judge, _ sqltext.Head, _ sqltext.Tokens) bool { return !j.options.Fast }

func ofKind(kind string) func(*judge, sqltext.Head, sqltext.Tokens) bool {
	return func(_ *judge, head sqltext.Head, _ sqltext.Tokens) bool { return head.Object == kind }
}

// isThere is for what every database has.
func isThere(kind, name string) func(*judge, sqltext.Head, sqltext.Tokens) bool {
	return func(_ *judge, head sqltext.Head, _ sqltext.Tokens) bool {
		return head.Object == kind && strings.EqualFold(head.Name.Name, name)
	}
}

func commentsOn(kinds ...string) func(*judge, sqltext.Head, sqltext.Tokens) bool {
	return func(_ *judge, _ sqltext.Head, tokens sqltext.Tokens) bool {
		return slices.ContainsFunc(kinds, func(kind string) bool { return tokens.Begins("COMMENT", "ON", kind) })
	}
}

func standardComment(_ *judge, _ sqltext.Head, tokens sqltext.Tokens) bool {
	return tokens.Begins("COMMENT", "ON", "SCHEMA", "public") && tokens.At(len(tokens)-1).Plain() == "standard public schema"
}

func retargeted(j *judge, head sqltext.Head, _ sqltext.Tokens) bool {
	return j.source.Retarget && head.Object == "DATABASE"
}

func ofAccount(j *judge, head sqltext.Head, _ sqltext.Tokens) bool {
	return j.source.Retarget && (head.Object == "USER" || head.Object == "ROLE")
}

// changesOwner is ALTER ... OWNER TO; beside other changes of a table it stays, and the
// server says that there is no such role.
func changesOwner(_ *judge, head sqltext.Head, tokens sqltext.Tokens) bool {
	last := len(tokens) - 1
	alone := head.Object != "TABLE" || !slices.ContainsFunc(tokens, func(t sqltext.Token) bool { return t.IsPunct(',') })
	return last >= 3 && tokens[last-1].Is("TO") && tokens[last-2].Is("OWNER") && alone
}

// takesRights is every REVOKE but those that close an object of the application's to
// everyone.
func takesRights(_ *judge, _ sqltext.Head, tokens sqltext.Tokens) bool {
	last := len(tokens) - 1
	return last < 1 || !tokens[last].Is("PUBLIC") || tokens.Has("DATABASE") || tokens.Has("SCHEMA")
}

func setsRole(_ *judge, _ sqltext.Head, tokens sqltext.Tokens) bool {
	return slices.ContainsFunc(tokens[1:min(4, len(tokens))], func(t sqltext.Token) bool { return t.Is("ROLE") || t.Is("AUTHORIZATION") })
}

func copiesOut(_ *judge, _ sqltext.Head, tokens sqltext.Tokens) bool {
	_, end := copied(tokens)
	return end.Is("STDOUT")
}

// presets reports whether a statement is an ALTER DATABASE or ALTER ROLE that sets
// what later sessions begin with. tokens begin with ALTER.
func presets(tokens sqltext.Tokens) bool {
	if len(tokens) < 4 || !tokens[1].Is("DATABASE") && !tokens[1].Is("ROLE") && !tokens[1].Is("USER") {
		return false
	}
	rest := tokens[3:]
	if len(rest) > 3 && rest[0].Is("IN") && rest[1].Is("DATABASE") {
		rest = rest[3:]
	}
	return rest[0].Is("RESET") || rest[0].Is("SET") && (len(rest) < 2 || !rest[1].Is("TABLESPACE"))
}

// notSettings are words after SET that are no setting of the server.
var notSettings = wordset.Of("time names transaction constraints session all local seed schema")

// settingName is the setting of a SET or RESET, in small letters.
func settingName(tokens sqltext.Tokens) string {
	for i, t := range tokens[1:] {
		if t.Is("SESSION") || t.Is("LOCAL") {
			continue
		}
		if i+3 < len(tokens) && tokens[i+2].IsPunct('.') {
			return ""
		}
		return strings.ToLower(t.Plain())
	}
	return ""
}

// copied tells which way a COPY goes, FROM or TO, and its other end.
func copied(tokens sqltext.Tokens) (way, end sqltext.Token) {
	depth := 0
	for i, t := range tokens[:len(tokens)-1] {
		switch {
		case t.IsPunct('('):
			depth++
		case t.IsPunct(')'):
			depth--
		case depth == 0 && (t.Is("FROM") || t.Is("TO")):
			return t, tokens[i+1]
		}
	}
	return way, end
}

const (
	rolesElsewhere = "roles of another server: everything belongs to the database's owner here"
	rightsByEstate = "GRANT and REVOKE of the dump: rights come from the estate file"
	laterSessions  = "a setting for all later sessions of the database or a role, the administrator's among them: put it by hand if the application needs it"
)
