// Package crash names the points at which the program may die: killed, or by a power cut.
// Tests make it die at each of them and check how the next run recovers; otherwise passing one
// does nothing.
//
// It must never know of what is done at these places.
package crash

// Reached is called at every point; nil for nothing. Only a test's own program may set it,
// before anything runs.
var Reached func(place string)

// Point is passed between two changes that can be seen from outside.
func Point(place string) {
	if Reached != nil {
		Reached(place)
	}
}
