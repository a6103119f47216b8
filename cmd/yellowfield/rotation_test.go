package main

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// client is an application that reads its settings and connects, over and over.
const client = `<?php
$logins = $failures = $longest = 0; $from = null;
while (!file_exists('stop')) {
    $c = include 'www/db.php';
    try {
        $way = $argv[1] === 'postgresql' ? "pgsql:host={$c['host']}" : "mysql:unix_socket=$argv[2]";
        $db = new PDO("$way;dbname={$c['base']}", $c['user'], $c['password']);
        $db = null;
        $logins++;
        if ($from) $longest = max($longest, microtime(true) - $from);
        $from = null;
    } catch (PDOException $e) {
        $failures++;
        $from ??= microtime(true);
    }
}
echo json_encode(['Logins' => $logins, 'Failures' => $failures, 'Longest' => $longest]);
`

// TestNoLoginFailsWhileAPasswordIsRotated has applications connect all the time: on
// MariaDB and MySQL none is refused, and on PostgreSQL, which keeps one password, for a
// moment only.
func TestNoLoginFailsWhileAPasswordIsRotated(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		product dbms.Product
		more    []string
		refuses bool
	}{{dbms.MariaDB, nil, false}, {dbms.MySQL, nil, false}, {dbms.PostgreSQL, nil, true}, {dbms.PostgreSQL, []string{"--second-role"}, false}} {
		product := c.product
		t.Run(string(product)+strings.Join(c.more, ""), func(t *testing.T) {
			t.Parallel()
			options := throwaway.Options{Product: product}
			if product == dbms.MySQL {
				options.Root = needMySQL(t)
			}
			if product == dbms.PostgreSQL && (throwaway.PostgresPrograms("") == "" || exec.Command("php", "-r", `exit((int) !extension_loaded("pdo_pgsql"));`).Run() != nil) {
				t.Skip("NOT TESTED: no PostgreSQL server is installed, or PHP cannot speak to it: scripts/setup test")
			}
			server, err := throwaway.Start(t.Context(), options)
			require.NoError(t, err)
			defer server.Stop()
			folder := t.TempDir()
			seen := "seen_by_apps: {socket: " + server.Socket + "}, "
			if product == dbms.PostgreSQL {
				seen = ""
			}
			for name, content := range map[string]string{
				"client.php":        client,
				"www/db.php.sample": "<?php return ['host' => '', 'user' => '', 'password' => '', 'base' => ''];\n",
				"yellowfield.yaml": "servers: {barn: {dbms: " + string(product) + ", socket: " + server.Socket + ", " + seen + "admin: {user: " + server.Admin + "}}}\n" +
					`apps: {combs: {server: barn, folder: www, database: {name: combs}, accounts: [{name: combs_app}], settings: [{file: db.php, template: db.php.sample, values: {"return['host']": "{host}", "return['user']": "{user}", "return['password']": "{password}", "return['base']": "{database}"}}]}}`,
			} {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(content), 0o644))
			}
			out, err := program(t.Context(), t, folder, "provision").CombinedOutput()
			require.NoError(t, err, string(out))
			type counted struct {
				Logins, Failures int
				Longest          float64 // seconds without a login
			}
			const clients = 3
			results := make(chan counted, clients)
			for range clients {
				go func() {
					ctx, cancel := context.WithTimeout(context.WithoutCancel(t.Context()), time.Minute)
					defer cancel()
					command := exec.CommandContext(ctx, "php", "client.php", string(product), server.Socket)
					command.Dir = folder
					said, err := command.Output()
					var c counted
					if err != nil || json.Unmarshal(said, &c) != nil {
						c.Failures = -1
					}
					results <- c
				}()
			}
			const rotations = 2
			for range rotations {
				out, err := program(t.Context(), t, folder, append([]string{"rotate", "combs", "--yes", "--overlap", "500ms"}, c.more...)...).CombinedOutput()
				assert.NoError(t, err, string(out))
				time.Sleep(300 * time.Millisecond)
			}
			require.NoError(t, os.WriteFile(filepath.Join(folder, "stop"), nil, 0o644))
			var sum counted
			for range clients {
				c := <-results
				require.NotEqual(t, -1, c.Failures, "a client has not come to its end")
				sum.Logins, sum.Failures = sum.Logins+c.Logins, sum.Failures+c.Failures
				sum.Longest = max(sum.Longest, c.Longest)
			}
			assert.GreaterOrEqual(t, sum.Logins, clients, "or nobody has tried")
			if !c.refuses { // else new logins fail for a moment, which is measured below
				assert.Zero(t, sum.Failures)
			}
			t.Logf("%s %v: %d rotations, %d logins, %d refused, none for %.3f s at most", product, c.more, rotations, sum.Logins, sum.Failures, sum.Longest)
		})
	}
}
