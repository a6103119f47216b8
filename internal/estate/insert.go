package estate

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yellowfield/internal/fault"
)

// Entry is a server or an app to be added to an estate file: its name, and the
// lines of its map as text, without indentation, comments included.
type Entry struct {
	Name string
	Text string
}

// Insert gives an estate file's text with entries added after the last ones of servers and of
// apps. Every other byte stays. The result has been loaded as the file at path, so that what
// it gives is valid; an empty source makes a new file. It is an error of class Protected when
// a name is there already.
func (l Loader) Insert(path string, source []byte, servers, apps []Entry) ([]byte, error) {
	text := string(source)
	for _, part := range []struct {
		key     string
		entries []Entry
	}{{"servers", servers}, {"apps", apps}} {
		for _, entry := range part.entries {
			var err error
			if text, err = insertOne(path, text, part.key, entry); err != nil {
				return nil, err
			}
		}
	}
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if _, err := l.LoadText(path, []byte(text)); err != nil {
		return nil, err
	}
	return []byte(text), nil
}

// insertOne adds an entry to the map of a key of the outermost level.
func insertOne(path, text, key string, entry Entry) (string, error) {
	end := "\n"
	if strings.Contains(text, "\r\n") {
		end = "\r\n"
	}
	lines := strings.SplitAfter(text, "\n")
	if last := len(lines) - 1; lines[last] == "" {
		lines = lines[:last]
	} else {
		lines[last] += end
	}
	const step = 2
	at, indent, section, err := placeFor(path, text, key, entry.Name)
	switch {
	case err != nil:
		return "", err
	case section == 0: // the file has no such key
		at, indent = len(lines), step
		if at > 0 {
			lines = append(lines, end)
			at++
		}
		lines = append(lines, key+":"+end)
		at++
	case at == 0: // the key has nothing after it
		at, indent = section, step
		lines[section-1] = nothingBehind.ReplaceAllString(lines[section-1], ":")
		lines[section-1] = strings.TrimRight(lines[section-1], " \r\n") + end
	}
	if at > len(lines) {
		at = len(lines)
	}
	// Behind the last line of the map that says something: what follows it may
	// be the comment of the next key.
	for at > section && at > 0 && (strings.TrimSpace(lines[at-1]) == "" || strings.HasPrefix(lines[at-1], "#")) {
		at--
	}
	var added []string
	if at > 0 && !strings.HasPrefix(lines[at-1], key+":") {
		added = append(added, end)
	}
	pad := strings.Repeat(" ", indent)
	added = append(added, pad+entry.Name+":"+end)
	for line := range strings.Lines(entry.Text) {
		if line = strings.TrimRight(line, "\n"); line != "" {
			line = pad + strings.Repeat(" ", step) + line
		}
		added = append(added, line+end)
	}
	return strings.Join(lines[:at], "") + strings.Join(added, "") + strings.Join(lines[at:], ""), nil
}

// nothingBehind is a key with nothing, said in one of YAML's ways.
var nothingBehind = regexp.MustCompile(`:[ \t]*(?:\{[ \t]*\}|null|~)`)

// placeFor finds where an entry goes: after which line, with which indentation, and in which
// line its section begins. section is 0 when the file lacks the key, and line 0 when nothing
// is below it.
func placeFor(path, text, key, name string) (line, indent, section int, err error) {
	if strings.TrimSpace(text) == "" {
		return 0, 0, 0, nil
	}
	tree, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil {
		var nothing File
		return 0, 0, 0, decodeFile(path, []byte(text), &nothing, map[string]fault.Place{})
	}
	var pairs []*ast.MappingValueNode
	for _, document := range tree.Docs {
		switch body := document.Body.(type) {
		case *ast.MappingNode:
			pairs = body.Values
		case *ast.MappingValueNode:
			pairs = []*ast.MappingValueNode{body}
		}
	}
	all := strings.Count(text, "\n") + 1
	for i, pair := range pairs {
		if keyOf(pair) != key {
			continue
		}
		section = pair.Key.GetToken().Position.Line
		line = all
		if i+1 < len(pairs) {
			line = pairs[i+1].Key.GetToken().Position.Line - 1
		}
		var inside []*ast.MappingValueNode
		switch value := pair.Value.(type) {
		case *ast.MappingNode:
			if value.IsFlowStyle && len(value.Values) > 0 {
				place := fault.Place{File: path, Line: section, Column: 1}
				return 0, 0, 0, fault.At(fault.Invalid, place, "write each entry on lines of its own, or add the text by hand", "%s is written in one line, so that nothing can be added", key).WithExcerpt([]byte(text))
			}
			inside = value.Values
		case *ast.MappingValueNode:
			inside = []*ast.MappingValueNode{value}
		}
		for _, entry := range inside {
			if keyOf(entry) == name {
				at := entry.Key.GetToken().Position
				return 0, 0, 0, fault.At(fault.Protected, fault.Place{File: path, Line: at.Line, Column: at.Column}, "choose another name with --name, or change the entry by hand",
					"%s is in the estate file already", name).WithExcerpt([]byte(text))
			}
		}
		if len(inside) == 0 {
			return 0, 0, section, nil
		}
		return line, inside[0].Key.GetToken().Position.Column - 1, section, nil
	}
	return 0, 0, 0, nil
}

// PlainKey writes a key of a map so that YAML reads it as it is.
func PlainKey(key string) string {
	if !plainKey.MatchString(key) || strings.Contains(key, ": ") || strings.Contains(key, " #") || strings.HasSuffix(key, ":") || strings.TrimSpace(key) != key || noText.MatchString(key) {
		return Quoted(key)
	}
	return key
}

var (
	// plainKey are characters of addresses that mean nothing to YAML.
	plainKey = regexp.MustCompile(`^[A-Za-z_$/][A-Za-z0-9_$/@.#\[\]'>: -]*$`)
	// noText is what YAML or one of its older versions takes for something else.
	noText = regexp.MustCompile(`(?i)^(y|n|yes|no|on|off|true|false|null)$`)
)

// Quoted writes a text in double quotes as YAML reads it.
func Quoted(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range text {
		switch {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteRune(c)
		case c < ' ' || c >= 0x7f && c < 0xa0:
			fmt.Fprintf(&b, `\x%02x`, c)
		case c == 0x2028 || c == 0x2029:
			fmt.Fprintf(&b, `\u%04x`, c)
		default:
			b.WriteRune(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}
