package oracletest

import (
	"os"
	"testing"
)

// How much is tried is said by YELLOWFIELD_TESTS: by default what a developer waits for before
// a commit, with "ci" what has to pass before anything lands, with "all" whatever there is
// (make test, .ci/run and make test-all).
var level = os.Getenv("YELLOWFIELD_TESTS")

// Thorough reports whether whatever there is is tried.
func Thorough() bool { return level == "all" }

// Brief reports whether somebody waits.
func Brief() bool { return level != "all" && level != "ci" }

// NeedTime skips a test that has no shorter form, where somebody waits.
func NeedTime(t *testing.T) {
	t.Helper()
	if Brief() {
		t.Skip(".ci/run and make test-all run it")
	}
}

// Sample gives one of so many where somebody waits, three times as many of them before
// anything lands, and all where all is tried. It is the same part each time.
func Sample[T any](all []T, one int) (some []T) {
	if !Brief() {
		one = max(1, one/3)
	}
	if Thorough() {
		one = 1
	}
	for i := 0; i < len(all); i += one {
		some = append(some, all[i])
	}
	return some
}
