package mysql

import (
	"bufio"
	"errors"
	"io/fs"
	"os"
	"strings"

	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// OptionFile is what the [client] section of an option file says about
// logging in. Fields it does not mention are zero.
type OptionFile struct {
	User     string
	Password secret.Password
}

// ReadOptionFile reads the [client] section of a file such as ~/.my.cnf by
// the rules of the MySQL Reference Manual, "Using Option Files": dashes and
// underscores are the same, values may be quoted, and \b \t \n \r \\ \s are
// escapes. A missing file gives a zero OptionFile. Includes are not followed,
// and where the server is says the estate file alone.
func ReadOptionFile(path string) (OptionFile, error) {
	var o OptionFile
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return o, nil
	}
	if err != nil {
		return o, fault.New(fault.Invalid, "make it readable, or give the administrator's password in another way",
			"the option file %s cannot be read: %v", path, err).With(err)
	}
	defer file.Close()
	inClient := false
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		if line[0] == '[' {
			section, _, _ := strings.Cut(line[1:], "]")
			section = strings.TrimSpace(section)
			inClient = section == "client" || section == "client-mariadb" || section == "client-server"
			continue
		}
		if !inClient {
			continue
		}
		name, value, _ := strings.Cut(line, "=")
		name = strings.ReplaceAll(strings.TrimSpace(name), "_", "-")
		value = optionValue(value)
		switch name {
		case "user":
			o.User = value
		case "password":
			o.Password = secret.NewPassword(value)
		}
	}
	return o, lines.Err()
}

// optionValue undoes quoting, a trailing comment and escapes.
func optionValue(raw string) string {
	raw = strings.TrimSpace(raw)
	if len(raw) >= 2 && (raw[0] == '"' || raw[0] == '\'') {
		if end := strings.LastIndexByte(raw[1:], raw[0]); end >= 0 {
			raw = raw[1 : 1+end]
		}
	} else if i := strings.Index(raw, " #"); i >= 0 {
		raw = strings.TrimSpace(raw[:i])
	}
	return strings.NewReplacer(`\\`, `\`, `\b`, "\b", `\t`, "\t", `\n`, "\n", `\r`, "\r", `\s`, " ").Replace(raw)
}
