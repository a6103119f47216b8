// Package dumps tells what the SQL scripts of an application are: for which server each is, what
// it makes and needs, and whether it is there to be imported.
//
// It must never know of settings.
package dumps

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/settings"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/mysql"
	"yellowfield/internal/sqltext/postgres"
	"yellowfield/internal/wordset"
)

// Script is an SQL script of the tree.
type Script struct {
	File        string `json:"file"`
	DBMS        string `json:"dbms,omitempty"` // family of servers; empty for any
	PrefixToken string `json:"prefix_token,omitempty"`
	// Retarget says that the script makes or chooses a database of its own.
	Retarget bool `json:"retarget,omitempty"`
	// Encoding is a guess at that of a script that is no UTF-8 and does not say what it is.
	Encoding string `json:"encoding,omitempty"`
	Tables   int    `json:"tables"`
	Rows     int    `json:"statements_with_rows"`
	// LeftOut says why the script is not to be imported; empty for one that is.
	LeftOut string `json:"left_out,omitempty"`
	// Named says that code has its name, and so may run it.
	Named bool `json:"named,omitempty"`
	// Doubt says why it should not be imported without a look.
	Doubt string `json:"doubt,omitempty"`
	// Account is set for a script that only makes a database and its account, and holds their
	// facts.
	Account *AccountScript `json:"account,omitempty"`

	Size      int64               `json:"-"`
	Makes     map[string]bool     `json:"-"` // tables
	Needs     map[string]bool     `json:"-"` // tables it fills, changes or refers to
	Fills     map[string]bool     `json:"-"` // tables it puts rows into
	Refers    map[string][]string `json:"-"` // a table to those that its foreign keys refer to
	NeedsRows map[string]bool     `json:"-"` // tables whose rows its rows refer to
	Reads     map[string]bool     `json:"-"` // files that it has the stock client read in its place
	referred  int                 // names in Refers
	Alters    bool                `json:"-"` // tables
	Unbound   bool                `json:"-"` // it puts rows in while foreign keys are not checked
	objects   bool                // other than tables: views, routines, types
	Parts     bool                `json:"-"` // of tables: types, sequences
	Engine    string              `json:"-"` // a storage engine that no server has, for which the installer puts another word
	Unfilled  string              `json:"-"` // a mark in the definition of a table that is no prefix's
	Prefix    string              `json:"-"` // that all tables begin with
	MakesOwn  *AccountScript      `json:"-"` // the database of its own that it makes beside tables; nil for none
}

// AccountScript are what a vendor's script for database and account names.
type AccountScript struct {
	Database  string `json:"database,omitempty"`
	Charset   string `json:"charset,omitempty"`
	Collation string `json:"collation,omitempty"`
	User      string `json:"user,omitempty"`
}

var (
	scriptFamilies = map[string]string{
		"mysql": facts.FamilyMySQL, "mysqli": facts.FamilyMySQL, "mariadb": facts.FamilyMySQL, "my": facts.FamilyMySQL, "pgsql": facts.FamilyPostgreSQL, "postgres": facts.FamilyPostgreSQL, "postgresql": facts.FamilyPostgreSQL, "pg": facts.FamilyPostgreSQL, "postgre": facts.FamilyPostgreSQL,
		"sqlite": facts.FamilyOther, "mssql": facts.FamilyOther, "sqlsrv": facts.FamilyOther, "sqlserver": facts.FamilyOther, "oracle": facts.FamilyOther, "oci": facts.FamilyOther, "ibm": facts.FamilyOther, "db2": facts.FamilyOther, "firebird": facts.FamilyOther, "sybase": facts.FamilyOther, "sqlanywhere": facts.FamilyOther,
	}
	leftOutWords = map[string]string{
		"uninstall": "it removes", "drop": "it removes", "remove": "it removes", "delete": "it removes", "teardown": "it removes", "down": "it removes", "rollback": "it removes", "cleanup": "it removes",
		"upgrade": tree.ForUpgrades, "update": tree.ForUpgrades, "migrate": tree.ForUpgrades, "migration": tree.ForUpgrades, "patch": tree.ForUpgrades, "convert": tree.ForUpgrades, "alter": tree.ForUpgrades,
		"test": "it is for tests", "tests": "it is for tests", "testing": "it is for tests", "fixture": "it is for tests", "fixtures": "it is for tests", "benchmark": "it is for tests",
		"backup": "it is a backup", "backups": "it is a backup", "old": "it is an old one",
	}
	doubtWords = map[string]string{"demo": "it holds demonstration data", "sample": "it holds sample data", "sampledata": "it holds sample data", "example": "it holds sample data", "dummy": "it holds sample data", "optional": "it is optional by its name", "extra": "it is optional by its name"}
	// partFolders hold scripts of parts of the application that are installed by
	// themselves.
	partFolders = wordset.Of("plugin plugins mod mods module modules extension extensions addon addons theme themes contrib docker")
	// betweenVersions is a name such as 1.2-to-1.3.sql or v2.4.1.sql.
	betweenVersions = regexp.MustCompile(`(?i)(\d+([._]\d+)+.*(to|-|_)+.*\d+[._]\d+|^v?\d+([._]\d+)+\.sql|_to_\d|-to-\d|from[_-]?\d)`)
)

// ReadScripts reads the SQL of the tree.
func ReadScripts(ctx context.Context, t *tree.Tree, c *facts.Code) ([]*Script, error) {
	found := []*Script{}
	for _, name := range t.Files {
		if !tree.IsScript(name) {
			continue
		}
		if ctx.Err() != nil {
			return nil, fault.Stopped(ctx.Err())
		}
		s := newScript(t, c, name)
		switch {
		case s.LeftOut != "":
		case t.Sizes[name] > tree.LongestScript:
			s.LeftOut = errTooLong.Error()
		default:
			s.Read(ctx, t)
		}
		found = append(found, s)
	}
	ofUpgrades := func(s *Script) bool {
		return s.LeftOut == tree.ForUpgrades && tree.MakesAll.MatchString(path.Base(s.File))
	}
	ofContributed := func(s *Script) bool {
		return s.LeftOut == ofPart && contributed[path.Dir(s.File)[:strings.IndexByte(s.File, '/')]]
	}
	if !takeLeftOut(ctx, t, found, ofUpgrades) && !takeLeftOut(ctx, t, found, ofContributed) {
		found = append(found, fromFirstVersion(ctx, t, c)...)
	}
	return found, nil
}

// takeLeftOut takes scripts that were left out by their names, where no other makes tables and
// these do: those that lie with one that does.
func takeLeftOut(ctx context.Context, t *tree.Tree, found []*Script, which func(*Script) bool) bool {
	if slices.ContainsFunc(found, (*Script).IsForAll) {
		return true
	}
	taken, makers := map[*Script]string{}, map[string]bool{} // the latter are folders
	for _, s := range found {
		if which(s) {
			taken[s], s.LeftOut = s.LeftOut, ""
			s.Read(ctx, t)
			makers[path.Dir(s.File)] = makers[path.Dir(s.File)] || s.IsForAll()
		}
	}
	for s, why := range taken {
		if !makers[path.Dir(s.File)] {
			s.LeftOut = why
		}
	}
	return slices.ContainsFunc(found, (*Script).IsForAll)
}

// IsForAll reports whether the script is imported and makes tables.
func (s *Script) IsForAll() bool { return s.LeftOut == "" && s.Tables > 0 }

// fromFirstVersion are the scripts of a folder for upgrades that begin with the first
// version: they make all that they change. Code that makes tables, or has the name of the
// folder, does so without us.
func fromFirstVersion(ctx context.Context, t *tree.Tree, c *facts.Code) []*Script {
	for _, folder := range slices.Sorted(maps.Keys(t.Upgrades)) {
		var series []*Script
		for _, name := range t.Upgrades[folder] {
			if s := newScript(t, c, name); (s.LeftOut == "" || s.LeftOut == tree.ForUpgrades) && s.Size <= tree.LongestScript {
				series = append(series, s)
			}
		}
		if len(series) > MostScripts {
			continue
		}
		makes, needs := map[string]bool{}, map[string]bool{}
		for _, s := range series {
			s.LeftOut = ""
			s.Read(ctx, t)
			maps.Copy(makes, s.Makes)
			maps.Copy(needs, s.Needs)
		}
		for table := range makes {
			delete(needs, table)
		}
		runsThem := len(c.Makes) > 0 || c.Upgrades[path.Base(folder)]
		if len(makes) > 0 && len(needs) == 0 && !runsThem {
			t.Skipped = slices.DeleteFunc(t.Skipped, func(skipped string) bool { return strings.HasPrefix(skipped, folder+"/:") })
			return series
		}
	}
	return nil
}

func newScript(t *tree.Tree, c *facts.Code, name string) *Script {
	s := &Script{File: name, Size: t.Sizes[name], Makes: map[string]bool{}, Needs: map[string]bool{}, Fills: map[string]bool{}, Refers: map[string][]string{}, Reads: map[string]bool{}, Named: len(c.Mentions[path.Base(name)]) > 0}
	s.byName()
	return s
}

// ofPart is the reason for which scripts of parts are left out.
const ofPart = "it belongs to a part that is installed by itself"

// contributed are folders of what goes with the application: the SQL of some is there
// and nowhere else.
var contributed = wordset.Of("contrib docker")

// byName tells what the path says.
func (s *Script) byName() {
	for i, word := range append(settings.Words(path.Base(s.File)), settings.Words(path.Dir(s.File))...) {
		if family, known := scriptFamilies[word]; known && s.DBMS == "" {
			s.DBMS = family
		}
		if why := leftOutWords[word]; why != "" && s.LeftOut == "" {
			s.LeftOut = why
		}
		if why := doubtWords[word]; why != "" && i < 4 {
			s.Doubt = why
		}
	}
	for _, word := range settings.Words(path.Dir(s.File)) {
		if partFolders[word] && s.LeftOut == "" {
			s.LeftOut = ofPart
		}
	}
	if betweenVersions.MatchString(path.Base(s.File)) && s.LeftOut == "" {
		s.LeftOut = tree.ForUpgrades
	}
	if s.DBMS == facts.FamilyOther && s.LeftOut == "" {
		s.LeftOut = "it is for another server"
	}
}

// tokenBefore matches a placeholder for the table prefix in front of a table's name: #__,
// @prefix_, {PREFIX}, %TABLE_PREFIX%, [[prefix]], ##PREFIX##, prefix_, also in capitals.
var tokenBefore = regexp.MustCompile("(?i:create\\s+table\\s+(?:if\\s+not\\s+exists\\s+)?|alter\\s+table\\s+|drop\\s+table\\s+(?:if\\s+exists\\s+)?|insert\\s+(?:ignore\\s+)?into\\s+)[`\"]?" +
	`(#__|##\w+##_?|@\w+@_?|@\w*?_|\{\{?\$?[\w.]+\}?\}_?|%%?[\w-]+%%?_?|\[\[?\w+\]\]?_?|<\w+>_?|\$\{\w+\}_?|\$\w+?_|:\w+?:_?|(?:TABLE_?)?PREFIX_|prefix_|DB_?PREFIX_?)`)

// StandIn is what stands for the prefix of tables while scripts are looked at.
const StandIn = "prefixtoken_"

var (
	errTooLong = errors.New("it is too long to be looked at")
	errTooMany = errors.New("it names more tables than are looked at")
)

// mostNames is how many names of tables are kept of all scripts of a tree: the largest
// applications have some thousand.
const mostNames = 100_000

// names is how many names the script has, as often as they are kept.
func (s *Script) names() int {
	return len(s.Makes) + len(s.Needs) + len(s.Fills) + len(s.Refers) + s.referred
}

// Read reads the script as the importer would, without a server. A script that
// cannot be split, such as one for another server, gives what comes before the
// fault.
func (s *Script) Read(ctx context.Context, t *tree.Tree) {
	source := script.Source{Path: s.File, Opener: t.Open, Name: s.File, Include: func(from, named string) (script.Included, error) {
		file, err := included(t, from, named)
		s.Reads[file] = true
		return script.Included{Path: file, Name: file, Opener: t.Open}, err
	}}
	head, err := source.Head(ctx, 1<<20)
	if err != nil {
		s.LeftOut = fault.As(err).What
		return
	}
	if m := tokenBefore.FindSubmatch(head); m != nil {
		s.PrefixToken = string(m[1])
	}
	if family := facts.DialectOf(head); family != "" && (s.DBMS == "" || family == facts.FamilyOther) {
		s.DBMS = family
	}
	if s.PrefixToken != "" {
		source.PrefixToken, source.Prefix = s.PrefixToken, StandIn
	}
	only := true // makes nothing but a database and accounts
	account := &AccountScript{}
	var text facts.Letters
	statements := 0
	err = each(ctx, source, s.DBMS == facts.FamilyPostgreSQL, func(statement sqltext.Statement) error {
		statements++
		if statement.Offset > tree.LongestScript { // which was packed
			return errTooLong
		}
		if !account.Take(statement) {
			only = false
		}
		s.Take(statement)
		text.Take(statement)
		if t.Names+s.names() > mostNames {
			return errTooMany
		}
		return nil
	})
	t.Names += s.names()
	s.Encoding = text.Encoding()
	if s.PrefixToken == "" {
		s.Prefix = CommonPrefix(s.Makes)
	}
	switch {
	case errors.Is(err, errTooLong), errors.Is(err, errTooMany):
		s.LeftOut = err.Error()
	case statements == 0 && err != nil && s.DBMS != facts.FamilyPostgreSQL:
		s.LeftOut = "it cannot be read: " + fault.As(err).What
	case statements == 0:
		s.LeftOut = "it holds no statement"
	case s.Unfilled != "":
		s.LeftOut = "its installer puts in what stands for " + s.Unfilled
	case s.Engine != "":
		s.LeftOut = "its installer puts in a storage engine for " + s.Engine
	case only && (account.Database != "" || account.User != ""):
		s.Account = account
		s.LeftOut = "it only makes a database or an account, which is done without it"
	case account.Database != "":
		s.Retarget, s.MakesOwn = true, account
	case len(s.Makes) == 0 && s.Rows == 0 && len(s.Needs) > 0 && onlyDigits.MatchString(path.Base(s.File)):
		s.LeftOut = tree.ForUpgrades
	}
	if len(s.Makes)+len(s.Needs) == 0 && s.Rows == 0 && !s.objects && s.LeftOut == "" {
		s.Doubt = cmp.Or(s.Doubt, "it makes no table and fills none")
	}
}

// included is the file of the tree that a script has read by a name, taken from its own
// folder or from the tree's.
func included(t *tree.Tree, from, named string) (name string, err error) {
	for _, name := range []string{path.Join(path.Dir(from), named), path.Clean(named)} {
		if t.Has(name) {
			return name, nil
		}
	}
	return "", fault.New(fault.Invalid, "name the files one by one", "there is no file %s", named)
}

// each hands every statement of a script to take, in PostgreSQL's SQL or in the
// plainest of MySQL, and asks no server. An error of the script comes behind the
// statements before it.
func each(ctx context.Context, s script.Source, postgreSQL bool, take func(sqltext.Statement) error) error {
	reader, content, err := script.Read(ctx, s, func(name string, src io.Reader) sqltext.Reader {
		if postgreSQL {
			return postgres.NewReader(name, src)
		}
		return mysql.NewReader(name, src, sqltext.Dialect{}, "")
	})
	if err != nil {
		return err
	}
	defer content.Close()
	for {
		statement, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = take(statement)
		}
		if err != nil {
			return err
		}
	}
}

// Take notes what a statement makes and needs.
func (s *Script) Take(statement sqltext.Statement) {
	head := statement.Head()
	switch {
	case head.Verb == "CREATE" && head.Object == "TABLE":
		if m := engineOf.FindSubmatch(statement.Text); m != nil && !statement.Dialect.PostgreSQL && !Engines[strings.ToLower(string(m[1]))] {
			s.Engine = string(m[1])
		}
		if mark := unfilled.Find(quotedText.ReplaceAll(statement.Text, nil)); mark != nil {
			s.Unfilled = string(mark)
		} else if s.PrefixToken != "" && bytes.Contains(statement.Text, []byte(s.PrefixToken)) { // in the name of a sequence, a text to us
			s.Unfilled = s.PrefixToken
		}
		s.Makes[head.Name.Name] = true
		s.Tables = len(s.Makes)
		if table, ok := sqltext.ParseTable(statement.Text, statement.Dialect); ok {
			for _, f := range table.Foreign {
				s.Needs[f.References.Name] = true
				s.Refers[head.Name.Name] = append(s.Refers[head.Name.Name], f.References.Name)
			}
			s.referred += len(table.Foreign)
		}
	case head.Verb == "CREATE" && !serverObjects[head.Object]:
		s.objects = true
		s.Parts = s.Parts || tableParts[head.Object] || head.Object == "FUNCTION" && beginsWithNumber.MatchString(path.Base(s.File))
		if head.Table.Name != "" {
			s.Needs[head.Table.Name] = true
		}
	case head.Verb == "ALTER" && head.Object == "TABLE":
		s.Needs[head.Name.Name] = true
		parents := referred(sqltext.Scan(statement.Text, statement.Dialect))
		s.Refers[head.Name.Name] = append(s.Refers[head.Name.Name], parents...)
		s.referred += len(parents)
		for _, parent := range parents {
			s.Needs[parent] = true
		}
		s.Alters = s.Alters || len(parents) == 0 // a key that was left for later changes nothing of an older version
	case head.Verb == "INSERT" || head.Verb == "REPLACE" || head.Verb == "COPY":
		s.Rows++
		s.Needs[head.Name.Name], s.Fills[head.Name.Name] = true, true
	case head.Verb == "SET":
		for _, a := range sqltext.ParseSet(statement.Text, statement.Dialect) {
			off := len(a.Value) == 1 && (string(a.Value[0].Text) == "0" || a.Value[0].Is("OFF"))
			s.Unbound = s.Unbound || a.Name == "foreign_key_checks" && off
		}
	}
}

// unfilled is a word in the marks of an installer's template.
var (
	unfilled   = regexp.MustCompile(`\{\{?\$?[A-Za-z_]\w*\}\}?|\$\{\w+\}|%%?[A-Z][A-Z_]+%%?`)
	quotedText = regexp.MustCompile(`'(?:[^'\\]|\\.|'')*'|"(?:[^"\\]|\\.)*"`)
)

var (
	engineOf = regexp.MustCompile(`(?i)\)[^()]*\bENGINE\s*=?\s*['"]?(\w+)[^()]*$`)
	Engines  = wordset.Of("innodb myisam memory heap archive csv merge mrg_myisam blackhole federated aria maria ndb ndbcluster rocksdb tokudb columnstore spider connect sequence s3 mroonga xtradb isam bdb berkeleydb")
)

// serverObjects are what a server has, and no database; tableParts are what definitions of
// tables may use.
var (
	serverObjects = wordset.Of("DATABASE USER ROLE")
	tableParts    = wordset.Of("TYPE DOMAIN EXTENSION SEQUENCE SCHEMA COLLATION")
)

// beginsWithNumber is a name with a number that says when its functions are made: tables
// may use them.
var beginsWithNumber = regexp.MustCompile(`^\d`)

// referred are the tables behind REFERENCES.
func referred(tokens sqltext.Tokens) (parents []string) {
	for i, t := range tokens {
		if !t.Is("REFERENCES") {
			continue
		}
		name := tokens.At(i + 1).Plain()
		if tokens.At(i + 2).IsPunct('.') {
			name = tokens.At(i + 3).Plain()
		}
		parents = append(parents, name)
	}
	return parents
}

var (
	CharsetClause   = regexp.MustCompile(`(?i)\bCHAR(?:ACTER\s+SET|SET)\s*=?\s*'?(\w+)`)
	CollationClause = regexp.MustCompile(`(?i)\bCOLLATE\s*=?\s*'?(\w+)`)
	userName        = regexp.MustCompile("(?i)\\bUSER\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?['\"`]?(\\w+)|\\bTO\\s+['\"`]?(\\w+)")
)

// Take reads one statement; false for one that does more than make a database
// or an account, or choose one.
func (a *AccountScript) Take(statement sqltext.Statement) bool {
	head := statement.Head()
	text := string(statement.Text)
	switch head.Verb {
	case "CREATE", "ALTER", "DROP":
		switch head.Object {
		case "DATABASE", "SCHEMA":
			if head.Object == "SCHEMA" && statement.Dialect.PostgreSQL {
				return false // there it is a part of a database
			}
			if head.Verb == "CREATE" {
				a.Database = head.Name.Name
			}
			if m := CharsetClause.FindStringSubmatch(text); m != nil {
				a.Charset = m[1]
			}
			if m := CollationClause.FindStringSubmatch(text); m != nil {
				a.Collation = m[1]
			}
			return true
		case "USER", "ROLE":
			if m := userName.FindStringSubmatch(text); m != nil && head.Verb == "CREATE" {
				a.User = m[1]
			}
			return true
		}
		return false
	case "GRANT":
		if m := userName.FindStringSubmatch(text[max(0, strings.LastIndex(strings.ToUpper(text), " TO ")):]); m != nil && a.User == "" {
			a.User = cmp.Or(m[1], m[2])
		}
		return true
	case "USE":
		if a.Database == "" {
			a.Database = strings.Trim(strings.TrimSpace(text[len("USE"):]), "`\"")
		}
		return true
	case "REVOKE", "SET", "FLUSH":
		return true
	}
	return false
}

// CommonPrefix is what all tables begin with, up to an underscore.
func CommonPrefix(tables map[string]bool) string {
	common, first := "", true
	for name := range tables {
		i := strings.IndexByte(name, '_')
		if i <= 0 {
			return ""
		}
		if prefix := name[:i+1]; first {
			common, first = prefix, false
		} else if prefix != common {
			return ""
		}
	}
	if len(tables) < 3 {
		return ""
	}
	return common
}

// MostScripts is how many can be told what each is for.
const MostScripts = 20

var onlyDigits = regexp.MustCompile(`^[\d._-]+\.sql`)
