package discover

import (
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dotenv"
	"yellowfield/internal/settings/ini"
	"yellowfield/internal/settings/jsonfile"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/settings/yamlfile"
)

// valuesFromCode fills in what code tells of a file that is not there.
func (c *Candidate) valuesFromCode(t *tree.Tree, read *facts.Code, target string, written *facts.Mention, typedIn []*Candidate) {
	if c.valuesFromText(read, target, written) || written != nil && c.valuesDumped(t, read, typedIn, written.File) {
		return
	}
	if local := c.valuesFromLogins(t, read, written); local {
		c.valuesTypedIn(t, typedIn, written)
	}
}

// valuesFromText takes the keys of the text that would be written into the file.
func (c *Candidate) valuesFromText(read *facts.Code, target string, written *facts.Mention) bool {
	for _, text := range read.Texts {
		if written != nil && text.File != written.File {
			continue
		}
		source := interpolated.ReplaceAllString(text.Text, "x")
		wanted := ""
		switch {
		case isINI(read, target):
			wanted = ini.Syntax.Name
		case syntaxOf(target) == dotenv.Syntax.Name:
			wanted = dotenv.Syntax.Name
		}
		switch {
		case text.Syntax != wanted:
			continue
		case wanted == ini.Syntax.Name:
			source = "; <?php exit;\n" + source
		case wanted == "" && !strings.Contains(source, "<?php"):
			source = "<?php\n" + source
		}
		file, err := settings.Parse(filepath.ToSlash(target), []byte(source))
		if err != nil {
			continue
		}
		keys, _ := readKeys(file, read, false)
		for _, g := range judged(keys, file) {
			if g.sayEnough() && g.foreign == "" && g.score >= leastScore-4 {
				made := place{target: target, words: &read.Words}.with(file, g)
				for i := range made.Values {
					if v := &made.Values[i]; v.Role == settings.Driver && (v.Text == "" || v.Doubt != "") {
						v.Text, v.was, v.ifKnown, v.unwritable = "", "", true, false
					}
					made.Values[i].Doubt, made.Values[i].Expression, made.Values[i].Line, made.Values[i].Was = "", false, 0, ""
				}
				c.Values, c.Seen, c.prefix, c.family = made.Values, text.File, "", made.family
				c.words, c.schemes = &read.Words, made.schemes
				c.Score = round(c.Score + g.score/2)
				c.Reasons = append(c.Reasons, text.String()+" has the text that is written")
				c.Syntax = file.Syntax.Name
				return true
			}
		}
	}
	return false
}

// isINI reports whether a file is INI by its name, or as code reads it.
func isINI(c *facts.Code, name string) bool {
	return slices.Contains(strings.Split(path.Base(name), "."), "ini") || slices.ContainsFunc(c.Mentions[path.Base(name)], func(m facts.Mention) bool { return m.Verb == "parse_ini_file" })
}

// valuesDumped takes the addresses of an array that the file of code which writes the file
// fills with what was typed in, where a library turns it into the syntax of that.
func (c *Candidate) valuesDumped(t *tree.Tree, read *facts.Code, typedIn []*Candidate, writer string) bool {
	i := slices.IndexFunc(typedIn, func(typed *Candidate) bool { return typed.Seen == writer && typed.isArray() })
	isReturned := func(m facts.Mention) bool {
		return facts.Readers[m.Verb] && slices.Contains(m.Places(), c.File) && returned.Match(t.Read(m.File, tree.LongestCode))
	}
	if i < 0 || c.Syntax == php.Syntax.Name && !slices.ContainsFunc(read.Mentions[path.Base(c.File)], isReturned) {
		return false
	}
	for _, v := range typedIn[i].Values {
		_, subscripts, found := strings.Cut(php.Own(v.Address), "[")
		address := "return[" + subscripts
		if c.Syntax != php.Syntax.Name {
			address = addressOf(c.Syntax, "["+subscripts)
		}
		if found && address != "" && v.Role != settings.Driver {
			c.Values = append(c.Values, Value{Role: v.Role, Address: address, Text: v.Text})
		}
	}
	c.Seen = writer
	c.Score = round(c.Score + float64(len(c.Values)))
	c.Reasons = append(c.Reasons, writer+" fills an array with them")
	c.fromLogins = true
	return len(c.Values) > 0
}

// isArray reports whether all values are elements of an array.
func (c *Candidate) isArray() bool {
	return !slices.ContainsFunc(c.Values, func(v Value) bool { return !strings.Contains(v.Address, "[") })
}

// valuesTypedIn takes the addresses at which the installer keeps what was typed in, and
// which it writes as a whole.
func (c *Candidate) valuesTypedIn(t *tree.Tree, typedIn []*Candidate, written *facts.Mention) {
	for _, typed := range typedIn {
		if !typed.isArray() {
			continue
		}
		c.Values, c.Seen = nil, typed.Seen
		for _, v := range typed.Values {
			if v.Role != settings.Driver {
				address := php.Own(v.Address)
				if exportsReturned.Match(t.Read(typed.Seen, tree.LongestCode)) || written != nil && exportsReturned.Match(t.Read(written.File, tree.LongestCode)) {
					address = "return" + address[strings.IndexByte(address, '['):]
				}
				c.Values = append(c.Values, Value{Role: v.Role, Address: address, Text: v.Text})
			}
		}
		c.Reasons = append(c.Reasons, typed.Seen+" keeps them there")
		c.fromLogins = true
		return
	}
}

// valuesFromLogins takes the addresses that code logs in with. local tells that they are
// those of a function's own parameters.
func (c *Candidate) valuesFromLogins(t *tree.Tree, read *facts.Code, written *facts.Mention) (local bool) {
	writer := ""
	if written != nil {
		writer = written.File
	}
	exports := exportsReturned.Match(t.Read(writer, tree.LongestCode))
	byRole := map[settings.Role]facts.Connect{}
	for _, at := range read.Connects {
		elsewhere := strings.HasPrefix(at.Address, "$_") && !(c.Syntax == dotenv.Syntax.Name && strings.HasPrefix(at.Address, "$_ENV["))
		array := read.Arrays[writer]
		if i := strings.IndexByte(at.Address, '['); array != "" && i > 0 && !elsewhere && !facts.IsInstallers(at.File) {
			at.Address, at.Local, at.Elements = array+at.Address[i:], false, facts.Elements(array+at.Address[i:])
		}
		if facts.IsInstallers(at.File) || elsewhere || facts.IsApart(at.File) || at.Local && !strings.Contains(at.Address, "[") || len(at.Elements) == 0 || strings.HasPrefix(at.Address, "$this") {
			continue
		}
		if was, has := byRole[at.Role]; !has || len(at.Elements) > len(was.Elements) {
			byRole[at.Role] = at
		}
	}
	for _, role := range facts.ValueOrder {
		at, has := byRole[role]
		if !has {
			continue
		}
		local = local || at.Local
		address := at.Address
		if m := keptByName.FindStringSubmatch(address); m != nil && c.Syntax == dotenv.Syntax.Name {
			address = m[1]
		}
		if m := keptUnder.FindStringSubmatch(address); m != nil && exports {
			address = "return['" + strings.ReplaceAll(m[1], ".", "']['") + "']"
			c.Values = append(c.Values, Value{Role: role, Address: address, Text: "{" + string(role) + "}", ifKnown: role == settings.Driver})
			c.Seen = at.File
			continue
		}
		switch i := strings.IndexByte(address, '['); {
		case i < 0:
		case c.Syntax != php.Syntax.Name:
			if address = addressOf(c.Syntax, address[i:]); address == "" {
				continue
			}
		case strings.HasPrefix(address, globals) && strings.Count(address, "[") > 2 && exports:
			_, address, _ = strings.Cut(address[len(globals):], "[")
			address = "return[" + address
		case returned.Match(t.Read(at.File, tree.LongestCode)):
			address = "return" + address[i:]
		case at.Local:
			continue // the parameter's name is the function's
		case exports:
			local = true
			continue // what is returned has no name of its own
		}
		c.Values = append(c.Values, Value{Role: role, Address: address, Text: "{" + string(role) + "}", ifKnown: role == settings.Driver})
		c.Seen = at.File
	}
	if c.fromLogins = len(c.Values) > 0; c.fromLogins {
		c.Score = round(c.Score + float64(len(c.Values)))
		c.Reasons = append(c.Reasons, c.Seen+" logs in with these values")
	}
	return local
}

var subscripts = regexp.MustCompile(`\['([\w.-]+)'\]`)

// addressOf is the address in a syntax of what code reads under some subscripts; empty
// where that cannot be told.
func addressOf(syntax, behind string) string {
	var keys []string
	for _, m := range subscripts.FindAllStringSubmatch(behind, -1) {
		keys = append(keys, m[1])
	}
	switch {
	case syntax != ini.Syntax.Name:
		return strings.Join(keys, ".")
	case len(keys) == 1:
		return keys[0]
	case len(keys) == 2:
		return "[" + keys[0] + "] " + keys[1]
	}
	return ""
}

// syntaxOf is the syntax of a file that is not there, by its name.
func syntaxOf(name string) string {
	if strings.HasPrefix(path.Base(name), ".env") {
		return dotenv.Syntax.Name
	}
	switch strings.ToLower(path.Ext(name)) {
	case ".ini":
		return ini.Syntax.Name
	case ".yml", ".yaml":
		return yamlfile.Syntax.Name
	case ".json":
		return jsonfile.Syntax.Name
	}
	return php.Syntax.Name
}

// interpolated is a value that a string in double quotes takes in (PHP manual, "Strings").
var interpolated = regexp.MustCompile(`\{\$[^{}\n]*\}`)

// keptUnder is a call that gives what a file keeps under a name with dots.
var keptUnder = regexp.MustCompile(`\('([\w-]+(?:\.[\w-]+)+)'\)$`)

// globals is the array of all global variables (PHP manual, "$GLOBALS").
const globals = "$GLOBALS["

// keptByName is a call that gives a variable of the environment.
var keptByName = regexp.MustCompile(`\('([A-Z][A-Z0-9_]*)'\)$`)

// exportsReturned is code that writes a file which returns what it holds.
var exportsReturned = regexp.MustCompile(`(?:\b|\\n)return\s*['"]\s*\.\s*[\w\\:>$-]+\s*\(`)

// returned is an include whose result is kept: the file returns its settings.
var returned = regexp.MustCompile(`=\s*\(?(?:include|require)(?:_once)?\b`)
