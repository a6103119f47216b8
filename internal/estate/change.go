package estate

import (
	"path/filepath"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// Change is a file of the estate before and after.
type Change struct {
	Path          string
	Before, After []byte
}

const retiredKey = "retired"

// Retire says in an app's entry since when it is retired, or takes that out for an empty
// date. Every other byte stays, and what the file gives is the same but for that.
func (e *Estate) Retire(app, date string) (*Change, error) {
	place := e.places["apps."+app]
	source := e.sources[place.File]
	cannot := func(why string) error {
		next := "write it by hand: retired: " + date
		if date == "" {
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
		if keyOf(pair) == retiredKey {
			there = pair
		}
	}
	first := entry.Values[0].Key.GetToken().Position
	switch {
	case date == "" && there == nil:
		return &Change{place.File, source, source}, nil
	case date != "" && there != nil:
		return nil, cannot("it says since when the app is retired already")
	case date != "" && entry.IsFlowStyle:
		lines[first.Line-1] = insertAt(lines[first.Line-1], first.Column-1, retiredKey+": "+date+", ")
	case date != "":
		end := "\n"
		if strings.HasSuffix(lines[first.Line-1], "\r\n") {
			end = "\r\n"
		}
		lines[first.Line-1] = strings.Repeat(" ", first.Column-1) + retiredKey + ": " + date + end + lines[first.Line-1]
	default:
		at := there.Key.GetToken().Position
		line := lines[at.Line-1]
		begin := byteOf(line, at.Column-1)
		rest := line[begin:]
		if end := strings.IndexAny(rest, ",}\r\n"); entry.IsFlowStyle && end >= 0 && rest[end] == ',' {
			lines[at.Line-1] = line[:begin] + strings.TrimLeft(rest[end+1:], " ")
		} else if !entry.IsFlowStyle && strings.TrimSpace(line[:begin]) == "" {
			lines[at.Line-1] = ""
		} else {
			return nil, cannot("it is written in an unusual way")
		}
	}
	after := []byte(strings.Join(lines, ""))
	if !e.differsOnlyIn(place.File, source, after, app, date) {
		return nil, cannot("it would come to say something else")
	}
	return &Change{place.File, source, after}, nil
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

// Took tells that a file was changed.
func (e *Estate) Took(path string, content []byte) { e.sources[path] = content }

// differsOnlyIn reads both texts and compares what they give.
func (e *Estate) differsOnlyIn(path string, before, after []byte, app, date string) bool {
	var was, is File
	if decodeFile(path, before, &was, map[string]fault.Place{}) != nil || decodeFile(path, after, &is, map[string]fault.Place{}) != nil || was.Apps[app] == nil || is.Apps[app] == nil || is.Apps[app].Retired != date {
		return false
	}
	was.Apps[app].Retired = date
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
