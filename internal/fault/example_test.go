package fault_test

import (
	"fmt"

	"yellowfield/internal/fault"
)

// Errors say what happened, where, and what to do next.
func Example() {
	line := "  combs: {sever: barn}"
	place := fault.Place{File: "yellowfield.yaml", Line: 4, Column: 11}
	err := fault.At(fault.Invalid, place, fault.DidYouMean("sever", []string{"server", "folder"}, ""), "an app has no key %q", "sever")
	fmt.Printf("%s\n%s", err, fault.ExcerptLine(line, place))
	// Output:
	// yellowfield.yaml:4:11: an app has no key "sever" (did you mean server?)
	// 4 |   combs: {sever: barn}
	//   |           ^
}
