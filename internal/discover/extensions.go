package discover

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
	"yellowfield/internal/phpini"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/php"
)

// Extension is a PHP extension that the application needs, or uses where it is
// there.
type Extension struct {
	Name     string      `json:"name"`
	Optional bool        `json:"optional,omitempty"` // nothing says that the application cannot do without it
	Why      string      `json:"why"`
	Place    facts.Place `json:"place"`
}

// driverExtensions belong to a family; the application needs those of its own
// family only.
var driverExtensions = map[string]string{
	"mysqli": facts.FamilyMySQL, "pdo_mysql": facts.FamilyMySQL, "mysqlnd": facts.FamilyMySQL, "pgsql": facts.FamilyPostgreSQL, "pdo_pgsql": facts.FamilyPostgreSQL,
	"sqlite3": facts.FamilyOther, "pdo_sqlite": facts.FamilyOther, "sqlsrv": facts.FamilyOther, "pdo_sqlsrv": facts.FamilyOther, "oci8": facts.FamilyOther,
}

// extensions collects what the application uses of PHP. What its composer.json requires is
// needed, and the driver that its settings log in with; everything else is a note only: a
// library that lies in the tree may never be used, and code may well do without what it asks
// for first.
func extensions(t *tree.Tree, c *facts.Code, best *Candidate, family string) []Extension {
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
	if json.Unmarshal(t.Read(composer, tree.LongestSettings), &manifest) == nil {
		for _, list := range []struct {
			packages map[string]any
			optional bool
		}{{manifest.Require, false}, {manifest.Suggest, true}} {
			for name := range list.packages {
				if extension, is := strings.CutPrefix(name, "ext-"); is {
					add(Extension{extension, list.optional, "composer.json names it", facts.Place{File: composer}})
				}
			}
		}
	}
	for function, place := range c.Functions {
		if c.Defines[function] {
			continue // it is the application's own, whatever it is called
		}
		if extension, asked := strings.CutPrefix(function, "ext-"); asked {
			add(Extension{extension, true, "the code asks whether it is there", place})
			continue
		}
		add(Extension{facts.ExtensionOf(function), true, "the code uses " + function, place})
	}
	if e, known := driver(c, best, family); known {
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
func driver(c *facts.Code, best *Candidate, family string) (e Extension, known bool) {
	of, has := facts.LoginsTo[family]
	if !has {
		return e, false
	}
	uses := c.DriverUses().Logins
	needs := func(function, why string) (Extension, bool) {
		if of.Has(function) {
			return Extension{of.Extension, false, why, uses[function]}, true
		}
		return Extension{of.Pdo, false, why, uses[function]}, true
	}
	matched, forEach := best == nil, true // a library may log in to each kind of server
	for _, login := range facts.LoginsTo {
		forEach = forEach && slices.ContainsFunc(slices.Collect(maps.Keys(uses)), login.Has)
	}
	if best != nil {
		for _, role := range []settings.Role{settings.Password, settings.User} {
			surely, by := c.Login(php.Own(best.value(role).Address), role)
			matched = matched || surely > 0
			if _, is := uses[by]; surely >= 2 && is && (by == "pdo" || of.Has(by)) {
				return needs(by, "the code logs in with it")
			}
		}
		for _, v := range best.Values {
			if v.form == dsn.PDO && dsnFamily(v.was) == family {
				return Extension{of.Pdo, false, "the settings have a data source name of PDO", facts.Place{File: best.Seen, Line: v.Line}}, true
			}
		}
	}
	direct, viaPDO := "", ""
	for _, function := range slices.Sorted(maps.Keys(uses)) {
		switch {
		case c.Defines[function]:
		case of.Has(function):
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
				return Extension{strings.ToLower(v.Text), false, "the settings name it", facts.Place{File: best.Seen, Line: v.Line}}, true
			}
		}
	}
	return Extension{of.Extension, true, "the code can log in with it, or with PDO", uses[direct]}, direct != ""
}
