package mysql

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
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
	tokens sqltext.Tokens // of text; not for rows
	table  *sqltext.Table // that it makes, for CREATE TABLE
	// dropped says why the statement is not sent; empty if it is.
	dropped   string
	objection *load.Objection
	temporary bool // defines a table of the session
	// adapted says what was changed for this server; empty for nothing.
	adapted string
}

// judge decides about the statements of one script, the same way in the first
// pass and in the import.
type judge struct {
	guard
	source  script.Source
	options load.Options
	target  load.Target
	server  mysql.ScriptConditions
	// mapped collects collations of the script that the server does not have,
	// and what takes their place.
	mapped map[string]mapping
	// checks are the tables of the script's CHECK constraints, by the constraints' names.
	checks  map[string]string
	inserts sqltext.Inserts
	filled  []string // the table of the last of them; verdicts have it
}

func newJudge(i *Importer, s script.Source, o load.Options) *judge {
	return &judge{
		guard: guard{database: i.Database, own: map[string]bool{}}, source: s, options: o,
		target: i.Target, server: i.Server, mapped: map[string]mapping{}, checks: map[string]string{},
	}
}

// clone gives a judge that goes on from here beside this one.
func (j *judge) clone() *judge {
	own := *j
	own.own, own.checks, own.mapped, own.inserts = maps.Clone(j.own), maps.Clone(j.checks), maps.Clone(j.mapped), sqltext.Inserts{}
	return &own
}

// look decides about one statement.
func (j *judge) look(s sqltext.Statement) verdict {
	v := verdict{Statement: s, text: s.Text}
	if insert, ok := j.inserts.Parse(s); ok {
		if j.filled == nil || j.filled[0] != insert.Table.Name {
			j.filled = []string{insert.Table.Name}
		}
		v.kind, v.insert, v.tables = rows, insert, j.filled
		v.head = sqltext.Head{Verb: "INSERT", Name: insert.Table}
		if !j.isOurs(insert.Table.Schema) {
			v.objection = load.Refuse("the statement reaches into another database, "+insert.Table.Schema, "take the database's name out of it; {retarget} does so where the script chooses that database itself")
		} else if insert.Table.Schema != "" && insert.Table.Schema != j.database {
			v.text = edited(s.Text, unqualify(sqltext.Scan(s.Text[:insert.Body], s.Dialect), j.own))
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
	tokens := sqltext.Scan(s.Text, s.Dialect)
	if len(tokens) == 0 {
		v.dropped = "nothing in it that this server runs"
		return v
	}
	v.head = sqltext.HeadOf(tokens, s.Dialect)
	v.table, _ = sqltext.TableOf(v.head, tokens)
	v.kind, v.tables = classify(v.head, v.table, tokens, s.Text)
	v.temporary = v.head.Verb == "CREATE" && tokens.At(1).Is("TEMPORARY")
	if j.source.Retarget {
		j.learnName(v.head, tokens)
	}
	if v.dropped = j.drop(v.head, tokens); v.dropped != "" {
		return v
	}
	if v.head.Verb == "SET" {
		if v.text = j.adapt(s.Text, tokens, &v); v.dropped != "" {
			return v
		}
	}
	if v.objection = j.judge(tokens, v.head, s.Dialect); v.objection != nil {
		return v
	}
	if v.head.Verb != "SET" {
		v.text = v.head.WithoutDefiner(s.Text)
	}
	if j.options.EventsDisabled && v.head.Object == "EVENT" {
		v.text = []byte(sqltext.DisabledEvent(string(v.text), s.Dialect))
	}
	if !bytes.Equal(v.text, s.Text) {
		tokens = sqltext.Scan(v.text, s.Dialect)
	}
	edits := unqualify(tokens, j.own)
	if v.kind != change {
		edits = append(edits, j.translate(tokens, s.Place(j.source.Name))...)
		if free := j.freeCheckNames(v.head, tokens); free != nil {
			v.adapted = "MySQL takes the name of a CHECK constraint once in a database: some get others"
			edits = append(edits, free...)
		}
	}
	if v.text = edited(v.text, edits); len(edits) > 0 {
		tokens = sqltext.Scan(v.text, s.Dialect)
		v.table, _ = sqltext.TableOf(v.head, tokens)
	}
	v.tokens = tokens
	return v
}

// misreadable refuses what a server could read in another way than we do: nothing
// that is decided about such a statement would hold.
func misreadable(s sqltext.Statement) *load.Objection {
	if s.Untraced != "" {
		return load.Refuse(s.Untraced, "set it by a literal, such as SET sql_mode = 'STRICT_ALL_TABLES' or SET NAMES utf8mb4")
	}
	if doubt := sqltext.Doubt(s.Text, s.Dialect); doubt != "" {
		return load.Refuse(doubt+": servers read that in different ways", "write the statement without it")
	}
	return nil
}

// learnName takes the database that a script makes or chooses for ours.
func (j *judge) learnName(head sqltext.Head, tokens sqltext.Tokens) {
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
func (j *judge) drop(head sqltext.Head, tokens sqltext.Tokens) string {
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
	case isAboutAccounts(head, tokens), tokens.Begins("FLUSH", "PRIVILEGES"):
		return "retargeted: accounts and rights are those of the estate file"
	}
	return ""
}

// replication are settings that dumps carry for servers that copy each other.
// They need rights over the whole server, and mean nothing to one application.
var replication = wordset.Of("gtid_purged sql_log_bin")

// adapt takes out of a SET what is for other servers than this one.
func (j *judge) adapt(text []byte, tokens sqltext.Tokens, v *verdict) []byte {
	assignments := sqltext.SetOf(tokens)
	var edits []edit
	for _, a := range assignments {
		mode := a.Name == "sql_mode" && !a.Global
		switch {
		case replication[a.Name] && !a.User:
			edits = append(edits, edit{a.Start, a.End, "@yellowfield = NULL"})
		case mode && !j.server.MariaDB && j.server.Version >= 80000:
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
	return edited(text, edits)
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
func unqualify(tokens sqltext.Tokens, names map[string]bool) []edit {
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
