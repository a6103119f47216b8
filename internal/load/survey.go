package load

import (
	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
)

// Finding is something about a script that is worth knowing before it runs.
type Finding struct {
	Place fault.Place
	What  string
	Next  string
	Count int // how often it occurs; the place is the first one's
	// Usual says that nearly every dump has it, so that it is of interest
	// beforehand only.
	Usual bool
}

// Survey is what reading a script from beginning to end tells without running
// anything.
type Survey struct {
	Length     int64 // of the unpacked script in bytes
	Statements int
	Longest    int   // bytes of the longest statement
	Rows       int64 // in INSERT statements of literal rows
	// Defines counts what the script makes by its keyword: TABLE, VIEW,
	// TRIGGER, FUNCTION, PROCEDURE, EVENT, INDEX.
	Defines map[string]int
	Tables  []string // made by the script, in its order
	// Charsets are the tables whose character set or collation the script says itself.
	Charsets map[string]bool
	// Makes are all objects that the script makes.
	Makes map[dbms.Object]bool
	// Refused is what the guard and the server's limits forbid; an import
	// with such entries does not begin.
	Refused []Finding
	// Notes are differences between the script and this server, and what is
	// left out or changed on the way.
	Notes []Finding
	// Touches are objects that were there before and that the script changes.
	Touches map[dbms.Object]bool
	// OneByOne says why the script is sent statement by statement; empty if
	// rows may be joined and sent side by side.
	OneByOne string

	// AsksBack says that the script looks at what the statement before did,
	// so that nothing may be asked of the session in between.
	AsksBack bool
	// Data is what the script does with the rows of its tables, by their names.
	Data map[string]*TableData
	// Copied is how many bytes of rows stand after COPY.
	Copied   int64
	asked    *TableData // what DataOf gave last
	askedFor string
	// Runs are the long series of rows, by where they begin.
	Runs map[int64]*Run
}

// TableData is what a script does with the rows of one table.
type TableData struct {
	Bytes       int64
	First, Last int64 // offsets of the first and last INSERT
	Longest     int   // bytes of the longest row, as it is written
	Numbered    bool  // the server may have to give out numbers for rows
	Mention     int64 // of the first other statement after First that names the table; 0 for none
}

// Undisturbed reports whether nothing but INSERTs concerns the table between
// its first and its last row.
func (d *TableData) Undisturbed() bool { return d.Mention == 0 || d.Mention > d.Last }

// DataOf is what the script does with the rows of a table; an empty one is made for a
// table that had none.
func (s *Survey) DataOf(table string) *TableData {
	if s.asked != nil && s.askedFor == table { // a dump's rows stand table by table
		return s.asked
	}
	d := s.Data[table]
	if d == nil {
		d = &TableData{}
		s.Data[table] = d
	}
	s.asked, s.askedFor = d, table
	return d
}

// Routines counts the definitions that binary logging may refuse.
func (s *Survey) Routines() int { return s.Defines["TRIGGER"] + s.Defines["FUNCTION"] }
