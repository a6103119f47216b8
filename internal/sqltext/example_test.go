package sqltext_test

import (
	"fmt"

	"yellowfield/internal/sqltext"
)

// What a conditional comment holds counts where the server would execute it.
func ExampleParseSet() {
	for _, a := range sqltext.ParseSet([]byte("SET NAMES utf8mb4, @old = 1 /*!80000 , GLOBAL max_connections = 10 */"), sqltext.Dialect{Version: 80400}) {
		fmt.Println(a.Name, a.User, a.Global)
	}
	// Output:
	// names false false
	// old true false
	// max_connections false true
}
