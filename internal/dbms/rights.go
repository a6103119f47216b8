package dbms

// Levels of rights. Each is a set of the server's own privileges, always
// granted on one database.
const (
	LevelStructure = "structure" // may define tables and all the rest
	LevelRows      = "rows"      // may read and change rows
	LevelRead      = "read"      // may read rows
)

// Levels lists them for validation and help.
var Levels = []string{LevelStructure, LevelRows, LevelRead}

// structure is everything that MariaDB and MySQL can both grant on a database, but for
// the right to pass rights on (MySQL Reference Manual, "Privileges Provided by
// MySQL", those of context database, table or stored routine).
var structure = NewPrivileges(
	"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "REFERENCES", "INDEX", "ALTER",
	"CREATE TEMPORARY TABLES", "LOCK TABLES", "EXECUTE", "CREATE VIEW", "SHOW VIEW",
	"CREATE ROUTINE", "ALTER ROUTINE", "EVENT", "TRIGGER")

// PrivilegeNames lists what may be granted beside the levels.
func PrivilegeNames() []string { return structure }
