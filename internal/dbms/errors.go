package dbms

import (
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"net"
	"os"
	"strings"

	"yellowfield/internal/dbms/heartbeat"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
)

// TooMuch explains that nothing is done with a database that holds more than is kept account of.
func TooMuch(server, database string) *fault.Error {
	return fault.New(fault.Failed, "look what makes so many there; when they are dropped, run the command again",
		"server %s: %s holds too many objects to keep account of: the names of its tables, views, routines, triggers and events are longer than %s together", server, database, figures.Size(mostNames))
}

// MostAnswered is how many bytes of an answer to a query are kept.
const MostAnswered = 48 << 20

// TooLong explains an answer beyond MostAnswered.
func TooLong(server, query string) *fault.Error {
	return fault.New(fault.Failed, "look who has made so many; the statement was: "+Shorten(query), "server %s: an answer is longer than %s", server, figures.Size(MostAnswered)).With(errTooLong)
}

var errTooLong = errors.New("the answer is too long")

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
	case errors.Is(err, heartbeat.ErrSilent):
		return silent(l.Server).With(err)
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
	switch {
	case errors.Is(err, context.Canceled):
		return fault.Stopped(err)
	case errors.Is(err, errTooLong): // we ended it
		return err
	case errors.Is(err, heartbeat.ErrSilent):
		return silent(server).With(errors.Join(errLost, err))
	}
	return fault.New(fault.Failed, "look at the server's error log, then run the command again", "server %s ended the connection: %v", server, err).With(errors.Join(errLost, err))
}

func silent(server string) *fault.Error {
	return fault.New(fault.OutOfReach, "is its process stopped, or its disk hung? Look at its host, then run the command again", "server %s has fallen silent: it takes connections, and has answered none of them for %v", server, heartbeat.Limit)
}

var errLost = errors.New("the connection was lost")

// IsLost reports an error of Lost: what was sent last may have been done or not.
func IsLost(err error) bool { return errors.Is(err, errLost) }

// ClassOf is the class of a refused login: a limit of connections passes.
func ClassOf(cause Cause) fault.Class {
	if cause == TooMany {
		return fault.Busy
	}
	return fault.Failed
}

// MakeRoom is the next step where a disk of the server is full.
const MakeRoom = "make room on the server's disk, then run the command again"

// NextAfter is the next step after an error of which no better one is known.
func NextAfter(statement string, cause Cause) string {
	switch {
	case cause == NoRoom:
		return MakeRoom
	case cause == TooMany:
		return "try again when others have logged out, or raise the limit"
	case strings.TrimSpace(statement) == "":
		return "the server's log may say more"
	}
	return "the statement was: " + Shorten(statement)
}

// Explained gives a server's own words their server and a next step; other errors stay as they are.
func Explained(err error) error {
	var known *fault.Error
	var spoken *ServerError
	if errors.As(err, &known) || !errors.As(err, &spoken) {
		return err
	}
	return fault.New(fault.Failed, NextAfter(spoken.Statement, spoken.Cause), "server %s: %v", spoken.Server, err).With(err)
}

const shownStatement = 160 // characters of a statement in a message

// Shorten gives a statement as it fits into a message.
func Shorten(statement string) string {
	text := strings.Join(strings.Fields(statement), " ")
	if len(text) > shownStatement {
		return text[:shownStatement] + " ..."
	}
	return text
}
