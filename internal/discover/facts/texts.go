package facts

import (
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/settings/dotenv"
	"yellowfield/internal/settings/ini"
	"yellowfield/internal/settings/php"
)

// Embedded is a text in the code that would be a file of settings.
type Embedded struct {
	Place
	Text   string
	Syntax string // empty for PHP
}

// takeTexts takes what the literals of a file of code would be as files of settings, in each
// syntax in which code puts them together line by line.
func (c *Code) takeTexts(name string, literals []php.Literal) {
	for _, literal := range literals {
		if m := beginsArray.FindStringSubmatch(literal.Text); m != nil {
			c.Arrays[name] = m[1]
		}
	}
	for _, text := range []Embedded{{Text: writtenLines(literals)}, {Text: writtenINI(literals), Syntax: ini.Syntax.Name}, {Text: writtenEnvironment(literals), Syntax: dotenv.Syntax.Name}} {
		if text.Text != "" {
			text.Place = Place{File: name}
			c.Texts = append(c.Texts, text)
		}
	}
}

// settingLine is a line that sets something in PHP.
var settingLine = regexp.MustCompile(`(?m)^\s*(?:define\s*\(\s*['"]\w+['"]\s*,.*\);|\$\w+(?:\[['"]?\w+['"]?\]|->\w+)*\s*=[^=\n].*;|const\s+\w+\s*=.*;|(?:public|var|protected|private)\s+(?:static\s+)?\$\w+\s*=.*;)\s*$`)

// writtenLines are the lines in a file's literals that would set something in a
// file of settings: code often puts one together line by line.
func writtenLines(literals []php.Literal) string {
	var lines []string
	for _, literal := range literals {
		for _, line := range settingLine.FindAllString(literal.Text, -1) {
			if line = strings.TrimSpace(line); !slices.Contains(lines, line) {
				lines = append(lines, line)
			}
		}
	}
	const least = 3 // of a login
	if len(lines) < least {
		return ""
	}
	return strings.Join(lines, "\n")
}

// beginsArray is a text with which an array is written key by key: its beginning, or a line
// with the key left open.
var beginsArray = regexp.MustCompile(`(\$\w+)(?:\s*=\s*(?:array\s*\(|\[)\s*$|\[['"]?(?:%s|\{?\$\w+\}?)['"]?\]\s*=\s*['"%])`)

var lineOfINI = regexp.MustCompile(`(?m)^[ \t]*(?:(\[[\w .-]+\])[ \t]*$|([A-Za-z][\w.]*)[ \t]*=[ \t]*["']?(?:[^"'\n]*["']?[ \t]*)?$)`)

// writtenINI are the lines of INI in a file's literals, be their values put in between.
func writtenINI(literals []php.Literal) string {
	var b strings.Builder
	keys := 0
	for _, literal := range literals {
		for _, m := range lineOfINI.FindAllStringSubmatch(literal.Text, -1) {
			if m[1] != "" {
				b.WriteString(m[1] + "\n")
			} else {
				b.WriteString(m[2] + "=\"\"\n")
				keys++
			}
		}
	}
	const least = 3 // of a login
	if keys < least {
		return ""
	}
	return b.String()
}

var lineOfEnvironment = regexp.MustCompile(`(?m)^([A-Z][A-Z0-9_]+)=`)

// writtenEnvironment are the variables of an environment in a file's literals.
func writtenEnvironment(literals []php.Literal) string {
	var lines []string
	for _, literal := range literals {
		for _, m := range lineOfEnvironment.FindAllStringSubmatch(literal.Text, -1) {
			if line := m[1] + "=\n"; !slices.Contains(lines, line) {
				lines = append(lines, line)
			}
		}
	}
	const least = 3 // of a login
	if len(lines) < least {
		return ""
	}
	return strings.Join(lines, "")
}
