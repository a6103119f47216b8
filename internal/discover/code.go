package discover

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

	"yellowfield/internal/fault"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/wordset"
)

// code is what the application's own PHP tells.
type code struct {
	mentions  map[string][]mention // by the base name of the file mentioned
	connects  []connect
	logins    loginIndex // of these
	handovers []handover
	takes     map[string][]settings.Role // what functions log in with, by their parameters
	environ   map[string]bool            // names of environment variables that are read
	// functions are names of functions and classes used, with the first place;
	// asked are those whose presence the code asks for first.
	functions map[string]Place
	asked     map[string]bool
	defines   map[string]bool // functions and classes that the tree makes itself
	whole     driverUses
	parts     driverUses      // in folders of parts, of examples and the like
	schemes   map[string]bool // families of the data source names that code puts together
	dialects  map[string]bool // families of the SQL by which it makes tables
	makes     []Place         // where CREATE TABLE stands in code
	outside   []Outside
	fixed     []Place           // where code logs in with literal values
	variables []Place           // and where with variables of the environment
	aliases   map[string]string // of the file that is taken
	texts     []embedded
	words     driverWords
	tables    tablesInCode
	// collations are those that the code allows, where it lists them.
	collations *listed
	signatures map[string][]string // names of parameters, of functions and constructors
	// constants are those that are defined to be paths, and openConstants those that
	// are handed to something that opens a file.
	constants     map[string]constant
	openConstants map[string][]opened
	behind        []behind
	deletes       map[string]bool   // paths, as the code has them, of files that it deletes
	subclasses    []subclass        // that stand in texts of the code
	selfNamed     map[string]bool   // constants whose value is their name
	literals      map[string]bool   // that end like the beginnings of such names
	upgrades      map[string]bool   // folders for upgrades that it has the names of
	arrays        map[string]string // variables of arrays that it writes key by key, by the file of code
	copies        map[string]string // names of files that it copies, and of the copies
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

// readers and writers are functions that take a file's name.
var (
	readers     = wordset.Of("include include_once require require_once parse_ini_file file_get_contents simplexml_load_file yaml_parse_file file load readfile")
	writers     = wordset.Of("file_put_contents fopen touch rename copy chmod is_writable")
	textWriters = wordset.Of("file_put_contents fopen") // which also open to read
	askers      = wordset.Of("file_exists is_file is_readable realpath")
	environers  = wordset.Of("getenv env")
	asksFor     = wordset.Of("function_exists class_exists is_callable") // whether something is there
)

// wanted chooses the uses that readCode keeps.
func wanted(function string) bool {
	_, logs := loginArguments[function]
	return logs || function == "sprintf" || mayConnect(function) || readers[function] || writers[function] || askers[function] || environers[function] ||
		function == tableMethod || function == "fwrite" || function == "fputs" || function == "extension_loaded" || asksFor[function] || function == "define" || function == "unlink" || extensionOf(function) != ""
}

func newCode() *code {
	return &code{mentions: map[string][]mention{}, takes: map[string][]settings.Role{}, environ: map[string]bool{}, functions: map[string]Place{}, asked: map[string]bool{}, defines: map[string]bool{}, whole: newDriverUses(), parts: newDriverUses(), schemes: map[string]bool{}, dialects: map[string]bool{}, words: newDriverWords(), constants: map[string]constant{}, openConstants: map[string][]opened{}, deletes: map[string]bool{}, copies: map[string]string{}, selfNamed: map[string]bool{}, literals: map[string]bool{}, upgrades: map[string]bool{}, arrays: map[string]string{}, signatures: map[string][]string{}, tables: tablesInCode{uses: map[string]Place{}, makes: map[string]bool{}}}
}

// mayConnect reports whether a function of the application may log in, by its name.
func mayConnect(function string) bool {
	name := strings.TrimPrefix(function, "->")
	return strings.Contains(name, "connect") || strings.Contains(name, "database") || strings.HasPrefix(name, "db") || strings.HasSuffix(name, "db")
}

// readCode reads all PHP of the tree.
func readCode(ctx context.Context, t *tree) (*code, error) {
	c := newCode()
	c.words.read = func(file string) []byte {
		const longest = 64 << 10 // of what lists drivers
		return t.read(file, longest)
	}
	names := slices.DeleteFunc(slices.Clone(t.files), func(name string) bool { return !isCode(name) })
	err := sideBySide(ctx, names, func(name string) *codeFile { return readCodeFile(t, name) }, func(name string, read *codeFile) {
		if read == nil {
			t.skip(name, "it is too long or cannot be read")
			return
		}
		c.file(name, read)
	})
	c.resolveConstants(t)
	c.resolveHandovers()
	c.indexLogins()
	c.words.resolvePaths()
	return c, err
}

// sideBySide reads files on all processors, and hands on what they tell in
// their order.
func sideBySide[T any](ctx context.Context, names []string, read func(name string) T, take func(name string, what T)) error {
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
func readCodeFile(t *tree, name string) *codeFile {
	source := t.read(name, longestCode)
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

func (c *code) file(name string, read *codeFile) {
	for _, defined := range read.Defines {
		c.defines[defined] = true
	}
	for of, parameters := range read.Signatures {
		if before, has := c.signatures[of]; has && !slices.Equal(before, parameters) {
			parameters = nil // whichever it is
		}
		c.signatures[of] = parameters
	}
	c.aliases = read.Aliases
	own := isOwnCode(name)
	firstLogin := len(c.connects)
	writes := map[string]bool{}     // literals handed to what writes
	handed := map[string]string{}   // literals by the function they were handed to
	from := map[string]int{}        // and by where their paths begin
	front := map[string]string{}    // and by the constant or variable in front of them
	parts := map[php.Literal]bool{} // those that are parts of a path which is known as a whole
	if own {
		c.declare(name, read.Declares)
	}
	for _, use := range read.Uses {
		place := Place{name, use.Line}
		opens := use.Function == "unlink" || readers[use.Function] || writers[use.Function] || askers[use.Function]
		for _, argument := range use.Arguments {
			if pieces := argument.Pieces; own && opens && len(pieces) == 2 && pieces[0].Address != "" && !strings.HasPrefix(pieces[0].Address, "__") && strings.Contains(pieces[1].Text, "/") {
				c.behind = append(c.behind, behind{front: pieces[0].Address, path: pieces[1].Text, file: name})
			}
			if opens && argument.Traced != nil {
				pieces := argument.Pieces
				argument = *argument.Traced
				if text := joined(argument); text != "" {
					for _, piece := range pieces {
						parts[php.Literal{Text: piece.Text, Line: use.Line}] = true
					}
					argument.Pieces = append(slices.DeleteFunc(slices.Clone(argument.Pieces), func(p php.Piece) bool { return p.Address == "" }), php.Piece{Text: text})
					read.Literals = append(read.Literals, php.Literal{Text: text, Line: use.Line})
				}
			}
			if own && runsIt[use.Function] {
				c.words.inPath(argument.Pieces)
			}
			for _, piece := range argument.Pieces {
				if use.Function == "unlink" {
					c.deletes[piece.Text] = true
					continue
				}
				if piece.Address == "" && textWriters[use.Function] {
					writes[piece.Text] = true
				}
				if piece.Address == "" && (handed[piece.Text] == "" || readers[use.Function]) {
					handed[piece.Text] = use.Function
					from[piece.Text] = upwards(argument)
					front[piece.Text] = argument.Pieces[0].Address
				}
			}
			if pieces := argument.Pieces; len(pieces) == 1 && isConstant(pieces[0].Address) && opens {
				of := constantName(pieces[0].Address)
				by := opened{place, use.Function}
				if !slices.ContainsFunc(c.openConstants[of], func(o opened) bool { return o.File == by.File && o.verb == by.verb }) {
					c.openConstants[of] = append(c.openConstants[of], by)
				}
			}
		}
		if use.Function == "copy" && len(use.Arguments) == 2 {
			if from, to := lastText(use.Arguments[0]), lastText(use.Arguments[1]); fileName.MatchString(to) && from != "" {
				c.copies[path.Base(from)] = path.Base(to)
			}
		}
		if own && use.Function == "define" && len(use.Arguments) == 2 {
			if defined, ok := use.Arguments[0].Literal(); ok && len(use.Arguments[1].Pieces) > 0 {
				c.constants[defined] = constant{name, use.Arguments[1]}
			}
		}
		if own {
			c.use(place, use)
		}
	}
	if own {
		c.words.path(name)
		for _, defined := range read.Defines {
			c.words.name(defined, name)
		}
	}
	for _, literal := range read.Literals {
		place := Place{name, literal.Line}
		if own && !asksFor[handed[literal.Text]] && handed[literal.Text] != "extension_loaded" {
			c.words.take(name, literal.Text)
		}
		if own && strings.Contains(literal.Text, " extends ") {
			if m := classInText.FindStringSubmatch(literal.Text); m != nil {
				c.subclasses = append(c.subclasses, subclass{name, m[1], m[2]})
			}
		}
		if own && beginningOfNames.MatchString(literal.Text) {
			c.literals[literal.Text] = true
		}
		if own {
			c.tables.take(place, literal)
			c.noteUpgrades(literal.Text)
		}
		switch {
		case len(literal.Text) < longestName && strings.Contains(literal.Text, ".") && fileName.MatchString(literal.Text):
			if ending.MatchString(literal.Text) && !strings.HasPrefix(literal.Text, ".env") || parts[php.Literal{Text: literal.Text, Line: literal.Line}] {
				continue
			}
			base := path.Base(strings.ReplaceAll(literal.Text, `\`, "/"))
			up, known := from[literal.Text]
			if !known {
				up = anywhere
			}
			if by := handed[literal.Text]; own && up == anywhere && (readers[by] || askers[by]) && systemFolder.MatchString(literal.Text) &&
				!slices.ContainsFunc(c.outside, func(o Outside) bool { return o.File == literal.Text }) {
				c.outside = append(c.outside, Outside{literal.Text, place})
			}
			if !own {
				continue // tests have files of their own
			}
			c.mentions[base] = append(c.mentions[base], mention{Place: place, path: strings.ReplaceAll(literal.Text, `\`, "/"), verb: handed[literal.Text], writes: writes[literal.Text], up: up, front: front[literal.Text]})
		case own && len(literal.Text) > len("create table") && createsTable.MatchString(literal.Text) && !makesAnyTable.MatchString(literal.Text):
			if family := dialectOf([]byte(literal.Text)); family != familyOther {
				c.makes = append(c.makes, place)
				c.dialects[family] = true
			}
		case own && (strings.Contains(literal.Text, "define(") || strings.Contains(literal.Text, "<?php")) && strings.Count(literal.Text, "\n") > 2:
			c.texts = append(c.texts, embedded{Place: place, text: literal.Text})
		}
	}
	if own && (handedTo(handed, "file_put_contents") || slices.ContainsFunc(read.Uses, func(u php.Use) bool {
		return u.Function == "fwrite" || u.Function == "fputs" || u.Function == "file_put_contents"
	})) {
		c.takeTexts(name, read.Literals)
	}
	if own {
		if c.collations == nil && len(read.collations) > 0 {
			c.collations = &listed{Place{name, read.collationsLine}, read.collations}
		}
		for _, m := range read.schemes {
			c.schemes[drivers[string(m[1])]] = true
		}
		for _, m := range read.parts {
			address := string(m[2])
			if before := m[0][:len(m[0])-len(m[2])]; before[len(before)-1] == '$' { // within the string
				address = "$" + address
			}
			c.connect(Place{File: name}, dsnRoles[string(m[1])], address, read.Parameters[address])
		}
		for _, choice := range read.choices {
			if local := read.Parameters[choice[0]]; !local {
				c.words.test(name, c.unaliased(choice[0]), choice[1])
			}
			c.connect(Place{File: name}, settings.Driver, choice[0], read.Parameters[choice[0]])
		}
		c.noteParameters(read.Signatures, firstLogin)
	}
}

// declare takes the constants of a file, and functions that stand for a value.
func (c *code) declare(name string, declares []php.Declared) {
	for _, declared := range declares {
		key := constantName(declared.Name)
		if before, has := c.constants[key]; has && before.argument.Source != declared.Value.Source {
			declared.Value = php.Argument{} // two classes, and two values
		}
		c.constants[key] = constant{name, declared.Value}
		if text, literal := declared.Value.Literal(); literal && text == key {
			c.selfNamed[key] = true
		}
	}
}

// noteUpgrades notes the folders for upgrades in a path.
func (c *code) noteUpgrades(text string) {
	if len(text) > longestName {
		return
	}
	for name := range strings.SplitSeq(text, "/") {
		if upgradeFolders[strings.ToLower(name)] {
			c.upgrades[name] = true
		}
	}
}

// subclass is a class that a text in a file of code would define, and what it extends.
type subclass struct{ file, name, of string }

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

// isOwnCode tells the application's own code from its tests.
func isOwnCode(name string) bool {
	for _, word := range settings.Words(path.Dir(name)) {
		if foreign[word] == "tests" {
			return false
		}
	}
	return true
}

func (c *code) use(place Place, use php.Use) {
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
				c.environ[text] = true
			}
		}
	case function == "extension_loaded":
		c.asked["ext-"+first()] = true
		c.note("ext-"+first(), place)
	case asksFor[function]:
		c.asked[first()] = true
	case function == tableMethod:
		c.makes = append(c.makes, place)
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
				if _, literal := argument.Literal(); roles[i] == settings.User && literal && !slices.Contains(c.fixed, place) {
					c.fixed = append(c.fixed, place)
				}
				if roles[i] == settings.User && ofEnvironment.MatchString(argument.Source) {
					c.variables = append(c.variables, place)
				}
				if address := addressIn(argument); roles[i] != "" && address != "" {
					c.connect(place, roles[i], address, argument.Parameter)
					c.connects[len(c.connects)-1].by = function
				}
			}
		}
	}
}

// tableMethod is that by which mappers make a table.
const tableMethod = "->createtable"

func (c *code) note(function string, place Place) {
	if _, known := c.functions[function]; !known {
		c.functions[function] = place
	}
	uses := c.whole
	if isApart(place.File) {
		uses = c.parts
	}
	uses.note(function, place)
}

// Outside is a file out of the application's folder, and the code that reads it.
type Outside struct {
	File  string `json:"file"`
	Place Place  `json:"place"`
}
