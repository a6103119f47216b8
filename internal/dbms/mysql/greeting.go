package mysql

import (
	"context"
	"net"
	"strings"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
)

// Greeting finds out which server listens at a socket. A server tells its version before
// anyone logs in (MySQL Internals, "Protocol::HandshakeV10"), so that no account is needed.
func Greeting(ctx context.Context, socket string) (product dbms.Product, version string, err error) {
	const patience = 3 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	unknown := fault.New(fault.Failed, "name the server in the estate file", "no MariaDB or MySQL answers at the socket %s", socket)
	connection, err := (&net.Dialer{}).DialContext(ctx, "unix", socket)
	if err != nil {
		return "", "", unknown.With(err)
	}
	defer func() { _ = connection.Close() }()
	_ = connection.SetDeadline(time.Now().Add(patience))
	// Three bytes of length, one of sequence, one of the protocol's version,
	// then the server's version up to a zero.
	const header, protocol = 4, 10
	packet := make([]byte, 256)
	n, err := connection.Read(packet)
	if err != nil || n <= header+1 || packet[header] != protocol {
		return "", "", unknown.With(err)
	}
	version, _, ended := strings.Cut(string(packet[header+1:n]), "\x00")
	if !ended {
		return "", "", unknown
	}
	// MariaDB puts a version in front that old replicas understand.
	version = strings.TrimPrefix(version, "5.5.5-")
	if strings.Contains(version, "MariaDB") {
		return dbms.MariaDB, version, nil
	}
	return dbms.MySQL, version, nil
}
