package main

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// program is the built program, ready to run in a folder that also has its state.
func program(ctx context.Context, t *testing.T, folder string, arguments ...string) *exec.Cmd {
	t.Helper()
	run := exec.CommandContext(ctx, builtProgram, arguments...)
	run.Dir, run.WaitDelay = folder, time.Second
	run.Env = append(os.Environ(), "YELLOWFIELD_STATE="+filepath.Join(folder, "state"), "HOME="+folder, "COLUMNS=400")
	return run
}
