package discover

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/phpini"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/php"
)

// Extension is a PHP extension that the application needs, or uses where it is
// there.
type Extension struct {
	Name     string `json:"name"`
	Optional bool   `json:"optional,omitempty"` // nothing says that the application cannot do without
	Why      string `json:"why"`
	Place    Place  `json:"place"`
}

// driverExtensions belong to a family; the application needs those of its own
// family only.
var driverExtensions = map[string]string{
	"mysqli": familyMySQL, "pdo_mysql": familyMySQL, "mysqlnd": familyMySQL, "pgsql": familyPostgreSQL, "pdo_pgsql": familyPostgreSQL,
	"sqlite3": familyOther, "pdo_sqlite": familyOther, "sqlsrv": familyOther, "pdo_sqlsrv": familyOther, "oci8": familyOther,
}

// extensions collects what the application uses of PHP. What its composer.json requires
// is needed, and the driver that its settings log in with; all else is told and stops
// nobody: a library that lies in the tree may never be used, and code may well do
// without what it asks for first.
func extensions(t *tree, c *code, best *Candidate, family string) []Extension {
	found := map[string]Extension{}
	add := func(e Extension) {
		e.Name = strings.ToLower(e.Name)
		if of, isDriver := driverExtensions[e.Name]; isDriver && family != "" && of != family || phpini.IsCompiledIn(e.Name) || e.Name == "" {
			return
		}
		if was, known := found[e.Name]; !known || was.Optional && !e.Optional {
			found[e.Name] = e
		}
	}
	var manifest struct {
		Require map[string]any `json:"require"`
		Suggest map[string]any `json:"suggest"`
	}
	const composer = "composer.json"
	if json.Unmarshal(t.read(composer, longestSettings), &manifest) == nil {
		for _, list := range []struct {
			packages map[string]any
			optional bool
		}{{manifest.Require, false}, {manifest.Suggest, true}} {
			for name := range list.packages {
				if extension, is := strings.CutPrefix(name, "ext-"); is {
					add(Extension{extension, list.optional, "composer.json names it", Place{File: composer}})
				}
			}
		}
	}
	for function, place := range c.functions {
		if c.defines[function] {
			continue // it is the application's own, whatever it is called
		}
		if extension, asked := strings.CutPrefix(function, "ext-"); asked {
			add(Extension{extension, true, "the code asks whether it is there", place})
			continue
		}
		add(Extension{extensionOf(function), true, "the code uses " + function, place})
	}
	if e, known := c.driver(best, family); known {
		add(e)
	}
	names := slices.Sorted(maps.Keys(found))
	list := make([]Extension, len(names))
	for i, name := range names {
		list[i] = found[name]
	}
	return list
}

// driver is the extension that a login of the application needs: what its code logs in
// with by the very settings, or the only one that it logs in with at all, else the one that
// its settings name.
func (c *code) driver(best *Candidate, family string) (e Extension, known bool) {
	of, has := loginsTo[family]
	if !has {
		return e, false
	}
	uses := c.driverUses().logins
	needs := func(function, why string) (Extension, bool) {
		if of.has(function) {
			return Extension{of.extension, false, why, uses[function]}, true
		}
		return Extension{of.pdo, false, why, uses[function]}, true
	}
	matched, forEach := best == nil, true // a library may log in to each kind of server
	for _, login := range loginsTo {
		forEach = forEach && slices.ContainsFunc(slices.Collect(maps.Keys(uses)), login.has)
	}
	if best != nil {
		for _, role := range []settings.Role{settings.Password, settings.User} {
			surely, by := c.login(php.Own(best.value(role).Address), role)
			matched = matched || surely > 0
			if _, is := uses[by]; surely >= 2 && is && (by == "pdo" || of.has(by)) {
				return needs(by, "the code logs in with it")
			}
		}
		for _, v := range best.Values {
			if v.form == dsn.PDO && dsnFamily(v.was) == family {
				return Extension{of.pdo, false, "the settings have a data source name of PDO", Place{File: best.Seen, Line: v.Line}}, true
			}
		}
	}
	direct, viaPDO := "", ""
	for _, function := range slices.Sorted(maps.Keys(uses)) {
		switch {
		case c.defines[function]:
		case of.has(function):
			direct = function
		case function == "pdo":
			viaPDO = function
		}
	}
	if (direct == "") != (viaPDO == "") {
		e, known = needs(direct+viaPDO, "the code logs in with it")
		e.Optional = !matched && forEach
		return e, known
	}
	if best != nil { // the code does not decide
		for _, v := range best.Values {
			mayBePDO := direct == "" && strings.EqualFold(v.Text, "pgsql") // which calls its own driver so
			if v.Role == settings.Driver && v.dsn == "" && v.Doubt == "" && !mayBePDO && driverExtensions[strings.ToLower(v.Text)] == family {
				return Extension{strings.ToLower(v.Text), false, "the settings name it", Place{File: best.Seen, Line: v.Line}}, true
			}
		}
	}
	return Extension{of.extension, true, "the code can log in with it, or with PDO", uses[direct]}, direct != ""
}
