package dbms

import (
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"net"
	"os"
	"strings"

	"yellowfield/internal/fault"
)

// Unreachable explains a login that failed before any server spoke.
func Unreachable(l Login, err error) error {
	next := "check that the server is running and that the address in the estate file is right"
	class := fault.OutOfReach
	if l.AsApplication { // the administrator got there: the settings are wrong
		class = fault.Failed
	}
	var known *fault.Error
	switch {
	case errors.As(err, &known): // of who connects for somebody else
		return err
	case errors.Is(err, context.Canceled):
		return fault.Stopped(err)
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(class, next, "server %s cannot be reached: there is no socket %s", l.Server, l.Address.Socket).With(err)
	case errors.Is(err, fs.ErrPermission) && l.AsApplication:
		next = "let the user that PHP runs as go to the socket, by the mode or the group of its folder"
	case errors.Is(err, fs.ErrPermission):
		next = "run as a user who may open the socket"
	}
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return unproved(l, certificate)
	}
	cause := err
	var op *net.OpError
	if errors.As(err, &op) {
		cause = op.Err
		var call *os.SyscallError
		if errors.As(cause, &call) {
			cause = call.Err
		}
	}
	return fault.New(class, next, "server %s cannot be reached at %s: %v", l.Server, l.Address, cause).With(err)
}

// Lost explains a connection that ended while something was sent.
func Lost(server string, err error) error {
	if errors.Is(err, context.Canceled) {
		return fault.Stopped(err)
	}
	return fault.New(fault.Failed, "look at the server's error log, then run the command again", "server %s ended the connection: %v", server, err).With(errors.Join(errLost, err))
}

var errLost = errors.New("the connection was lost")

// IsLost reports an error of Lost: what was sent last may have been done or not.
func IsLost(err error) bool { return errors.Is(err, errLost) }

const shownStatement = 160 // characters of a statement in a message

// Shorten gives a statement as it fits into a message.
func Shorten(statement string) string {
	text := strings.Join(strings.Fields(statement), " ")
	if len(text) > shownStatement {
		return text[:shownStatement] + " ..."
	}
	return text
}
