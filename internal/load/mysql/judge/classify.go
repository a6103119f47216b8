package judge

import "yellowfield/internal/sqltext"

// classify says what the importer can do with a statement that is no INSERT of literal rows,
// and which tables it concerns. It is careful: what it does not know for certain may do
// anything. table is what a CREATE TABLE defines, else nil.
func classify(head sqltext.Head, table *sqltext.Table, tokens sqltext.Tokens, text []byte) (kind, []string) {
	switch head.Verb {
	case "SET":
		return classifySet(tokens), nil
	case "START", "COMMIT":
		return Transaction, nil
	case "BEGIN":
		if len(tokens) == 1 || tokens.At(1).Is("WORK") {
			return Transaction, nil
		}
	case "LOCK", "UNLOCK":
		if tokens.At(1).Is("TABLES") || tokens.At(1).Is("TABLE") {
			return TableLock, nil
		}
	case "INSERT", "REPLACE", "UPDATE", "DELETE":
		return Change, nil
	case "CREATE":
		return classifyCreate(head, table, tokens, text)
	case "DROP":
		return classifyDrop(head, tokens)
	case "ALTER":
		return classifyAlter(head, tokens, text)
	}
	return Anything, nil
}

func classifySet(tokens sqltext.Tokens) kind {
	switch {
	case tokens.Begins("SET", "AUTOCOMMIT"), tokens.Begins("SET", "@", "@", "AUTOCOMMIT"),
		tokens.Begins("SET", "SESSION", "AUTOCOMMIT"), tokens.Begins("SET", "@", "@", "SESSION", ".", "AUTOCOMMIT"):
		return Transaction
	case tokens.At(1).Is("STATEMENT"), tokens.At(1).Is("TRANSACTION"):
		return Anything
	}
	return Setting
}

func classifyCreate(head sqltext.Head, table *sqltext.Table, tokens sqltext.Tokens, text []byte) (kind, []string) {
	switch head.Object {
	case "TABLE":
		if table == nil || table.Derived || tokens.At(1).Is("TEMPORARY") {
			return Anything, nil
		}
		concerned := []string{head.Name.Name}
		for _, f := range table.Foreign {
			concerned = append(concerned, f.References.Name)
		}
		return Definition, concerned
	case "INDEX":
		if _, ok := IndexClauses(head, tokens, text); ok {
			return Indexes, []string{indexed(tokens)}
		}
	case "TRIGGER":
		return Definition, []string{head.Table.Name}
	case "FUNCTION", "PROCEDURE", "EVENT":
		return Definition, nil
	}
	return Anything, nil
}

func classifyDrop(head sqltext.Head, tokens sqltext.Tokens) (kind, []string) {
	if list := droppedTables(head, tokens); list != nil {
		return Definition, list
	}
	switch head.Object {
	case "FUNCTION", "PROCEDURE", "EVENT", "VIEW":
		return Definition, nil
	}
	return Anything, nil
}

func classifyAlter(head sqltext.Head, tokens sqltext.Tokens, text []byte) (kind, []string) {
	last := len(tokens) - 1
	switch {
	case head.Object != "TABLE":
		return Anything, nil
	case last >= 4 && tokens[last].Is("KEYS") && (tokens[last-1].Is("DISABLE") || tokens[last-1].Is("ENABLE")):
		return KeySwitch, []string{head.Name.Name}
	}
	if _, ok := IndexClauses(head, tokens, text); ok {
		return Indexes, []string{head.Name.Name}
	}
	return Anything, nil
}

// droppedTables are the tables of a DROP TABLE; nil for another statement.
func droppedTables(head sqltext.Head, tokens sqltext.Tokens) []string {
	if head.Verb != "DROP" || head.Object != "TABLE" || tokens.At(1).Is("TEMPORARY") {
		return nil
	}
	var list []string
	for i := 2; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.Is("IF"), t.Is("EXISTS"), t.IsPunct(','), t.Is("RESTRICT"), t.Is("CASCADE"):
		case t.IsPunct('.'):
			list = list[:max(0, len(list)-1)]
		default:
			list = append(list, t.Plain())
		}
	}
	return list
}

// indexed is the table of a CREATE INDEX.
func indexed(tokens sqltext.Tokens) string {
	for i, t := range tokens {
		if t.Is("ON") && i+1 < len(tokens) {
			if i+3 < len(tokens) && tokens[i+2].IsPunct('.') {
				return tokens[i+3].Plain()
			}
			return tokens[i+1].Plain()
		}
	}
	return ""
}

// IndexClauses gives the clauses of a statement that does nothing but add keys
// to one table, or change columns of it as administration pages do to make
// AUTO_INCREMENT of them. FULLTEXT and SPATIAL are left out: a server builds
// only one of these at a time. Foreign keys concern two tables.
func IndexClauses(head sqltext.Head, tokens sqltext.Tokens, text []byte) (clauses string, ok bool) {
	if head.Verb == "CREATE" {
		return createdIndex(tokens, text)
	}
	i := 2
	for i < len(tokens) && !tokens[i].Is("ADD") && !tokens[i].Is("MODIFY") {
		if tokens[i].Is("IGNORE") || tokens[i].Is("ONLINE") || i > 6 {
			return "", false
		}
		i++
	}
	if i == len(tokens) {
		return "", false
	}
	from := tokens[i].Start
	depth := 0
	for first := true; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case first:
			adds := t.Is("ADD") && i+1 < len(tokens) && (tokens[i+1].Is("PRIMARY") || tokens[i+1].Is("UNIQUE") || tokens[i+1].Is("KEY") || tokens[i+1].Is("INDEX"))
			if !adds && !t.Is("MODIFY") && !t.Is("AUTO_INCREMENT") {
				return "", false
			}
			first = false
		case t.Is("REFERENCES"):
			return "", false
		case t.IsPunct('('):
			depth++
		case t.IsPunct(')'):
			depth--
		case t.IsPunct(',') && depth == 0:
			first = true
		}
	}
	return string(text[from:tokens[len(tokens)-1].End]), true
}

// createdIndex turns CREATE [UNIQUE] INDEX name ON table (columns) into the
// clause of an ALTER TABLE.
func createdIndex(tokens sqltext.Tokens, text []byte) (string, bool) {
	unique := tokens.At(1).Is("UNIQUE")
	i := 1
	if unique {
		i++
	}
	if i+5 >= len(tokens) || !tokens[i].Is("INDEX") || !tokens[i+2].Is("ON") {
		return "", false
	}
	clause := "ADD INDEX "
	if unique {
		clause = "ADD UNIQUE INDEX "
	}
	name := string(tokens[i+1].Text)
	for i += 3; i < len(tokens); i++ {
		if tokens[i].IsPunct('(') {
			last := tokens[len(tokens)-1]
			if !last.IsPunct(')') { // options after: ALGORITHM, LOCK, COMMENT
				return "", false
			}
			return clause + name + " " + string(text[tokens[i].Start:last.End]), true
		}
	}
	return "", false
}
