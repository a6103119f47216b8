package settings

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/settings/keyvalue"
	"yellowfield/internal/settings/syntax"
)

// Commented is a setting that stands in a comment: its line, without the
// comment's mark, would be a setting.
type Commented struct {
	syntax.Setting
	// offset and line make it a setting of its own behind the comment.
	offset int
	line   string
}

// commentMarks are what comments of one line begin with.
var commentMarks = map[string][]string{
	"PHP": {"//", "#"}, "INI": {";", "#"}, "dotenv": {"#"}, "key and value": {"#", ";"}, "YAML": {"#"}, "XML": {"<!--"},
}

// Commented lists the settings that stand in comments, in the order of the
// file. Whether a line is one, and what its address is, the syntax itself says:
// the line is added as a setting, and the file is read again.
func (f *File) Commented() []Commented {
	var found []Commented
	places := syntax.NewPlaces(f.source)
	budget := mostRereading
	marks := commentMarks[f.Syntax.Name]
	for at := 0; at < len(f.source); {
		end := len(f.source)
		if i := bytes.IndexByte(f.source[at:], '\n'); i >= 0 {
			end = at + i + 1
		}
		line := string(f.source[at:end])
		indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		for _, mark := range marks {
			body, commented := strings.CutPrefix(line[len(indent):], mark)
			if !commented || !strings.ContainsAny(body, "=:(>, \t") {
				continue
			}
			body = strings.TrimRight(strings.TrimPrefix(body, " "), "\r\n")
			if mark == "<!--" {
				body, _, commented = strings.Cut(body, "-->")
				if !commented {
					continue
				}
			}
			if f.Syntax.Name == keyvalue.Syntax.Name && isProse(body, f.separatesByEquals()) {
				continue
			}
			if budget -= len(f.source); budget < 0 {
				return found
			}
			if c, ok := f.revive(end, indent+strings.TrimRight(body, " \t")); ok {
				c.Place = places.At(at + len(indent))
				c.Place.File = f.Path
				found = append(found, c)
			}
			break
		}
		at = end
	}
	return found
}

// mostRereading is how many bytes are read for telling which comments hold settings:
// each of them has the whole file read again.
const mostRereading = 16 << 20

// isProse tells plain words in a comment from a key and its value.
func isProse(body string, byEquals bool) bool {
	if byEquals {
		return !strings.Contains(body, "=")
	}
	const keyAndValue = 2
	return len(strings.Fields(body)) != keyAndValue
}

// separatesByEquals reports whether a file of keys and values has equals signs
// between them.
func (f *File) separatesByEquals() bool {
	return len(f.Settings) == 0 || bytes.Contains(f.source[:f.Settings[0].Start], []byte("="))
}

// revive puts a line behind offset and reads the file again. ok is false unless
// that gives exactly one more setting, with a value of its own.
func (f *File) revive(offset int, line string) (Commented, bool) {
	_, added, ok := f.insert(offset, line)
	if !ok || added.Refusal != "" {
		return Commented{}, false
	}
	return Commented{Setting: added, offset: offset, line: line}, true
}

// insert puts a line into the file, which must gain exactly one setting by it.
func (f *File) insert(offset int, line string) (after *File, added syntax.Setting, ok bool) {
	end := f.lineEnd()
	text := line + end
	if offset > 0 && f.source[offset-1] != '\n' {
		text = end + text
	}
	return f.insertText(offset, text)
}

func (f *File) insertText(offset int, text string) (after *File, added syntax.Setting, ok bool) {
	after, err := parse(f.Path, f.Syntax, []byte(string(f.source[:offset])+text+string(f.source[offset:])))
	if err != nil || len(after.Settings) != len(f.Settings)+1 {
		return nil, added, false
	}
	at := len(f.Settings)
	for i, s := range f.Settings {
		if after.Settings[i].Address != s.Address || after.Settings[i].Value != s.Value {
			at = i
			break
		}
	}
	for i := at; i < len(f.Settings); i++ {
		if after.Settings[i+1].Address != f.Settings[i].Address || after.Settings[i+1].Value != f.Settings[i].Value {
			return nil, added, false
		}
	}
	return after, after.Settings[at], true
}

// lineEnd is how lines end in this file.
func (f *File) lineEnd() string {
	if bytes.Contains(f.source, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// withAbsent makes a setting of an address that the file has only in a comment,
// or not at all. A comment stays where it is, since it documents, and the last
// one of several is followed.
func (f *File) withAbsent(change Change, unknown error) (*File, error) {
	normal, ok := f.Syntax.Normalise(change.Address)
	if !ok {
		return nil, unknown
	}
	var last *Commented
	for _, c := range f.Commented() {
		if c.Address == normal {
			last = &c
		}
	}
	if last != nil {
		revived, _, _ := f.insert(last.offset, last.line)
		return revived.With([]Change{{Address: change.Address, Value: change.Value}})
	}
	if !change.Add {
		return nil, unknown
	}
	if offset, text, found := f.besideSibling(normal); found {
		if added, s, ok := f.insertText(offset, text); ok && s.Address == normal {
			return added.With([]Change{{Address: change.Address, Value: change.Value}})
		}
	}
	offset, line, err := f.newLine(normal)
	if err != nil {
		return nil, fault.At(fault.Invalid, fault.Place{File: f.Path}, "add it by hand, with any value", "%s cannot be added: %v", normal, err)
	}
	added, s, ok := f.insert(offset, line)
	if !ok || s.Address != normal {
		return nil, fault.At(fault.Invalid, fault.Place{File: f.Path}, "add it by hand, with any value", "%s cannot be added without changing what is there", normal)
	}
	return added.With([]Change{{Address: change.Address, Value: change.Value}})
}

// newLine is the line that sets an address, with an empty value, and where it
// goes.
func (f *File) newLine(address string) (offset int, line string, err error) {
	end := len(f.source)
	switch f.Syntax.Name {
	case "dotenv", "key and value":
		if f.Syntax.Name == keyvalue.Syntax.Name && !f.separatesByEquals() {
			return end, address + " x", nil
		}
		return end, address + "=x", nil
	case "INI":
		section, key, inSection := strings.Cut(address, "] ")
		if !inSection {
			return f.beforeSections(), address + " = x", nil
		}
		if at, found := f.endOfSection(section + "]"); found {
			return at, key + " = x", nil
		}
		return end, f.lineEnd() + section + "]" + f.lineEnd() + key + " = x", nil
	case "YAML":
		if strings.Contains(address, ".") {
			return 0, "", fmt.Errorf("the file has no key beside it")
		}
		return end, address + ": x", nil
	case "PHP":
		line := address + " = '';"
		switch {
		case strings.HasPrefix(address, "return["), strings.Contains(address, "::"):
			return 0, "", fmt.Errorf("the file has no element beside it, or it is a member of a class")
		case address[0] != '$':
			line = "define('" + address + "', '');"
		}
		if i := bytes.LastIndex(f.source, []byte("?>")); i >= 0 && len(bytes.TrimSpace(f.source[i+2:])) == 0 {
			return i, line, nil
		}
		return end, line, nil
	}
	return 0, "", fmt.Errorf("the file has nothing beside it, and %s no other place for it that can be told", f.Syntax.Name)
}

// lastElement cuts an address before its last element: ['key'], .key or /key.
var lastElement = regexp.MustCompile(`^(.*?)(\['((?:[^'\\]|\\.)*)'\]|\.([A-Za-z0-9_-]+)|/([A-Za-z_][\w.-]*)|([A-Za-z0-9_-]+))$`)

// commaAndComment is what may stand behind an element on its line.
var commaAndComment = regexp.MustCompile(`^,[ \t]*(?:(?://|#)[^\r\n]*)?`)

// besideSibling is where an element of an array, an object or an element of XML
// goes, and as what: behind the last one that has the same parent, in its
// layout.
func (f *File) besideSibling(address string) (offset int, text string, found bool) {
	m := lastElement.FindStringSubmatch(address)
	if m == nil {
		return 0, "", false
	}
	parent := m[1]
	var sibling *syntax.Setting
	for i := range f.Settings {
		s := &f.Settings[i]
		if of := lastElement.FindStringSubmatch(s.Address); of != nil && of[1] == parent && !s.Fixed {
			sibling = s
		}
	}
	if sibling == nil {
		return 0, "", false
	}
	line := f.source[bytes.LastIndexByte(f.source[:sibling.Start], '\n')+1 : sibling.Start]
	indent := string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))])
	// Where several stand in a line, the new one goes there, too.
	own := !bytes.ContainsAny(line, ",{[(") || f.Syntax.Name == "PHP" && !bytes.ContainsAny(line, ",[(")
	separator := ", "
	if own {
		separator = "," + f.lineEnd() + indent
	}
	switch f.Syntax.Name {
	case "PHP":
		if bytes.HasPrefix(bytes.TrimLeft(line, " \t"), []byte("$")) && !bytes.Contains(line, []byte("=>")) { // assigned one by one
			return 0, "", false
		}
		if rest := commaAndComment.Find(f.source[sibling.End:]); own && rest != nil { // the comment is the sibling's
			return sibling.End + len(rest), f.lineEnd() + indent + "'" + m[3] + "' => '',", m[3] != ""
		}
		return sibling.End, separator + "'" + m[3] + "' => ''", m[3] != ""
	case "JSON":
		return sibling.End, separator + `"` + m[4] + m[6] + `": ""`, true
	case "YAML":
		if !own {
			return sibling.End, ", " + m[4] + m[6] + ": x", true
		}
		if parent == "" {
			return 0, "", false
		}
		end := sibling.End + bytes.IndexByte(append(bytes.Clone(f.source[sibling.End:]), '\n'), '\n')
		return end, f.lineEnd() + indent + m[4] + ": x", true
	case "XML":
		end := bytes.IndexByte(f.source[sibling.End:], '>')
		if m[5] == "" || end < 0 || !bytes.HasPrefix(f.source[sibling.End:], []byte("</")) {
			return 0, "", false
		}
		return sibling.End + end + 1, f.lineEnd() + indent + "<" + m[5] + "></" + m[5] + ">", true
	}
	return 0, "", false
}

// beforeSections is where an INI file's first section begins.
func (f *File) beforeSections() int {
	if m := sectionLine.FindIndex(f.source); m != nil {
		return m[0] + len(f.source[m[0]:m[1]]) - len(bytes.TrimLeft(f.source[m[0]:m[1]], " \t\r\n"))
	}
	return len(f.source)
}

// endOfSection is behind the last line of an INI section that is not blank.
func (f *File) endOfSection(header string) (int, bool) {
	at, inside, found := 0, false, false
	offset := 0
	for line := range bytes.Lines(f.source) {
		trimmed := strings.TrimSpace(string(line))
		if strings.HasPrefix(trimmed, "[") {
			inside = strings.HasPrefix(strings.ReplaceAll(trimmed, " ", ""), strings.ReplaceAll(header, " ", ""))
		}
		offset += len(line)
		if inside && trimmed != "" {
			at, found = offset, true
		}
	}
	return at, found
}
