package effect

import (
	"slices"

	"yellowfield/internal/state"
)

// Left is an effect that runs have made or begun, and not taken back.
type Left struct {
	Effect
	Step   string
	Object string
	// Done reports whether it was made to its end.
	Done   bool
	number int // in its run
}

// LeftOf gives what the journals of some runs say that was made or begun, and not taken
// back, the newest first.
func LeftOf(entries []state.Entry) (left []Left) {
	for _, e := range entries {
		if e.Event == state.Begun {
			left = append(left, Left{}) // numbers begin anew after it
			continue
		}
		at := -1
		for i := len(left) - 1; i >= 0 && left[i].Kind != ""; i-- {
			if left[i].number == e.Number {
				at = i
			}
		}
		switch {
		case e.Number == 0:
		case e.Event == state.Undone && at >= 0:
			left = slices.Delete(left, at, at+1)
		case e.Effect == nil:
		case at < 0:
			left = append(left, Left{Effect: *e.Effect, Step: e.Step, Object: e.Object, number: e.Number})
		default: // more is known of it
			left[at].Effect, left[at].Done = *e.Effect, left[at].Done || e.Event == state.Done
		}
	}
	left = slices.DeleteFunc(left, func(l Left) bool { return l.Kind == "" })
	slices.Reverse(left)
	return left
}
