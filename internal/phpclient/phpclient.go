// Package phpclient says what PHP makes of an address that stands in an application's
// settings: localhost, ports, sockets, TLS. All of it is pure functions.
//
// It must never know of estate files, settings files or connections.
package phpclient

import (
	"net"
	"strconv"
	"strings"

	"yellowfield/internal/dbms"
)

// Settings are the parts of an address as an application's settings have them; what
// they do not have is empty.
type Settings struct{ Host, Port, Socket, SSLMode string }

// Server is what is known of the server from elsewhere: how a TCP connection to it is
// encrypted and checked, and the socket that localhost means to the application's PHP.
type Server struct {
	Product dbms.Product
	TLS     dbms.TLSMode
	CA      string
	// Certificate is as in dbms.Address.
	Certificate string
	Localhost   string
}

// Address is where PHP connects to.
func Address(s Settings, server Server) dbms.Address {
	if server.Product.Traits().LocalhostIsSocket {
		return mysqlAddress(s, server)
	}
	return postgresAddress(s, server)
}

// mysqlAddress: localhost, or no host, is the socket, whatever port is written beside
// it (PHP manual, "mysqli::__construct"; PDO_MYSQL behaves alike).
func mysqlAddress(s Settings, server Server) dbms.Address {
	host, port := s.Host, s.Port
	if h, p, err := net.SplitHostPort(host); err == nil && p != "" {
		host, port = h, p // mysqli takes "host:port" in one
		if strings.EqualFold(host, "localhost") {
			host = "127.0.0.1" // with a port in it, it is TCP
		}
	}
	if host == "" || strings.EqualFold(host, "localhost") {
		if s.Socket != "" {
			return dbms.Address{Socket: s.Socket}
		}
		return dbms.Address{Socket: server.Localhost}
	}
	address := overTCP(host, port, server)
	if address.TLS == dbms.TLSPrefer || address.TLS == "" {
		address.TLS = dbms.TLSNone // PHP encrypts when it is told to, and not because it can
	}
	return address
}

// postgresAddress goes by libpq's rules: a host that begins with a slash is the folder
// of the socket, none is the usual folder (PostgreSQL, "Parameter Key Words").
func postgresAddress(s Settings, server Server) dbms.Address {
	const usualFolder = "/var/run/postgresql"
	switch {
	case s.Host == "":
		return dbms.Address{Socket: usualFolder, Port: overTCP("", s.Port, server).Port}
	case strings.HasPrefix(s.Host, "/"):
		return dbms.Address{Socket: s.Host, Port: overTCP("", s.Port, server).Port}
	}
	address := overTCP(s.Host, s.Port, server)
	if mode, said := modeOf(s.SSLMode); said {
		address.TLS = mode
	}
	return address
}

func overTCP(host, port string, server Server) dbms.Address {
	number, err := strconv.Atoi(port)
	if err != nil {
		number = server.Product.DefaultPort()
	}
	return dbms.Address{Host: host, Port: number, TLS: server.TLS, CA: server.CA, Certificate: server.Certificate}
}

// sslModes are libpq's words for how a connection is encrypted (PostgreSQL, "SSL
// Support").
var sslModes = map[dbms.TLSMode]string{"": "prefer", dbms.TLSNone: "disable", dbms.TLSPrefer: "prefer", dbms.TLSRequire: "require", dbms.TLSVerify: "verify-full"}

// SSLMode is libpq's word for a mode.
func SSLMode(mode dbms.TLSMode) string { return sslModes[mode] }

// modeOf is the mode of a word of libpq's; said is false for none.
func modeOf(sslmode string) (mode dbms.TLSMode, said bool) {
	switch sslmode {
	case "allow":
		return dbms.TLSPrefer, true
	case "verify-ca":
		return dbms.TLSVerify, true
	}
	for mode, word := range sslModes {
		if word == sslmode && mode != "" {
			return mode, true
		}
	}
	return "", false
}
