package judge

import (
	"strings"

	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// verbs are the statements an application's script may hold. What is not among
// them is refused: a list of what is forbidden would never be complete.
var verbs = wordset.Of("CREATE ALTER DROP INSERT REPLACE UPDATE DELETE SELECT WITH VALUES TABLE TRUNCATE RENAME SET START BEGIN " +
	"COMMIT ROLLBACK SAVEPOINT RELEASE LOCK UNLOCK ANALYZE OPTIMIZE CHECK REPAIR CHECKSUM CALL DO PREPARE EXECUTE " +
	"DEALLOCATE USE SHOW DESCRIBE DESC EXPLAIN IF SIGNAL")

// definable are the kinds of objects that live in a database.
var definable = wordset.Of("TABLE VIEW TRIGGER FUNCTION PROCEDURE EVENT INDEX SEQUENCE PACKAGE DATABASE SCHEMA")

// readable are the system schemas that every account may read.
var readable = wordset.Of("information_schema performance_schema")

// isAboutAccounts reports whether a statement makes, changes or removes accounts or rights.
func isAboutAccounts(head sqltext.Head, tokens sqltext.Tokens) bool {
	switch head.Verb {
	case "GRANT", "REVOKE":
		return true
	case "CREATE":
		return head.Object == "USER" || head.Object == "ROLE"
	case "ALTER", "DROP", "RENAME":
		return tokens.At(1).Is("USER") || tokens.At(1).Is("ROLE")
	}
	return false
}

// externalEngines are storage engines whose rows lie on another server or in files of
// any path.
var externalEngines = wordset.Of("federated federatedx connect spider s3 mroonga ndb ndbcluster oqgraph")

// guard judges statements: what reaches outside the database is refused. It is the first line
// of defence; the second is the server, which runs the script as the application's own
// account.
type guard struct {
	database string
	// own are further names that mean the database: those of a script that
	// is retargeted.
	own map[string]bool
}

// isOurs reports whether a name before a dot means our database.
func (g *guard) isOurs(schema string) bool {
	return schema == "" || schema == g.database || g.own[schema]
}

// judge gives the objection against a statement, nil if it may run.
func (g *guard) judge(tokens sqltext.Tokens, head sqltext.Head, d sqltext.Dialect) *load.Objection {
	if len(tokens) == 0 {
		return nil
	}
	verb := head.Verb
	if verb == "" {
		if tokens[0].IsPunct('(') || tokens[0].IsPunct('{') {
			return g.reach(tokens, head)
		}
		return nil // not SQL at all: the server will say so
	}
	switch {
	case isAboutAccounts(head, tokens):
		return load.Refuse("the statement is about accounts and rights, which the estate file describes", load.RemoveIt+"; put what the application needs under accounts")
	case verb == "LOAD":
		return load.Refuse("LOAD reads a file of the server or of this host", "give the rows as INSERT statements")
	case !verbs[verb]:
		return load.Refuse(verb+" is not for an application's script: it concerns the whole server or its connections", load.RemoveIt)
	case (verb == "CREATE" || verb == "ALTER" || verb == "DROP") && !definable[head.Object]:
		return load.Refuse(strings.TrimSpace(verb+" "+head.Object)+" concerns more than one database", load.RemoveIt)
	case head.IsLoadableFunction():
		return load.Refuse("CREATE FUNCTION ... SONAME loads program code into the server", load.RemoveIt)
	case verb == "DROP" && (head.Object == "DATABASE" || head.Object == "SCHEMA"):
		return load.Refuse("the script drops a database", "use {retarget} if it only sets up its own place")
	case (head.Object == "DATABASE" || head.Object == "SCHEMA") && !g.isOurs(head.Name.Name):
		return load.Refuse("the script "+map[string]string{"CREATE": "makes", "ALTER": "changes"}[verb]+" a database of its own, "+head.Name.Name,
			"use {retarget} to import into "+g.database+" instead")
	case verb == "USE" && len(tokens) > 1 && !g.isOurs(tokens[1].Plain()):
		return load.Refuse("the script goes to another database, "+tokens[1].Plain(), "use {retarget} to import into "+g.database+" instead")
	case verb == "SHOW":
		if schema := g.shownSchema(tokens); schema != "" {
			return load.Refuse("the statement looks into another database, "+schema, load.RemoveIt)
		}
	case verb == "PREPARE" || verb == "EXECUTE" && tokens.At(1).Is("IMMEDIATE"):
		return g.prepared(tokens, d)
	case verb == "SET" && tokens.At(1).Is("STATEMENT"):
		return g.forOneStatement(tokens, d)
	case verb == "SET":
		if o := assignments(tokens, 0); o != nil {
			return o
		}
	}
	return g.reach(tokens, head)
}

// shownSchema is another database that a SHOW names without a dot; empty for none.
func (g *guard) shownSchema(tokens sqltext.Tokens) string {
	ofTable := tokens.Has("COLUMNS") || tokens.Has("FIELDS") || tokens.Has("INDEX") || tokens.Has("INDEXES") || tokens.Has("KEYS")
	for i, t := range tokens {
		name := tokens.At(i + 1)
		switch {
		case t.Is("LIKE"), t.Is("WHERE"):
			return ""
		case (t.Is("FROM") || t.Is("IN")) && ofTable && !tokens.At(i+2).IsPunct('.'):
			ofTable = false // its table's name comes first
		case (t.Is("FROM") || t.Is("IN") || i == 1 && (name.Is("DATABASE") || name.Is("SCHEMA"))) && !tokens.At(i+2).IsPunct('.') &&
			!g.isOurs(name.Plain()) && !readable[strings.ToLower(name.Plain())]:
			return name.Plain()
		}
	}
	return ""
}

// forOneStatement judges MariaDB's SET STATEMENT variables FOR statement. tokens
// begin with it.
func (g *guard) forOneStatement(tokens sqltext.Tokens, d sqltext.Dialect) *load.Objection {
	for i, t := range tokens {
		if t.Is("SQL_MODE") || t.Is("CHARACTER_SET_CLIENT") || t.Is("GLOBAL") {
			return load.Refuse("SET STATEMENT changes how a statement is read, or the whole server", "set the variable in a statement of its own")
		}
		if t.Is("FOR") && i+1 < len(tokens) {
			inner := tokens[i+1:]
			if !inner[0].Is("SELECT") && !inner[0].Is("INSERT") && !inner[0].Is("REPLACE") && !inner[0].Is("UPDATE") && !inner[0].Is("DELETE") && !inner[0].Is("ALTER") {
				return load.Refuse("SET STATEMENT is for a statement that cannot be looked into", "write the statement by itself")
			}
			return g.judge(inner, sqltext.HeadOf(inner, d), d)
		}
	}
	return load.Refuse("SET STATEMENT names no statement", load.RemoveIt)
}

// prepared looks into a statement given as text.
func (g *guard) prepared(tokens sqltext.Tokens, d sqltext.Dialect) *load.Objection {
	last := tokens[len(tokens)-1]
	if last.Kind != sqltext.String || len(tokens) > 1 && tokens[len(tokens)-2].IsPunct('@') {
		return load.Refuse("what is prepared here is made up while the script runs, so it cannot be looked into beforehand", "write the statement itself")
	}
	inner, all := sqltext.ScanAll(sqltext.Unquoted(last.Text), d)
	if !all {
		return load.Refuse("what is prepared here has more than "+figures.Thousands(sqltext.MostTokens)+" words and marks", "write the statement itself")
	}
	return g.judge(inner, sqltext.HeadOf(inner, d), d)
}

// assignments refuses what changes the server or an account in the list of a SET, which is at
// a place of a statement, up to the end of the list.
func assignments(tokens sqltext.Tokens, set int) *load.Objection {
	fresh, depth := true, 0
	for i := set + 1; i < len(tokens); i++ {
		t, next := tokens[i], tokens.At(i+1)
		names := next.Kind == sqltext.Word || next.Kind == sqltext.Name // and no value of a column that is called so
		switch {
		case t.IsPunct(';'):
			return nil
		case t.IsPunct('('):
			depth++
		case t.IsPunct(')'):
			depth--
		case fresh && (t.Is("PASSWORD") || t.Is("ROLE") && names) || fresh && t.Is("DEFAULT") && next.Is("ROLE"):
			return load.Refuse("the statement is about accounts and rights, which the estate file describes", load.RemoveIt)
		case fresh && t.Is("RESOURCE") && names:
			return load.Refuse("the statement is about resource groups of the server", load.RemoveIt)
		case fresh && (t.Is("GLOBAL") || t.Is("PERSIST") || t.Is("PERSIST_ONLY")) && (names || next.IsPunct('.')):
			return load.Refuse("the statement changes a setting of the whole server", "put it under {server-variables} if the import needs it and it is on the list, else remove it")
		}
		// @@GLOBAL.x is a variable of the server, @global one of the script's own.
		fresh = t.IsPunct(',') && depth == 0 || fresh && t.IsPunct('@') && (tokens.At(i-1).IsPunct('@') || next.IsPunct('@'))
	}
	return nil
}

// setsColumns reports whether the SET at a place is that of an UPDATE or INSERT, and no
// statement of its own.
func setsColumns(tokens sqltext.Tokens, set int) bool {
	for i := set - 1; i >= 0; i-- {
		t := tokens[i]
		if t.Kind != sqltext.Word && !t.IsPunct(';') && !t.IsPunct(':') {
			continue
		}
		isCall := tokens[i+1].IsPunct('(') // REPLACE('a', 'b', 'c')
		switch {
		case t.Is("UPDATE"), (t.Is("INSERT") || t.Is("REPLACE")) && !isCall:
			return true
		case t.Kind != sqltext.Word, endsBefore[strings.ToUpper(string(t.Text))]:
			return false
		}
	}
	return false
}

// endsBefore are words after which a statement of a body begins.
var endsBefore = wordset.Of("BEGIN THEN ELSE DO LOOP REPEAT ROW HANDLER DECLARE")

// longestWord is how long a word is whose capitals need no memory of their own.
const longestWord = 32

// introducers are the words after which a table or another object is named.
var introducers = wordset.Of("FROM JOIN STRAIGHT_JOIN INTO UPDATE TABLE TABLES REFERENCES VIEW TRIGGER FUNCTION PROCEDURE EVENT SEQUENCE CALL " +
	"EXISTS TRUNCATE INSERT REPLACE IGNORE DELETE USING HANDLER LIKE TO OF DESCRIBE DESC EXPLAIN LOW_PRIORITY HIGH_PRIORITY DELAYED QUICK " +
	"RENAME UNION ON FOR NEXTVAL LASTVAL SETVAL")

// enders close a list of tables.
var enders = wordset.Of("WHERE SET ON VALUES VALUE SELECT GROUP ORDER HAVING LIMIT WINDOW UNION FOR AS BEGIN PARTITION")

// bodyWords begin statements inside a routine that reach outside.
var bodyWords = wordset.Of("GRANT REVOKE LOAD FLUSH KILL SHUTDOWN INSTALL UNINSTALL PURGE RESET CHANGE USE")

// reach looks through the tokens for names in other databases, files and what
// a routine's body must not do.
func (g *guard) reach(tokens sqltext.Tokens, head sqltext.Head) *load.Objection {
	w := walk{tokens: tokens, head: head, lists: []bool{false}}
	return g.look(&w, len(tokens))
}

// reachWide is reach for a statement whose tokens are not held in memory: they are looked at
// through a window, in which those before and after the one at hand stand, too.
func (g *guard) reachWide(text []byte, d sqltext.Dialect, head sqltext.Head) *load.Objection {
	const span, around = 4096, 32 // more than anything below looks back or ahead
	w := walk{head: head, lists: []bool{false}, alone: map[string]bool{}}
	scanner := sqltext.NewScanner(text, d)
	for t, ok := scanner.Next(); ok && len(w.alone) < mostAlone; {
		next, more := scanner.Next()
		w.noteAlone(t, next)
		t, ok = next, more
	}
	if len(w.alone) == mostAlone { // then none counts
		w.alone = map[string]bool{}
	}
	scanner = sqltext.NewScanner(text, d)
	window := make(sqltext.Tokens, 0, span+2*around)
	for more := true; more; {
		var t sqltext.Token
		for len(window) < cap(window) && more {
			if t, more = scanner.Next(); more {
				window = append(window, t)
			}
		}
		w.tokens = window
		end := len(window) - around
		if !more {
			end = len(window)
		}
		if o := g.look(&w, end); o != nil || !more {
			return o
		}
		if len(w.lists) > mostNested {
			return load.Refuse("the statement is nested deeper than "+figures.Thousands(mostNested)+" brackets", load.RemoveIt)
		}
		gone := w.i - around
		window = window[:copy(window, window[gone:])]
		w.i -= gone
	}
	return nil
}

// mostAlone is how many names of a wide statement are kept, and mostNested how deep its brackets
// may be.
const mostAlone, mostNested = 10_000, 1_000_000

// look goes on with a walk, up to a token.
func (g *guard) look(w *walk, end int) *load.Objection {
	verb := w.head.Verb
	routine := verb == "CREATE" || verb == "ALTER" || verb == "BEGIN" || verb == "IF"
	for ; w.i < end; w.i++ {
		t := w.at(w.i)
		if w.mark(t) {
			continue
		}
		if t.Kind == sqltext.Word {
			if o := g.word(w.tokens, w.i, routine); o != nil {
				return o
			}
		}
		switch {
		case w.qualified(t):
			if o := g.names(w, t); o != nil {
				return o
			}
		case t.Kind == sqltext.Word:
			var room [longestWord]byte
			w.word(g, string(t.Upper(room[:0])))
		case t.IsPunct('=') && (w.at(w.i-1).Is("UNION") || w.at(w.i-1).Is("RENAME")):
		default:
			w.expecting = false
		}
	}
	return nil
}

// walk goes over a statement's tokens and knows where a table's name comes next.
type walk struct {
	tokens sqltext.Tokens
	head   sqltext.Head
	i      int
	// lists tells, for each depth of brackets, whether it is a list of tables.
	lists     []bool
	expecting bool // a table's name comes next
	// alone are the names that stand by themselves: of tables, their aliases, and more. nil as
	// long as nobody has asked.
	alone map[string]bool
}

// standsAlone reports whether a name stands somewhere in the statement other than before a
// dot, as that of a table or an alias does whose columns the statement uses.
func (w *walk) standsAlone(name string) bool {
	if w.alone == nil {
		w.alone = map[string]bool{}
		for i, t := range w.tokens {
			w.noteAlone(t, w.at(i+1))
		}
	}
	return w.alone[strings.ToLower(name)]
}

func (w *walk) noteAlone(t, next sqltext.Token) {
	if (t.Kind == sqltext.Name || t.Kind == sqltext.Word) && !next.IsPunct('.') {
		w.alone[strings.ToLower(t.Plain())] = true
	}
}

func (w *walk) at(i int) sqltext.Token { return w.tokens.At(i) }

func (w *walk) inList() bool        { return w.lists[len(w.lists)-1] }
func (w *walk) setList(isList bool) { w.lists[len(w.lists)-1] = isList }

// mark takes a bracket, a comma or a semicolon.
func (w *walk) mark(t sqltext.Token) bool {
	switch {
	case t.IsPunct('('):
		// Behind a name it opens arguments, else it groups tables.
		before := w.at(w.i - 1)
		grouped := w.inList() && w.expecting && (before.Kind == sqltext.Word || before.Kind == sqltext.Punct)
		w.lists = append(w.lists, grouped)
		w.expecting = grouped
	case t.IsPunct(')'):
		if len(w.lists) > 1 {
			w.lists = w.lists[:len(w.lists)-1]
		}
		w.expecting = false
	case t.IsPunct(','):
		w.expecting = w.inList()
	case t.IsPunct(';'):
		w.setList(false)
		w.expecting = false
	default:
		return false
	}
	return true
}

// qualified reports whether a name with a schema before it begins here.
func (w *walk) qualified(t sqltext.Token) bool {
	isName := t.Kind == sqltext.Name || t.Kind == sqltext.Word && sqltext.Digits(t.Text) < len(t.Text) // 1.5 is a number
	return isName && w.at(w.i+1).IsPunct('.') && !w.at(w.i-1).IsPunct('.') && !w.at(w.i-1).IsPunct('@')
}

// word takes a word that is no name with a schema.
func (w *walk) word(g *guard, word string) {
	switch {
	case introducers[word] && g.introduces(w.at, w.i, word):
		w.setList(word != "EXISTS" && word != "ON" && word != "FOR" || w.inList() && word == "EXISTS")
		w.expecting = true
	case word == "AS" && w.at(w.i-1).Is("RENAME"):
	case enders[word]:
		w.setList(false)
		w.expecting = false
	case word == "LATERAL", word == "ONLY", word == "IF", word == "NOT", word == "LOCAL", word == "TEMPORARY":
	default:
		w.expecting = false
	}
}

// names looks at a name with its schema, and steps after it.
func (g *guard) names(w *walk, t sqltext.Token) *load.Objection {
	schema := t.Plain()
	threeParts, called := w.at(w.i+3).IsPunct('.'), w.at(w.i+3).IsPunct('(')
	isSystem := readable[strings.ToLower(schema)]
	before := w.at(w.i - 1)
	switch {
	case (w.expecting || threeParts || called || !w.standsAlone(schema)) && !g.isOurs(schema) && !isRowOfTrigger(schema) && !isSystem:
		return load.Refuse("the statement reaches into another database, "+schema+" ("+schema+"."+w.at(w.i+2).Plain()+")",
			"take the database's name out of it; {retarget} does so where the script chooses that database itself")
	case isSystem && w.expecting && (before.Is("INTO") || before.Is("UPDATE") || before.Is("TABLE")):
		return load.Refuse("the statement writes to the system schema "+schema, load.RemoveIt)
	}
	w.i += 2
	if threeParts {
		w.i += 2
	}
	w.expecting = false
	return nil
}

func isRowOfTrigger(name string) bool {
	return strings.EqualFold(name, "NEW") || strings.EqualFold(name, "OLD")
}

// introduces sorts out the other meanings of an introducer.
func (g *guard) introduces(at func(int) sqltext.Token, i int, word string) bool {
	before := at(i - 1)
	switch word {
	case "UPDATE": // ON DUPLICATE KEY UPDATE, ON UPDATE, FOR UPDATE
		return !before.Is("KEY") && !before.Is("ON") && !before.Is("FOR") && !before.Is("BEFORE") && !before.Is("AFTER") && !before.Is("OR")
	case "INSERT", "DELETE":
		return !before.Is("ON") && !before.Is("BEFORE") && !before.Is("AFTER") && !before.Is("OR") && !at(i+1).IsPunct('(')
	case "FROM": // EXTRACT(YEAR FROM x), TRIM(LEADING 'a' FROM x), SUBSTRING(x FROM 2)
		for j := i - 1; j > i-12 && j > 0; j-- {
			if at(j).IsPunct('(') {
				f := at(j - 1)
				return !f.Is("EXTRACT") && !f.Is("TRIM") && !f.Is("SUBSTRING") && !f.Is("SUBSTR") && !f.Is("MID")
			}
			if at(j).Is("SELECT") {
				break
			}
		}
	case "TO", "OF", "USING", "LIKE", "REPLACE", "EXPLAIN", "TABLE":
		return at(i+1).Kind != sqltext.String && !at(i+1).IsPunct('(')
	case "HIGH_PRIORITY": // SELECT has one, too
		return before.Is("INSERT")
	case "DESC": // ORDER BY a DESC
		return i == 0
	case "RENAME": // ALTER TABLE own RENAME COLUMN a TO b
		return !at(i+1).Is("COLUMN") && !at(i+1).Is("INDEX") && !at(i+1).Is("KEY")
	case "UNION": // ENGINE=MERGE UNION=(own), and SELECT 1 UNION SELECT 2
		return at(i+1).IsPunct('=') || at(i+1).IsPunct('(')
	case "FOR": // of a sequence
		return before.Is("VALUE") && (at(i-2).Is("NEXT") || at(i-2).Is("PREVIOUS"))
	case "NEXTVAL", "LASTVAL", "SETVAL":
		return at(i + 1).IsPunct('(')
	case "ON":
		return isOnOfIndex(at, i)
	}
	return true
}

// isOnOfIndex reports whether the table of an index or of a trigger follows, and not the
// condition of a join.
func isOnOfIndex(at func(int) sqltext.Token, i int) bool {
	const most = 7 // words: TRIGGER IF NOT EXISTS ours.g BEFORE INSERT
	for j := i - 1; j >= max(0, i-most-2); j-- {
		switch t := at(j); {
		case t.Is("INDEX"), t.Is("TRIGGER"):
			return true
		case t.IsPunct('.') || t.Kind == sqltext.Word || t.Kind == sqltext.Name:
		default:
			return false
		}
	}
	return false
}

// word refuses single words and pairs of words, wherever they stand.
func (g *guard) word(tokens sqltext.Tokens, i int, routine bool) *load.Objection {
	at := tokens.At
	t, next := at(i), at(i+1)
	if at(i - 1).IsPunct('.') {
		return nil
	}
	var room [longestWord]byte
	switch word := string(t.Upper(room[:0])); word {
	case "INTO":
		if next.Is("OUTFILE") || next.Is("DUMPFILE") {
			return load.Refuse("the statement writes a file on the server", load.RemoveIt)
		}
	case "LOAD_FILE":
		if next.IsPunct('(') {
			return load.Refuse("LOAD_FILE reads a file of the server", "give the value itself, for instance in hexadecimal")
		}
	case "DIRECTORY":
		if at(i-1).Is("DATA") || at(i-1).Is("INDEX") {
			return load.Refuse("the table would lie in a folder of the server's host named here", "remove the option")
		}
	case "ENGINE":
		engine := next
		if engine.IsPunct('=') {
			engine = at(i + 2)
		}
		if externalEngines[strings.ToLower(engine.Plain())] {
			return load.Refuse("a table of the engine "+engine.Plain()+" keeps its rows outside this database", "use another engine")
		}
	case "SET":
		if i > 0 && !setsColumns(tokens, i) {
			return assignments(tokens, i)
		}
	case "CREATE", "ALTER", "DROP", "RENAME":
		if i > 0 && (next.Is("USER") || next.Is("ROLE") || next.Is("DATABASE") || next.Is("SCHEMA") || next.Is("SERVER") || next.Is("TABLESPACE")) {
			return load.Refuse("the routine would "+strings.ToLower(word)+" a "+strings.ToLower(string(next.Text)), load.RemoveIt)
		}
	default:
		if routine && i > 0 && bodyWords[word] && next.Kind == sqltext.Word && beginsStatement(at(i-1)) {
			return load.Refuse("the routine would run "+word+", which concerns the whole server or its accounts", load.RemoveIt)
		}
	}
	return nil
}

// beginsStatement reports whether a statement of a body may begin after t.
func beginsStatement(t sqltext.Token) bool {
	for _, word := range []string{"BEGIN", "THEN", "ELSE", "DO", "LOOP", "REPEAT", "ROW", "DEFINER", "INVOKER", "DETERMINISTIC", "DATA", "SQL", "HANDLER"} {
		if t.Is(word) {
			return true
		}
	}
	return t.IsPunct(';') || t.IsPunct(')') || t.IsPunct(':') || t.Kind == sqltext.String
}
