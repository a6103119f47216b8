package load

import (
	"bytes"
	"slices"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// kind is what the importer can do with a statement; see classify.
type kind int

const (
	anything    kind = iota // needs all before it done, and nothing beside it
	rows                    // INSERT of literal rows into one table
	definition              // DDL that concerns the listed tables only
	indexes                 // adds keys to one table, may be folded with its neighbours
	setting                 // SET of session or user variables
	transaction             // begins or ends a transaction
	tableLock               // LOCK TABLES, UNLOCK TABLES
	keySwitch               // ALTER TABLE ... DISABLE KEYS, ENABLE KEYS
	change                  // DML that is not plain rows
)

// verdict is all that is decided about a statement without running it.
type verdict struct {
	sqltext.Statement
	head   sqltext.Head
	kind   kind
	insert sqltext.Insert // for rows
	tables []string       // that it concerns, for rows, definition, indexes, keySwitch
	text   []byte         // as it is sent
	// dropped says why the statement is not sent; empty if it is.
	dropped   string
	objection *objection
	temporary bool // defines a table of the session
	// adapted says what was changed for this server; empty for nothing.
	adapted string
}

// judge decides about the statements of one script, the same way in the first
// pass and in the import.
type judge struct {
	guard
	source  script.Source
	options Options
	server  Server
	charset string // of the database
	// mapped collects collations of the script that the server does not have,
	// and what takes their place.
	mapped map[string]mapping
	// last is the head of the last INSERT as it was read: in a dump the next
	// one begins with the same bytes.
	last struct {
		head    []byte
		dialect sqltext.Dialect
		insert  sqltext.Insert
	}
}

// insert reads the head of a plain INSERT.
func (j *judge) insert(s sqltext.Statement) (sqltext.Insert, bool) {
	if n := len(j.last.head); n > 0 && len(s.Text) > n && bytes.Equal(s.Text[:n], j.last.head) && s.Dialect == j.last.dialect {
		return j.last.insert, true
	}
	insert, ok := sqltext.ParseInsert(s.Text, s.Dialect)
	// Only a head that ends where its first row opens is sure to be whole.
	if ok && insert.Body < len(s.Text) && s.Text[insert.Body] == '(' {
		j.last.head = append(j.last.head[:0], s.Text[:insert.Body+1]...)
		j.last.dialect, j.last.insert = s.Dialect, insert
	}
	return insert, ok
}

func newJudge(s script.Source, target Target, o Options) *judge {
	return &judge{
		guard: guard{database: target.Database, own: map[string]bool{}}, source: s, options: o,
		server: target.Server, charset: target.Charset, mapped: map[string]mapping{},
	}
}

// look decides about one statement.
func (j *judge) look(s sqltext.Statement) verdict {
	v := verdict{Statement: s, text: s.Text}
	if insert, ok := j.insert(s); ok {
		v.kind, v.insert, v.tables = rows, insert, []string{insert.Table.Name}
		v.head = sqltext.Head{Verb: "INSERT", Name: insert.Table}
		if !j.inside(insert.Table.Schema) {
			v.objection = object("the statement reaches into another database, "+insert.Table.Schema, "take the database's name out of it; {retarget} does so where the script chooses that database itself")
		} else if insert.Table.Schema != "" && insert.Table.Schema != j.database {
			v.text = edited(s.Text, unqualify(sqltext.Tokens(s.Text[:insert.Body], s.Dialect), j.own))
			v.insert, _ = sqltext.ParseInsert(v.text, s.Dialect)
		}
		return v
	}
	return j.lookClosely(v)
}

// lookClosely is look for everything but plain rows: all its tokens are read.
func (j *judge) lookClosely(v verdict) verdict {
	s := v.Statement
	if v.objection = misreadable(s); v.objection != nil {
		return v
	}
	tokens := sqltext.Tokens(s.Text, s.Dialect)
	v.head = sqltext.ParseHead(s.Text, s.Dialect)
	v.kind, v.tables = classify(v.head, tokens, s)
	v.temporary = v.head.Verb == "CREATE" && second(tokens, "TEMPORARY")
	if len(tokens) == 0 {
		v.dropped = "nothing in it that this server runs"
		return v
	}
	if j.source.Retarget {
		j.learnName(v.head, tokens)
	}
	if v.dropped = j.drop(v.head, tokens); v.dropped != "" {
		return v
	}
	if v.head.Verb == "SET" {
		if v.text = j.adapt(s, &v); v.dropped != "" {
			return v
		}
	}
	if v.objection = j.judge(tokens, v.head, s.Dialect); v.objection != nil {
		return v
	}
	if v.head.Verb != "SET" {
		v.text = v.head.WithoutDefiner(s.Text)
		if v.head.HasDefiner() {
			tokens = sqltext.Tokens(v.text, s.Dialect)
		}
	} else if len(v.text) != len(s.Text) {
		tokens = sqltext.Tokens(v.text, s.Dialect)
	}
	edits := unqualify(tokens, j.own)
	if v.kind != change {
		edits = append(edits, j.translate(tokens, fault.Place{File: j.source.Name, Line: s.Line, Column: s.Column})...)
	}
	v.text = edited(v.text, edits)
	return v
}

// misreadable refuses what a server could read in another way than we do: nothing
// that is decided about such a statement would hold.
func misreadable(s sqltext.Statement) *objection {
	if s.Untraced != "" {
		return object(s.Untraced, "set it by a literal, such as SET sql_mode = 'STRICT_ALL_TABLES' or SET NAMES utf8mb4")
	}
	if doubt := sqltext.Doubt(s.Text, s.Dialect); doubt != "" {
		return object(doubt+": servers read that in different ways", "write the statement without it")
	}
	return nil
}

// learnName takes the database that a script makes or chooses for ours.
func (j *judge) learnName(head sqltext.Head, tokens []sqltext.Token) {
	if len(j.own) > 0 {
		return // one name; a second one is refused
	}
	switch {
	case (head.Verb == "CREATE" || head.Verb == "DROP") && (head.Object == "DATABASE" || head.Object == "SCHEMA"):
		if head.Name.Name != j.database {
			j.own[head.Name.Name] = true
		}
	case head.Verb == "USE" && len(tokens) > 1 && tokens[1].Plain() != j.database:
		j.own[tokens[1].Plain()] = true
	}
}

// drop gives the reason for leaving a statement out.
func (j *judge) drop(head sqltext.Head, tokens []sqltext.Token) string {
	database := head.Object == "DATABASE" || head.Object == "SCHEMA"
	switch {
	case head.Verb == "CREATE" && database && head.Name.Name == j.database:
		return "the database is there already"
	case head.Verb == "USE" && len(tokens) > 1 && tokens[1].Plain() == j.database:
		return "the session is in that database already"
	case !j.source.Retarget:
		return ""
	case head.Verb == "USE" && len(tokens) > 1 && j.own[tokens[1].Plain()], database && (j.own[head.Name.Name] || head.Verb == "DROP" && head.Name.Name == j.database):
		return "retargeted: the script goes into " + j.database
	}
	return ""
}

// replication are settings that dumps carry for servers that copy each other.
// They need rights over the whole server, and mean nothing to one application.
var replication = set("gtid_purged sql_log_bin")

// adapt takes out of a SET what is for other servers than this one.
func (j *judge) adapt(s sqltext.Statement, v *verdict) (text []byte) {
	assignments := sqltext.ParseSet(s.Text, s.Dialect)
	var edits []edit
	for _, a := range assignments {
		mode := a.Name == "sql_mode" && !a.Global
		switch {
		case replication[a.Name] && !a.User:
			edits = append(edits, edit{a.Start, a.End, "@yellowfield = NULL"})
		case mode && !j.server.Dialect.MariaDB && j.server.Dialect.Version >= 80000:
			for _, t := range a.Value {
				if t.Kind == sqltext.String && bytes.Contains(bytes.ToUpper(t.Text), []byte("NO_AUTO_CREATE_USER")) {
					edits = append(edits, edit{t.Start, t.End, "'" + withoutMode(t.Plain(), "NO_AUTO_CREATE_USER") + "'"})
					v.adapted = "NO_AUTO_CREATE_USER is taken out of sql_mode: this server no longer knows it"
				}
			}
		}
	}
	if len(assignments) > 0 && len(edits) == len(assignments) && !slices.ContainsFunc(assignments, func(a sqltext.Assignment) bool { return a.Name == "sql_mode" }) {
		v.dropped = "a setting for replication between servers"
	}
	return edited(s.Text, edits)
}

func withoutMode(modes, unwanted string) string {
	var kept []string
	for mode := range strings.SplitSeq(modes, ",") {
		if mode = strings.TrimSpace(mode); !strings.EqualFold(mode, unwanted) {
			kept = append(kept, mode)
		}
	}
	return strings.Join(kept, ",")
}

// mapping is a collation that takes the place of another, first at a statement.
type mapping struct {
	to string
	at fault.Place
}

// edit replaces a part of a statement.
type edit struct {
	start, end int
	with       string
}

func edited(text []byte, edits []edit) []byte {
	if len(edits) == 0 {
		return text
	}
	slices.SortFunc(edits, func(a, b edit) int { return a.start - b.start })
	var out []byte
	last := 0
	for _, e := range edits {
		out = append(append(out, text[last:e.start]...), e.with...)
		last = e.end
	}
	return append(out, text[last:]...)
}

// unqualify takes database names out of qualified names.
func unqualify(tokens []sqltext.Token, names map[string]bool) []edit {
	if len(names) == 0 {
		return nil
	}
	var edits []edit
	for i := 0; i+2 < len(tokens); i++ {
		if t := tokens[i]; (t.Kind == sqltext.Word || t.Kind == sqltext.Name) && tokens[i+1].IsPunct('.') && names[t.Plain()] && (i == 0 || !tokens[i-1].IsPunct('.')) {
			edits = append(edits, edit{t.Start, tokens[i+1].End, ""})
		}
	}
	return edits
}

// translate replaces collations that the server lacks and, if asked to, old
// character sets and engines. It is for definitions and settings, never for
// rows.
func (j *judge) translate(tokens []sqltext.Token, at fault.Place) []edit {
	var edits []edit
	next := func(i int) sqltext.Token {
		for i++; i < len(tokens) && (tokens[i].IsPunct('=') || tokens[i].Is("SET")); i++ {
		}
		if i < len(tokens) {
			return tokens[i]
		}
		return sqltext.Token{Kind: sqltext.Punct, Text: []byte{0}}
	}
	for i, t := range tokens {
		if t.Kind != sqltext.Word {
			continue
		}
		value := next(i)
		replace := func(with string) {
			if value.Kind == sqltext.Punct {
				return
			}
			if value.Kind == sqltext.String {
				with = "'" + with + "'"
			}
			edits = append(edits, edit{value.Start, value.End, with})
		}
		name := strings.ToLower(value.Plain())
		switch strings.ToUpper(string(t.Text)) {
		case "COLLATE", "COLLATION_CONNECTION":
			if j.options.ConvertCharset && isOldCharset(charsetOf(name)) {
				replace(j.modernCollation(name))
			} else if replacement := j.replacement(name); replacement != "" {
				if _, seen := j.mapped[name]; !seen {
					j.mapped[name] = mapping{replacement, at}
				}
				if j.options.MapCollations {
					replace(replacement)
				}
			}
		case "CHARSET", "CHARACTER":
			if strings.EqualFold(string(t.Text), "CHARACTER") && (i+1 >= len(tokens) || !tokens[i+1].Is("SET")) {
				continue
			}
			if j.options.ConvertCharset && isOldCharset(name) {
				replace("utf8mb4")
			}
		case "ENGINE":
			if j.options.ConvertCharset && (name == "myisam" || name == "aria") {
				replace("InnoDB")
			}
		}
	}
	return edits
}

// charsetOf is the character set that a collation's name begins with.
func charsetOf(collation string) string {
	charset, _, _ := strings.Cut(collation, "_")
	return charset
}

func isOldCharset(name string) bool {
	return name == "latin1" || name == "utf8" || name == "utf8mb3"
}

// modernCollation is the utf8mb4 collation that orders most like the given.
func (j *judge) modernCollation(old string) string {
	charset, rest, _ := strings.Cut(old, "_")
	candidate := "utf8mb4_" + rest
	if charset == "latin1" && rest != "bin" {
		candidate = "utf8mb4_general_ci"
	}
	if _, known := j.server.Collations[candidate]; known {
		return candidate
	}
	return "utf8mb4_general_ci"
}

// replacement is what takes the place of a collation that the server lacks:
// first those of the other product that sort by the same rules. Empty when the
// server has it, or nothing is like it.
func (j *judge) replacement(name string) string {
	if _, known := j.server.Collations[name]; known || name == "" || name == "default" || name == "binary" || !strings.Contains(name, "_") || charsetOf(name) == "utf8" {
		return ""
	}
	// MariaDB knows its uca1400 collations also without the character set.
	if _, known := j.server.Collations["utf8mb4_"+name]; known {
		return ""
	}
	charset, rest, _ := strings.Cut(name, "_")
	if charset == "uca1400" {
		charset, rest = "utf8mb4", name
	}
	var candidates []string
	switch {
	case strings.HasPrefix(rest, "0900_bin"):
		candidates = []string{"utf8mb4_nopad_bin", "utf8mb4_bin"}
	case strings.HasSuffix(rest, "0900_as_cs"):
		candidates = []string{"utf8mb4_uca1400_as_cs", "utf8mb4_bin"}
	case strings.HasSuffix(rest, "0900_as_ci"):
		candidates = []string{"utf8mb4_uca1400_as_ci", "utf8mb4_unicode_520_ci"}
	case strings.Contains(rest, "0900_"):
		candidates = []string{"utf8mb4_uca1400_ai_ci", "utf8mb4_unicode_520_ci"}
	case strings.Contains(rest, "as_cs"):
		candidates = []string{"utf8mb4_0900_as_cs", "utf8mb4_bin"}
	case strings.Contains(rest, "as_ci"):
		candidates = []string{"utf8mb4_0900_as_ci", "utf8mb4_unicode_520_ci"}
	case strings.HasPrefix(rest, "uca1400"), strings.HasSuffix(rest, "nopad_ci"):
		candidates = []string{"utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_ci"}
	case strings.HasSuffix(rest, "bin"):
		candidates = []string{charset + "_bin"}
	default:
		candidates = []string{"utf8mb4_unicode_520_ci"}
	}
	for _, candidate := range candidates {
		if charsetOf(candidate) == charset || charset == "utf8mb4" {
			if _, known := j.server.Collations[candidate]; known {
				return candidate
			}
		}
	}
	return ""
}
