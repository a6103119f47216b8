package discover

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/discover/dumps"
	"yellowfield/internal/discover/facts"
	"yellowfield/internal/discover/tree"
)

// arranged puts the scripts to import for a family of servers first, in their
// order, and tells why the others are left out.
func arranged(all []*dumps.Script, family string) []*dumps.Script {
	for _, s := range all {
		if s.LeftOut == "" && family != "" && s.DBMS != "" && s.DBMS != family {
			s.LeftOut = "it is for " + facts.Title(s.DBMS)
		}
	}
	leaveOutRead(all)
	leaveOutUnmade(all)
	leaveOutCopies(all)
	leaveOutTwins(all)
	leaveOutSeries(all)
	leaveOutCrowd(all)
	needRows(all)
	return inOrder(all)
}

// numbered is a name that a number or a date begins, such as 1.2.sql, v7.sql, 2024-05-01.sql,
// step_12.sql.
var numbered = regexp.MustCompile(`(?i)^(?:[a-z]{1,10}[._-]?)?v?\d`)

// leaveOutSeries leaves out upgrades in folders whose names do not say so: numbered or dated
// scripts that change tables which a fuller script elsewhere makes, and make no others.
func leaveOutSeries(all []*dumps.Script) {
	series := map[string][]*dumps.Script{}
	made := map[string]map[string]bool{} // tables by the folder of the scripts that make them
	for _, s := range all {
		folder := path.Dir(s.File)
		if (s.LeftOut == "" || s.LeftOut == tree.ForUpgrades) && numbered.MatchString(path.Base(s.File)) {
			series[folder] = append(series[folder], s)
		}
		if made[folder] == nil {
			made[folder] = map[string]bool{}
		}
		if s.LeftOut == "" || s.LeftOut == tree.ForUpgrades {
			maps.Copy(made[folder], s.Makes)
		}
	}
	for folder, list := range series {
		elsewhere := map[string]bool{}
		for other, tables := range made {
			if other != folder {
				maps.Copy(elsewhere, tables)
			}
		}
		known := func(tables map[string]bool) bool {
			for table := range tables {
				if !elsewhere[table] {
					return false
				}
			}
			return true
		}
		changes := slices.ContainsFunc(list, func(s *dumps.Script) bool { return s.Alters || s.LeftOut == tree.ForUpgrades })
		fuller := len(elsewhere) > 0 && !slices.ContainsFunc(list, func(s *dumps.Script) bool { return !known(s.Makes) })
		if !changes || !fuller {
			continue
		}
		for _, s := range list {
			s.LeftOut = tree.ForUpgrades
		}
	}
}

// leaveOutRead leaves out the scripts that another one has read in its place.
func leaveOutRead(all []*dumps.Script) {
	for _, a := range all {
		for _, b := range all {
			if a.LeftOut == "" && b != a && a.Reads[b.File] {
				b.LeftOut = a.File + " reads it"
			}
		}
	}
}

// leaveOutUnmade leaves out the rows for tables that only the installer can make.
func leaveOutUnmade(all []*dumps.Script) {
	for _, made := range all {
		for _, s := range all {
			if made.Engine == "" && made.Unfilled == "" || s.LeftOut != "" || len(s.Makes) > 0 {
				continue
			}
			for table := range s.Fills {
				if made.Makes[table] {
					s.LeftOut = "its tables are made by " + made.File + ", and " + made.LeftOut
				}
			}
		}
	}
}

// leaveOutCrowd leaves all but the fullest script out where there are too many.
func leaveOutCrowd(all []*dumps.Script) {
	var left []*dumps.Script
	tables := map[string]bool{}
	for _, s := range all {
		if s.LeftOut == "" {
			left = append(left, s)
			maps.Copy(tables, s.Makes)
		}
	}
	if len(left) <= dumps.MostScripts {
		return
	}
	fullest := slices.MaxFunc(left, func(a, b *dumps.Script) int {
		return cmp.Or(len(a.Makes)-len(b.Makes), strings.Compare(b.File, a.File))
	})
	if 2*len(fullest.Makes) < len(tables) {
		return // no single script is the application's
	}
	for _, s := range left {
		if s != fullest {
			s.LeftOut = "there are too many to tell what each is for, and " + fullest.File + " makes most of the tables"
		}
	}
}

// needRows makes a script that fills a table wait for the rows that its foreign keys refer to,
// even where another script adds those keys.
func needRows(all []*dumps.Script) {
	refers := map[string][]string{}
	for _, s := range all {
		if s.LeftOut == "" {
			for table, parents := range s.Refers {
				refers[table] = append(refers[table], parents...)
			}
		}
	}
	for _, s := range all {
		s.NeedsRows = map[string]bool{}
		for table := range s.Fills {
			for _, parent := range refers[table] {
				if !s.Unbound && !s.Fills[parent] {
					s.NeedsRows[parent] = true
				}
			}
		}
	}
}

// lacks reports whether the script makes tables, and none of them with a prefix.
func lacks(s *dumps.Script, prefix string) bool {
	for table := range s.Makes {
		if strings.HasPrefix(table, prefix) {
			return false
		}
	}
	return s.PrefixToken == "" && len(s.Makes) > 0
}

// leaveOutCopies leaves out scripts of which the same lie in another folder.
func leaveOutCopies(all []*dumps.Script) {
	first := map[string]*dumps.Script{}
	for _, s := range all {
		id := fmt.Sprint(path.Base(s.File), s.Size, s.Rows)
		switch of := first[id]; {
		case s.LeftOut != "":
		case of == nil:
			first[id] = s
		case !maps.Equal(s.Makes, of.Makes) || !maps.Equal(s.Fills, of.Fills):
		case strings.Count(s.File, "/") < strings.Count(of.File, "/"):
			of.LeftOut, first[id] = "it is the same as "+s.File, s
		default:
			s.LeftOut = "it is the same as " + of.File
		}
	}
}

// leaveOutTwins leaves out scripts that make tables which another script makes,
// too: a whole dump beside its parts, one for each language. The one that makes
// more stays.
func leaveOutTwins(all []*dumps.Script) {
	for _, a := range all {
		for _, b := range all {
			if a == b || a.LeftOut != "" || b.LeftOut != "" || len(a.Makes) == 0 || len(a.Makes) > len(b.Makes) {
				continue
			}
			common := 0
			for table := range a.Makes {
				if b.Makes[table] {
					common++
				}
			}
			if surer := a.Doubt == "" && b.Doubt != ""; !surer && common == len(a.Makes) && (len(a.Makes) < len(b.Makes) || preferred(b, a)) {
				a.LeftOut = "its tables are made by " + b.File + ", too"
			}
		}
	}
	for _, a := range all {
		for _, b := range all {
			if a == b || a.LeftOut != "" || b.LeftOut != "" || len(a.Makes)+len(b.Makes) > 0 {
				continue
			}
			if la, lb := language.FindString(path.Base(a.File)), language.FindString(path.Base(b.File)); la != "" && lb != "" &&
				strings.Replace(path.Base(a.File), la, "", 1) == strings.Replace(path.Base(b.File), lb, "", 1) && (strings.Contains(lb, "en") || !strings.Contains(la, "en") && b.File < a.File) {
				a.LeftOut = "it is in another language than " + b.File
			}
		}
	}
}

// language is the mark of a language in a file's name.
var language = regexp.MustCompile(`[._-](?:en|de|fr|es|it|nl|pl|pt|ru|cs|sv|da|ja|zh|tr|hu)\b`)

// preferred chooses between two scripts that make the same tables: one that is not in
// doubt, then the one with rows, then the shorter name.
func preferred(a, b *dumps.Script) bool {
	if (a.Doubt == "") != (b.Doubt == "") {
		return a.Doubt == ""
	}
	if a.Rows != b.Rows {
		return a.Rows > b.Rows
	}
	if len(a.File) != len(b.File) {
		return len(a.File) < len(b.File)
	}
	return a.File < b.File
}

// inOrder puts scripts that need tables after those that make them; where nothing speaks for
// an order, numbers in the names do, and structure goes before data.
func inOrder(all []*dumps.Script) []*dumps.Script {
	slices.SortStableFunc(all, func(a, b *dumps.Script) int {
		return cmp.Or(
			boolean(a.LeftOut != "", b.LeftOut != ""), boolean(a.Doubt != "", b.Doubt != ""),
			boolean(len(a.Makes) == 0 && !a.Parts, len(b.Makes) == 0 && !b.Parts), natural(a.File, b.File))
	})
	ordered := []*dumps.Script{}
	placed := map[string]bool{}
	waiting := slices.Clone(all)
	for len(waiting) > 0 {
		next := 0
		for i, s := range waiting {
			if ready(s, waiting, placed) {
				next = i
				break
			}
		}
		for table := range waiting[next].Makes {
			placed[table] = true
		}
		ordered = append(ordered, waiting[next])
		waiting = slices.Delete(waiting, next, next+1)
	}
	return ordered
}

// ready reports whether no other waiting script makes what this one needs.
func ready(s *dumps.Script, waiting []*dumps.Script, placed map[string]bool) bool {
	for table := range s.NeedsRows {
		for _, other := range waiting {
			if other != s && other.LeftOut == "" && other.Fills[table] {
				return false
			}
		}
	}
	for table := range s.Needs {
		if s.Makes[table] || placed[table] {
			continue
		}
		for _, other := range waiting {
			if other != s && other.LeftOut == "" && other.Makes[table] {
				return false
			}
		}
	}
	return true
}

func boolean(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

var digits = regexp.MustCompile(`\d+`)

// natural compares names with the numbers in them by value.
func natural(a, b string) int {
	pad := func(text string) string {
		return digits.ReplaceAllStringFunc(text, func(n string) string { return fmt.Sprintf("%012s", n) })
	}
	return strings.Compare(pad(a), pad(b))
}
