package postgres

import "time"

// SetLongestQuery has looks end sooner, until what it returns is called.
func SetLongestQuery(most time.Duration) (back func()) {
	before := longestQuery
	longestQuery = most
	return func() { longestQuery = before }
}
