package render

import (
	"testing"

	"yellowfield/internal/work"

	"github.com/stretchr/testify/assert"
)

// TestNothingWasTouchedIsSaidOfNothing: whatever a run has done, it does not end with a word
// that says otherwise.
func TestNothingWasTouchedIsSaidOfNothing(t *testing.T) {
	for _, outcome := range []work.Outcome{work.Made, work.Fixed, work.Imported, work.Written, work.Changed, work.Removed} {
		for _, exit := range []int{1, 3, 4, 75} {
			r := work.Result{Exit: exit, Rows: []work.Row{{Outcome: outcome}, {Outcome: work.Differs}}}
			assert.NotContains(t, leftBehind(r), "nothing", "%s, exit %d", outcome, exit)
		}
	}
	assert.Equal(t, "nothing was touched.", leftBehind(work.Result{Exit: 3, Rows: []work.Row{{Outcome: work.Kept}, {Outcome: work.Differs}}}))
}
