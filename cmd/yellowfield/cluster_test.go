package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

type nodesKey struct{}

// TestScenesOnCluster plays scenes on three MariaDB nodes joined by Galera.
func TestScenesOnCluster(t *testing.T) {
	t.Parallel()
	playOnNodes(t, dbms.MariaDB, "testdata/cluster", clusters(t))
}

// clusters gives what starts a cluster.
func clusters(t *testing.T) func() ([]*throwaway.Server, error) {
	programs := filepath.Join(mariadbExtras(), "usr/bin")
	if _, err := os.Stat(filepath.Join(programs, "wsrep_sst_rsync")); err != nil || throwaway.GaleraLibrary() == "" {
		t.Skip("NOT TESTED: no Galera library is installed: scripts/setup test")
	}
	return func() ([]*throwaway.Server, error) {
		return throwaway.StartCluster(t.Context(), 3, programs, throwaway.FreePort)
	}
}

// TestScenesOnStandby plays scenes on a PostgreSQL server and one that streams
// from it.
func TestScenesOnStandby(t *testing.T) {
	t.Parallel()
	if throwaway.PostgresPrograms("") == "" {
		t.Skip("NOT TESTED: no PostgreSQL server is installed: scripts/setup test")
	}
	playOnNodes(t, dbms.PostgreSQL, "testdata/standby", func() ([]*throwaway.Server, error) {
		primary, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL})
		if err != nil {
			return nil, err
		}
		rules, err := os.OpenFile(filepath.Join(primary.Data(), "pg_hba.conf"), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return nil, err
		}
		_, err = rules.WriteString("local replication all trust\n")
		_, asked := oracletest.Ask(dbms.PostgreSQL, primary.Login(), "SELECT pg_reload_conf()")
		if err := errors.Join(err, rules.Close(), asked); err != nil {
			return nil, err
		}
		copied := filepath.Join(t.TempDir(), "data")
		out, err := exec.Command(throwaway.PostgresProgram("", "pg_basebackup"), "-h", filepath.Dir(primary.Socket), "-U", primary.Admin, "-D", copied, "-R", "-X", "stream", "-c", "fast").CombinedOutput()
		if err != nil {
			primary.Stop()
			return nil, fmt.Errorf("pg_basebackup: %w: %s", err, out)
		}
		standby, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL, Data: copied})
		return []*throwaway.Server{primary, standby}, err
	})
}

// nodes are the servers of a scene, and how they are asked.
type nodes struct {
	servers []*throwaway.Server
	product dbms.Product
}

// playOnNodes plays the scenes of a folder on several servers, which are
// @SOCKET1@, @SOCKET2@ and so on in its files, and on the first of them the one
// that is the same for every server.
func playOnNodes(t *testing.T, product dbms.Product, folder string, start func() ([]*throwaway.Server, error)) {
	scenes, err := filepath.Glob(folder + "/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, scenes)
	testscript.Run(t, testscript.Params{
		Files: append(scenes, "testdata/every/one_estate_file_for_all.txtar"),
		Setup: func(env *testscript.Env) error {
			servers, err := start()
			if err != nil {
				return err
			}
			env.Defer(func() {
				for _, server := range servers {
					server.Kill()
				}
			})
			env.Values[nodesKey{}] = nodes{servers, product}
			env.Values[stageKey{}] = &stage{server: servers[0], options: throwaway.Options{Product: product}}
			env.Setenv("PATH", filepath.Dir(builtProgram)+string(os.PathListSeparator)+env.Getenv("PATH"))
			env.Setenv("HOME", env.WorkDir)
			env.Setenv("COLUMNS", "200")
			env.Setenv("YELLOWFIELD_STATE", filepath.Join(env.WorkDir, "state"))
			fill := append(seenByApps(product, servers[0].Socket), "@ADMIN@", servers[0].Admin, "@SOCKET@", servers[0].Socket, "@DBMS@", string(product))
			for i, server := range servers {
				fill = append(fill, fmt.Sprintf("@SOCKET%d@", i+1), server.Socket)
			}
			return fillIn(env.WorkDir, strings.NewReplacer(fill...))
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"node": controlNode, "sql": runSQL},
	})
}

// controlNode asks or ends a node: sql [in DATABASE] STATEMENT, until STATEMENT
// is true, kill, kill-when QUERY, or lose, which waits until it has noticed that
// it is alone.
func controlNode(ts *testscript.TestScript, _ bool, args []string) {
	number, err := strconv.Atoi(args[0])
	ts.Check(err)
	all := ts.Value(nodesKey{}).(nodes)
	node := all.servers[number-1]
	login := node.Login()
	command, args := args[1], args[2:]
	if len(args) > 2 && args[0] == "in" {
		login.Database, args = args[1], args[2:]
	}
	// until asks again and again, until the answer is as wanted.
	until := func(statement string, wanted func(string, error) bool) {
		deadline := time.Now().Add(time.Minute)
		for time.Now().Before(deadline) {
			if wanted(oracletest.Ask(all.product, login, statement)) {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
		ts.Fatalf("%s never came to be", statement)
	}
	isTrue := func(out string, err error) bool { return err == nil && (out == "1\n" || out == "t\n") }
	switch command {
	case "sql":
		out, err := oracletest.Ask(all.product, login, args[0])
		ts.Check(err)
		_, _ = fmt.Fprint(ts.Stdout(), out)
	case "until":
		until(args[0], isTrue)
	case "kill":
		node.Kill()
	case "kill-when":
		until(args[0], isTrue)
		node.Kill()
	case "lose":
		until("SELECT COUNT(*) FROM mysql.global_priv", func(_ string, err error) bool { return err != nil })
	default:
		ts.Fatalf("unknown: node %s", command)
	}
}
