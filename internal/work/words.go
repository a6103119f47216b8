package work

import (
	"fmt"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/state"
)

// ways maps the names of options in braces, as lower packages write them, to their names on
// the command line and in the estate file.
var ways = strings.NewReplacer(
	"{encoding}", "--encoding (encoding: for the script)",
	"{retarget}", "--retarget (retarget: true for the script)",
	"{into-existing}", "--into-existing",
	"{convert-charset}", "--convert-charset",
	"{map-collations}", "--map-collations",
	"{one-by-one}", "--one-by-one",
	"{fast}", "--fast",
	"{longest-statement}", "--longest-statement, or longest_statement in the estate file,",
	"{server-variables}", "server_during_import",
)

func JoinSome(names []string) string {
	const most = 3
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " ..."
	}
	return strings.Join(names, ", ")
}

// Inventory names what a database holds, in short.
func Inventory(c dbms.Contents) string {
	var names []string
	for _, t := range c.Tables {
		names = append(names, t.Name)
	}
	for _, list := range [][]dbms.Object{c.Routines, c.Events} {
		for _, o := range list {
			names = append(names, o.Name)
		}
	}
	const most = 4
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}

func Texts(statements []dbms.Statement) []string {
	shown := make([]string, len(statements))
	for i, s := range statements {
		shown[i] = s.String()
	}
	return shown
}

const KeepsRemoved = state.KeepsRemoved

func (r *Run) DatabaseNote(name string) string {
	return r.Where(r.View.Entry.Address()) + "/" + name
}

func (r *Run) NoteName() string { return r.App.Name + "@" + r.Estate.Path }

// Databases are the notes of who has worked on a database.
const Databases = "databases"
