package work

import (
	"slices"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// MoveRecord is the note of a move: until it is through, what takes it back; then what has to
// be dropped some day.
type MoveRecord struct {
	App     string      `json:"app"`
	From    string      `json:"from"`
	To      string      `json:"to"`
	Lowered []LoweredTo `json:"lowered"` // accounts that may only read meanwhile
	Frozen  []string    `json:"frozen"`  // databases that are read-only meanwhile, where a server has that
	// Events ran by themselves, and do so nowhere until the move is through.
	Events []dbms.Event `json:"events"`
	Done   bool         `json:"done"`
	At     time.Time    `json:"at"`
}

// LoweredTo is an account that had more rights.
type LoweredTo struct {
	Account  dbms.Account    `json:"account"`
	Database string          `json:"database"`
	Had      dbms.Privileges `json:"had"`
}

const Movements = "moves"

// EventNames names those that ran by themselves.
func (m MoveRecord) EventNames() (names []string) {
	for _, e := range m.Events {
		names = append(names, e.Name)
	}
	return names
}

// ThatAreSwitched are the events that do not stand still with their database.
func (m MoveRecord) ThatAreSwitched() []dbms.Event {
	return slices.DeleteFunc(slices.Clone(m.Events), func(e dbms.Event) bool { return slices.Contains(m.Frozen, e.Database) })
}

// NoteOfMove is what is known of the move that an app has after it.
func (e *Engine) NoteOfMove(app *estate.App) (note MoveRecord, err error) {
	found, err := e.State.Note(Movements, app.Name+"@"+e.Estate.Path, &note)
	if err == nil && (!found || !note.Done || app.Server != note.To) {
		err = e.Estate.Fault(fault.Protected, "apps."+app.Name+".server", "see yellowfield history "+app.Name, "app %s has left nothing on another server, as far as is known here", app.Name)
	}
	return note, err
}

// Origin is where an app is moved from, for the work on the server that it comes to.
type Origin struct {
	Old    *Run           // the work on the app where it is
	Change *estate.Change // of the estate file
	Note   MoveRecord
}

// CopyOf is what an app is a copy of, and what of that has been exported.
type CopyOf struct {
	Copying
	Original *estate.App
	Estate   *estate.Estate // as it was read, without the copy's entry
	Change   *estate.Change
	Exports  map[string]string // by the copy's databases
}
