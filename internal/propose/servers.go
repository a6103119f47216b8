package propose

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/host"
)

// socketPlaces are where distributions put the sockets of MariaDB and MySQL.
var socketPlaces = []string{"/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/run/mariadb/mariadb.sock", "/tmp/mysql.sock"}

// findServers asks who answers at the sockets that are usual on this host: the
// ones that the stock clients are told of (MYSQL_UNIX_PORT, PGHOST), the one that
// PHP takes localhost for, and those of distributions.
func findServers(ctx context.Context) []server {
	places := []string{os.Getenv("MYSQL_UNIX_PORT")}
	if php, err := (host.Host{}).PHP(""); err == nil && php != nil {
		places = append(places, php.DefaultSocket())
	}
	var found []server
	for _, socket := range (host.Host{}).Sockets(append(places, socketPlaces...)...) {
		product, version, err := mysql.Greeting(ctx, socket)
		if err != nil {
			continue
		}
		name := string(product)
		if slices.ContainsFunc(found, func(s server) bool { return s.name == name }) {
			name += "2"
		}
		found = append(found, server{
			name: name, product: product, about: product.Title() + " " + version + " at " + socket, socket: socket,
			entry: "dbms: " + string(product) + "\nsocket: " + scalar(socket) + "\nadmin: {user: root}   # logs in through the socket without a password; else add password: {file: PATH}\n",
		})
	}
	for _, socket := range []string{os.Getenv("PGHOST"), "/run/postgresql", "/tmp"} {
		socket = filepath.Join(socket, postgresSocket)
		if !filepath.IsAbs(socket) { // the name of a host, or nothing
			continue
		}
		if !postgres.Answers(ctx, socket) || slices.ContainsFunc(found, func(s server) bool { return s.family() == string(dbms.PostgreSQL) }) {
			continue
		}
		found = append(found, server{
			name: string(dbms.PostgreSQL), product: dbms.PostgreSQL, about: "PostgreSQL at " + socket,
			entry: "dbms: postgresql\nsocket: " + scalar(filepath.Dir(socket)) + "\nadmin: {user: postgres}   # logs in as the system's user of that name; else add password: {file: PATH}\n",
		})
	}
	return found
}

// postgresSocket is what a server calls its socket, at the standard port.
const postgresSocket = ".s.PGSQL.5432"
