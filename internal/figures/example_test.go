package figures_test

import (
	"fmt"

	"yellowfield/internal/figures"
)

func Example() {
	fmt.Println(figures.Thousands(-1234567), figures.Size(3<<20), figures.Counted(1, "row", "rows"))
	// Output: -1,234,567 3.0 MiB 1 row
}
