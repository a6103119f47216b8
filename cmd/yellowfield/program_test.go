package main

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// program is the built program, ready to run in a folder that also has its state.
// The test binary is the program by its name (testscript.Main).
func program(ctx context.Context, t *testing.T, folder string, arguments ...string) *exec.Cmd {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	run := exec.CommandContext(ctx, self, arguments...)
	run.Args[0], run.Dir, run.WaitDelay = "yellowfield", folder, time.Second
	run.Env = append(os.Environ(), "YELLOWFIELD_STATE="+filepath.Join(folder, "state"), "HOME="+folder, "COLUMNS=400")
	return run
}
