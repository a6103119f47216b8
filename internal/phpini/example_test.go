package phpini_test

import (
	"fmt"

	"yellowfield/internal/phpini"
)

// The file that is read last counts, and -1 is no limit.
func ExampleSatisfies() {
	fmt.Println(phpini.Satisfies("memory_limit", "-1", ">= 256M"), phpini.Satisfies("memory_limit", "128M", ">= 256M"))
	// Output: true false
}
