package main

import (
	"cmp"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/oracle/oracletest"
	"yellowfield/internal/throwaway"
)

// TestPackage makes the Debian package, and has it installed, used, upgraded and removed in a
// system that has nothing but Debian.
func TestPackage(t *testing.T) {
	t.Parallel()
	oracletest.NeedTime(t)
	base := cmp.Or(os.Getenv("YELLOWFIELD_BARE_ROOT"), "/var/cache/yellowfield-tests/bare-root")
	if _, err := os.Stat(filepath.Join(base, "etc/debian_version")); err != nil || os.Geteuid() != 0 {
		t.Skip("NOT TESTED: the package wants root and a bare system: scripts/setup test")
	}
	make := func(version string) string {
		command := exec.CommandContext(t.Context(), "scripts/package", version)
		command.Dir = "../.."
		out, err := command.CombinedOutput()
		require.NoError(t, err, "%s", out)
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		path := filepath.Join(command.Dir, lines[len(lines)-1])
		t.Cleanup(func() { _ = os.Remove(path) })
		return path
	}
	one := make("1.0")
	first, err := os.ReadFile(one)
	require.NoError(t, err)
	second, err := os.ReadFile(make("1.0"))
	require.NoError(t, err)
	assert.True(t, string(first) == string(second), "two builds of one source are the same")

	root := "/var/tmp/yf-package-" + strconv.Itoa(os.Getpid()) // where a server's user gets, and with room for a socket's path
	t.Cleanup(func() { _ = os.RemoveAll(root) })
	out, err := exec.CommandContext(t.Context(), "cp", "-a", base, root).CombinedOutput()
	require.NoError(t, err, "%s", out)
	within := func(script string) string {
		command := exec.CommandContext(t.Context(), "chroot", root, "sh", "-ec", script)
		command.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "LC_ALL=C"}
		out, err := command.CombinedOutput()
		require.NoError(t, err, "%s\n%s", script, out)
		return string(out)
	}
	put := func(path, content string) {
		path = filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	}
	install := func(path string) {
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		put("root/yellowfield.deb", string(content))
		within("dpkg -i /root/yellowfield.deb")
	}
	install(one)
	assert.Contains(t, within("yellowfield version"), "built with")
	assert.Equal(t, "700 root", strings.TrimSpace(within("stat -c '%a %U' /etc/yellowfield")))
	assert.Empty(t, within("find /etc/systemd -name '*yellowfield*'"), "the timers are off")
	assert.Contains(t, within("zcat /usr/share/man/man1/yellowfield-verify.1.gz"), "Log in as the application would")
	assert.Contains(t, within("cat /usr/share/doc/yellowfield/copyright"), "github.com/spf13/cobra")

	// The example does what it says, and the timers' commands run.
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.MariaDB, Folder: filepath.Join(root, "tmp/yf")})
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	socket := strings.TrimPrefix(server.Socket, root)
	put("var/www/combledger/sql/structure.sql", "CREATE TABLE comb (id int);")
	put("var/www/combledger/private/ledger.php.dist", "<?php\ndefine('LEDGER_SQL_HOST', '');\ndefine('LEDGER_SQL_USER', '');\ndefine('LEDGER_SQL_PASSWORD', '');\ndefine('LEDGER_SQL_BASE', '');\n")
	within("sed 's#socket: /run/mysqld/mysqld.sock#socket: " + socket + "#; s#{user: root}#{user: " + server.Admin + "}\\n    seen_by_apps: {socket: " + socket + "}#' /usr/share/doc/yellowfield/examples/yellowfield.yaml >/etc/yellowfield/yellowfield.yaml")
	assert.Contains(t, within("cd /etc/yellowfield && yellowfield provision"), "1 app: 1 provisioned")
	unit := func(name string) string {
		text := within("cat /usr/lib/systemd/system/" + name + ".service")
		script := "set -a\n"
		for _, set := range regexp.MustCompile(`(?m)^Environment=(\w+)=(.*)$`).FindAllStringSubmatch(text, -1) {
			script += set[1] + "='" + set[2] + "'\n"
		}
		return within(script + regexp.MustCompile(`(?m)^ExecStart=(.*)$`).FindStringSubmatch(text)[1])
	}
	assert.Empty(t, unit("yellowfield-verify"))
	assert.Contains(t, unit("yellowfield-rotate"), "password")

	install(make("1.1"))
	assert.Equal(t, "1.1", within("dpkg-query -f '${Version}' -W yellowfield"))
	assert.Empty(t, unit("yellowfield-verify"), "the estate and the state are as they were")
	files := strings.Fields(within("dpkg -L yellowfield"))
	within("dpkg -r yellowfield")
	within("test -f /etc/yellowfield/yellowfield.yaml")
	for _, file := range files {
		if info, err := os.Lstat(filepath.Join(root, file)); err == nil {
			assert.True(t, info.IsDir(), "%s is left", file)
		}
	}
	assert.Contains(t, within("dpkg -P yellowfield; test -d /var/lib/yellowfield/journal"), "/var/lib/yellowfield is left")
}
