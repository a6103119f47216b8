package postgres

import (
	"bytes"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// class is what the importer does with a statement for PostgreSQL.
type class int

const (
	plainStatement class = iota // sent by itself
	literalRows                 // INSERT of literal rows: joined with its neighbours
	otherRows                   // DML: sent in one message with its neighbours
	copyRows                    // COPY ... FROM STDIN
	keyOf                       // makes an index or a key of one table
	sessionSetting
	beginning // of a transaction of the script's own
	ending
	takingBack
)

// verdict is all that is decided about a statement without running it.
type verdict struct {
	sqltext.Statement
	head    sqltext.Head
	insert  sqltext.Insert // for literalRows
	class   class
	text    []byte         // as it is sent
	tokens  sqltext.Tokens // of Text; not for literalRows, and only the first of a wide one
	wide    bool
	dropped string // why it is not sent; empty if it is
	// adapted says what was changed for want of {fast}; empty for nothing.
	adapted   string
	objection *load.Objection
}

// judge decides about the statements of one script, the same way in the
// first pass and in the import.
type judge struct {
	source  script.Source
	options load.Options
	target  load.Target
	server  postgres.ScriptConditions
	// path is the first schema of search_path, where new objects go.
	path string
	// foreign says that the script's bytes are in another encoding than UTF-8.
	foreign bool
	inserts sqltext.Inserts
	row     sqltext.Row // kept for its memory
}

func newJudge(i *Importer, s script.Source, o load.Options) *judge {
	return &judge{source: s, options: o, target: i.Target, server: i.Server, path: "public"}
}

// look decides about one statement. Where rows turn out not to be literal, the
// class is corrected by lookClosely.
func (j *judge) look(s sqltext.Statement) verdict {
	v := verdict{Statement: s, text: s.Text}
	if insert, ok := j.inserts.Parse(s); ok {
		v.insert, v.class = insert, literalRows
		v.head = sqltext.Head{Verb: "INSERT", Name: insert.Table}
		return v
	}
	return j.lookClosely(v)
}

// countRows reads all rows of an INSERT; literal is false where they hold anything but
// literals.
func (j *judge) countRows(v verdict) (count int64, literal bool) {
	scanner := sqltext.NewRowScanner(v.Text, v.insert.Body, v.Dialect)
	for scanner.Next(&j.row) {
		count++
	}
	return count, scanner.Literal()
}

// verbs are the statements an application's script may hold on
// PostgreSQL. What is not among them is refused.
var verbs = wordset.Of("CREATE ALTER DROP INSERT UPDATE DELETE MERGE SELECT WITH VALUES TABLE TRUNCATE SET RESET START BEGIN COMMIT END " +
	"ROLLBACK ABORT SAVEPOINT RELEASE LOCK ANALYZE VACUUM COMMENT COPY DO CALL REFRESH REINDEX CLUSTER SHOW EXPLAIN DISCARD " +
	"DECLARE FETCH MOVE CLOSE PREPARE EXECUTE DEALLOCATE GRANT REVOKE")

// kinds are the kinds of objects that live in a database and that its
// owner may make.
var kinds = map[string]bool{
	"TABLE": true, "VIEW": true, "INDEX": true, "SEQUENCE": true, "TYPE": true, "DOMAIN": true, "FUNCTION": true, "PROCEDURE": true,
	"ROUTINE": true, "AGGREGATE": true, "TRIGGER": true, "RULE": true, "SCHEMA": true, "COLLATION": true, "OPERATOR": true,
	"OPERATOR CLASS": true, "OPERATOR FAMILY": true, "CAST": true, "CONVERSION": true, "TEXT SEARCH": true, "STATISTICS": true,
	"POLICY": true, "EXTENSION": true, "LANGUAGE": true, "DATABASE": true, "DEFAULT PRIVILEGES": true, "LARGE OBJECT": true,
}

// lookClosely is look for everything but plain rows: all its tokens are read.
func (j *judge) lookClosely(v verdict) verdict {
	s := v.Statement
	tokens, all := sqltext.ScanAll(s.Text, s.Dialect)
	v.tokens, v.head, v.class = tokens, sqltext.HeadOf(tokens, s.Dialect), plainStatement
	if !all {
		return j.lookWide(v)
	}
	if len(tokens) == 0 {
		v.dropped = "nothing in it that the server runs"
		return v
	}
	if v.dropped = j.drop(v.head, tokens); v.dropped != "" {
		return v
	}
	if v.objection = j.objection(v.head, tokens); v.objection != nil {
		return v
	}
	switch verb := v.head.Verb; verb {
	case "INSERT", "UPDATE", "DELETE", "MERGE", "WITH", "VALUES":
		v.class = otherRows
	case "SELECT":
		v.class = otherRows
		if tokens.Has("SET_CONFIG") {
			v.class = sessionSetting
			j.follow(setConfig(tokens))
		}
	case "COPY":
		v.class = copyRows
	case "SET", "RESET":
		v.class = sessionSetting
		for _, a := range sqltext.SetOf(tokens) {
			switch {
			case len(a.Value) == 0:
			case a.Name == "search_path":
				j.follow(pathOf(a.Value))
			case a.Name == "client_encoding" || a.Name == "names":
				value := strings.ToLower(a.Value[len(a.Value)-1].Plain())
				j.foreign = value != "utf8" && value != "utf-8" && value != "unicode" && value != "default"
			}
		}
	case "BEGIN", "START":
		v.class = beginning
	case "COMMIT", "END":
		v.class = ending
	case "ROLLBACK", "ABORT":
		v.class = takingBack
		if tokens.Has("TO") {
			v.class = plainStatement
		}
	case "CREATE", "DROP", "ALTER", "REINDEX":
		j.define(&v, tokens)
	}
	return v
}

// wideVerbs are statements that may have more words and marks than are held in memory.
var wideVerbs = wordset.Of("INSERT UPDATE DELETE MERGE SELECT WITH VALUES")

// lookWide is lookClosely for a statement of which the tokens are only the first. It goes to the
// server as it stands, or not at all.
func (j *judge) lookWide(v verdict) verdict {
	v.class, v.wide = otherRows, true
	setsConfig := false
	v.each(func(t sqltext.Token) { setsConfig = setsConfig || t.Is("SET_CONFIG") })
	if setsConfig || v.head.Verb != "" && !wideVerbs[v.head.Verb] {
		v.objection = load.Refuse("the statement has more than "+figures.Thousands(sqltext.MostTokens)+" words and marks", "split it into several statements")
	}
	return v
}

// each takes every token of the statement.
func (v *verdict) each(take func(sqltext.Token)) {
	sqltext.EachToken(v.tokens, !v.wide, v.Text, v.Dialect, take)
}

// define sorts out what makes and changes objects.
func (j *judge) define(v *verdict, tokens sqltext.Tokens) {
	if !j.options.Fast {
		for _, t := range tokens {
			if t.Is("CONCURRENTLY") { // which cannot run in a transaction, and has nobody to wait for here
				v.text = append(append(bytes.Clone(v.text[:t.Start]), bytes.Repeat([]byte{' '}, t.End-t.Start)...), v.text[t.End:]...)
				v.adapted = "CONCURRENTLY is left out, so that the script is one transaction"
				break
			}
		}
	}
	if v.head.Object == "INDEX" && v.head.Verb == "CREATE" {
		v.class = keyOf
	}
	// ALTER TABLE [ONLY] t ADD CONSTRAINT c PRIMARY KEY | UNIQUE
	if v.head.Verb == "ALTER" && v.head.Object == "TABLE" && !slices.ContainsFunc(tokens, func(t sqltext.Token) bool { return t.Is("FOREIGN") || t.Is("REFERENCES") || t.Is("ATTACH") }) {
		for i, t := range tokens {
			if t.Is("CONSTRAINT") && i > 0 && tokens[i-1].Is("ADD") && i+2 < len(tokens) && (tokens[i+2].Is("PRIMARY") || tokens[i+2].Is("UNIQUE")) {
				v.class = keyOf
			}
		}
	}
}

// objection gives the objection against a statement, nil if it may run. It is the first line
// of defence; the second is the server, which runs the script as the application's own role.
func (j *judge) objection(head sqltext.Head, tokens sqltext.Tokens) *load.Objection {
	verb := head.Verb
	switch {
	case verb == "":
		if tokens[0].IsPunct('(') {
			return nil
		}
		return load.Refuse("this is not a SQL statement", "was the file cut, or made for another program?")
	case verb == "DROP" && head.Object == "OWNED", verb == "REASSIGN":
		return load.Refuse("the statement concerns all that a role owns", load.RemoveIt)
	case head.Object == "ROLE" || head.Object == "USER" || head.Object == "GROUP" || head.Object == "USER MAPPING":
		return load.Refuse("the statement is about accounts and rights, which the estate file describes", load.RemoveIt+"; put what the application needs under accounts")
	case !verbs[verb]:
		return load.Refuse(verb+" is not for an application's script: it concerns the whole server or its connections", load.RemoveIt)
	case verb == "PREPARE" && tokens.At(1).Is("TRANSACTION"), (verb == "COMMIT" || verb == "ROLLBACK") && tokens.At(1).Is("PREPARED"):
		return load.Refuse("a prepared transaction stays on the server when nobody ends it", load.RemoveIt)
	case head.Object == "DATABASE" && (verb != "ALTER" || head.Name.Name != j.target.Database):
		return load.Refuse("the script "+map[string]string{"CREATE": "makes", "ALTER": "changes", "DROP": "drops"}[verb]+" a database of its own, "+head.Name.Name,
			"use {retarget} to import into "+j.target.Database+" instead")
	case (verb == "CREATE" || verb == "ALTER" || verb == "DROP") && !kinds[head.Object]:
		return load.Refuse(strings.TrimSpace(verb+" "+head.Object)+" concerns more than one database, or needs a superuser", load.RemoveIt)
	case verb == "DROP" && head.Object == "SCHEMA" && head.Name.Name == "public":
		return load.Refuse("the script drops the schema public", "import into an empty database, and remove the statement")
	case verb == "CREATE" && head.Object == "EXTENSION":
		may, known := j.server.Extensions[head.Name.Name]
		switch {
		case j.server.Extensions == nil || may:
		case !known:
			return load.Refuse("this server does not have the extension "+head.Name.Name, "have its package installed on the server's host")
		default:
			return load.Refuse("only a superuser may make the extension "+head.Name.Name, "run CREATE EXTENSION "+head.Name.Name+" in "+j.target.Database+" as the administrator, and the import again")
		}
	case verb == "COPY":
		return copies(tokens)
	case verb == "CREATE" && (head.Object == "FUNCTION" || head.Object == "PROCEDURE"):
		for i, t := range tokens {
			if t.Is("LANGUAGE") && i+1 < len(tokens) && (strings.EqualFold(tokens[i+1].Plain(), "c") || strings.EqualFold(tokens[i+1].Plain(), "internal")) {
				return load.Refuse("a function in the language "+tokens[i+1].Plain()+" is program code that runs inside the server", load.RemoveIt)
			}
		}
	}
	return nil
}

// copies judges a COPY: only rows in the script itself, as text, are taken.
func copies(tokens sqltext.Tokens) *load.Objection {
	if slices.ContainsFunc(tokens[1:], func(t sqltext.Token) bool { return t.Is("FORMAT") }) && tokens.Has("BINARY") || tokens.Begins("COPY", "BINARY") || tokens[len(tokens)-1].Is("BINARY") {
		return load.Refuse("COPY in its binary form cannot stand in a script", "make the dump again, as text")
	}
	if way, end := copied(tokens); way.Text == nil || !end.Is("STDIN") && !end.Is("STDOUT") {
		return load.Refuse("COPY reads or writes a file or a program of the server", "put the rows into the script: COPY ... FROM stdin")
	}
	return nil
}

// setConfig is the path that SELECT set_config('search_path', ...) sets; false
// where it sets another thing.
func setConfig(tokens sqltext.Tokens) (string, bool) {
	for i, t := range tokens {
		if t.Kind == sqltext.String && t.Plain() == "search_path" && i+2 < len(tokens) {
			first, _, _ := strings.Cut(tokens[i+2].Plain(), ",")
			return strings.Trim(strings.TrimSpace(first), `"`), true
		}
	}
	return "", false
}

// pathOf is the first schema of a SET search_path.
func pathOf(value sqltext.Tokens) (string, bool) {
	if len(value) == 0 {
		return "", false
	}
	first := value[0].Plain()
	if value[0].Kind == sqltext.Word {
		first = strings.ToLower(first)
	}
	if first == "$user" && len(value) > 2 {
		return pathOf(value[2:])
	}
	if first == "default" {
		first = "public"
	}
	return first, true
}

func (j *judge) follow(path string, known bool) {
	if known {
		j.path = path
	}
}

// made is what a CREATE makes; routines have their arguments after their names, since several
// may have one name.
func (j *judge) made(v verdict) dbms.Object {
	o := dbms.Object{Kind: v.head.Object, Name: j.name(v.head.Name)}
	switch v.head.Object {
	case "SCHEMA":
		o.Name = v.head.Name.Name
	case "FUNCTION", "PROCEDURE", "AGGREGATE":
		depth, from := 0, 0
		scanner := sqltext.NewScanner(v.Text, v.Dialect)
		for t, ok := scanner.Next(); ok; t, ok = scanner.Next() {
			if t.IsPunct('(') {
				if depth == 0 {
					from = t.Start
				}
				depth++
			} else if t.IsPunct(')') {
				if depth--; depth == 0 {
					o.Name += string(v.Text[from:t.End])
					break
				}
			}
		}
	}
	return o
}

// dropMade takes out what the script itself has made and drops again.
func dropMade(made map[dbms.Object]bool, kind, name string) (found bool) {
	for object := range made {
		if bare, _, _ := strings.Cut(object.Name, "("); object.Kind == kind && bare == name {
			delete(made, object)
			found = true
		}
	}
	return found
}

// name is a table or another object as the server's catalogue is read: with
// its schema, unless that is public.
func (j *judge) name(n sqltext.ObjectName) string {
	schema := n.Schema
	if schema == "" {
		schema = j.path
	}
	if schema == "" || schema == "public" {
		return n.Name
	}
	return schema + "." + n.Name
}

// listed are the names in a DROP or TRUNCATE.
func (j *judge) listed(tokens sqltext.Tokens) []string {
	var list []string
	var name sqltext.ObjectName
	end := func() {
		if name.Name != "" {
			list = append(list, j.name(name))
		}
		name = sqltext.ObjectName{}
	}
	for _, t := range tokens[1:] {
		switch {
		case t.IsPunct(','):
			end()
		case t.IsPunct('('), t.Is("CASCADE"), t.Is("RESTRICT"), t.Is("RESTART"), t.Is("CONTINUE"):
			end()
			return list
		case t.IsPunct('.'):
			name.Schema, name.Name = name.Name, ""
		case t.Kind == sqltext.Word && name.Name == "" && name.Schema == "" && passedInLists[strings.ToUpper(string(t.Text))]:
		case t.Kind == sqltext.Word && name.Name == "":
			name.Name = strings.ToLower(string(t.Text))
		case t.Kind == sqltext.Name:
			name.Name = t.Plain()
		}
	}
	end()
	return list
}

var passedInLists = wordset.Of("TABLE VIEW MATERIALIZED SEQUENCE FUNCTION PROCEDURE TYPE DOMAIN SCHEMA INDEX TRIGGER AGGREGATE IF EXISTS ONLY CONCURRENTLY RULE POLICY EXTENSION")
