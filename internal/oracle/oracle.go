// Package oracle says what an import should have come to: it runs the servers'
// stock clients and describes what a database holds, so that two imports can
// be compared. It is for tests and benchmarks alone; the product never runs
// another program to do its work.
package oracle

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
)

// Client is the stock client of a server, reading a script from its standard
// input into a database. root is the folder of the system that the server
// runs in, empty for this one; the password is taken from MYSQL_PWD.
func Client(socket, root, user, database string) *exec.Cmd {
	arguments := []string{"--no-defaults", "--default-character-set=utf8mb4", "-u" + user}
	if root == "" {
		return exec.Command("mariadb", append(arguments, "-S", socket, database)...)
	}
	inside := strings.TrimPrefix(socket, filepath.Clean(root))
	return exec.Command("chroot", append([]string{root, "/usr/bin/mysql"}, append(arguments, "-S", inside, database)...)...)
}

// implied is shown by MySQL or not, depending on how a column was written once.
var implied = regexp.MustCompile(` CHARACTER SET \w+ COLLATE `)

var definer = regexp.MustCompile("DEFINER=`[^`]*`@`[^`]*`")

// Fingerprint describes all that a database holds: the definition of every
// object, and for every table its checksum. admin is an administrator's login.
func Fingerprint(ctx context.Context, admin dbms.Login, database string) (map[string]string, error) {
	login := admin
	login.Database = database
	server, err := mysql.Connect(ctx, login)
	if err != nil {
		return nil, err
	}
	defer server.Close()
	session, err := server.OpenSingle(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	found := map[string]string{}
	for _, list := range []struct{ query, show string }{
		{"SHOW FULL TABLES", "TABLE"},
		{"SELECT TRIGGER_NAME, '' FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()", "TRIGGER"},
		{"SELECT ROUTINE_NAME, ROUTINE_TYPE FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()", ""},
		{"SELECT EVENT_NAME, '' FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()", "EVENT"},
	} {
		names, err := session.Query(ctx, list.query)
		if err != nil {
			return nil, err
		}
		for _, row := range names {
			kind := list.show
			if kind == "" {
				kind = row[1]
			}
			shown, err := session.Query(ctx, "SHOW CREATE "+kind+" "+mysql.QuoteName(row[0]))
			if err != nil {
				return nil, err
			}
			text := strings.Join(shown[0][:min(3, len(shown[0]))], "\n")
			if kind == "TABLE" && row[1] == "BASE TABLE" {
				sum, err := checksum(ctx, session, row[0], text)
				if err != nil {
					return nil, err
				}
				text += "\nchecksum " + sum
			}
			text = strings.ReplaceAll(definer.ReplaceAllString(text, ""), "`"+database+"`.", "")
			text = implied.ReplaceAllString(text, " COLLATE ")
			found[kind+" "+row[0]] = text
		}
	}
	return found, nil
}

// checksum is the server's of a table; but of one with generated columns MariaDB has
// another one each time that it is filled, so that its rows are taken together here.
func checksum(ctx context.Context, session *mysql.SingleSession, table, definition string) (string, error) {
	if !strings.Contains(definition, "GENERATED ALWAYS") {
		sum, err := session.Query(ctx, "CHECKSUM TABLE "+mysql.QuoteName(table))
		if err != nil {
			return "", err
		}
		return sum[0][1], nil
	}
	rows, err := session.Query(ctx, "SELECT * FROM "+mysql.QuoteName(table))
	lines := make([]string, len(rows))
	for i, row := range rows {
		lines[i] = fmt.Sprintf("%q", row)
	}
	sort.Strings(lines)
	return fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(lines, "\n")))), err
}

// Differences names the objects that are not the same in both fingerprints.
func Differences(want, got map[string]string) []string {
	var found []string
	for name, text := range want {
		if got[name] != text {
			found = append(found, name+"\nwant: "+text+"\ngot:  "+got[name])
		}
	}
	for name := range got {
		if _, wanted := want[name]; !wanted {
			found = append(found, name+" should not be there")
		}
	}
	sort.Strings(found)
	return found
}
