//go:build !race

package applogin

// mostMemory is RLIMIT_DATA of a login's process. What a server sends beyond that ends it.
const mostMemory = 192 << 20
