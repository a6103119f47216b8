package discover

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
	// Account holds the facts of a script that only makes a database and its
	// account.
	Account *AccountScript `json:"account,omitempty"`

	size      int64
	makes     map[string]bool     // tables
	needs     map[string]bool     // tables it fills, changes or refers to
	fills     map[string]bool     // tables it puts rows into
	refers    map[string][]string // a table to those that its foreign keys refer to
	needsRows map[string]bool     // tables whose rows its rows refer to
	reads     map[string]bool     // files that it has the stock client read in its place
	alters    bool                // tables
	unbound   bool                // it puts rows in while foreign keys are not checked
	objects   bool                // other than tables: views, routines, types
	parts     bool                // of tables: types, sequences
	engine    string              // a storage engine that no server has, for which the installer puts another word
	unfilled  string              // a mark in the definition of a table that is no prefix's
	prefix    string              // that all tables begin with
	makesOwn  *AccountScript      // the database of its own that it makes beside tables; nil for none
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
		"mysql": familyMySQL, "mysqli": familyMySQL, "mariadb": familyMySQL, "my": familyMySQL, "pgsql": familyPostgreSQL, "postgres": familyPostgreSQL, "postgresql": familyPostgreSQL, "pg": familyPostgreSQL, "postgre": familyPostgreSQL,
		"sqlite": familyOther, "mssql": familyOther, "sqlsrv": familyOther, "sqlserver": familyOther, "oracle": familyOther, "oci": familyOther, "ibm": familyOther, "db2": familyOther, "firebird": familyOther, "sybase": familyOther, "sqlanywhere": familyOther,
	}
	leftOutWords = map[string]string{
		"uninstall": "it removes", "drop": "it removes", "remove": "it removes", "delete": "it removes", "teardown": "it removes", "down": "it removes", "rollback": "it removes", "cleanup": "it removes",
		"upgrade": ForUpgrades, "update": ForUpgrades, "migrate": ForUpgrades, "migration": ForUpgrades, "patch": ForUpgrades, "convert": ForUpgrades, "alter": ForUpgrades,
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

// readScripts reads the SQL of the tree.
func readScripts(ctx context.Context, t *tree, c *code) ([]*Script, error) {
	found := []*Script{}
	for _, name := range t.files {
		if !isScript(name) {
			continue
		}
		if ctx.Err() != nil {
			return nil, fault.Stopped(ctx.Err())
		}
		s := newScript(t, c, name)
		switch {
		case s.LeftOut != "":
		case t.sizes[name] > longestScript:
			s.LeftOut = errTooLong.Error()
		default:
			s.read(ctx, t)
		}
		found = append(found, s)
	}
	ofUpgrades := func(s *Script) bool {
		return s.LeftOut == ForUpgrades && makesAll.MatchString(path.Base(s.File))
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
func takeLeftOut(ctx context.Context, t *tree, found []*Script, which func(*Script) bool) bool {
	if slices.ContainsFunc(found, (*Script).isForAll) {
		return true
	}
	taken, makers := map[*Script]string{}, map[string]bool{} // the latter are folders
	for _, s := range found {
		if which(s) {
			taken[s], s.LeftOut = s.LeftOut, ""
			s.read(ctx, t)
			makers[path.Dir(s.File)] = makers[path.Dir(s.File)] || s.isForAll()
		}
	}
	for s, why := range taken {
		if !makers[path.Dir(s.File)] {
			s.LeftOut = why
		}
	}
	return slices.ContainsFunc(found, (*Script).isForAll)
}

// isForAll reports whether the script is imported and makes tables.
func (s *Script) isForAll() bool { return s.LeftOut == "" && s.Tables > 0 }

// fromFirstVersion are the scripts of a folder for upgrades that begin with the first
// version: they make all that they change. Code that makes tables, or has the name of the
// folder, does so without us.
func fromFirstVersion(ctx context.Context, t *tree, c *code) []*Script {
	for _, folder := range slices.Sorted(maps.Keys(t.upgrades)) {
		var series []*Script
		for _, name := range t.upgrades[folder] {
			if s := newScript(t, c, name); (s.LeftOut == "" || s.LeftOut == ForUpgrades) && s.size <= longestScript {
				series = append(series, s)
			}
		}
		if len(series) > MostScripts {
			continue
		}
		makes, needs := map[string]bool{}, map[string]bool{}
		for _, s := range series {
			s.LeftOut = ""
			s.read(ctx, t)
			maps.Copy(makes, s.makes)
			maps.Copy(needs, s.needs)
		}
		for table := range makes {
			delete(needs, table)
		}
		runsThem := len(c.makes) > 0 || c.upgrades[path.Base(folder)]
		if len(makes) > 0 && len(needs) == 0 && !runsThem {
			t.skipped = slices.DeleteFunc(t.skipped, func(skipped string) bool { return strings.HasPrefix(skipped, folder+"/:") })
			return series
		}
	}
	return nil
}

func newScript(t *tree, c *code, name string) *Script {
	s := &Script{File: name, size: t.sizes[name], makes: map[string]bool{}, needs: map[string]bool{}, fills: map[string]bool{}, refers: map[string][]string{}, reads: map[string]bool{}, Named: len(c.mentions[path.Base(name)]) > 0}
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
		s.LeftOut = ForUpgrades
	}
	if s.DBMS == familyOther && s.LeftOut == "" {
		s.LeftOut = "it is for another server"
	}
}

// tokenBefore finds what stands for the table prefix in front of a table's
// name: #__, @prefix_, {PREFIX}, %TABLE_PREFIX%, [[prefix]], ##PREFIX##, prefix_, also in capitals.
var tokenBefore = regexp.MustCompile("(?i:create\\s+table\\s+(?:if\\s+not\\s+exists\\s+)?|alter\\s+table\\s+|drop\\s+table\\s+(?:if\\s+exists\\s+)?|insert\\s+(?:ignore\\s+)?into\\s+)[`\"]?" +
	`(#__|##\w+##_?|@\w+@_?|@\w*?_|\{\{?\$?[\w.]+\}?\}_?|%%?[\w-]+%%?_?|\[\[?\w+\]\]?_?|<\w+>_?|\$\{\w+\}_?|\$\w+?_|:\w+?:_?|(?:TABLE_?)?PREFIX_|prefix_|DB_?PREFIX_?)`)

// standIn is what stands for the prefix of tables while scripts are looked at.
const standIn = "prefixtoken_"

var errTooLong = errors.New("it is too long to be looked at")

// read reads the script as the importer would, without a server. A script that
// cannot be split, such as one for another server, gives what comes before the
// fault.
func (s *Script) read(ctx context.Context, t *tree) {
	source := script.Source{Path: s.File, Opener: t.open, Name: s.File, Include: func(from, named string) (script.Included, error) {
		file, err := t.included(from, named)
		s.reads[file] = true
		return script.Included{Path: file, Name: file, Opener: t.open}, err
	}}
	head, err := source.Head(ctx, 1<<20)
	if err != nil {
		s.LeftOut = fault.As(err).What
		return
	}
	if m := tokenBefore.FindSubmatch(head); m != nil {
		s.PrefixToken = string(m[1])
	}
	if family := dialectOf(head); family != "" && (s.DBMS == "" || family == familyOther) {
		s.DBMS = family
	}
	if s.PrefixToken != "" {
		source.PrefixToken, source.Prefix = s.PrefixToken, standIn
	}
	only := true // makes nothing but a database and accounts
	account := &AccountScript{}
	var text letters
	statements := 0
	err = each(ctx, source, s.DBMS == familyPostgreSQL, func(statement sqltext.Statement) error {
		statements++
		if statement.Offset > longestScript { // which was packed
			return errTooLong
		}
		if !account.take(statement) {
			only = false
		}
		s.take(statement)
		text.take(statement)
		return nil
	})
	s.Encoding = text.encoding()
	if s.PrefixToken == "" {
		s.prefix = commonPrefix(s.makes)
	}
	switch {
	case errors.Is(err, errTooLong):
		s.LeftOut = errTooLong.Error()
	case statements == 0 && err != nil && s.DBMS != familyPostgreSQL:
		s.LeftOut = "it cannot be read: " + fault.As(err).What
	case statements == 0:
		s.LeftOut = "it holds no statement"
	case s.unfilled != "":
		s.LeftOut = "its installer puts in what stands for " + s.unfilled
	case s.engine != "":
		s.LeftOut = "its installer puts in a storage engine for " + s.engine
	case only && (account.Database != "" || account.User != ""):
		s.Account = account
		s.LeftOut = "it only makes a database or an account, which is done without it"
	case account.Database != "":
		s.Retarget, s.makesOwn = true, account
	case len(s.makes) == 0 && s.Rows == 0 && len(s.needs) > 0 && onlyDigits.MatchString(path.Base(s.File)):
		s.LeftOut = ForUpgrades
	}
	if len(s.makes)+len(s.needs) == 0 && s.Rows == 0 && !s.objects && s.LeftOut == "" {
		s.Doubt = cmp.Or(s.Doubt, "it makes no table and fills none")
	}
}

// included is the file of the tree that a script has read by a name, taken from its own
// folder or from the tree's.
func (t *tree) included(from, named string) (name string, err error) {
	for _, name := range []string{path.Join(path.Dir(from), named), path.Clean(named)} {
		if t.has(name) {
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

// take notes what a statement makes and needs.
func (s *Script) take(statement sqltext.Statement) {
	head := statement.Head()
	switch {
	case head.Verb == "CREATE" && head.Object == "TABLE":
		if m := engineOf.FindSubmatch(statement.Text); m != nil && !statement.Dialect.PostgreSQL && !engines[strings.ToLower(string(m[1]))] {
			s.engine = string(m[1])
		}
		if mark := unfilled.Find(quotedText.ReplaceAll(statement.Text, nil)); mark != nil {
			s.unfilled = string(mark)
		} else if s.PrefixToken != "" && bytes.Contains(statement.Text, []byte(s.PrefixToken)) { // in the name of a sequence, a text to us
			s.unfilled = s.PrefixToken
		}
		s.makes[head.Name.Name] = true
		s.Tables = len(s.makes)
		if table, ok := sqltext.ParseTable(statement.Text, statement.Dialect); ok {
			for _, f := range table.Foreign {
				s.needs[f.References.Name] = true
				s.refers[head.Name.Name] = append(s.refers[head.Name.Name], f.References.Name)
			}
		}
	case head.Verb == "CREATE" && !serverObjects[head.Object]:
		s.objects = true
		s.parts = s.parts || tableParts[head.Object] || head.Object == "FUNCTION" && beginsWithNumber.MatchString(path.Base(s.File))
		if head.Table.Name != "" {
			s.needs[head.Table.Name] = true
		}
	case head.Verb == "ALTER" && head.Object == "TABLE":
		s.needs[head.Name.Name] = true
		parents := referred(sqltext.Scan(statement.Text, statement.Dialect))
		s.refers[head.Name.Name] = append(s.refers[head.Name.Name], parents...)
		for _, parent := range parents {
			s.needs[parent] = true
		}
		s.alters = s.alters || len(parents) == 0 // a key that was left for later changes nothing of an older version
	case head.Verb == "INSERT" || head.Verb == "REPLACE" || head.Verb == "COPY":
		s.Rows++
		s.needs[head.Name.Name], s.fills[head.Name.Name] = true, true
	case head.Verb == "SET":
		for _, a := range sqltext.ParseSet(statement.Text, statement.Dialect) {
			off := len(a.Value) == 1 && (string(a.Value[0].Text) == "0" || a.Value[0].Is("OFF"))
			s.unbound = s.unbound || a.Name == "foreign_key_checks" && off
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
	engines  = wordset.Of("innodb myisam memory heap archive csv merge mrg_myisam blackhole federated aria maria ndb ndbcluster rocksdb tokudb columnstore spider connect sequence s3 mroonga xtradb isam bdb berkeleydb")
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
	charsetClause   = regexp.MustCompile(`(?i)\bCHAR(?:ACTER\s+SET|SET)\s*=?\s*'?(\w+)`)
	collationClause = regexp.MustCompile(`(?i)\bCOLLATE\s*=?\s*'?(\w+)`)
	userName        = regexp.MustCompile("(?i)\\bUSER\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?['\"`]?(\\w+)|\\bTO\\s+['\"`]?(\\w+)")
)

// take reads one statement; false for one that does more than make a database
// or an account, or choose one.
func (a *AccountScript) take(statement sqltext.Statement) bool {
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
			if m := charsetClause.FindStringSubmatch(text); m != nil {
				a.Charset = m[1]
			}
			if m := collationClause.FindStringSubmatch(text); m != nil {
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

// commonPrefix is what all tables begin with, up to an underscore.
func commonPrefix(tables map[string]bool) string {
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
