package estate

import (
	"path/filepath"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// Change is a file of the estate before and after an edit of one entry.
type Change struct {
	Path          string
	Before, After []byte
	Edit          Edit
}

// Edit is a change of one app's entry as data, which can be made of a newer text, too, and
// taken back in it.
type Edit struct {
	App string `json:"app"`
	// Key is the one that is set to Value, or taken out for an empty one; Was is what it said.
	Key   string `json:"key,omitempty"`
	Value string `json:"value,omitempty"`
	Was   string `json:"was,omitempty"`
	// Added is the digest of an entry that is added: as a copy of Of.
	Added string `json:"added,omitempty"`
	Of    string `json:"of,omitempty"`

	copied Copied
}

// Retire says in an app's entry since when it is retired, or takes that out for an empty
// date. Every other byte stays, and what the file gives is the same but for that.
func (e *Estate) Retire(app, date string) (*Change, error) { return e.setKey(app, "retired", date) }

// MoveTo says in an app's entry that its database is on another server.
func (e *Estate) MoveTo(app, server string) (*Change, error) { return e.setKey(app, "server", server) }

// field is what of an app a key of its entry gives.
func field(a *App, key string) *string {
	if key == "retired" {
		return &a.Retired
	}
	return &a.Server
}

// setKey sets a key of an app's entry, or takes it out for an empty value.
func (e *Estate) setKey(app, key, value string) (*Change, error) {
	edit := Edit{App: app, Key: key, Value: value}
	place := e.places["apps."+app]
	source := e.sources[place.File]
	cannot := func(why string) error {
		next := "write it by hand: " + key + ": " + value
		if value == "" {
			next = "take it out by hand"
		}
		return fault.At(fault.Protected, place, next, "the entry of app %s cannot be changed: %s", app, why).WithExcerpt(source)
	}
	_, entry := pairOf(source, app)
	if entry == nil || len(entry.Values) == 0 {
		return nil, cannot("it is written in an unusual way")
	}
	lines := strings.SplitAfter(string(source), "\n")
	var there *ast.MappingValueNode
	for _, pair := range entry.Values {
		if keyOf(pair) == key {
			there, edit.Was = pair, pair.Value.GetToken().Value
		}
	}
	first := entry.Values[0].Key.GetToken().Position
	fits := true
	switch {
	case value == "" && there == nil:
		return &Change{place.File, source, source, edit}, nil
	case value != "" && there != nil:
		at := there.Value.GetToken()
		lines, fits = lineEdit{at.Position.Line - 1, at.Position.Column - 1, at.Value, value}.in(lines)
	case value != "" && entry.IsFlowStyle:
		lines[first.Line-1] = insertAt(lines[first.Line-1], first.Column-1, key+": "+value+", ")
	case value != "":
		end := "\n"
		if strings.HasSuffix(lines[first.Line-1], "\r\n") {
			end = "\r\n"
		}
		lines[first.Line-1] = strings.Repeat(" ", first.Column-1) + key + ": " + value + end + lines[first.Line-1]
	default:
		at := there.Key.GetToken().Position
		lines, fits = lineEdit{at.Line - 1, at.Column - 1, "", gone}.in(lines)
	}
	after := []byte(strings.Join(lines, ""))
	switch {
	case !fits:
		return nil, cannot("it is written in an unusual way")
	case !differsOnlyIn(place.File, source, after, edit):
		return nil, cannot("it would come to say something else")
	}
	return &Change{place.File, source, after, edit}, nil
}

// With is the estate as it will be with a change.
func (e *Estate) With(c *Change) (*Estate, error) {
	l := e.loader
	l.instead = map[string][]byte{c.Path: c.After}
	return l.LoadSome(e.Path)
}

// Relative is a path as the estate file would write it.
func (e *Estate) Relative(path string) string {
	if rest, inside := host.Below(filepath.Dir(e.Path), path); inside {
		return rest
	}
	return path
}

// differsOnlyIn reads both texts and compares what they give.
func differsOnlyIn(path string, before, after []byte, edit Edit) bool {
	var was, is File
	if decodeFile(path, before, &was, map[string]fault.Place{}) != nil || decodeFile(path, after, &is, map[string]fault.Place{}) != nil || was.Apps[edit.App] == nil || is.Apps[edit.App] == nil || *field(is.Apps[edit.App], edit.Key) != edit.Value {
		return false
	}
	*field(was.Apps[edit.App], edit.Key) = edit.Value
	return reflect.DeepEqual(was, is)
}

func mapOf(node ast.Node) *ast.MappingNode {
	switch node := node.(type) {
	case *ast.MappingNode:
		return node
	case *ast.MappingValueNode:
		return &ast.MappingNode{Values: []*ast.MappingValueNode{node}}
	}
	return nil
}

// byteOf is where a column, which counts characters, begins in a line.
func byteOf(line string, column int) int {
	for i := range line {
		if column == 0 {
			return i
		}
		column--
	}
	return len(line)
}

func insertAt(line string, column int, text string) string {
	at := byteOf(line, column)
	return line[:at] + text + line[at:]
}
