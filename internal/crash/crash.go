// Package crash names the places at which a program may die: killed, or its host without
// power. Tests let it die at each of them, and look what the next run makes of that;
// elsewhere reaching one does nothing.
//
// It must never know of what is done at these places.
package crash

// Reached is told of every place that is passed; nil for nobody. Only a test's own
// program may set it, before anything runs.
var Reached func(place string)

// Point is passed between two changes that can be seen from outside.
func Point(place string) {
	if Reached != nil {
		Reached(place)
	}
}
