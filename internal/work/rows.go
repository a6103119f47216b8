package work

import (
	"time"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/load"
)

// Outcome is the outcome of a step, as a word.
type Outcome string

// Planned gives the outcome's form for something not done yet.
var Planned = map[Outcome]Outcome{
	Made: "would make", Fixed: "would fix", Imported: "would import", Written: "would write", Undone: "would undo",
	Changed: "would change", Removed: "would remove",
}

// Row is one line of a run: a step, what became of it, and the fact that
// matters.
type Row struct {
	Step     string          `json:"step"`
	Outcome  Outcome         `json:"outcome"`
	Facts    string          `json:"facts"`
	Severity estate.Severity `json:"severity,omitempty"` // of what differs
	// Finding and On are by what a difference can be accepted in the estate file: its
	// code, and the object that it is found on.
	Finding string `json:"finding,omitempty"`
	On      string `json:"object,omitempty"`
	// See is the app at which it is told in full.
	See     string        `json:"see,omitempty"`
	Place   *fault.Place  `json:"place,omitempty"`
	Excerpt string        `json:"excerpt,omitempty"`
	Remedy  string        `json:"remedy,omitempty"`
	SQL     []string      `json:"sql,omitempty"`     // what would be sent, secrets masked; dry run only
	Diff    string        `json:"diff,omitempty"`    // what would change in a file, secrets masked; dry run only
	Seconds float64       `json:"seconds,omitempty"` // of steps that take long
	Import  *ImportReport `json:"import,omitempty"`  // of a script that was imported
	Export  *ExportReport `json:"export,omitempty"`  // of a database that was exported
}

// Header says where an application's rows begin.
type Header struct {
	App    string `json:"app"`
	Server string `json:"server"` // its name
	About  string `json:"about"`  // product, version and how it is reached
}

// Result is the outcome for one application.
type Result struct {
	Header
	Rows []Row `json:"rows"`
	// Open tells whether the app is open for its installer; Waits whether
	// something is left for it to do.
	Open  bool `json:"open"`
	Waits bool `json:"waits"`
	// Pending are accounts whose password is in no settings file and waits to
	// be taken over by a person.
	Pending []string `json:"pending,omitempty"`
	Notes   []string `json:"notes,omitempty"`
	// PasswordAges are those of the accounts, as far as they are known; of verify only.
	PasswordAges map[string]time.Duration `json:"-"`
	// Run is the ID of its journal, for work on a server as a whole.
	Run string `json:"run,omitempty"`
	// UndoIncomplete tells that something stands that could not be taken back.
	UndoIncomplete bool `json:"stuck,omitempty"`
	// ForAWhile tells that a server had an account or a database that is gone again.
	ForAWhile bool `json:"-"`
	// Undoable tells that history --undo can take back what was mended.
	Undoable bool `json:"-"`
	// Changed tells whether anything was, or would be, changed.
	Changed bool    `json:"changed"`
	Exit    int     `json:"exit"`
	Seconds float64 `json:"seconds"`
}

// Listener is told what happens. Fields may be nil.
type Listener struct {
	Begin    func(Header)
	Row      func(Header, Row)
	Progress func(Header, load.Progress)
	End      func(Result)
	// Trace is told every statement that changes something, secrets masked.
	Trace func(server string, statement dbms.Statement)
}

// Outcomes.
const (
	Made       Outcome = "made"
	Kept       Outcome = "kept"
	Fixed      Outcome = "fixed"
	Imported   Outcome = "imported"
	Written    Outcome = "written"
	Changed    Outcome = "changed" // from what it was, as the command asks
	Removed    Outcome = "removed"
	Verified   Outcome = "verified"
	Waiting    Outcome = "waiting" // for the application's installer
	Differs    Outcome = "differs"
	Note       Outcome = "note" // worth knowing, and nothing needs to be done
	Refused    Outcome = "refused"
	Failed     Outcome = "failed"
	Undone     Outcome = "undone"
	NotReached Outcome = "not reached"
)

// ImportReport is what one script's import did, for scripts.
type ImportReport struct {
	Script     string `json:"script"`
	Bytes      int64  `json:"bytes"` // unpacked
	Statements int    `json:"statements"`
	Rows       int64  `json:"rows"`
	Sessions   int    `json:"sessions"`             // that took rows side by side
	OneByOne   string `json:"one_by_one,omitempty"` // why statements were not joined
}

// ExportReport is what an export wrote, for scripts.
type ExportReport struct {
	Database string `json:"database"`
	atomicfile.Stored
	Unpacked int64 `json:"unpacked"` // bytes of the script
	Tables   int   `json:"tables"`
	Rows     int64 `json:"rows"`
	Sessions int   `json:"sessions"` // that read rows side by side
	// LeftOut is what the export does not hold.
	LeftOut []string `json:"left_out,omitempty"`
}
