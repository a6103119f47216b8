package load

import (
	"context"
	"errors"
	"io"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
)

// findings gather what a first pass has to say.
type findings struct {
	name   string // of the script
	survey *Survey
	notes  map[string]*Finding
	order  []string // of the notes
}

func newFindings(s script.Source) findings {
	return findings{name: s.Name, notes: map[string]*Finding{}, survey: &Survey{
		Defines: map[string]int{}, Makes: map[dbms.Object]bool{}, Touches: map[dbms.Object]bool{},
		data: map[string]*tableData{}, runs: map[int64]*run{},
	}}
}

// each reads a script to its end and takes in every statement.
func (f *findings) each(ctx context.Context, s script.Source, next func() (sqltext.Statement, error), take func(sqltext.Statement) error) error {
	for {
		statement, err := next()
		switch {
		case errors.Is(err, io.EOF) && f.survey.Statements == 0:
			return fault.At(fault.Invalid, fault.Place{File: s.Path}, "is it the right file?", "the script holds no statement")
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case ctx.Err() != nil:
			return fault.Stopped(ctx.Err())
		}
		f.survey.Statements++
		if err := take(statement); err != nil {
			return err
		}
	}
}

func (f *findings) place(s sqltext.Statement) fault.Place {
	return fault.Place{File: f.name, Line: s.Line, Column: s.Column}
}

// note counts a finding of one kind.
func (f *findings) note(place fault.Place, what, next string) {
	if f.notes[what] == nil {
		f.notes[what] = &Finding{Place: place, What: what, Next: next}
		f.order = append(f.order, what)
	}
	f.notes[what].Count++
}

// touches records that a statement does something to a table that was there
// before.
func (f *findings) touches(s sqltext.Statement, target Target, name, how string, o Options) {
	if !target.Holds[name] {
		return
	}
	object := dbms.Object{Kind: "TABLE", Name: name}
	if !f.survey.Touches[object] && !o.IntoExisting {
		f.refuse(s, "the script "+how+" "+name+", which is in the database already", "use {into-existing} if that is meant; else import into an empty database")
	}
	f.survey.Touches[object] = true
}

// removes refuses to remove or empty what was there before.
func (f *findings) removes(s sqltext.Statement, target Target, name string) {
	if target.Holds[name] {
		f.refuse(s, "the script removes or empties "+name+", which was there before", "export and remove it yourself if it is not needed, or import into an empty database")
	}
}

// close hands the notes on.
func (f *findings) close() {
	for _, what := range f.order {
		f.survey.Notes = append(f.survey.Notes, *f.notes[what])
	}
}

// mostRefusals are listed; the rest of a script made for another purpose adds
// nothing.
const mostRefusals = 20

func (f *findings) refuse(s sqltext.Statement, what, next string) {
	if len(f.survey.Refused) < mostRefusals {
		f.survey.Refused = append(f.survey.Refused, Finding{Place: f.place(s), What: what, Next: next, Count: 1})
	}
}
