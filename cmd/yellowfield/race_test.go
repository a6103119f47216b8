//go:build race

package main

// underRace tells that the program is built with the race detector, which takes memory
// and time of its own.
const underRace = true
