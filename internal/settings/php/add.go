package php

import (
	"bytes"
	"errors"
	"regexp"
	"strings"

	"yellowfield/internal/settings/syntax"
)

// appendLine puts an assignment or a definition after all others, and before a closing tag.
func appendLine(f syntax.File, address string) (int, string, error) {
	line := address + " = '';"
	variable, ofEnvironment := strings.CutPrefix(address, putenv+"(")
	switch {
	case ofEnvironment:
		line = putenv + "('" + strings.TrimSuffix(variable, ")") + "=');"
	case strings.HasPrefix(address, "return["), strings.Contains(address, "::"), strings.Contains(address, "("):
		return 0, "", errors.New("the file has no element beside it, or it is a member of a class or an argument")
	case address[0] != '$':
		line = "define('" + address + "', '');"
	}
	if i := bytes.LastIndex(f.Source, []byte("?>")); i >= 0 && len(bytes.TrimSpace(f.Source[i+2:])) == 0 {
		return i, line, nil
	}
	return len(f.Source), line, nil
}

var subscript = regexp.MustCompile(`^(.*?)\['((?:[^'\\]|\\.)*)'\]$`)

func lastElement(address string) (parent, key string, ok bool) {
	m := subscript.FindStringSubmatch(address)
	if m == nil || m[2] == "" {
		return "", "", false
	}
	return m[1], m[2], true
}

// commaAndComment is what may stand after an element on its line.
var commaAndComment = regexp.MustCompile(`^,[ \t]*(?:(?://|#)[^\r\n]*)?`)

// beside puts an element into an array literal; elements that are assigned one by one
// get a line of their own by appendLine.
func beside(f syntax.File, s syntax.Sibling, key string) (int, string, bool) {
	if bytes.HasPrefix(bytes.TrimLeft(s.Line, " \t"), []byte("$")) && !bytes.Contains(s.Line, []byte("=>")) {
		return 0, "", false
	}
	alone := s.Alone(",[(")
	if rest := commaAndComment.Find(f.Source[s.End:]); alone && rest != nil { // the comment is the sibling's
		return s.End + len(rest), f.LineEnd + s.Indent + "'" + key + "' => '',", true
	}
	return s.End, s.Separator(f, alone) + "'" + key + "' => ''", true
}
