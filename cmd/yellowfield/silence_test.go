package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// signal is a command that sends a signal to a server and, where it has some, to its processes.
func signal(name string, s *throwaway.Server) string {
	return fmt.Sprintf("kill -%s %[2]d $(cat /proc/%[2]d/task/%[2]d/children) || true", name, s.PID())
}

// TestAServerFallsSilent stops the process of a server in the middle of a run: it takes
// connections and answers none. The run ends by itself, and what it has left is taken back
// where somebody answers, and by the next run where nobody did.
func TestAServerFallsSilent(t *testing.T) {
	oracletest.NeedTime(t)
	for _, product := range []dbms.Product{dbms.MariaDB, dbms.MySQL, dbms.PostgreSQL} {
		t.Run(string(product), func(t *testing.T) {
			t.Parallel()
			m, options := moverTo(t, product, "silent", 40)
			m.start(t, options)
			m.prepare(t)
			waken := func(s *throwaway.Server) { require.NoError(t, exec.Command("sh", "-c", signal("CONT", s)).Run()) }
			t.Cleanup(func() { _ = exec.Command("sh", "-c", signal("CONT", m.from)+"; "+signal("CONT", m.to)).Run() })

			out := m.failsMeanwhile(t, signal("STOP", m.to))
			assert.Contains(t, out, "server shed has fallen silent")
			m.says(t, "login      as combs_app", "verify", "combs")
			waken(m.to)

			// And the old one, which nobody waits for after Ctrl-C or --timeout.
			for _, ends := range []string{"Ctrl-C", "--timeout", ""} {
				ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
				arguments := []string{"export", "combs", filepath.Join(t.TempDir(), "combs.sql")}
				if ends == "--timeout" {
					arguments = append(arguments, "--timeout", "1s")
				}
				command := program(ctx, t, m.folder, arguments...)
				command.Env = append(command.Env, meanwhileVariable+"=export of combs="+signal("STOP", m.from))
				command.Cancel = func() error { return command.Process.Kill() }
				var out bytes.Buffer
				command.Stdout, command.Stderr = &out, &out
				require.NoError(t, command.Start())
				if ends == "Ctrl-C" {
					time.AfterFunc(2*time.Second, func() { _ = command.Process.Signal(os.Interrupt) })
				}
				err := command.Wait()
				cancel()
				var exit *exec.ExitError
				require.True(t, errors.As(err, &exit), "%s: %v\n%s", ends, err, &out)
				assert.Positive(t, exit.ExitCode(), "%s: it was killed after a minute\n%s", ends, &out)
				waken(m.from)
			}
			m.says(t, "login      as combs_app", "verify", "combs")
			m.says(t, "1 app: 1 moved", "move", "combs", "--to", "shed", "--yes")
		})
	}
}
