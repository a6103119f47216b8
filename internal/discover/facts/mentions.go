package facts

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/discover/tree"
	"yellowfield/internal/settings/php"
)

// constant is a path that the code defines.
type constant struct {
	file     string
	argument php.Argument
}

// opened is where code hands a constant to something that opens a file.
type opened struct {
	Place
	verb string
}

// folderOf is the path of a constant from the application's folder; known is false where
// it cannot be told.
func (c *Code) folderOf(name string, deep int) (folder string, known bool) {
	const deepest = 8
	defined, has := c.constants[constantName(name)]
	if !has || deep > deepest {
		return "", false
	}
	at := path.Dir(defined.file)
	up := upwards(defined.argument)
	for i, piece := range defined.argument.Pieces {
		switch {
		case piece.Address == "__DIR__", piece.Address == "__FILE__":
			for range max(0, up) {
				at = path.Join(at, "..")
			}
			folder = at
			known = true
		case piece.Address != "" && i == 0:
			if folder, known = c.folderOf(piece.Address, deep+1); !known {
				return "", false
			}
		case piece.Address != "":
			if piece.Address != "DIRECTORY_SEPARATOR" {
				return "", false
			}
		case i == 0:
			folder, known = piece.Text, true // from wherever the program runs: mostly the application's folder
		default:
			folder = path.Join(folder, strings.ReplaceAll(piece.Text, `\\`, "/"))
		}
	}
	return path.Clean(folder), known && !strings.HasPrefix(path.Clean(folder), "..")
}

// resolveConstants gives mentions after constants their folders, and takes a constant that is
// a file's name for a mention of that where it is read.
func (c *Code) resolveConstants(t *tree.Tree) {
	folders := map[string]string{} // by what stands in front
	for front, votes := range c.votes(t) {
		for _, folder := range slices.Sorted(maps.Keys(votes)) {
			if best, has := folders[front]; !has || votes[folder] > votes[best] {
				folders[front] = folder
			}
		}
	}
	for base, mentions := range c.Mentions {
		for i := range mentions {
			m := &c.Mentions[base][i]
			folder, known := "", false
			if isConstant(m.front) {
				folder, known = c.folderOf(m.front, 0)
			}
			if !known {
				folder, known = folders[m.front]
			}
			if known {
				m.Base = &folder
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.openConstants)) {
		file, known := c.folderOf(name, 0)
		if !known || !fileName.MatchString(file) {
			continue
		}
		folder := path.Dir(file)
		for _, by := range c.openConstants[name] {
			c.Mentions[path.Base(file)] = append(c.Mentions[path.Base(file)], Mention{Place: by.Place, Path: path.Base(file), Verb: by.verb, Up: anywhere, Base: &folder})
		}
	}
}

// behind is a path that a file of code has after a constant or a variable.
type behind struct{ front, path, file string }

// votes counts, for what stands in front of paths, from which folders these lead to files
// that are there: a variable that holds the application's folder shows that so.
func (c *Code) votes(t *tree.Tree) map[string]map[string]int {
	votes := map[string]map[string]int{}
	for _, b := range c.behind {
		for at := path.Dir(b.file); ; at = path.Dir(at) {
			if t.Has(path.Join(at, b.path)) {
				if votes[b.front] == nil {
					votes[b.front] = map[string]int{}
				}
				votes[b.front][at]++
			}
			if at == "." || at == "/" {
				break
			}
		}
	}
	return votes
}

// Mention is a file name in a string of the code.
type Mention struct {
	Place
	Path string // as the code has it
	Verb string // the function it is handed to; empty for none
	// Writes says that the file is read and written in one file of code.
	Writes bool
	// Up is how many folders above its own file the code begins to look: 0 for
	// __DIR__; or one of the two below.
	Up int
	// front is the constant or variable in front of the path, and base the folder that it
	// holds, from the application's; nil where that is not known.
	front string
	Base  *string
}

const (
	anywhere       = -1 // nothing says from which folder the path counts
	BehindConstant = -2 // a constant or a variable of the application says it
)

// Places are where a mentioned file may be, from the application's folder, the
// likeliest first.
func (m Mention) Places() []string {
	rest := path.Clean(strings.TrimLeft(m.Path, "/"))
	folder := path.Dir(m.File)
	if m.Up >= 0 {
		for range m.Up {
			folder = path.Join(folder, "..")
		}
		return []string{path.Join(folder, rest)}
	}
	if m.Base != nil {
		return []string{path.Join(*m.Base, rest)}
	}
	if strings.HasPrefix(m.Path, "/") || m.Up == BehindConstant { // which is the application's folder in most cases
		return []string{rest, path.Join(folder, rest)}
	}
	places := []string{path.Join(folder, rest), rest}
	for at := path.Dir(folder); at != "." && at != "/" && at != ".."; at = path.Dir(at) { // of a page that runs this code
		places = append(places, path.Join(at, rest))
	}
	return places
}

// upwards tells from an argument how many folders up its path begins.
func upwards(a php.Argument) int {
	climbs := strings.Count(a.Source, "dirname(")
	for _, m := range levels.FindAllStringSubmatch(a.Source, -1) {
		if n, err := strconv.Atoi(m[1]); err == nil && climbs > 0 && n < longestName {
			climbs += n - 1
		}
	}
	for _, piece := range a.Pieces {
		switch piece.Address {
		case "__DIR__":
			return climbs
		case "__FILE__":
			return max(0, climbs-1)
		case "":
			if piece.Text != "" {
				return anywhere
			}
		default:
			return BehindConstant
		}
	}
	return anywhere
}

// levels is the second argument of dirname (PHP manual, "dirname").
var levels = regexp.MustCompile(`__(?:DIR|FILE)__\s*\)*\s*,\s*([1-9]\d*)\s*\)`)

// isConstant reports whether an address is that of a constant that the code defines.
func isConstant(address string) bool {
	name := constantName(address)
	return name != "" && name[0] != '$' && !strings.HasPrefix(name, "__") && !strings.ContainsAny(strings.TrimSuffix(name, "()"), "([:>")
}

// constantName is a constant's name, or that of a function that stands for a value,
// without its class.
func constantName(address string) string {
	name := address[strings.LastIndexAny(address, `:\`)+1:]
	if method, is := strings.CutSuffix(name, "()"); is {
		return strings.ToLower(strings.TrimPrefix(method, "$this->")) + "()"
	}
	return name
}

// systemFolder begins a path that counts from the root of the system.
var systemFolder = regexp.MustCompile(`^/(?:etc|opt|usr|var|srv|home)/`)

// fileName is a string that names a settings file, as code has it.
var fileName = regexp.MustCompile(`^[\w./\\ -]*[\w-]+\.(?:php|inc|ini|conf|cfg|ya?ml|json|xml|env|sql|properties|tpl|tmpl|template)(?:\.\w+)?$|^(?:[\w./-]*/)?\.env(?:\.\w+)?$`)

// ending is what a file's name ends in after something that code puts in front.
var ending = regexp.MustCompile(`^\.[a-z]+\.[a-z]+$`)

// lastText is the end of a path that is handed to a function, as far as it is known.
func lastText(a php.Argument) string {
	if a.Traced != nil {
		a = *a.Traced
	}
	if len(a.Pieces) == 0 {
		return ""
	}
	return a.Pieces[len(a.Pieces)-1].Text
}

// joined is the path after what an argument begins with, where it is put together from several
// literals and nothing else.
func joined(a php.Argument) string {
	text, literals := "", 0
	for i, piece := range a.Pieces {
		if piece.Address != "" {
			if i > 0 {
				return ""
			}
			continue
		}
		text += piece.Text
		literals++
	}
	if literals < 2 {
		return ""
	}
	return text
}

// longestName is how long a string can be that names a file.
const longestName = 256
