package php

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/settings/syntax"
)

// logins are what logs in to a database server, with the names of its parameters (PHP
// manual, "mysqli::__construct", "mysqli_select_db", "PDO::__construct", "pg_connect").
// Their arguments are settings where they are literals, and those that needed name are.
var logins = func() map[string]login {
	const mysqli = "hostname username password database port socket"
	m := map[string]login{}
	for _, l := range []login{
		{name: "mysqli", parameters: mysqli, needed: "hostname username password", behind: "new"},
		{name: "mysqli_connect", parameters: mysqli, needed: "hostname username password"},
		{name: "mysqli_real_connect", parameters: "mysql " + mysqli, needed: "hostname username password"},
		{name: "real_connect", parameters: mysqli, needed: "hostname username password", behind: "->"},
		{name: "mysqli_select_db", parameters: "mysql database", needed: "database"},
		{name: "select_db", parameters: "database", needed: "database", behind: "->"},
		{name: "PDO", parameters: "dsn username password options", needed: "dsn username password", behind: "new"},
		{name: "pg_connect", parameters: "connection_string flags", needed: "connection_string"},
		{name: "pg_pconnect", parameters: "connection_string flags", needed: "connection_string"},
	} {
		m[strings.ToLower(l.name)] = l
	}
	return m
}()

// login is a function, a class or a method.
type login struct {
	name, parameters, needed string
	behind                   string // what stands before it; empty for a function
	named                    bool   // its arguments have names, whichever they are
}

// calls takes the arguments of calls that log in, as function(parameter), wherever they
// stand: a literal means the same in a function. What is made of such a call has no value of
// its own. The arguments of the application's own classes, and of what connects by its name,
// have numbers, from 1 on: their parameters are named in another file, unless the call has
// the names itself (PHP manual, "Named Arguments").
func (f *finder) calls() {
	var all []syntax.Setting
	for f.pos = 0; f.pos < len(f.tokens); f.pos++ {
		if !f.isKind(0, word) || !f.is(1, "(") {
			continue
		}
		if l, logsIn := f.loginHere(); logsIn {
			all = append(all, f.call(l)...)
		}
	}
	if len(all) == 0 {
		return
	}
	byPlace := func(a, b syntax.Setting) int { return a.Start - b.Start }
	slices.SortFunc(all, byPlace)
	f.found = slices.DeleteFunc(f.found, func(s syntax.Setting) bool {
		behind, _ := slices.BinarySearchFunc(all, s.Start, func(argument syntax.Setting, at int) int { return argument.Start - at })
		return behind < len(all) && all[behind].End < s.End
	})
	f.found = append(f.found, all...)
	slices.SortFunc(f.found, byPlace)
}

// loginHere is what logs in at this place, or may do so: a class of others takes a user and a
// password after a data source name as PDO does.
func (f *finder) loginHere() (l login, logsIn bool) {
	name, before := f.text(0)[strings.LastIndexByte(f.text(0), '\\')+1:], ""
	if f.pos > 0 {
		before = strings.ToLower(f.text(-1))
	}
	if l, known := logins[strings.ToLower(name)]; known {
		return l, l.behind == before || l.behind == "" && !slices.Contains([]string{"new", "->", "::", "function"}, before)
	}
	switch {
	case before == "function":
	case before == "new" && f.isKind(2, word) && f.is(3, ":"):
		return login{name: name, named: true}, true
	case f.givenDSN():
		pdo := logins["pdo"]
		return login{name: name, parameters: pdo.parameters, needed: pdo.needed}, true
	case before == "new" || strings.Contains(strings.ToLower(name), "connect"):
		return login{name: name, parameters: "1 2 3 4 5 6", needed: "1 2 3"}, true
	}
	return l, false
}

// givenDSN reports whether the call at this place begins with a data source name in PDO's
// form.
func (f *finder) givenDSN() bool {
	if !f.isLiteralString(2) {
		return false
	}
	text, _ := decode(f.text(2))
	return pdoForm.MatchString(text)
}

var pdoForm = regexp.MustCompile(`^(?:mysql|pgsql):\w+=`)

// call gives the literal arguments of the call at this place, and leaves the place there.
func (f *finder) call(l login) []syntax.Setting {
	start, found := f.pos, len(f.found)
	parameters := strings.Fields(l.parameters)
	literal := map[string]bool{}
	f.pos += 2
	for n := 0; f.more() && !f.is(0, ")"); n++ {
		parameter := ""
		if n < len(parameters) {
			parameter = parameters[n]
		}
		if f.isKind(0, word) && f.is(1, ":") { // a named one
			parameter = f.text(0)
			f.pos += 2
		}
		from := f.pos
		f.skipTo(",", ")")
		if value := f.tokens[from:f.pos]; len(value) == 1 && (l.named && parameter != "" || slices.Contains(parameters, parameter)) {
			f.add(l.name+"("+parameter+")", "", value)
			literal[parameter] = f.found[len(f.found)-1].Kind != syntax.Expression
			if !literal[parameter] {
				f.found = f.found[:len(f.found)-1]
			}
		}
		if f.is(0, ",") {
			f.pos++
		}
	}
	arguments := slices.Clone(f.found[found:])
	f.pos, f.found = start, f.found[:found]
	for _, needed := range strings.Fields(l.needed) {
		if !literal[needed] {
			return nil
		}
	}
	const least = 3 // of a login
	if l.named && len(arguments) < least {
		return nil
	}
	return arguments
}

// argument is the address of an argument of such a call.
var argument = regexp.MustCompile(`^(\w+)\((\w+)\)$`)

// CallOf is the function, class or method that an address is an argument of; empty for
// another address.
func CallOf(address string) string {
	if m := argument.FindStringSubmatch(address); m != nil && m[1] != putenv {
		return m[1]
	}
	return ""
}

// NumberedArgument is the call that an address has an argument of, where its parameters are not
// known here, and its number from 1 on.
func NumberedArgument(address string) (call string, number int, ok bool) {
	if m := argument.FindStringSubmatch(address); m != nil {
		number, _ = strconv.Atoi(m[2])
		return m[1], number, number > 0
	}
	return "", 0, false
}

// putenv puts a variable into the environment, of which the value is a part of its argument
// (PHP manual, "putenv").
const putenv = "putenv"

// variableOfEnvironment takes putenv('NAME=value'), as putenv(NAME). The place stays.
func (f *finder) variableOfEnvironment(where string) {
	if !f.is(1, "(") || !f.isLiteralString(2) || !f.is(3, ")") {
		return
	}
	text, _ := decode(f.text(2))
	if name, value, sets := strings.Cut(text, "="); sets && environmentName.MatchString(name) {
		f.add(putenv+"("+name+")", where, f.tokens[f.pos+2:f.pos+3])
		f.found[len(f.found)-1].Value = value
	}
}

var environmentName = regexp.MustCompile(`^\w+$`)

// ofFunction begins the address of what a function keeps in a variable of its own.
var ofFunction = regexp.MustCompile(`^[\w:]+\(\)\$`)

// Own is an address as the code of its function has it: $host for link()$host.
func Own(address string) string {
	if begin := ofFunction.FindString(address); begin != "" {
		return address[len(begin)-1:]
	}
	return address
}
