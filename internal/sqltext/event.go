package sqltext

// DisabledEvent is a CREATE EVENT, as the servers show it, that does not run: its state stands
// after what becomes of it (MySQL Reference Manual, "CREATE EVENT Statement"). Another
// statement stays as it is.
func DisabledEvent(statement string, d Dialect) string {
	tokens := Scan([]byte(statement), d)
	for i, t := range tokens {
		if !t.Is("PRESERVE") || !tokens.At(i-1).Is("COMPLETION") && !tokens.At(i-1).Is("NOT") {
			continue
		}
		state := tokens.At(i + 1)
		if !state.Is("ENABLE") && !state.Is("DISABLE") {
			break
		}
		end := state.End
		if tokens.At(i + 2).Is("ON") { // DISABLE ON SLAVE
			end = tokens.At(i + 3).End
		}
		return statement[:t.End] + " DISABLE" + statement[end:]
	}
	return statement
}
