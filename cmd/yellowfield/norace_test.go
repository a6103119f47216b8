//go:build !race

package main

const underRace = false
