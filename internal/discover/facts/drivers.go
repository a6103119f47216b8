package facts

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

// DriverWords are the words by which an application's own code calls the servers that it
// knows: in a switch, in keys of an array, in names of folders and classes. Each application
// has words of its own, and accepts no others.
type DriverWords struct {
	InFile map[string][]string    // words as they are written, by the file of code
	Tested map[string][]WordFound // what addresses are compared with
	names  map[string]string      // names of folders, files and classes, in small letters, and where they are
	Paths  map[string][][2]string // what stands before and after an address in paths of code that is run
	read   func(file string) []byte
	// Chooses are those addresses whose paths lead to files that are called like drivers.
	Chooses map[string]bool
	// folders are those of code that have files called like drivers: these, by the word.
	folders map[string]map[string]string
}

func newDriverWords() DriverWords {
	return DriverWords{InFile: map[string][]string{}, Tested: map[string][]WordFound{}, names: map[string]string{}, Paths: map[string][][2]string{}, folders: map[string]map[string]string{}}
}

// Take notes a text of the code, if it is such a word.
func (d *DriverWords) Take(file, text string) {
	if Drivers[strings.ToLower(text)] != "" && !slices.Contains(d.InFile[file], text) {
		d.InFile[file] = append(d.InFile[file], text)
	}
}

// name notes the name of a class, a folder or a file of code.
func (d *DriverWords) name(text, where string) {
	text = strings.ToLower(text)
	if _, known := d.names[text]; !known {
		d.names[text] = where
	}
}

// WordFound is a word for a family of servers and where it was found.
type WordFound struct{ Word, Where string }

// test notes a word that an address is compared with.
func (d *DriverWords) test(file, address, word string) {
	d.Tested[address] = append(d.Tested[address], WordFound{word, file + " compares it with that"})
}

// inPath notes the addresses in a path of code that is run: 'drivers/' . DB_TYPE . '.php'.
func (d *DriverWords) inPath(pieces []php.Piece) {
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
		if endOfPath.MatchString(around[1]) && !slices.Contains(d.Paths[address], around) && len(d.Paths) < most {
			d.Paths[address] = append(d.Paths[address], around)
		}
		end = at[1]
	}
}

// addressInPath is an address within a path, as a string in double quotes has it, and
// endOfPath what stands after the last one.
var (
	addressInPath = regexp.MustCompile(`\{[^{}]+\}|\$\w+`)
	endOfPath     = regexp.MustCompile(`^[\w./-]*\.(?:php|inc)$`)
)

// isKey reports whether a word is a key of an array in code.
func isKey(code []byte, word string) bool {
	return word != "" && regexp.MustCompile(`['"]`+regexp.QuoteMeta(word)+`['"]\s*=>`).Match(code)
}

// ofPaths are the words for which the path that an address stands in leads to a file.
func (d *DriverWords) ofPaths(family, was, address string) map[string]WordFound {
	words := map[string]WordFound{}
	for _, around := range d.Paths[php.Own(address)] {
		before, after := strings.TrimLeft(around[0], "./"), around[1]
		for _, where := range d.names {
			rest, ends := strings.CutSuffix(where, after)
			at := strings.LastIndex(rest, before)
			if !ends || at < 0 {
				continue
			}
			if word := rest[at+len(before):]; Drivers[strings.ToLower(word)] == family {
				word = inCaseOf(was, word)
				words[word] = WordFound{word, where + " is named after it"}
			}
		}
	}
	return words
}

// resolvePaths is for when the names of all code are known.
func (d *DriverWords) resolvePaths() {
	d.Chooses = map[string]bool{}
	for address := range d.Paths {
		d.Chooses[address] = len(d.ofPaths(FamilyMySQL, "", address))+len(d.ofPaths(FamilyPostgreSQL, "", address)) > 0
	}
}

// Of finds what the application calls a family of servers, where it has called another
// one, or the same, by was; comment stands beside the setting at an address. A word of MariaDB's own is
// for that product alone. The nearest place that
// knows one counts; none is given where several words are as likely.
func (d *DriverWords) Of(family, product, was, comment, address string) (found WordFound, others []string) {
	for _, place := range []func() map[string]WordFound{
		func() map[string]WordFound { return wordsIn(family, comment) },
		func() map[string]WordFound { return d.comparedWith(family, address) },
		func() map[string]WordFound { return d.ofPaths(family, was, address) },
		func() map[string]WordFound { return d.beside(family, was, address) },
		func() map[string]WordFound { return d.beside(family, was, "") },
		func() map[string]WordFound { return d.named(family, was) },
		func() map[string]WordFound { return d.beside(family, "", address) },
		func() map[string]WordFound { return d.beside(family, "", "") },
		func() map[string]WordFound { return d.folderOf(family, was) },
	} {
		if words := place(); len(words) > 0 {
			return chooseWord(words, product, was)
		}
	}
	return WordFound{}, nil
}

var driverLike = regexp.MustCompile(`[A-Za-z][A-Za-z0-9_-]*`)

// wordsIn are the words in a remark, where it lists drivers.
func wordsIn(family, comment string) map[string]WordFound {
	words := map[string]WordFound{}
	for _, word := range driverLike.FindAllString(comment, -1) {
		if Drivers[strings.ToLower(word)] == family && word != "PostgreSQL" && word != "MySQL" && word != "MariaDB" { // their names as such are prose
			words[word] = WordFound{word, "the remark beside it says so"}
		}
	}
	return words
}

// comparedWith are the words that code compares the value at an address with.
func (d *DriverWords) comparedWith(family, address string) map[string]WordFound {
	words := map[string]WordFound{}
	for _, found := range d.Tested[php.Own(address)] {
		if _, is := words[found.Word]; !is && Drivers[strings.ToLower(found.Word)] == family {
			words[found.Word] = found
		}
	}
	return words
}

// beside are the words of a family in the files of code that know was, too; in those
// that know any other family's, where was is empty; and only in those that have the name
// of the setting at an address, where that is not.
func (d *DriverWords) beside(family, was, address string) map[string]WordFound {
	words := map[string]WordFound{}
	names := elementName.FindAllString(address, -1)
	const mostRead = 64
	reads := 0
	for _, file := range slices.Sorted(maps.Keys(d.InFile)) {
		list := d.InFile[file]
		knows := slices.ContainsFunc(list, func(word string) bool {
			return word == was || was == "" && Drivers[strings.ToLower(word)] != family
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
		of := slices.DeleteFunc(slices.Clone(list), func(word string) bool { return Drivers[strings.ToLower(word)] != family })
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
				words[word] = WordFound{word, file + " knows it"}
			}
		}
	}
	return words
}

// named are words whose place in a name is that of was in another: drivers/mysqli.php
// and drivers/pgsql.php.
func (d *DriverWords) named(family, was string) map[string]WordFound {
	words := map[string]WordFound{}
	if was == "" {
		return words
	}
	small := strings.ToLower(was)
	for name := range d.names {
		if !strings.Contains(name, small) {
			continue
		}
		for word, of := range Drivers {
			if of != family {
				continue
			}
			if where, there := d.names[strings.Replace(name, small, word, 1)]; there {
				word = inCaseOf(was, word)
				words[word] = WordFound{word, where + " is named after it"}
			}
		}
	}
	return words
}

// folderOf are the words that files are called by, in folders with one for another family,
// too.
func (d *DriverWords) folderOf(family, was string) map[string]WordFound {
	words := map[string]WordFound{}
	for _, folder := range slices.Sorted(maps.Keys(d.folders)) {
		files := d.folders[folder]
		for base, where := range files {
			others := slices.ContainsFunc(slices.Collect(maps.Keys(files)), func(of string) bool { return Drivers[of] != Drivers[base] })
			if word := inCaseOf(was, base); Drivers[base] == family && others {
				words[word] = WordFound{word, where + " is named after it"}
			}
		}
	}
	return words
}

// inCaseOf gives a word in the case of another one: code may convert it to lower case.
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
func chooseWord(words map[string]WordFound, product, was string) (WordFound, []string) {
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
	return WordFound{}, list
}

// CommentNear is the text of the comments around a line: those that begin above it, and what
// stands after it on the line.
func CommentNear(content []byte, line int) string {
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
		if !IsRemark(text) {
			break // another setting's remark is not this one's
		}
		b.WriteString(text + "\n")
	}
	return b.String()
}

func IsRemark(line string) bool {
	for _, mark := range []string{"//", "#", ";", "*", "/*", "<!--", "|"} {
		if strings.HasPrefix(line, mark) {
			return true
		}
	}
	return strings.HasSuffix(line, "*/") || strings.HasSuffix(line, "-->")
}

// DoubtOf is the doubt about a driver whose word for a family is not known.
func DoubtOf(family string, others []string) string {
	if len(others) > 1 {
		return fmt.Sprintf("put in what the application calls %s: %s?", Title(family), strings.Join(others, ", "))
	}
	return "put in what the application calls " + Title(family)
}

// path notes a file of code by its folders and its name.
func (d *DriverWords) path(name string) {
	plain := strings.TrimSuffix(name, path.Ext(name))
	d.name(plain, name)
	if base := strings.ToLower(path.Base(plain)); Drivers[base] != "" {
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
	Logins   map[string]Place
	Families map[string]int
}

func newDriverUses() driverUses {
	return driverUses{Logins: map[string]Place{}, Families: map[string]int{}}
}

func (u driverUses) note(function string, place Place) {
	if _, known := u.Logins[function]; !known && (function == "pdo" || LoginsTo[FamilyMySQL].Has(function) || LoginsTo[FamilyPostgreSQL].Has(function)) {
		u.Logins[function] = place
	}
	switch {
	case strings.HasPrefix(function, "mysql"):
		u.Families[FamilyMySQL]++
	case strings.HasPrefix(function, "pg_"):
		u.Families[FamilyPostgreSQL]++
	}
}

// DriverUses are those of the application itself, where it has some.
func (c *Code) DriverUses() driverUses {
	if len(c.Whole.Logins)+len(c.Whole.Families) > 0 {
		return c.Whole
	}
	return c.parts
}

// SpeaksOnlyTo is the one family of servers that the code can log in to; empty where it has
// words for another one, or leaves it to its settings or to a library. The place is where it
// logs in first, by name of the function; it is nil where only a data source name says so.
func (c *Code) SpeaksOnlyTo() (string, *Place) {
	uses := c.DriverUses().Logins
	_, viaPDO := uses["pdo"]
	var at *Place
	only := ""
	for family, login := range LoginsTo {
		functions := slices.Sorted(maps.Keys(uses))
		direct := slices.IndexFunc(functions, login.Has)
		named := slices.ContainsFunc(slices.Collect(maps.Values(c.Words.InFile)), func(words []string) bool {
			return slices.ContainsFunc(words, func(word string) bool { return Drivers[strings.ToLower(word)] == family })
		})
		switch {
		case direct >= 0 || c.Schemes[family]:
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
	if viaPDO && !c.Schemes[only] {
		return "", nil
	}
	return only, at
}
