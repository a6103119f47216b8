package settings

import (
	"bytes"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/settings/syntax"
)

// Commented is a setting that stands in a comment: its line, without the
// comment's mark, would be a setting.
type Commented struct {
	syntax.Setting
	// offset and line make it a setting of its own after the comment.
	offset int
	line   string
}

// Commented lists the settings that stand in comments, in the order of the file. The syntax
// itself decides whether a line is one, and what its address is: the line is added as a
// setting, and the file is parsed again.
func (f *File) Commented() []Commented {
	var found []Commented
	places := syntax.NewPlaces(f.source)
	budget := mostRereading
	for at := 0; at < len(f.source); {
		end := len(f.source)
		if i := bytes.IndexByte(f.source[at:], '\n'); i >= 0 {
			end = at + i + 1
		}
		line := string(f.source[at:end])
		indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		for _, mark := range f.Syntax.Comments {
			body, commented := strings.CutPrefix(line[len(indent):], mark)
			if !commented || !strings.ContainsAny(body, "=:(>, \t") {
				continue
			}
			body = strings.TrimRight(strings.TrimPrefix(body, " "), "\r\n")
			if closer := f.Syntax.CommentEnd; closer != "" {
				if body, _, commented = strings.Cut(body, closer); !commented {
					continue
				}
			}
			if f.Syntax.IsProse != nil && f.Syntax.IsProse(f.forAdding(), body) {
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

// forAdding is the file as its syntax sees it for adding a setting.
func (f *File) forAdding() syntax.File {
	return syntax.File{Source: f.source, Settings: f.Settings, LineEnd: f.lineEnd()}
}

// revive puts a line after offset and reads the file again. ok is false unless that gives
// exactly one more setting, with a value of its own.
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
	if offset, text, found := f.beside(normal); found {
		if added, s, ok := f.insertText(offset, text); ok && s.Address == normal {
			return added.With([]Change{{Address: change.Address, Value: change.Value}})
		}
	}
	offset, line, err := f.Syntax.Append(f.forAdding(), normal)
	if err != nil {
		return nil, fault.At(fault.Invalid, fault.Place{File: f.Path}, "add it by hand, with any value", "%s cannot be added: %v", normal, err)
	}
	added, s, ok := f.insert(offset, line)
	if !ok || s.Address != normal {
		return nil, fault.At(fault.Invalid, fault.Place{File: f.Path}, "add it by hand, with any value", "%s cannot be added without changing what is there", normal)
	}
	return added.With([]Change{{Address: change.Address, Value: change.Value}})
}

// beside is where an element goes after the last one that has the same parent, in its layout.
func (f *File) beside(address string) (offset int, text string, found bool) {
	if f.Syntax.Element == nil {
		return 0, "", false
	}
	parent, key, ok := f.Syntax.Element(address)
	if !ok {
		return 0, "", false
	}
	var last *syntax.Setting
	for i := range f.Settings {
		if of, _, ok := f.Syntax.Element(f.Settings[i].Address); ok && of == parent && !f.Settings[i].Fixed {
			last = &f.Settings[i]
		}
	}
	if last == nil {
		return 0, "", false
	}
	line := f.source[bytes.LastIndexByte(f.source[:last.Start], '\n')+1 : last.Start]
	sibling := syntax.Sibling{Setting: *last, Parent: parent, Line: line, Indent: string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))])}
	return f.Syntax.Beside(f.forAdding(), sibling, key)
}
