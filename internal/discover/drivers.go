package discover

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/settings/php"
)

// driverWords are the words by which an application's own code calls the servers that it
// knows: in a switch, in keys of an array, in names of folders and classes. Each
// application has its own, and no other works.
type driverWords struct {
	inFile map[string][]string    // words as they are written, by the file of code
	tested map[string][]wordFound // what addresses are compared with
	names  map[string]string      // names of folders, files and classes, in small letters, and where they are
	paths  map[string][][2]string // what stands before and behind an address in paths of code that is run
	read   func(file string) []byte
	// chooses are those addresses whose paths lead to files that are called like drivers.
	chooses map[string]bool
	// folders are those of code that have files called like drivers: these, by the word.
	folders map[string]map[string]string
}

func newDriverWords() driverWords {
	return driverWords{inFile: map[string][]string{}, tested: map[string][]wordFound{}, names: map[string]string{}, paths: map[string][][2]string{}, folders: map[string]map[string]string{}}
}

// take notes a text of the code, if it is such a word.
func (d *driverWords) take(file, text string) {
	if drivers[strings.ToLower(text)] != "" && !slices.Contains(d.inFile[file], text) {
		d.inFile[file] = append(d.inFile[file], text)
	}
}

// name notes the name of a class, a folder or a file of code.
func (d *driverWords) name(text, where string) {
	text = strings.ToLower(text)
	if _, known := d.names[text]; !known {
		d.names[text] = where
	}
}

// wordFound is a word for a family of servers and where it was found.
type wordFound struct{ word, where string }

// test notes a word that an address is compared with.
func (d *driverWords) test(file, address, word string) {
	d.tested[address] = append(d.tested[address], wordFound{word, file + " compares it with that"})
}

// inPath notes the addresses in a path of code that is run: 'drivers/' . DB_TYPE . '.php'.
func (d *driverWords) inPath(pieces []php.Piece) {
	var b strings.Builder
	for _, piece := range pieces {
		if b.WriteString(piece.Text); piece.Address != "" {
			b.WriteString("{" + piece.Address + "}")
		}
	}
	text, end := b.String(), 0
	for _, at := range addressInPath.FindAllStringIndex(text, -1) {
		address := strings.Trim(text[at[0]:at[1]], "{}")
		const most = 64 // addresses; applications have one or two
		around := [2]string{text[end:at[0]], text[at[1]:]}
		if endOfPath.MatchString(around[1]) && !slices.Contains(d.paths[address], around) && len(d.paths) < most {
			d.paths[address] = append(d.paths[address], around)
		}
		end = at[1]
	}
}

// addressInPath is an address within a path, as a string in double quotes has it, and
// endOfPath what stands behind the last one.
var (
	addressInPath = regexp.MustCompile(`\{[^{}]+\}|\$\w+`)
	endOfPath     = regexp.MustCompile(`^[\w./-]*\.(?:php|inc)$`)
)

// isKey reports whether a word is a key of an array in code.
func isKey(code []byte, word string) bool {
	return word != "" && regexp.MustCompile(`['"]`+regexp.QuoteMeta(word)+`['"]\s*=>`).Match(code)
}

// ofPaths are the words for which the path that an address stands in leads to a file.
func (d *driverWords) ofPaths(family, was, address string) map[string]wordFound {
	words := map[string]wordFound{}
	for _, around := range d.paths[php.Own(address)] {
		before, after := strings.TrimLeft(around[0], "./"), around[1]
		for _, where := range d.names {
			rest, ends := strings.CutSuffix(where, after)
			at := strings.LastIndex(rest, before)
			if !ends || at < 0 {
				continue
			}
			if word := rest[at+len(before):]; drivers[strings.ToLower(word)] == family {
				word = inCaseOf(was, word)
				words[word] = wordFound{word, where + " is named after it"}
			}
		}
	}
	return words
}

// resolvePaths is for when the names of all code are known.
func (d *driverWords) resolvePaths() {
	d.chooses = map[string]bool{}
	for address := range d.paths {
		d.chooses[address] = len(d.ofPaths(familyMySQL, "", address))+len(d.ofPaths(familyPostgreSQL, "", address)) > 0
	}
}

// of finds what the application calls a family of servers, where it has called another
// one, or the same, by was; comment stands beside the setting at an address. A word of MariaDB's own is
// for that product alone. The nearest place that
// knows one counts; none is given where several words are as likely.
func (d *driverWords) of(family, product, was, comment, address string) (found wordFound, others []string) {
	for _, place := range []func() map[string]wordFound{
		func() map[string]wordFound { return wordsIn(family, comment) },
		func() map[string]wordFound { return d.comparedWith(family, address) },
		func() map[string]wordFound { return d.ofPaths(family, was, address) },
		func() map[string]wordFound { return d.beside(family, was, address) },
		func() map[string]wordFound { return d.beside(family, was, "") },
		func() map[string]wordFound { return d.named(family, was) },
		func() map[string]wordFound { return d.beside(family, "", address) },
		func() map[string]wordFound { return d.beside(family, "", "") },
		func() map[string]wordFound { return d.folderOf(family, was) },
	} {
		if words := place(); len(words) > 0 {
			return chooseWord(words, product, was)
		}
	}
	return wordFound{}, nil
}

var driverLike = regexp.MustCompile(`[A-Za-z][A-Za-z0-9_-]*`)

// wordsIn are the words in a remark, where it lists drivers.
func wordsIn(family, comment string) map[string]wordFound {
	words := map[string]wordFound{}
	for _, word := range driverLike.FindAllString(comment, -1) {
		if drivers[strings.ToLower(word)] == family && word != "PostgreSQL" && word != "MySQL" && word != "MariaDB" { // their names as such are prose
			words[word] = wordFound{word, "the remark beside it says so"}
		}
	}
	return words
}

// comparedWith are the words that code compares the value at an address with.
func (d *driverWords) comparedWith(family, address string) map[string]wordFound {
	words := map[string]wordFound{}
	for _, found := range d.tested[php.Own(address)] {
		if _, is := words[found.word]; !is && drivers[strings.ToLower(found.word)] == family {
			words[found.word] = found
		}
	}
	return words
}

// beside are the words of a family in the files of code that know was, too; in those
// that know any other family's, where was is empty; and only in those that have the name
// of the setting at an address, where that is not.
func (d *driverWords) beside(family, was, address string) map[string]wordFound {
	words := map[string]wordFound{}
	names := elementName.FindAllString(address, -1)
	const mostRead = 64
	reads := 0
	for _, file := range slices.Sorted(maps.Keys(d.inFile)) {
		list := d.inFile[file]
		knows := slices.ContainsFunc(list, func(word string) bool {
			return word == was || was == "" && drivers[strings.ToLower(word)] != family
		})
		if !knows {
			continue
		}
		var content []byte
		if reads++; reads <= mostRead {
			content = d.read(file)
		}
		if len(names) > 0 && !bytes.Contains(content, []byte(names[len(names)-1])) {
			continue
		}
		of := slices.DeleteFunc(slices.Clone(list), func(word string) bool { return drivers[strings.ToLower(word)] != family })
		if len(of) > 1 && isKey(content, was) { // then its keys are what settings say, and each of them will do
			first := ""
			of = slices.DeleteFunc(of, func(word string) bool {
				if isMariaDBs(word) {
					return false
				}
				if first == "" && isKey(content, word) {
					first = word
				}
				return word != first
			})
		}
		for _, word := range of {
			if _, is := words[word]; !is {
				words[word] = wordFound{word, file + " knows it"}
			}
		}
	}
	return words
}

// named are words whose place in a name is that of was in another: drivers/mysqli.php
// and drivers/pgsql.php.
func (d *driverWords) named(family, was string) map[string]wordFound {
	words := map[string]wordFound{}
	if was == "" {
		return words
	}
	small := strings.ToLower(was)
	for name := range d.names {
		if !strings.Contains(name, small) {
			continue
		}
		for word, of := range drivers {
			if of != family {
				continue
			}
			if where, there := d.names[strings.Replace(name, small, word, 1)]; there {
				word = inCaseOf(was, word)
				words[word] = wordFound{word, where + " is named after it"}
			}
		}
	}
	return words
}

// folderOf are the words that files are called by, in folders with one for another family,
// too.
func (d *driverWords) folderOf(family, was string) map[string]wordFound {
	words := map[string]wordFound{}
	for _, folder := range slices.Sorted(maps.Keys(d.folders)) {
		files := d.folders[folder]
		for base, where := range files {
			others := slices.ContainsFunc(slices.Collect(maps.Keys(files)), func(of string) bool { return drivers[of] != drivers[base] })
			if word := inCaseOf(was, base); drivers[base] == family && others {
				words[word] = wordFound{word, where + " is named after it"}
			}
		}
	}
	return words
}

// inCaseOf is a word in the letters that another one has: code may turn them into small ones.
func inCaseOf(was, word string) string {
	switch small := strings.ToLower(was); {
	case was == "":
	case was == strings.ToUpper(was):
		return strings.ToUpper(word)
	case was == strings.ToUpper(small[:1])+small[1:]:
		return strings.ToUpper(word[:1]) + word[1:]
	}
	return word
}

func isMariaDBs(word string) bool { return strings.Contains(strings.ToLower(word), "maria") }

// chooseWord takes the only word, or the one that is written as was is: by PDO or not, in
// capitals or not.
func chooseWord(words map[string]wordFound, product, was string) (wordFound, []string) {
	list := slices.Sorted(maps.Keys(words))
	alike := func(same func(word string) bool) {
		if fitting := slices.DeleteFunc(slices.Clone(list), func(word string) bool { return !same(word) }); len(fitting) > 0 {
			list = fitting
		}
	}
	alike(func(word string) bool { return isMariaDBs(word) == (product == "mariadb") })
	if was != "" {
		pdo := func(word string) bool { return strings.Contains(strings.ToLower(word), "pdo") }
		alike(func(word string) bool { return pdo(word) == pdo(was) })
		alike(func(word string) bool { return (word == strings.ToUpper(word)) == (was == strings.ToUpper(was)) })
		alike(func(word string) bool { return (word == strings.ToLower(word)) == (was == strings.ToLower(was)) })
	}
	if len(list) == 1 {
		return words[list[0]], nil
	}
	return wordFound{}, list
}

// commentNear is the text of the comments around a line: those that begin above it, and
// what stands behind it on the line.
func commentNear(content []byte, line int) string {
	const above = 12
	lines := strings.Split(string(content), "\n")
	if line < 1 || line > len(lines) {
		return ""
	}
	var b strings.Builder
	for _, mark := range []string{"//", "#", " ;"} {
		if _, behind, has := strings.Cut(lines[line-1], mark); has {
			b.WriteString(behind + "\n")
			break
		}
	}
	for i := line - 2; i >= max(0, line-1-above); i-- {
		text := strings.TrimSpace(lines[i])
		if !isRemark(text) {
			break // another setting's remark is not this one's
		}
		b.WriteString(text + "\n")
	}
	return b.String()
}

func isRemark(line string) bool {
	for _, mark := range []string{"//", "#", ";", "*", "/*", "<!--", "|"} {
		if strings.HasPrefix(line, mark) {
			return true
		}
	}
	return strings.HasSuffix(line, "*/") || strings.HasSuffix(line, "-->")
}

// doubtOf says that the word for a family is not known.
func doubtOf(family string, others []string) string {
	if len(others) > 1 {
		return fmt.Sprintf("put in what the application calls %s: %s?", Title(family), strings.Join(others, ", "))
	}
	return "put in what the application calls " + Title(family)
}

// path notes a file of code by its folders and its name.
func (d *driverWords) path(name string) {
	plain := strings.TrimSuffix(name, path.Ext(name))
	d.name(plain, name)
	if base := strings.ToLower(path.Base(plain)); drivers[base] != "" {
		folder := path.Dir(name)
		if d.folders[folder] == nil {
			d.folders[folder] = map[string]string{}
		}
		d.folders[folder][base] = name
	}
}

// driverUses are the functions of servers' drivers that code uses: where it logs in, by the
// function, and how often it uses those of a family of servers.
type driverUses struct {
	logins   map[string]Place
	families map[string]int
}

func newDriverUses() driverUses {
	return driverUses{logins: map[string]Place{}, families: map[string]int{}}
}

func (u driverUses) note(function string, place Place) {
	if _, known := u.logins[function]; !known && (function == "pdo" || loginsTo[familyMySQL].has(function) || loginsTo[familyPostgreSQL].has(function)) {
		u.logins[function] = place
	}
	switch {
	case strings.HasPrefix(function, "mysql"):
		u.families[familyMySQL]++
	case strings.HasPrefix(function, "pg_"):
		u.families[familyPostgreSQL]++
	}
}

// driverUses are those of the application itself, where it has some.
func (c *code) driverUses() driverUses {
	if len(c.whole.logins)+len(c.whole.families) > 0 {
		return c.whole
	}
	return c.parts
}

// speaksOnlyTo is the one family of servers that the code can log in to; empty where it has
// words for another one, or leaves it to its settings or to a library. The place is where it
// logs in first, by name of the function; it is nil where only a data source name says so.
func (c *code) speaksOnlyTo() (string, *Place) {
	uses := c.driverUses().logins
	_, viaPDO := uses["pdo"]
	var at *Place
	only := ""
	for family, login := range loginsTo {
		functions := slices.Sorted(maps.Keys(uses))
		direct := slices.IndexFunc(functions, login.has)
		named := slices.ContainsFunc(slices.Collect(maps.Values(c.words.inFile)), func(words []string) bool {
			return slices.ContainsFunc(words, func(word string) bool { return drivers[strings.ToLower(word)] == family })
		})
		switch {
		case direct >= 0 || c.schemes[family]:
			if only != "" {
				return "", nil
			}
			only = family
			if direct >= 0 {
				place := uses[functions[direct]]
				at = &place
			}
		case named:
			return "", nil
		}
	}
	if viaPDO && !c.schemes[only] {
		return "", nil
	}
	return only, at
}
