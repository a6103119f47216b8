package load

import (
	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/window"
)

// Findings gather what a first pass has to say.
type Findings struct {
	Survey *Survey

	name   string // of the script
	path   string
	target Target
	merges bool // into tables that are there already
	notes  map[string]*Finding
	order  []string // of the notes
	parts  int      // that definitions have, see Defined
}

// mostKept is how many objects, their parts, and kinds of notes are kept of a script: each takes
// some hundred bytes, and the largest applications have some ten thousand.
const mostKept = 300_000

// Defined counts the parts of a definition that is kept, such as the columns of a table.
func (f *Findings) Defined(parts int) { f.parts += parts }

// isTooMuch is the error for a script that makes more than is kept in memory.
func (f *Findings) isTooMuch(s sqltext.Statement) error {
	if f.parts+len(f.Survey.Makes)+len(f.Survey.Data)+len(f.Survey.Charsets)+len(f.notes)+len(f.Survey.Runs) <= mostKept {
		return nil
	}
	return fault.At(fault.Invalid, f.Place(s), "split the script into several", "up to here the script makes more than %s objects, columns and keys, which are kept in memory while it is read", figures.Thousands(mostKept))
}

// NewFindings are empty ones.
func NewFindings(s script.Source, target Target, o Options) Findings {
	return Findings{name: s.Name, path: s.Path, target: target, merges: o.IntoExisting, notes: map[string]*Finding{}, Survey: &Survey{
		Defines: map[string]int{}, Makes: map[dbms.Object]bool{}, Touches: map[dbms.Object]bool{}, Charsets: map[string]bool{},
		Data: map[string]*TableData{}, Runs: map[int64]*Run{},
	}}
}

// Place is that of a statement.
func (f *Findings) Place(s sqltext.Statement) fault.Place {
	return s.Place(f.name)
}

// Note counts a finding of one kind.
func (f *Findings) Note(place fault.Place, what, next string) {
	if f.notes[what] == nil {
		f.notes[what] = &Finding{Place: place, What: what, Next: next}
		f.order = append(f.order, what)
	}
	f.notes[what].Count++
}

// NoteUsual is Note for what nearly every dump has.
func (f *Findings) NoteUsual(place fault.Place, what string) {
	f.Note(place, what, "")
	f.notes[what].Usual = true
}

// Touches records that a statement does something to a table that was there
// before.
func (f *Findings) Touches(s sqltext.Statement, name, how string) {
	if !f.target.Holds[name] {
		return
	}
	object := dbms.Object{Kind: "TABLE", Name: name}
	if !f.Survey.Touches[object] && !f.merges {
		f.Refuse(s, "the script "+how+" "+name+", which is in the database already", "use {into-existing} if that is meant; else import into an empty database")
	}
	f.Survey.Touches[object] = true
}

// Removes refuses to remove or empty what was there before.
func (f *Findings) Removes(s sqltext.Statement, name string) {
	if f.target.Holds[name] {
		f.Refuse(s, "the script removes or empties "+name+", which was there before", "export and remove it yourself if it is not needed, or import into an empty database")
	}
}

// Included notes the files that a script has read in its place.
func (f *Findings) Included(files []*window.Included) {
	for _, file := range files {
		if file.Text == nil {
			f.Note(file.At, "passed over: "+file.Name+", which the list of scripts has", "")
		} else {
			f.Note(file.At, "read in this place: "+file.Name, "")
		}
	}
}

// Close hands the notes on.
func (f *Findings) Close() {
	for _, what := range f.order {
		f.Survey.Notes = append(f.Survey.Notes, *f.notes[what])
	}
}

// mostRefusals are listed; the rest of a script made for another purpose adds
// nothing.
const mostRefusals = 20

// Refuse records that a statement must not run.
func (f *Findings) Refuse(s sqltext.Statement, what, next string) {
	if len(f.Survey.Refused) < mostRefusals {
		f.Survey.Refused = append(f.Survey.Refused, Finding{Place: f.Place(s), What: what, Next: next, Count: 1})
	}
}
