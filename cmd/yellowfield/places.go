//go:build places

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"

	"yellowfield/internal/crash"
)

// With the tag "places" the program does at its places what a test asks for by the
// environment. No program that is given away is built so.
func init() {
	dieWhereAsked()
	somethingMeanwhile()
}

func dieWhereAsked() {
	at, err := strconv.Atoi(os.Getenv("YELLOWFIELD_DIES_AT"))
	if err != nil {
		return
	}
	var passed atomic.Int64
	crash.Reached = func(string) {
		if passed.Add(1) == int64(at) {
			self, _ := os.FindProcess(os.Getpid())
			_ = self.Kill()
			select {}
		}
	}
}

// somethingMeanwhile has something happen in the middle of a run: TEXT=COMMAND runs the
// command once when the journal's newest line has the text.
func somethingMeanwhile() {
	text, command, asked := strings.Cut(os.Getenv("YELLOWFIELD_MEANWHILE"), "=")
	if !asked {
		return
	}
	var happened atomic.Bool
	crash.Reached = func(place string) {
		if place != "behind the journal" || happened.Load() {
			return
		}
		journals, _ := filepath.Glob(filepath.Join(os.Getenv("YELLOWFIELD_STATE"), "journal", "*"))
		for _, path := range journals {
			content, _ := os.ReadFile(path)
			lines := strings.Split(strings.TrimSpace(string(content)), "\n")
			if strings.Contains(lines[len(lines)-1], text) && !happened.Swap(true) {
				_ = exec.Command("sh", "-c", command).Run()
			}
		}
	}
}
