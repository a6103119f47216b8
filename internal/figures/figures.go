// Package figures writes numbers for a person. It knows of nothing that is counted.
package figures

import (
	"fmt"
	"strconv"
)

// Thousands writes a number with separators: 12,480.
func Thousands[N int | int64](n N) string {
	digits := strconv.FormatInt(int64(n), 10)
	for i := len(digits) - 3; i > 0 && digits[i-1] != '-'; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// Counted writes a number with its noun in singular or plural.
func Counted[N int | int64](n N, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Thousands(n) + " " + many
}

// Size writes a number of bytes in binary units.
func Size(bytes int64) string {
	const unit = 1024
	if bytes < unit {
		return fmt.Sprintf("%d B", bytes)
	}
	value, prefix := float64(bytes)/unit, 0
	for value >= unit && prefix < 3 {
		value /= unit
		prefix++
	}
	return fmt.Sprintf("%.1f %ciB", value, "KMGT"[prefix])
}
