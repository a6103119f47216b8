package oracle

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// Psql is PostgreSQL's stock client, importing a file into a database. The
// password is taken from PGPASSWORD.
func Psql(socket, user, database string, options ...string) *exec.Cmd {
	return exec.Command(throwaway.PostgresProgram("", "psql"),
		append([]string{"-X", "-q", "-o", "/dev/null", "-h", filepath.Dir(socket), "-U", user, "-d", database}, options...)...)
}

var heading = regexp.MustCompile(`^-- (?:Data for )?Name: (.*); Type: (.*); Schema: .*$`)

// PostgresFingerprint is Fingerprint for PostgreSQL: what its own dump program
// says of every object, and the checksum of each table's rows.
func PostgresFingerprint(admin dbms.Login, database string) (map[string]string, error) {
	program := throwaway.PostgresProgram("", "pg_dump")
	command := exec.Command(program, "-h", filepath.Dir(admin.Address.Socket), "-U", admin.User, "--no-owner", "--no-privileges", "--restrict-key=same", database)
	var complaints bytes.Buffer
	command.Stderr = &complaints
	out, err := command.StdoutPipe()
	if err == nil {
		err = command.Start()
	}
	if err != nil {
		return nil, err
	}
	found := map[string]string{}
	name, rows := "", false
	var sum [sha256.Size]byte
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		line := lines.Bytes()
		switch begins := heading.FindSubmatch(line); {
		case begins != nil:
			name = string(begins[2]) + " " + string(begins[1])
			rows = string(begins[2]) == "TABLE DATA"
			sum = [sha256.Size]byte{}
		case rows: // which lie in no order: their checksums are added up
			for i, b := range sha256.Sum256(line) {
				sum[i] += b
			}
			found[name] = hex.EncodeToString(sum[:])
		case name != "":
			found[name] += string(line) + "\n"
		}
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if err := command.Wait(); err != nil {
		return nil, fmt.Errorf("%s: %w: %s", program, err, complaints.String())
	}
	return found, nil
}
