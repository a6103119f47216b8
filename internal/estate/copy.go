package estate

import (
	"cmp"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
)

// Copied says what is otherwise in the entry of an app's copy.
type Copied struct {
	Name   string
	Folder string
	// Databases and Accounts are the new names by the old ones.
	Databases, Accounts map[string]string
}

// CopyEntry adds a copy of an app's entry after it, with its comments and layout, but for its
// names, its folder, and its url, which is that of the original.
func (e *Estate) CopyEntry(app string, c Copied) (*Change, error) {
	place := e.places["apps."+app]
	source := e.sources[place.File]
	cannot := func(why string) error {
		return fault.At(fault.Protected, place, "write the entry of "+c.Name+" by hand, and yellowfield provision it", "the entry of app %s cannot be copied: %s", app, why).WithExcerpt(source)
	}
	key, entry := pairOf(source, app)
	switch {
	case e.Apps[c.Name] != nil || e.Broken[c.Name] != nil:
		return nil, e.Fault(fault.Invalid, "apps."+c.Name, "choose another name", "app %s is in the estate file already", c.Name)
	case entry == nil:
		return nil, cannot("it is written in an unusual way")
	}
	lines := strings.SplitAfter(string(source), "\n")
	if last := len(lines) - 1; lines[last] == "" {
		lines = lines[:last]
	} else {
		lines[last] += "\n"
	}
	begin := key.GetToken().Position.Line - 1
	end := endOf(lines, begin, key.GetToken().Position.Column-1)
	block := slices.Clone(lines[begin:end])
	var edits []lineEdit
	add := func(node ast.Node, text string) {
		edits = append(edits, lineEdit{node.GetToken().Position.Line - 1 - begin, node.GetToken().Position.Column - 1, node.GetToken().Value, text})
	}
	add(key, c.Name)
	for _, pair := range entry.Values {
		switch keyOf(pair) {
		case "folder":
			add(pair.Value, Quoted(c.Folder))
		case "url":
			add(pair.Key, gone)
		case "database":
			c.names(pair.Value, c.Databases, add)
		case "databases":
			if all := mapOf(pair.Value); all != nil {
				for _, one := range all.Values {
					c.names(one.Value, c.Databases, add)
				}
			}
		case "accounts":
			if list, is := pair.Value.(*ast.SequenceNode); is {
				for _, one := range list.Values {
					c.names(one, c.Accounts, add)
				}
			}
		}
	}
	slices.SortFunc(edits, func(a, b lineEdit) int { return cmp.Or(b.line-a.line, b.column-a.column) }) // from the end
	for _, one := range edits {
		var fits bool
		if block, fits = one.in(block); !fits {
			return nil, cannot("it is written in an unusual way")
		}
	}
	text := strings.Join(lines[:end], "") + "\n" + strings.Join(block, "") + strings.Join(lines[end:], "")
	if !c.isOnlyAddition(place.File, source, []byte(text), app) {
		return nil, cannot("the copy would come to say something else")
	}
	return &Change{place.File, source, []byte(text), Edit{App: c.Name, Of: app, Added: atomicfile.Digest([]byte(strings.Join(block, ""))), copied: c}}, nil
}

// withoutEntry takes an entry out that CopyEntry has added; an error where that cannot be done
// without changing something else.
func (e *Estate) withoutEntry(edit Edit) (*Change, error) {
	place := e.places["apps."+edit.App]
	source := e.sources[place.File]
	lines, begin, end := linesOf(source, edit.App)
	if begin > 0 && strings.TrimSpace(lines[begin-1]) == "" {
		begin--
	}
	after := []byte(strings.Join(lines[:begin], "") + strings.Join(lines[end:], ""))
	var was, is File
	if decodeFile(place.File, source, &was, map[string]fault.Place{}) != nil || decodeFile(place.File, after, &is, map[string]fault.Place{}) != nil {
		return nil, e.changedMeanwhile(edit.App)
	}
	if delete(was.Apps, edit.App); !reflect.DeepEqual(was, is) {
		return nil, e.changedMeanwhile(edit.App)
	}
	return &Change{Path: place.File, Before: source, After: after}, nil
}

// linesOf are the lines of a file, and between which an app's entry is; none where it has none.
func linesOf(source []byte, app string) (lines []string, begin, end int) {
	lines = strings.SplitAfter(string(source), "\n")
	key, _ := pairOf(source, app)
	if key == nil {
		return lines, 0, 0
	}
	begin = key.GetToken().Position.Line - 1
	return lines, begin, endOf(lines, begin, key.GetToken().Position.Column-1)
}

// names replaces the name in the map of a database or an account.
func (c Copied) names(node ast.Node, names map[string]string, add func(ast.Node, string)) {
	if m := mapOf(node); m != nil {
		for _, pair := range m.Values {
			if keyOf(pair) == "name" {
				add(pair.Value, names[pair.Value.GetToken().Value])
			}
		}
	}
}

// isOnlyAddition reads both texts and compares what they give.
func (c Copied) isOnlyAddition(path string, before, after []byte, app string) bool {
	var was, is File
	if decodeFile(path, before, &was, map[string]fault.Place{}) != nil || decodeFile(path, after, &is, map[string]fault.Place{}) != nil || is.Apps[c.Name] == nil || was.Apps[c.Name] != nil {
		return false
	}
	var wanted File // decoded once more, so that nothing is shared
	if decodeFile(path, before, &wanted, map[string]fault.Place{}) != nil {
		return false
	}
	want := wanted.Apps[app]
	want.Folder, want.URL = c.Folder, ""
	if name := c.Databases[want.Database.Name]; want.Database.Name != "" {
		want.Database.Name = name
	}
	for _, d := range want.Databases {
		d.Name = c.Databases[d.Name]
	}
	for _, a := range want.Accounts {
		a.Name = c.Accounts[a.Name]
	}
	got := is.Apps[c.Name]
	delete(is.Apps, c.Name)
	want.Name = got.Name
	return reflect.DeepEqual(was, is) && reflect.DeepEqual(want, got)
}

// gone takes a key out, with its value.
const gone = "\x00gone"

// lineEdit is one in a line of an entry.
type lineEdit struct {
	line, column int
	has, wants   string
}

// in makes the edit; fits is false where something else stands there.
func (e lineEdit) in(block []string) (edited []string, fits bool) {
	if e.line < 0 || e.line >= len(block) {
		return block, false
	}
	line := block[e.line]
	at := byteOf(line, e.column)
	rest := line[at:]
	if e.wants == gone {
		if strings.TrimSpace(line[:at]) == "" {
			return slices.Delete(block, e.line, e.line+1), true
		}
		if end := strings.IndexByte(rest, ','); end >= 0 { // in a map of one line
			block[e.line] = line[:at] + strings.TrimLeft(rest[end+1:], " ")
			return block, true
		}
		return block, false
	}
	length := len(e.has)
	for _, quote := range []string{`"`, `'`} {
		if inner, is := strings.CutPrefix(rest, quote); is {
			end := strings.Index(inner, quote)
			if end < 0 || inner[:end] != e.has {
				return block, false
			}
			length = end + 2
		}
	}
	if length == len(e.has) && !strings.HasPrefix(rest, e.has) || e.wants == "" {
		return block, false
	}
	block[e.line] = line[:at] + e.wants + rest[length:]
	return block, true
}

// endOf is just after the last line of the entry that begins in a line with some indentation.
func endOf(lines []string, begin, indent int) int {
	end := begin + 1
	for i := begin + 1; i < len(lines); i++ {
		text := strings.TrimRight(lines[i], " \t\r\n")
		said := strings.TrimLeft(text, " ")
		switch {
		case said == "" || strings.HasPrefix(said, "#"):
		case len(text)-len(said) <= indent:
			return end
		default:
			end = i + 1
		}
	}
	return end
}

// pairOf finds an app's key and map in the text of an estate file; nil if it has none.
func pairOf(source []byte, app string) (key ast.MapKeyNode, entry *ast.MappingNode) {
	tree, err := parser.ParseBytes(source, parser.ParseComments)
	if err != nil || len(tree.Docs) != 1 {
		return nil, nil
	}
	at := mapOf(tree.Docs[0].Body)
	for _, name := range []string{"apps", app} {
		var next *ast.MappingNode
		if at == nil || name == app && at.IsFlowStyle {
			return nil, nil
		}
		for _, pair := range at.Values {
			if keyOf(pair) == name {
				key, next = pair.Key, mapOf(pair.Value)
			}
		}
		at = next
	}
	return key, at
}
