package render

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yellowfield/internal/provision"
)

// TestNothingWasTouchedIsSaidOfNothing: whatever a run has done, it does not end with a word
// that says otherwise.
func TestNothingWasTouchedIsSaidOfNothing(t *testing.T) {
	for _, outcome := range []provision.Outcome{provision.Made, provision.Fixed, provision.Imported, provision.Written, provision.Changed, provision.Removed} {
		for _, exit := range []int{1, 3, 4, 75} {
			r := provision.Result{Exit: exit, Rows: []provision.Row{{Outcome: outcome}, {Outcome: provision.Differs}}}
			assert.NotContains(t, leftBehind(r), "nothing", "%s, exit %d", outcome, exit)
		}
	}
	assert.Equal(t, "nothing was touched.", leftBehind(provision.Result{Exit: 3, Rows: []provision.Row{{Outcome: provision.Kept}, {Outcome: provision.Differs}}}))
}
