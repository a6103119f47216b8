// Package judge decides about the statements of a script for MariaDB and MySQL without running
// them: what each is, which objects it concerns, what is left out or changed for the server,
// and what is refused because it reaches outside the application's database.
//
// It must never know of sessions or of how rows are sent.
package judge

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/wordset"
)

// kind is what the importer can do with a statement; see classify.
type kind int

const (
	Anything    kind = iota // needs all before it done, and nothing beside it
	Rows                    // INSERT of literal rows into one table
	Definition              // DDL that concerns the listed tables only
	Indexes                 // adds keys to one table, may be folded with its neighbours
	Setting                 // SET of session or user variables
	Transaction             // begins or ends a transaction
	TableLock               // LOCK TABLES, UNLOCK TABLES
	KeySwitch               // ALTER TABLE ... DISABLE KEYS, ENABLE KEYS
	Change                  // DML that is not plain rows
)

// Verdict is all that is decided about a statement without running it.
type Verdict struct {
	sqltext.Statement
	Lead   sqltext.Head
	Kind   kind
	Insert sqltext.Insert // for rows
	Tables []string       // that it concerns, for rows, definition, indexes, keySwitch
	Sent   []byte         // as it is sent
	Tokens sqltext.Tokens // of text; not for rows
	Table  *sqltext.Table // that it makes, for CREATE TABLE
	// Dropped says why the statement is not sent; empty if it is.
	Dropped   string
	Objection *load.Objection
	Wide      bool // it has more tokens than Tokens holds, which are none then
	Temporary bool // defines a table of the session
	// adapted says what was changed for this server; empty for nothing.
	adapted string
}

// Judge decides about the statements of one script, the same way in the first
// pass and in the import.
type Judge struct {
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

func New(of Subject, s script.Source, o load.Options) *Judge {
	return &Judge{
		guard: guard{database: of.Database, own: map[string]bool{}}, source: s, options: o,
		target: of.Target, server: of.Server, mapped: map[string]mapping{}, checks: map[string]string{},
	}
}

// Clone gives a judge that goes on from here beside this one.
func (j *Judge) Clone() *Judge {
	own := *j
	own.own, own.checks, own.mapped, own.inserts = maps.Clone(j.own), maps.Clone(j.checks), maps.Clone(j.mapped), sqltext.Inserts{}
	return &own
}

// Classify decides about one statement.
func (j *Judge) Classify(s sqltext.Statement) Verdict {
	v := Verdict{Statement: s, Sent: s.Text}
	if insert, ok := j.inserts.Parse(s); ok {
		if j.filled == nil || j.filled[0] != insert.Table.Name {
			j.filled = []string{insert.Table.Name}
		}
		v.Kind, v.Insert, v.Tables = Rows, insert, j.filled
		v.Lead = sqltext.Head{Verb: "INSERT", Name: insert.Table}
		if !j.isOurs(insert.Table.Schema) {
			v.Objection = load.Refuse("the statement reaches into another database, "+insert.Table.Schema, "take the database's name out of it; {retarget} does so where the script chooses that database itself")
		} else if insert.Table.Schema != "" && insert.Table.Schema != j.database {
			v.Sent = edited(s.Text, unqualify(sqltext.Scan(s.Text[:insert.Body], s.Dialect), j.own))
			v.Insert, _ = sqltext.ParseInsert(v.Sent, s.Dialect)
		}
		return v
	}
	return j.ClassifyTokens(v)
}

// ClassifyTokens is Classify for everything but plain rows: all its tokens are read.
func (j *Judge) ClassifyTokens(v Verdict) Verdict {
	s := v.Statement
	if v.Objection = misreadable(s); v.Objection != nil {
		return v
	}
	tokens, all := sqltext.ScanAll(s.Text, s.Dialect)
	if len(tokens) == 0 {
		v.Dropped = "nothing in it that this server runs"
		return v
	}
	if !all {
		return j.classifyWide(v, tokens)
	}
	v.Lead = sqltext.HeadOf(tokens, s.Dialect)
	v.Table, _ = sqltext.TableOf(v.Lead, tokens)
	v.Kind, v.Tables = classify(v.Lead, v.Table, tokens, s.Text)
	v.Temporary = v.Lead.Verb == "CREATE" && tokens.At(1).Is("TEMPORARY")
	if j.source.Retarget {
		j.learnName(v.Lead, tokens)
	}
	if v.Dropped = j.drop(v.Lead, tokens); v.Dropped != "" {
		return v
	}
	if v.Lead.Verb == "SET" {
		if v.Sent = j.adapt(s.Text, tokens, &v); v.Dropped != "" {
			return v
		}
	}
	if v.Objection = j.judge(tokens, v.Lead, s.Dialect); v.Objection != nil {
		return v
	}
	if v.Lead.Verb != "SET" {
		v.Sent = v.Lead.WithoutDefiner(s.Text)
	}
	if j.options.EventsDisabled && v.Lead.Object == "EVENT" {
		v.Sent = []byte(sqltext.DisabledEvent(string(v.Sent), s.Dialect))
	}
	if !bytes.Equal(v.Sent, s.Text) {
		tokens = sqltext.Scan(v.Sent, s.Dialect)
	}
	edits := unqualify(tokens, j.own)
	if v.Kind != Change {
		edits = append(edits, j.translate(tokens, s.Place(j.source.Name))...)
		if free := j.freeCheckNames(v.Lead, tokens); free != nil {
			v.adapted = "MySQL takes the name of a CHECK constraint once in a database: some get others"
			edits = append(edits, free...)
		}
	}
	if v.Sent = edited(v.Sent, edits); len(edits) > 0 {
		tokens = sqltext.Scan(v.Sent, s.Dialect)
		v.Table, _ = sqltext.TableOf(v.Lead, tokens)
	}
	v.Tokens = tokens
	return v
}

// wideVerbs are statements that may have more words and marks than are held in memory.
var wideVerbs = wordset.Of("INSERT REPLACE UPDATE DELETE SELECT WITH VALUES")

// classifyWide is ClassifyTokens for a statement of which tokens are only the first. It goes to
// the server as it stands, or not at all.
func (j *Judge) classifyWide(v Verdict, tokens sqltext.Tokens) Verdict {
	s := v.Statement
	v.Lead = sqltext.HeadOf(tokens, s.Dialect)
	v.Kind, v.Wide = Anything, true
	switch {
	case v.Lead.Verb != "" && !wideVerbs[v.Lead.Verb]:
		v.Objection = load.Refuse("the statement has more than "+figures.Thousands(sqltext.MostTokens)+" words and marks", "split it into several statements")
	case len(j.own) > 0:
		v.Objection = load.Refuse("the statement has more than "+figures.Thousands(sqltext.MostTokens)+" words and marks, too many to take the name of a database out of them", "split it into several statements")
	default:
		v.Objection = j.reachWide(s.Text, s.Dialect, v.Lead)
	}
	return v
}

// Each takes every token of the statement as it is sent.
func (v *Verdict) Each(take func(sqltext.Token)) {
	sqltext.EachToken(v.Tokens, !v.Wide, v.Sent, v.Dialect, take)
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
func (j *Judge) learnName(head sqltext.Head, tokens sqltext.Tokens) {
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
func (j *Judge) drop(head sqltext.Head, tokens sqltext.Tokens) string {
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
func (j *Judge) adapt(text []byte, tokens sqltext.Tokens, v *Verdict) []byte {
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
		v.Dropped = "a setting for replication between servers"
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
