package discover

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/syntax"
)

// values are what a key of a role should get: one value, or the parts of a data
// source name.
func (g *group) values(role settings.Role, k key) []Value {
	v := Value{Role: role, Address: k.Address, Text: "{" + string(role) + "}", Line: k.Place.Line, Was: k.Value, Commented: k.commented, Expression: k.Kind == syntax.Expression}
	if v.Was = settings.Shown(k.Setting); role == settings.Password && v.Was != "" {
		v.Was = secret.Mask
	}
	for _, other := range g.others[role] {
		if other.Address != k.Address {
			v.Others = append(v.Others, other.Address)
		}
	}
	switch {
	case k.Fixed:
		v.Doubt = "it stands " + k.Refusal
	case k.Kind == syntax.Expression:
		v.Doubt = "it is " + k.Refusal + "; replace_expression: true would put a plain value there"
	}
	v.unwritable = v.Doubt != ""
	switch role {
	case settings.DSN:
		if m := leadingScheme.FindStringSubmatch(k.Value); k.Kind == syntax.Expression && !k.Fixed && m != nil && facts.FamilyOf(m[1]) == facts.FamilyOther {
			v.Replaces, v.unwritable, v.was, v.form = true, false, m[1]+":", dsn.PDO
			v.Doubt = "it names another server than MariaDB, MySQL or PostgreSQL"
			return []Value{v}
		}
		return g.parts(v, k)
	case settings.Driver:
		if k.Kind == syntax.Boolean {
			v.Text, v.flag = k.Value, flagFamily(k.Setting)
			break
		}
		v.Text, v.was, v.word = k.Value, k.Value, k.word
		if facts.FamilyOf(k.Value) == "" {
			v.Text = settings.Shown(k.Setting)
			v.Doubt = cmp.Or(v.Doubt, "it names no driver yet")
		}
	case settings.Host:
		if hostAndPort.MatchString(k.Value) {
			v.Text = "{host}:{port}"
		}
	case settings.Socket:
		if k.Value == "" || k.commented || k.Kind == syntax.Null {
			v.Doubt = "it is empty, and localhost is enough in most cases"
		}
	case settings.Port:
		if strings.HasPrefix(k.Value, ":") { // which goes after the host as it is
			v.Text = ":{port}"
		}
		if k.commented && !g.keys[settings.Host].commented { // which would stand alone there
			v.Doubt = "it stands in a comment, and the usual port is taken without it"
		}
	case settings.Charset, settings.Collation:
		if k.commented {
			v.Doubt = "it stands in a comment"
		}
	}
	return []Value{v}
}

// hostAndPort is a host with its port after it, which the application takes apart.
var hostAndPort = regexp.MustCompile(`^[\w.-]+:\d+$`)

// dsnParts are the parts of a data source name with their roles.
var dsnParts = []struct {
	name string
	role settings.Role
}{{dsn.Host, settings.Host}, {dsn.Port, settings.Port}, {dsn.Socket, settings.Socket}, {dsn.Database, settings.Database}, {dsn.User, settings.User}, {dsn.Password, settings.Password}, {dsn.Charset, settings.Charset}}

// parts are the values of a data source name: part by part where it names a
// server that can be used, else as a whole. What a login needs, and neither it nor a
// key beside it has, is added.
func (g *group) parts(v Value, k key) []Value {
	family := dsnFamily(k.Value)
	v.form, v.dsn, v.was = dsn.FormOf(k.Value), v.Address, k.Value
	if family == "" && k.uses >= sureUse { // code hands it to PDO
		v.form, v.Text, v.dsn = dsn.PDO, pdoOf(family), ""
		return []Value{v}
	}
	if v.Doubt != "" || k.commented || family == "" || family == facts.FamilyOther {
		v.Text = wholeURL(family)
		if _, apart := g.keys[settings.Host]; v.Doubt == "" && (k.Value == "" || k.Kind == syntax.Null) && apart {
			v.Doubt = "it is empty, and other keys say the same"
		}
		if v.Doubt == "" && family == facts.FamilyOther {
			v.Doubt = "it names another server than MariaDB, MySQL or PostgreSQL"
		}
		v.dsn = ""
		return []Value{v}
	}
	var values []Value
	found := 0
	for _, part := range dsnParts {
		was, has, _ := dsn.Get(k.Value, part.name)
		value := Value{dsn: v.Address, form: v.form, was: k.Value, Role: part.role, Address: v.Address + "#" + part.name, Text: "{" + string(part.role) + "}", Line: v.Line, Was: was, Absent: !has}
		if has {
			found++
		} else if !g.needs(part.role, k.Value) {
			continue
		}
		if was != "" {
			value.Was = settings.Shown(syntax.Setting{Address: value.Address, Value: was})
		}
		if !has && part.role == settings.Port {
			value.Doubt = usualPort
		}
		values = append(values, value)
	}
	if found == 0 {
		v.Text, v.Doubt, v.dsn = wholeURL(family), "it names no part yet, and the application may want another form", ""
		return []Value{v}
	}
	return values
}

// usualPort is why a port is not written.
const usualPort = "the usual port is taken without it"

// needs reports whether a data source name lacks a part that a login takes.
func (g *group) needs(role settings.Role, value string) bool {
	if _, apart := g.keys[role]; apart {
		return false
	}
	_, socket, _ := dsn.Get(value, dsn.Socket)
	switch role {
	case settings.Port:
		return !socket
	case settings.Host:
		return !socket
	case settings.Database:
		return true
	case settings.User, settings.Password:
		return dsn.FormOf(value) != dsn.PDO // whose login is given beside it
	}
	return false
}

// wholeURL is a data source name for a family of servers.
func wholeURL(family string) string {
	scheme := "mysql"
	if family == facts.FamilyPostgreSQL {
		scheme = "postgresql"
	}
	return urlOf(scheme)
}

func urlOf(scheme string) string {
	return scheme + "://{user|url}:{password|url}@{host|url}:{port}/{database|url}"
}

// pdoOf is PDO's form for a family, whose driver's name is PDO's own. libpq takes no
// charset there.
func pdoOf(family string) string {
	if family == facts.FamilyPostgreSQL {
		return "pgsql:host={host};port={port};dbname={database}"
	}
	return "mysql:host={host};port={port};dbname={database};charset={charset}"
}

// fitTo is the candidate for a family of servers and a product.
func (c *Candidate) fitTo(family, product string) *Candidate {
	fitting := *c
	fitting.Values, fitting.Beside = slices.Clone(c.Values), nil
	fitting.product = product
	fitting.fit(family)
	for _, beside := range c.Beside {
		fitting.Beside = append(fitting.Beside, beside.fitTo(family, product))
	}
	return &fitting
}

// fit fits the values to the family of servers that is wanted: a driver and a data
// source name for another one get the word for this one, where the application knows
// it.
func (c *Candidate) fit(family string) {
	if family == "" {
		c.Values = slices.DeleteFunc(c.Values, func(v Value) bool { return v.ifKnown })
		return
	}
	var fitting []Value
	done := map[string]bool{} // data source names that are written as a whole
	for _, v := range c.Values {
		switch {
		case done[v.dsn] && v.dsn != "":
			continue
		case v.Role == settings.Driver:
			if v = c.fitDriver(v, family); v.ifKnown && v.Found == "" {
				continue
			}
		case v.dsn != "" && dsnFamily(v.was) != family:
			first := c.fitDSN(v, family)
			if first.Role == settings.DSN {
				done[v.dsn] = true
				fitting = append(fitting, first)
				continue
			}
			if !slices.ContainsFunc(fitting, func(of Value) bool { return of.Address == first.Address }) {
				fitting = append(fitting, first)
			}
		case v.Role == settings.DSN && (c.family == facts.FamilyOther || v.form == dsn.PDO) && !v.unwritable:
			v = c.fitDSN(v, family)
		}
		fitting = append(fitting, v)
	}
	c.Values = fitting
}

// fitDriver gives a driver's key the word for a family.
func (c *Candidate) fitDriver(v Value, family string) Value {
	if v.flag != "" {
		v.Text = strconv.FormatBool(v.flag == family)
		return v
	}
	if v.word != "" && facts.FamilyOf(v.word) == family {
		if v.Text = v.word; v.word != v.was {
			v.Found = "its values are called so"
		}
		return v
	}
	if v.unwritable || facts.FamilyOf(v.was) == family {
		return v
	}
	was := v.was
	if facts.FamilyOf(was) == "" {
		was = ""
	}
	found, others := c.words.Of(family, c.product, was, v.near, v.Address)
	if found.Word == "" {
		v.Doubt, v.Wrong = facts.DoubtOf(family, others), was != ""
		return v
	}
	v.Text, v.Found, v.Doubt = found.Word, found.Where, ""
	return v
}

// fitDSN gives a data source name the scheme for a family: as one more part of a URL, or
// as a whole in PDO's form.
func (c *Candidate) fitDSN(v Value, family string) Value {
	address := v.dsn
	if address == "" {
		address = v.Address
	}
	whole := Value{Role: settings.DSN, Address: address, Text: wholeURL(family), Line: v.Line, Was: secret.Mask, Replaces: v.Replaces}
	if v.form == dsn.PDO || v.form == "" && pdoPath.MatchString(v.was) {
		whole.Text = pdoOf(family)
		return whole
	}
	scheme, _, _ := dsn.Get(v.was, dsn.Driver)
	found, others := facts.WordFound{Word: c.schemes[family], Where: "a comment beside it has it"}, []string(nil)
	if found.Word == "" {
		found, others = c.words.Of(family, c.product, scheme, v.near, address)
	}
	if found.Word == "" && family == facts.FamilyMySQL && len(c.words.InFile) == 0 {
		found = facts.WordFound{Word: "mysql", Where: "it is the usual one, and the code names none"} // PostgreSQL has three
	}
	if v.form == dsn.URL && dsnFamily(v.was) != facts.FamilyOther {
		part := Value{Role: settings.Driver, Address: address + "#" + dsn.Driver, Text: found.Word, Line: v.Line, Was: scheme, Found: found.Where, dsn: address}
		if found.Word == "" {
			part.Text, part.Doubt, part.Wrong = "", facts.DoubtOf(family, others), true
		}
		return part
	}
	whole.Found = found.Where
	if whole.Text = urlOf(found.Word); found.Word == "" {
		whole.Text, whole.Doubt, whole.Wrong = wholeURL(family), facts.DoubtOf(family, others), true
	}
	return whole
}

// pdoPath is PDO's form of a database in a file.
var pdoPath = regexp.MustCompile(`^sqlite:[^/]|^sqlite:/[^/]`)
