// Package facts reads an application's PHP and tells what it says: where it logs in and with
// what, which files it opens, which words it has for servers, which tables it makes.
//
// It must never know what is proposed from that.
package facts

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"yellowfield/internal/discover/tree"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/wordset"
)

// Code is what the application's own PHP tells.
type Code struct {
	Mentions  map[string][]Mention // by the base name of the file mentioned
	Connects  []Connect
	Logins    loginIndex // of these
	handovers []handover
	takes     map[string][]settings.Role // what functions log in with, by their parameters
	Environ   map[string]bool            // names of environment variables that are read
	// Functions are names of functions and classes used, with the first place;
	// asked are those whose presence the code asks for first.
	Functions map[string]Place
	asked     map[string]bool
	Defines   map[string]bool // functions and classes that the tree makes itself
	Whole     driverUses
	parts     driverUses      // in folders of parts, of examples and the like
	Schemes   map[string]bool // families of the data source names that code puts together
	Dialects  map[string]bool // families of the SQL by which it makes tables
	Makes     []Place         // where CREATE TABLE stands in code
	Outside   []Outside
	Fixed     []Place           // where code logs in with literal values
	Variables []Place           // and where with variables of the environment
	aliases   map[string]string // of the file that is taken
	Texts     []Embedded
	Words     DriverWords
	Tables    TablesInCode
	// Collations are those that the code allows, where it lists them.
	Collations *listed
	Signatures map[string][]string // names of parameters, of functions and constructors
	// constants are those that are defined to be paths, and openConstants those that
	// are handed to something that opens a file.
	constants     map[string]constant
	openConstants map[string][]opened
	behind        []behind
	Deletes       map[string]bool   // paths, as the code has them, of files that it deletes
	Subclasses    []Subclass        // that stand in texts of the code
	SelfNamed     map[string]bool   // constants whose value is their name
	Literals      map[string]bool   // that end like the beginnings of such names
	Upgrades      map[string]bool   // folders for upgrades that it has the names of
	Arrays        map[string]string // variables of arrays that it writes key by key, by the file of code
	Copies        map[string]string // names of files that it copies, and of the copies
}

// Place is a line of a file of the tree.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line,omitempty"`
}

func (p Place) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// Readers and writers are functions that take a file's name.
var (
	Readers     = wordset.Of("include include_once require require_once parse_ini_file file_get_contents simplexml_load_file yaml_parse_file file load readfile")
	Writers     = wordset.Of("file_put_contents fopen touch rename copy chmod is_writable")
	TextWriters = wordset.Of("file_put_contents fopen") // which also open to read
	Askers      = wordset.Of("file_exists is_file is_readable realpath")
	environers  = wordset.Of("getenv env")
	asksFor     = wordset.Of("function_exists class_exists is_callable") // whether something is there
)

// wanted chooses the uses that readCode keeps.
func wanted(function string) bool {
	_, logs := loginArguments[function]
	return logs || function == "sprintf" || mayConnect(function) || Readers[function] || Writers[function] || Askers[function] || environers[function] ||
		function == tableMethod || function == "fwrite" || function == "fputs" || function == "extension_loaded" || asksFor[function] || function == "define" || function == "unlink" || ExtensionOf(function) != ""
}

func NewCode() *Code {
	return &Code{Mentions: map[string][]Mention{}, takes: map[string][]settings.Role{}, Environ: map[string]bool{}, Functions: map[string]Place{}, asked: map[string]bool{}, Defines: map[string]bool{}, Whole: newDriverUses(), parts: newDriverUses(), Schemes: map[string]bool{}, Dialects: map[string]bool{}, Words: newDriverWords(), constants: map[string]constant{}, openConstants: map[string][]opened{}, Deletes: map[string]bool{}, Copies: map[string]string{}, SelfNamed: map[string]bool{}, Literals: map[string]bool{}, Upgrades: map[string]bool{}, Arrays: map[string]string{}, Signatures: map[string][]string{}, Tables: TablesInCode{Uses: map[string]Place{}, Makes: map[string]bool{}}}
}

// mayConnect reports whether a function of the application may log in, by its name.
func mayConnect(function string) bool {
	name := strings.TrimPrefix(function, "->")
	return strings.Contains(name, "connect") || strings.Contains(name, "database") || strings.HasPrefix(name, "db") || strings.HasSuffix(name, "db")
}

// ReadCode reads all PHP of the tree.
func ReadCode(ctx context.Context, t *tree.Tree) (*Code, error) {
	c := NewCode()
	c.Words.read = func(file string) []byte {
		const longest = 64 << 10 // of what lists drivers
		return t.Read(file, longest)
	}
	names := slices.DeleteFunc(slices.Clone(t.Files), func(name string) bool { return !tree.IsCode(name) })
	err := SideBySide(ctx, names, func(name string) *codeFile { return readCodeFile(t, name) }, func(name string, read *codeFile) {
		if read == nil {
			t.Skip(name, "it is too long or cannot be read")
			return
		}
		c.file(name, read)
	})
	c.resolveConstants(t)
	c.resolveHandovers()
	c.indexLogins()
	c.Words.resolvePaths()
	return c, err
}

// SideBySide reads files on all processors, and hands on what they tell in
// their order.
func SideBySide[T any](ctx context.Context, names []string, read func(name string) T, take func(name string, what T)) error {
	const batchSize = 256
	for batch := range slices.Chunk(names, batchSize) {
		found := make([]T, len(batch))
		var group errgroup.Group
		group.SetLimit(runtime.GOMAXPROCS(0))
		for i, name := range batch {
			group.Go(func() error {
				if ctx.Err() == nil {
					found[i] = read(name)
				}
				return ctx.Err()
			})
		}
		if err := group.Wait(); err != nil {
			return fault.Stopped(err)
		}
		for i, name := range batch {
			take(name, found[i])
		}
	}
	return nil
}

// codeFile is what one file of code holds.
type codeFile struct {
	php.Code
	schemes, parts [][][]byte  // matches of dsnScheme and dsnPart
	choices        [][2]string // addresses that it compares with names of drivers, and these
	collations     []string    // that it lists, in this line
	collationsLine int
}

// readCodeFile reads one file; nil when that cannot be done.
func readCodeFile(t *tree.Tree, name string) *codeFile {
	source := t.Read(name, tree.LongestCode)
	if source == nil {
		return nil
	}
	read := &codeFile{Code: php.ReadCode(source, wanted)}
	read.collationsLine, read.collations = collationsIn(source)
	for line := range bytes.Lines(source) {
		if bytes.Contains(line, []byte("host=")) || bytes.Contains(line, []byte("dbname=")) || bytes.Contains(line, []byte("unix_socket=")) {
			read.schemes = append(read.schemes, dsnScheme.FindAllSubmatch(line, -1)...)
			read.parts = append(read.parts, dsnPart.FindAllSubmatch(line, -1)...)
		}
	}
	read.choices = choicesIn(source)
	return read
}

// file takes in what one file of code tells.
func (c *Code) file(name string, read *codeFile) {
	for _, defined := range read.Defines {
		c.Defines[defined] = true
	}
	for of, parameters := range read.Signatures {
		if before, has := c.Signatures[of]; has && !slices.Equal(before, parameters) {
			parameters = nil // whichever it is
		}
		c.Signatures[of] = parameters
	}
	c.aliases = read.Aliases
	f := &fileTaker{Code: c, name: name, read: read, own: IsOwnCode(name), writes: map[string]bool{}, handed: map[string]string{}, from: map[string]int{}, front: map[string]string{}, parts: map[php.Literal]bool{}}
	firstLogin := len(c.Connects)
	if f.own {
		c.declare(name, read.Declares)
	}
	for _, use := range read.Uses {
		f.takeUse(use)
	}
	if f.own {
		c.Words.path(name)
		for _, defined := range read.Defines {
			c.Words.name(defined, name)
		}
	}
	for _, literal := range read.Literals {
		f.takeLiteral(literal)
	}
	if f.own {
		f.takeRest(firstLogin)
	}
}

// fileTaker takes in one file of code.
type fileTaker struct {
	*Code
	name   string
	read   *codeFile
	own    bool                 // it is no test
	writes map[string]bool      // literals handed to what writes
	handed map[string]string    // literals by the function they were handed to
	from   map[string]int       // and by where their paths begin
	front  map[string]string    // and by the constant or variable in front of them
	parts  map[php.Literal]bool // those that are parts of a path which is known as a whole
}

// takeUse takes in the use of a function.
func (f *fileTaker) takeUse(use php.Use) {
	place := Place{f.name, use.Line}
	for _, argument := range use.Arguments {
		f.takeArgument(place, use, argument)
	}
	if use.Function == "copy" && len(use.Arguments) == 2 {
		if from, to := lastText(use.Arguments[0]), lastText(use.Arguments[1]); fileName.MatchString(to) && from != "" {
			f.Copies[path.Base(from)] = path.Base(to)
		}
	}
	if f.own && use.Function == "define" && len(use.Arguments) == 2 {
		if defined, ok := use.Arguments[0].Literal(); ok && len(use.Arguments[1].Pieces) > 0 {
			f.constants[defined] = constant{f.name, use.Arguments[1]}
		}
	}
	if f.own {
		f.use(place, use)
	}
}

// takeArgument takes in what a function is given.
func (f *fileTaker) takeArgument(place Place, use php.Use, argument php.Argument) {
	opens := use.Function == "unlink" || Readers[use.Function] || Writers[use.Function] || Askers[use.Function]
	if pieces := argument.Pieces; f.own && opens && len(pieces) == 2 && pieces[0].Address != "" && !strings.HasPrefix(pieces[0].Address, "__") && strings.Contains(pieces[1].Text, "/") {
		f.behind = append(f.behind, behind{front: pieces[0].Address, path: pieces[1].Text, file: f.name})
	}
	if opens && argument.Traced != nil {
		pieces := argument.Pieces
		argument = *argument.Traced
		if text := joined(argument); text != "" {
			for _, piece := range pieces {
				f.parts[php.Literal{Text: piece.Text, Line: use.Line}] = true
			}
			argument.Pieces = append(slices.DeleteFunc(slices.Clone(argument.Pieces), func(p php.Piece) bool { return p.Address == "" }), php.Piece{Text: text})
			f.read.Literals = append(f.read.Literals, php.Literal{Text: text, Line: use.Line})
		}
	}
	if f.own && RunsIt[use.Function] {
		f.Words.inPath(argument.Pieces)
	}
	for _, piece := range argument.Pieces {
		if use.Function == "unlink" {
			f.Deletes[piece.Text] = true
			continue
		}
		if piece.Address == "" && TextWriters[use.Function] {
			f.writes[piece.Text] = true
		}
		if piece.Address == "" && (f.handed[piece.Text] == "" || Readers[use.Function]) {
			f.handed[piece.Text] = use.Function
			f.from[piece.Text] = upwards(argument)
			f.front[piece.Text] = argument.Pieces[0].Address
		}
	}
	if pieces := argument.Pieces; len(pieces) == 1 && isConstant(pieces[0].Address) && opens {
		of := constantName(pieces[0].Address)
		by := opened{place, use.Function}
		if !slices.ContainsFunc(f.openConstants[of], func(o opened) bool { return o.File == by.File && o.verb == by.verb }) {
			f.openConstants[of] = append(f.openConstants[of], by)
		}
	}
}

// takeLiteral takes in a text of the code.
func (f *fileTaker) takeLiteral(literal php.Literal) {
	place := Place{f.name, literal.Line}
	if f.own {
		if !asksFor[f.handed[literal.Text]] && f.handed[literal.Text] != "extension_loaded" {
			f.Words.Take(f.name, literal.Text)
		}
		if strings.Contains(literal.Text, " extends ") {
			if m := classInText.FindStringSubmatch(literal.Text); m != nil {
				f.Subclasses = append(f.Subclasses, Subclass{f.name, m[1], m[2]})
			}
		}
		if beginningOfNames.MatchString(literal.Text) {
			f.Literals[literal.Text] = true
		}
		f.Tables.Take(place, literal)
		f.noteUpgrades(literal.Text)
	}
	switch {
	case len(literal.Text) < longestName && strings.Contains(literal.Text, ".") && fileName.MatchString(literal.Text):
		isEnding := ending.MatchString(literal.Text) && !strings.HasPrefix(literal.Text, ".env")
		if !isEnding && !f.parts[php.Literal{Text: literal.Text, Line: literal.Line}] {
			f.takeMention(place, literal.Text)
		}
	case f.own && len(literal.Text) > len("create table") && createsTable.MatchString(literal.Text) && !makesAnyTable.MatchString(literal.Text):
		if family := DialectOf([]byte(literal.Text)); family != FamilyOther {
			f.Makes = append(f.Makes, place)
			f.Dialects[family] = true
		}
	case f.own && (strings.Contains(literal.Text, "define(") || strings.Contains(literal.Text, "<?php")) && strings.Count(literal.Text, "\n") > 2:
		f.Texts = append(f.Texts, Embedded{Place: place, Text: literal.Text})
	}
}

// takeMention takes in a text that names a file.
func (f *fileTaker) takeMention(place Place, text string) {
	base := path.Base(strings.ReplaceAll(text, `\`, "/"))
	up, known := f.from[text]
	if !known {
		up = anywhere
	}
	if by := f.handed[text]; f.own && up == anywhere && (Readers[by] || Askers[by]) && systemFolder.MatchString(text) &&
		!slices.ContainsFunc(f.Outside, func(o Outside) bool { return o.File == text }) {
		f.Outside = append(f.Outside, Outside{text, place})
	}
	if f.own { // tests have files of their own
		f.Mentions[base] = append(f.Mentions[base], Mention{Place: place, Path: strings.ReplaceAll(text, `\`, "/"), Verb: f.handed[text], Writes: f.writes[text], Up: up, front: f.front[text]})
	}
}

// takeRest takes in what was found in the file's text as a whole; firstLogin is the first of its
// logins.
func (f *fileTaker) takeRest(firstLogin int) {
	if handedTo(f.handed, "file_put_contents") || slices.ContainsFunc(f.read.Uses, func(u php.Use) bool {
		return u.Function == "fwrite" || u.Function == "fputs" || u.Function == "file_put_contents"
	}) {
		f.takeTexts(f.name, f.read.Literals)
	}
	if f.Collations == nil && len(f.read.collations) > 0 {
		f.Collations = &listed{Place{f.name, f.read.collationsLine}, f.read.collations}
	}
	for _, m := range f.read.schemes {
		f.Schemes[Drivers[string(m[1])]] = true
	}
	for _, m := range f.read.parts {
		address := string(m[2])
		if before := m[0][:len(m[0])-len(m[2])]; before[len(before)-1] == '$' { // within the string
			address = "$" + address
		}
		f.connect(Place{File: f.name}, dsnRoles[string(m[1])], address, f.read.Parameters[address])
	}
	for _, choice := range f.read.choices {
		if local := f.read.Parameters[choice[0]]; !local {
			f.Words.test(f.name, f.unaliased(choice[0]), choice[1])
		}
		f.connect(Place{File: f.name}, settings.Driver, choice[0], f.read.Parameters[choice[0]])
	}
	f.noteParameters(f.read.Signatures, firstLogin)
}

// declare takes the constants of a file, and functions that stand for a value.
func (c *Code) declare(name string, declares []php.Declared) {
	for _, declared := range declares {
		key := constantName(declared.Name)
		if before, has := c.constants[key]; has && before.argument.Source != declared.Value.Source {
			declared.Value = php.Argument{} // two classes, and two values
		}
		c.constants[key] = constant{name, declared.Value}
		if text, literal := declared.Value.Literal(); literal && text == key {
			c.SelfNamed[key] = true
		}
	}
}

// noteUpgrades notes the folders for upgrades in a path.
func (c *Code) noteUpgrades(text string) {
	if len(text) > longestName {
		return
	}
	for name := range strings.SplitSeq(text, "/") {
		if tree.UpgradeFolders[strings.ToLower(name)] {
			c.Upgrades[name] = true
		}
	}
}

// Subclass is a class that a text in a file of code would define, and what it extends.
type Subclass struct{ File, Name, Of string }

var classInText = regexp.MustCompile(`\bclass\s+(\w+)\s+extends\s+(\w+)\s*\{`)

// beginningOfNames is what names of variables of the environment may begin with.
var beginningOfNames = regexp.MustCompile(`^[A-Z][A-Z0-9_]{0,30}_$`)

func handedTo(handed map[string]string, function string) bool {
	for _, to := range handed {
		if to == function {
			return true
		}
	}
	return false
}

// createsTable is SQL that makes a table, and makesAnyTable that of a library or of a tool, to
// which somebody gives the name.
var (
	createsTable  = regexp.MustCompile(`(?i)\bcreate\s+table\b`)
	makesAnyTable = regexp.MustCompile("(?i)\\bcreate\\s+table\\s+(?:if\\s+not\\s+exists\\s+)?[`\"\\\\]*(?:%s|\\{?\\$_(?:POST|GET|REQUEST))")
)

// IsOwnCode tells the application's own code from its tests.
func IsOwnCode(name string) bool {
	for _, word := range settings.Words(path.Dir(name)) {
		if Foreign[word] == "tests" {
			return false
		}
	}
	return true
}

func (c *Code) use(place Place, use php.Use) {
	first := func() string {
		if len(use.Arguments) > 0 {
			if text, ok := use.Arguments[0].Literal(); ok {
				return strings.ToLower(text)
			}
		}
		return ""
	}
	switch function := use.Function; {
	case environers[function]:
		if len(use.Arguments) > 0 {
			if text, ok := use.Arguments[0].Literal(); ok {
				c.Environ[text] = true
			}
		}
	case function == "extension_loaded":
		c.asked["ext-"+first()] = true
		c.note("ext-"+first(), place)
	case asksFor[function]:
		c.asked[first()] = true
	case function == tableMethod:
		c.Makes = append(c.Makes, place)
	case function == "sprintf":
		c.formatted(place, use)
	default:
		c.note(function, place)
		if _, known := loginArguments[function]; !known && mayConnect(function) {
			c.handsOver(place, use)
		}
		if roles, logs := loginArguments[function]; logs {
			for i, argument := range use.Arguments {
				if i >= len(roles) {
					break
				}
				if _, literal := argument.Literal(); roles[i] == settings.User && literal && !slices.Contains(c.Fixed, place) {
					c.Fixed = append(c.Fixed, place)
				}
				if roles[i] == settings.User && ofEnvironment.MatchString(argument.Source) {
					c.Variables = append(c.Variables, place)
				}
				if address := addressIn(argument); roles[i] != "" && address != "" {
					c.connect(place, roles[i], address, argument.Parameter)
					c.Connects[len(c.Connects)-1].by = function
				}
			}
		}
	}
}

// tableMethod is that by which mappers make a table.
const tableMethod = "->createtable"

func (c *Code) note(function string, place Place) {
	if _, known := c.Functions[function]; !known {
		c.Functions[function] = place
	}
	uses := c.Whole
	if IsApart(place.File) {
		uses = c.parts
	}
	uses.note(function, place)
}

// Outside is a file out of the application's folder, and the code that reads it.
type Outside struct {
	File  string `json:"file"`
	Place Place  `json:"place"`
}
