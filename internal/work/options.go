package work

import (
	"io"
	"slices"
	"time"

	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/secret"
)

// Options of a run.
type Options struct {
	Command     string   // for the journal
	DryRun      bool     // plan and tell, change nothing
	Only        []string // steps to do; empty for all
	Fix         []string // differences to fix
	TakeAccount bool     // take existing accounts that have rights elsewhere
	// WriteHostRule writes a rule for logins that a PostgreSQL server's
	// host-based rules would refuse.
	WriteHostRule bool
	// UndoUnfinished says that what runs made which were cut off is taken back.
	UndoUnfinished bool
	// Import narrows the run to importing SQL; nil for all of it.
	Import *ImportOptions
	// Turn brings the app into a state; nil leaves it in the one that is found.
	Turn *StateChange
	// Rotation changes passwords; nil for none.
	Rotation *Rotation
	// Retire takes apps out of use; nil for none.
	Retire *Retirement
	// Move moves apps to another server; nil for none.
	Move *Moving
	// Copy makes a copy of an app; nil for none.
	Copy *Copying
	// Export is what an export is told; nil for none.
	Export *ExportOptions
}

func (o Options) Fixes(what string) bool { return slices.Contains(o.Fix, what) }

// OnlyLooks reports whether the command changes nothing on a server.
func (o Options) OnlyLooks() bool {
	return o.Command == "verify" || o.Command == "list" || o.Command == "export"
}

func (o Options) Does(step string) bool {
	return len(o.Only) == 0 || slices.Contains(o.Only, step)
}

// StateChange brings an app into one of its two states: closed for running, or open for
// installing and upgrading.
type StateChange struct {
	Close bool
	// For is how long an app is to stay open; 0 for no limit. verify reports one that is
	// open for longer.
	For time.Duration
	// Overdue closes apps that were to be closed by now: nobody is asked anything.
	Overdue bool
	// WithoutExport opens without exporting the databases first.
	WithoutExport bool
	// Delete removes installer files for good; else they are kept for a while.
	Delete bool
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
	// Acknowledge is asked whether the app's notes were read and followed; nil says no.
	Acknowledge func(app string, notes []string) bool
}

// Rotation says how passwords are changed.
type Rotation struct {
	Account string // only this one's; empty for all that settings files get
	// Overlap is how long the old password stays valid beside the new one when the settings
	// have that: PHP's opcode cache may serve the old file.
	Overlap time.Duration
	// Leaked ends the old password and its sessions first.
	Leaked bool
	// SecondRole has applications work as another role for a while, where an account keeps
	// one password.
	SecondRole bool
	// OlderThan leaves younger passwords alone.
	OlderThan time.Duration
	// Password is where the new one comes from; nil for one that is made.
	Password *secret.Source
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
}

// Overlap is how long both passwords are valid where nothing else is said.
const Overlap = 10 * time.Second

// Retirement says how an app goes out of use.
type Retirement struct {
	// Back takes a retirement back, as long as the database is there.
	Back bool
	// DropDatabase drops databases and accounts, after an export that was loaded again and
	// compared, unless Unproved says that this is not needed.
	DropDatabase, Unproved bool
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
}

// Moving says where apps are moved to.
type Moving struct {
	To string // a server of the estate
	// Back moves apps to where they were moved from: what they left there is dropped first,
	// since the rows come anew.
	Back bool
	// NewPasswords gives accounts new passwords; else they keep theirs.
	NewPasswords bool
	// MapCollations replaces collations that the server lacks.
	MapCollations bool
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
}

// Copying says what a copy of an app is to be called, and where its folder is, which the
// administrator has copied.
type Copying struct {
	Name, Folder string
	// Confirm is asked when all that will be done was told; nil does it without.
	Confirm func(app string) bool
}

// ExportOptions are what `export` is told beside the estate file.
type ExportOptions struct {
	File     string    // to write; empty for one in the folder of exports
	Out      io.Writer // that gets the script in place of a file; nil for none
	Database string    // the one, by its name in the estate file, where the app has several; empty for all
}

// ImportOptions are what `import` is told beside the estate file.
type ImportOptions struct {
	Files    []script.Source // in place of the estate file's scripts; Prefix is filled in
	Retarget bool            // of the estate file's scripts, too
	Into     string          // the database for Files, by its name in the estate file
	// DropExisting empties the database first, of all that is the app's.
	DropExisting bool
	load.Options
}

// The steps in their order, as the output and Options.Only spell them.
var Steps = []string{StepPHP, StepDatabase, StepAccount, StepRights, StepSQL, StepSettings, StepOwnership, StepLogin}

// Fixable is what Options.Fix takes.
var Fixable = []string{FixPassword, FixRights, FixSettings, FixOwnership, FixCharset}

// Loading is how what comes is imported. Events do not run until the move is through.
func (m *Moving) Loading() load.Options {
	return load.Options{MapCollations: m.MapCollations, EventsDisabled: true}
}
