package phpclient

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yellowfield/internal/dbms"
)

func TestWherePHPConnects(t *testing.T) {
	const socket = "/run/barn.sock"
	for _, row := range []struct {
		product dbms.Product
		tls     dbms.TLSMode
		has     Settings
		want    dbms.Address
	}{
		{dbms.MariaDB, "", Settings{}, dbms.Address{Socket: socket}},
		{dbms.MariaDB, "", Settings{Host: "localhost", Port: "3307"}, dbms.Address{Socket: socket}},
		{dbms.MySQL, "", Settings{Host: "LOCALHOST", Socket: "/own.sock"}, dbms.Address{Socket: "/own.sock"}},
		{dbms.MariaDB, "", Settings{Host: "127.0.0.1"}, dbms.Address{Host: "127.0.0.1", Port: 3306, TLS: dbms.TLSNone}},
		{dbms.MariaDB, dbms.TLSPrefer, Settings{Host: "db", Port: "3307"}, dbms.Address{Host: "db", Port: 3307, TLS: dbms.TLSNone}},
		{dbms.MariaDB, dbms.TLSVerify, Settings{Host: "db"}, dbms.Address{Host: "db", Port: 3306, TLS: dbms.TLSVerify}},
		{dbms.MySQL, "", Settings{Host: "localhost:3308"}, dbms.Address{Host: "127.0.0.1", Port: 3308, TLS: dbms.TLSNone}},
		{dbms.MySQL, "", Settings{Host: "[::1]:3308", Port: "1"}, dbms.Address{Host: "::1", Port: 3308, TLS: dbms.TLSNone}},
		{dbms.MySQL, "", Settings{Host: "db", Port: "x"}, dbms.Address{Host: "db", Port: 3306, TLS: dbms.TLSNone}},
		{dbms.PostgreSQL, "", Settings{}, dbms.Address{Socket: "/var/run/postgresql", Port: 5432}},
		{dbms.PostgreSQL, "", Settings{Host: "/tmp", Port: "5433"}, dbms.Address{Socket: "/tmp", Port: 5433}},
		{dbms.PostgreSQL, "", Settings{Host: "localhost"}, dbms.Address{Host: "localhost", Port: 5432}},
		{dbms.PostgreSQL, dbms.TLSNone, Settings{Host: "db", SSLMode: "require"}, dbms.Address{Host: "db", Port: 5432, TLS: dbms.TLSRequire}},
		{dbms.PostgreSQL, dbms.TLSNone, Settings{Host: "db", SSLMode: "verify-ca"}, dbms.Address{Host: "db", Port: 5432, TLS: dbms.TLSVerify}},
		{dbms.PostgreSQL, dbms.TLSRequire, Settings{Host: "db", SSLMode: "nonsense"}, dbms.Address{Host: "db", Port: 5432, TLS: dbms.TLSRequire}},
	} {
		assert.Equal(t, row.want, Address(row.has, Server{Product: row.product, TLS: row.tls, Localhost: socket}), "%s: %+v", row.product, row.has)
	}
	for _, mode := range []dbms.TLSMode{dbms.TLSNone, dbms.TLSPrefer, dbms.TLSRequire, dbms.TLSVerify} {
		back, said := modeOf(SSLMode(mode))
		assert.True(t, said)
		assert.Equal(t, mode, back)
	}
}
