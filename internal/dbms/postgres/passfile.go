package postgres

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"

	"github.com/jackc/pgpassfile"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// PasswordFromFile looks a login up in a password file: the one named, else that
// of PGPASSFILE, else ~/.pgpass (PostgreSQL, "The Password File"). Without a
// file, or a line that fits, the password is empty.
func PasswordFromFile(path string, login dbms.Login) (secret.Password, error) {
	named := path != ""
	if !named {
		path = os.Getenv("PGPASSFILE")
	}
	if home, err := os.UserHomeDir(); path == "" && err == nil {
		path = filepath.Join(home, ".pgpass")
	}
	file, err := pgpassfile.ReadPassfile(path)
	switch {
	case err != nil && errors.Is(err, fs.ErrNotExist) && !named:
		return secret.Password{}, nil
	case err != nil:
		return secret.Password{}, fault.At(fault.Invalid, fault.Place{File: path}, "make it readable, or give the administrator's password in another way",
			"the password file cannot be read: %v", err).With(err)
	}
	host, port := login.Address.Host, login.Address.Port
	if login.Address.Socket != "" { // the file calls every socket localhost
		host = "localhost"
		_, port = login.Address.PostgresSocket()
	}
	return secret.NewPassword(file.FindPassword(host, strconv.Itoa(port), standard, login.User)), nil
}
