package provision

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
	Lowered []loweredTo `json:"lowered"` // accounts that may only read meanwhile
	Frozen  []string    `json:"frozen"`  // databases that are read-only meanwhile, where a server has that
	// Events ran by themselves, and do so nowhere until the move is through.
	Events []dbms.Event `json:"events"`
	Done   bool         `json:"done"`
	At     time.Time    `json:"at"`
}

// loweredTo is an account that had more rights.
type loweredTo struct {
	Account  dbms.Account    `json:"account"`
	Database string          `json:"database"`
	Had      dbms.Privileges `json:"had"`
}

const movements = "moves"

// events names those that ran by themselves.
func (m MoveRecord) events() (names []string) {
	for _, e := range m.Events {
		names = append(names, e.Name)
	}
	return names
}

// thatAreSwitched are the events that do not stand still with their database.
func (m MoveRecord) thatAreSwitched() []dbms.Event {
	return slices.DeleteFunc(slices.Clone(m.Events), func(e dbms.Event) bool { return slices.Contains(m.Frozen, e.Database) })
}

// noteOfMove is what is known of the move that an app has behind it.
func (e *Base) noteOfMove(app *estate.App) (note MoveRecord, err error) {
	found, err := e.State.Note(movements, app.Name+"@"+e.Estate.Path, &note)
	if err == nil && (!found || !note.Done || app.Server != note.To) {
		err = e.Estate.Fault(fault.Protected, "apps."+app.Name+".server", "see yellowfield history "+app.Name, "app %s has left nothing on another server, as far as is known here", app.Name)
	}
	return note, err
}

// origin is where an app is moved from, for the work on the server that it comes to.
type origin struct {
	old    *run           // the work on the app where it is
	change *estate.Change // of the estate file
	note   MoveRecord
}

// copyOf is what an app is a copy of, and what of that has been exported.
type copyOf struct {
	Copying
	original *estate.App
	change   *estate.Change
	exports  map[string]string // by the copy's databases
}
