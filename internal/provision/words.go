package provision

import "strings"

// ways are what the lower rooms call the ways out, and what they are called on the
// command line and in the estate file.
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
