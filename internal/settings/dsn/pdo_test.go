package dsn_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/throwaway"
)

// TestPDOLogsInWithWhatIsWritten has real PDO log in with names and passwords
// that were written into its form of a data source name: what it takes the
// parts for, the server sees.
func TestPDOLogsInWithWhatIsWritten(t *testing.T) {
	ctx := context.Background()
	server, err := throwaway.Start(ctx, throwaway.Options{Product: dbms.MariaDB})
	if err != nil {
		t.Skipf("NOT TESTED: no MariaDB can be started: %v", err)
	}
	defer server.Stop()
	admin, err := mysql.Connect(ctx, server.Login())
	require.NoError(t, err)
	defer admin.Close()
	random := rand.New(rand.NewPCG(5, 12))
	alphabet := []rune(`abcXYZ019'"$;;;:/?#@%&= []{}()<>!*,.-_~|^` + "äß蜂")
	text := func() string {
		var b strings.Builder
		for range 1 + random.IntN(16) {
			b.WriteRune(alphabet[random.IntN(len(alphabet))])
		}
		return strings.TrimSpace(b.String()) + "x" // the server cuts blanks at the end of names
	}
	quoted := func(s string) string { return "'" + strings.NewReplacer(`'`, `''`, `\`, `\\`).Replace(s) + "'" }
	var cases [][3]string
	for i := range 120 {
		base, word := fmt.Sprintf("%d%s", i, text()), text()
		name := strings.ReplaceAll(base, "`", "``")
		for _, statement := range []string{"CREATE DATABASE `" + name + "`",
			fmt.Sprintf("CREATE USER u%d@localhost IDENTIFIED BY %s", i, quoted(word)), fmt.Sprintf("GRANT ALL ON *.* TO u%d@localhost", i)} {
			require.NoError(t, admin.Exec(ctx, dbms.Statement{Text: statement}), statement)
		}
		value := "mysql:host=localhost;dbname=old;charset=utf8mb4"
		for _, part := range [][2]string{{dsn.Socket, server.Socket}, {dsn.Database, base}, {dsn.Password, word}, {dsn.User, fmt.Sprintf("u%d", i)}} {
			value, err = dsn.Set(value, part[0], part[1])
			require.NoError(t, err)
		}
		cases = append(cases, [3]string{value, base, fmt.Sprintf("u%d@localhost", i)})
	}
	list, err := json.Marshal(cases)
	require.NoError(t, err)
	command := exec.Command("php", "-r", `foreach (json_decode(stream_get_contents(STDIN), true) as [$dsn, $base, $user]) {
		try { $row = (new PDO($dsn))->query('SELECT DATABASE(), CURRENT_USER()')->fetch(PDO::FETCH_NUM); }
		catch (PDOException $e) { $row = [$e->getMessage(), '']; }
		if ($row !== [$base, $user]) echo $dsn, ': ', json_encode($row), "\n";
	}`)
	command.Stdin = strings.NewReader(string(list))
	out, err := command.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Empty(t, string(out))
}
