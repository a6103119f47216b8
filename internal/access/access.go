// Package access says who can do what on which database of a server, by what rights really
// reach: those of roles, of everybody, of patterns, of owners, and of programs that run with
// somebody else's. The packages below it look at the products.
//
// It must never change anything, and knows nothing of how its tables are drawn.
package access

import (
	"cmp"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/inspect"
)

// Everything is the level of accounts that may do all, and give it to others.
const Everything = "everything"

// Cell is what one account can do on one database.
type Cell struct {
	Server   string `json:"server"`
	Account  string `json:"account"`
	Database string `json:"database"`
	// AccountApp and DatabaseApp are the apps of the estate file that they belong to.
	AccountApp  string `json:"account_app,omitempty"`
	DatabaseApp string `json:"database_app,omitempty"`
	// Level is the highest level of rights that is held as a whole; empty for none.
	Level string `json:"level"`
	// Privileges are held beside the level.
	Privileges []string `json:"privileges,omitempty"`
	// By says through what: a grant, a pattern, a role, everybody's rights.
	By []string `json:"by"`
	// Logins says what stands against a login of the account; empty for nothing.
	Logins string `json:"logins,omitempty"`
	// Unexpected says why nobody would expect this; empty where it is as the estate file has it.
	Unexpected string `json:"unexpected,omitempty"`
}

// Rights is the cell's contents for a person.
func (c Cell) Rights() string {
	if c.Level == "" {
		return strings.Join(c.Privileges, ", ")
	}
	return strings.Join(append([]string{c.Level}, c.Privileges...), ", ")
}

func (c Cell) key() [3]string { return [3]string{c.Server, c.Account, c.Database} }

// Report is what is known of a server.
type Report struct {
	Cells []Cell `json:"cells"`
	// Unseen says what could not be seen.
	Unseen []string `json:"unseen"`
}

// Held is what an account holds on a database, and through what.
type Held struct {
	dbms.Privileges
	By []string
}

// Add adds rights that are held through something.
func (h *Held) Add(p dbms.Privileges, by string) {
	if len(p) == 0 {
		return
	}
	h.Privileges = h.Plus(p)
	if !slices.Contains(h.By, by) {
		h.By = append(h.By, by)
	}
}

// Level splits rights into the highest level that they hold as a whole, and the rest.
func Level(p dbms.Privileges, levels func(level string) dbms.Privileges) (level string, rest []string) {
	for _, level := range dbms.Levels {
		if set := levels(level); len(set) > 0 && len(set.Minus(p)) == 0 {
			return level, p.Minus(set)
		}
	}
	return "", p
}

// Judge says what nobody would expect of a cell by the estate file.
func Judge(c *Cell, subject inspect.Subject, administers bool) {
	c.AccountApp, c.DatabaseApp = subject.AppWith(accountUser(c.Account)), subject.AppOf(c.Database)
	switch {
	case accountUser(c.Account) == "":
		c.Unexpected = "everybody has these rights"
	case administers && c.AccountApp != "":
		c.Unexpected = "an application's account administers the server"
	case administers:
	case c.DatabaseApp != "" && c.AccountApp != c.DatabaseApp && c.AccountApp != "":
		c.Unexpected = "it is the account of app " + c.AccountApp
	case c.DatabaseApp != "" && c.AccountApp != c.DatabaseApp:
		c.Unexpected = "the estate file gives app " + c.DatabaseApp + " no such account"
	case c.AccountApp != "" && c.DatabaseApp == "":
		c.Unexpected = "the database is not of app " + c.AccountApp
	}
}

// accountUser is an account's name without its host.
func accountUser(account string) string {
	if at := strings.LastIndexByte(account, '@'); at >= 0 {
		return account[:at]
	}
	return account
}

// Allowed are the rights that the estate file gives an account while installing and running.
func Allowed(subject inspect.Subject, user string, resolve func(rights []string) dbms.Privileges) (allowed dbms.Privileges) {
	for _, app := range subject.Apps {
		for _, account := range app.Accounts {
			if account.Name == user {
				allowed = allowed.Plus(resolve(account.Rights.Installing)).Plus(resolve(account.Rights.Running))
			}
		}
	}
	return allowed
}

// Sort puts what is unexpected first.
func (r *Report) Sort() {
	slices.SortStableFunc(r.Cells, func(a, b Cell) int {
		if (a.Unexpected == "") != (b.Unexpected == "") {
			if a.Unexpected != "" {
				return -1
			}
			return 1
		}
		return cmp.Or(strings.Compare(a.Server, b.Server), strings.Compare(a.Database, b.Database), strings.Compare(a.Account, b.Account))
	})
}

// Filter says which cells are wanted; an empty list takes all.
type Filter struct{ Apps, Accounts, Databases []string }

// Takes reports whether a cell is wanted. An account may be named with or without its host.
func (f Filter) Takes(c Cell) bool {
	has := func(wanted []string, names ...string) bool {
		return len(wanted) == 0 || slices.ContainsFunc(wanted, func(w string) bool { return slices.Contains(names, w) })
	}
	return has(f.Apps, c.AccountApp, c.DatabaseApp) && has(f.Accounts, c.Account, accountUser(c.Account)) && has(f.Databases, c.Database)
}

// Change is a cell that is another one than before; one of them is nil where there is none.
type Change struct {
	Before *Cell `json:"before"`
	After  *Cell `json:"after"`
}

// Since tells what has changed between two looks at the same servers.
func Since(before, after []Cell) []Change {
	was := map[[3]string]Cell{}
	for _, c := range before {
		was[c.key()] = c
	}
	changes := []Change{}
	for _, c := range after {
		old, there := was[c.key()]
		delete(was, c.key())
		switch {
		case !there:
			changes = append(changes, Change{After: &c})
		case old.Rights() != c.Rights() || old.Logins != c.Logins || !slices.Equal(old.By, c.By):
			changes = append(changes, Change{Before: &old, After: &c})
		}
	}
	for _, c := range before {
		if old, gone := was[c.key()]; gone {
			changes = append(changes, Change{Before: &old})
		}
	}
	return changes
}
