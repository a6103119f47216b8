package secret

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPasswordNeverPrintsItself(t *testing.T) {
	p := NewPassword("wax-and-honey-9")
	holder := struct {
		Name string
		P    Password
		Ptr  *Password
		V    Verifier
	}{"x", p, &p, Native(p)}
	asJSON, err := json.Marshal(holder)
	require.NoError(t, err)
	var logged strings.Builder
	slog.New(slog.NewTextHandler(&logged, nil)).Info("made", "password", p, "holder", holder)

	shown := []string{
		fmt.Sprint(p), fmt.Sprintf("%s %q %v %+v %#v %x %d", p, p, p, p, p, p, p),
		fmt.Sprintf("%v %+v %#v", holder, holder, holder.P), string(asJSON), logged.String(), fmt.Sprintf("%x %s", holder.V, holder.V),
	}
	for _, text := range shown {
		assert.NotContains(t, text, "wax")
		assert.NotContains(t, text, fmt.Sprintf("%x", "wax"))
		assert.NotContains(t, text, string(Native(p).Bytes()))
	}
	assert.Equal(t, "wax-and-honey-9", p.Reveal())
}

func TestGeneratedPasswordsNeedNoEscapingAndSatisfyPolicies(t *testing.T) {
	seen := map[string]bool{}
	for range 2000 {
		text := Generate().Reveal()
		require.Len(t, text, GeneratedLength)
		require.Regexp(t, `^[A-Za-z][A-Za-z0-9_-]*[A-Za-z0-9]$`, text)
		for _, class := range []string{lower, upper, digits, special} {
			require.True(t, strings.ContainsAny(text, class), text)
		}
		require.False(t, seen[text])
		seen[text] = true
	}
}

// The values were read back from servers that had been given the plain
// password; that logins succeed with ours is shown by the scenes.
func TestVerifiersAreThoseOfTheServers(t *testing.T) {
	assert.Equal(t, "*14E65567ABDB5135D0CFD9A70B3032C179A49EE7", string(Native(NewPassword("secret")).Bytes()))

	// With a 16-byte salt the digest is that of crypt(3), which printed this.
	digest := sha256Crypt([]byte("Hello world!"), []byte("saltstringsaltst"), 10000)
	assert.Equal(t, "3xv.VbSHBb41AL9AvLeujZkZRBAwqFMz2.opqey6IcA", string(digest))
}

func TestMatchesRecomputesTheVerifier(t *testing.T) {
	p, other := NewPassword("Bienenstöcke"), NewPassword("bienenstöcke")
	for _, verifier := range []Verifier{Native(p), CachingSHA2(p), MD5(p, "keeper")} {
		matches, known := p.Matches("keeper", verifier)
		assert.True(t, matches && known, verifier.Method())
		matches, known = other.Matches("keeper", verifier)
		assert.True(t, !matches && known, verifier.Method())
	}
	matches, known := p.Matches("other", MD5(p, "keeper"))
	assert.True(t, !matches && known, "the name is its salt")
	_, known = p.Matches("", StoredVerifier(MethodCachingSHA2, []byte("$B$something newer")))
	assert.False(t, known, "a storage format we cannot recompute must not count as a wrong password")
	_, known = p.Matches("", StoredVerifier("client_ed25519", Native(p).Bytes()))
	assert.False(t, known)
}

func TestObtain(t *testing.T) {
	t.Setenv("HIVE_PASSWORD", "from-env")
	got, err := Source{Env: "HIVE_PASSWORD"}.Obtain(t.Context(), "comb_app", nil)
	require.NoError(t, err)
	assert.Equal(t, "from-env", got.Reveal())

	got, err = Source{Command: []string{"printf", "from-command\nsecond line"}}.Obtain(t.Context(), "comb_app", nil)
	require.NoError(t, err)
	assert.Equal(t, "from-command", got.Reveal())

	for name, source := range map[string]Source{
		"cannot read":    {File: t.TempDir() + "/missing"},
		"is not set":     {Env: "HIVE_PASSWORD_MISSING"},
		"no such hive":   {Command: []string{"sh", "-c", "echo no such hive >&2; exit 3"}},
		"is empty":       {Command: []string{"true"}},
		"is no terminal": {Ask: true},
	} {
		_, err := source.Obtain(t.Context(), "comb_app", nil)
		assert.ErrorContains(t, err, name)
		assert.ErrorContains(t, err, "comb_app")
	}
}

// TestACommandThatLeavesSomethingBehind: what it has started holds its output open and never
// ends, and is not waited for.
func TestACommandThatLeavesSomethingBehind(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, exec.Command("mkfifo", pipe).Run())
	password, err := Source{Command: []string{"sh", "-c", "cat " + pipe + " & echo smoke-41"}}.Obtain(t.Context(), "barn", nil)
	require.NoError(t, err)
	assert.Equal(t, "smoke-41", password.Reveal())
	waiting, err := os.OpenFile(pipe, os.O_WRONLY|syscall.O_NONBLOCK, 0) // it is still there, and may end
	require.NoError(t, err)
	require.NoError(t, waiting.Close())
}
