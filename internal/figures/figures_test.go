package figures

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestThousands(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000", -999: "-999"} {
		assert.Equal(t, want, Thousands(n))
	}
}
