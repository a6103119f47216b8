package postgres

import (
	"context"
	"net"
	"time"
)

// Answers reports whether a PostgreSQL server listens at a socket. It is asked
// whether it would speak TLS, which it answers with one letter before anyone
// logs in (PostgreSQL, "Message Formats": SSLRequest).
func Answers(ctx context.Context, socket string) bool {
	const patience = 3 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	connection, err := (&net.Dialer{}).DialContext(ctx, "unix", socket)
	if err != nil {
		return false
	}
	defer func() { _ = connection.Close() }()
	_ = connection.SetDeadline(time.Now().Add(patience))
	question := []byte{0, 0, 0, 8, 4, 210, 22, 47} // length 8, code 80877103
	answer := make([]byte, 1)
	if _, err := connection.Write(question); err != nil {
		return false
	}
	n, err := connection.Read(answer)
	return err == nil && n == 1 && (answer[0] == 'S' || answer[0] == 'N')
}
