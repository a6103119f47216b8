//go:build race

package applogin

// The race detector reserves more than any limit would leave it.
const mostMemory = 0
