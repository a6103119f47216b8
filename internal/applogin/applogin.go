// Package applogin is the one place where logins are made with what an application's files
// say. Whoever owns these files chooses the server, the account and the password, while this
// program may be root and the server's administrator: a server can let root in because it is
// root, and one of the owner's can be mute, endless or malformed. So each login is made by a
// process of its own, which has the identity of the application's user, no file, no
// environment, little memory and a deadline, and which answers with a few bounded facts.
// Whatever it meets there can end that process only, and affects one application.
//
// It must never know of estate files, settings files or of what a login is for.
package applogin

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"sync"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
)

// Identity is whom the operating system takes a login for. The zero value is whoever
// runs the program, which is right for anyone but root.
type Identity struct {
	Switch bool // to the user and the groups below, which only root can
	UID    int
	GID    int
	Groups []int
}

// equal reports whether two identities are the same.
func (i Identity) equal(other Identity) bool {
	return i.Switch == other.Switch && i.UID == other.UID && i.GID == other.GID && slices.Equal(i.Groups, other.Groups)
}

// Request is what is asked of a login.
type Request struct {
	dbms.Login
	Product dbms.Product
	// Accounts are the names that the server may take the login for. If there are none, no
	// query follows the login.
	Accounts []string
	// Look asks what the login sees in its database, whose tables are to have the character
	// set Tables, as the server calls it.
	Look   bool
	Tables string
}

// Answer is what a login has met.
type Answer struct {
	State dbms.SessionState
	// Foreign says that the server took the login for an account that is none of
	// Request.Accounts. Nothing more was asked then.
	Foreign bool
	// OnServer are the rights that the account has on the whole server. Nothing more was
	// asked of one that has any.
	OnServer []string
	Tables   int // without views
	// OtherCharset says that some have another character set than Request.Tables.
	OtherCharset bool
}

// Room makes logins. Any number of goroutines may use it; only one may close it.
type Room struct {
	// Deadline is how long a login may take, with all the queries that follow it.
	Deadline time.Duration
	// Open makes the logins on systems where a process cannot change its identity.
	Open Opener

	mutex sync.Mutex
	child *child // as whom the last login was made; nil for none
}

// DefaultDeadline is long for a server at work, and short for a run of many applications.
const DefaultDeadline = 10 * time.Second

// Close ends the room's process.
func (r *Room) Close() {
	if r == nil {
		return
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.leave()
}

func (r *Room) leave() {
	if r.child != nil {
		r.child.end()
		r.child = nil
	}
}

// Try makes one login. An error is what the server or the system said, as dbms says it of
// a login of this program's own, or a fault that says how the login's process ended.
func (r *Room) Try(ctx context.Context, as Identity, q Request) (Answer, error) {
	trusted, err := q.Address.TrustedCertificates(q.Server)
	if err != nil {
		return Answer{}, err
	}
	asked := newTrial(q, trusted, r.deadline())
	if !separate {
		ctx, cancel := context.WithTimeout(ctx, asked.Deadline)
		defer cancel()
		return try(ctx, asked, r.Open)
	}
	var reply reply
	err = r.ask(ctx, as, message{Try: asked}, func(c *child) error { return c.read(&reply) })
	if err != nil {
		return Answer{}, r.broken(ctx, q.Login, err)
	}
	return reply.Answer, reply.Fault.error()
}

// Dial connects as an identity, and gives the connection to this process: what a server
// learns of a socket's other end is whose it was when it was connected.
func (r *Room) Dial(ctx context.Context, as Identity, network, address string) (net.Conn, error) {
	var conn net.Conn
	var reply reply
	err := r.ask(ctx, as, message{Dial: &dialling{Network: network, Address: address, Deadline: r.deadline()}}, func(c *child) (err error) {
		if err = c.read(&reply); err == nil && reply.Fault == nil {
			conn, err = c.readConn()
		}
		return err
	})
	switch refused := reply.Fault; {
	case err != nil:
		return nil, err
	case refused != nil && refused.Errno != 0:
		return nil, &net.OpError{Op: "dial", Net: network, Err: refused.Errno}
	case refused != nil:
		return nil, &net.OpError{Op: "dial", Net: network, Err: refused.error()}
	}
	return conn, nil
}

func (r *Room) deadline() time.Duration {
	if r.Deadline > 0 {
		return r.Deadline
	}
	return DefaultDeadline
}

// ask sends one message to a process with an identity and has the answer read. A process
// that failed to answer is ended.
func (r *Room) ask(ctx context.Context, as Identity, m message, read func(*child) error) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.child != nil && !r.child.as.equal(as) {
		r.leave()
	}
	if r.child == nil {
		c, err := start(ctx, as)
		if err != nil {
			return err
		}
		r.child = c
	}
	err := r.child.within(ctx, r.deadline()+grace, func() error {
		if err := r.child.write(m); err != nil {
			return err
		}
		return read(r.child)
	})
	if err != nil {
		r.leave()
	}
	return err
}

// grace is the time that a process has after a login's deadline to report that itself.
const grace = 3 * time.Second

// broken explains why a login's process gave no answer.
func (r *Room) broken(ctx context.Context, l dbms.Login, err error) error {
	var known *fault.Error
	switch {
	case ctx.Err() != nil:
		return fault.Stopped(ctx.Err())
	case errors.As(err, &known):
		return err
	case isTimeout(err):
		return TimedOut(l, r.deadline())
	}
	return fault.New(fault.Failed, "is this the right server? The settings file names it",
		"the server at %s answers as no database server does, and the login as %s was given up: %v", l.Address, l.User, err).With(err)
}

// TimedOut is the fault of a login that took longer than it may.
func TimedOut(l dbms.Login, deadline time.Duration) *fault.Error {
	return fault.New(fault.Failed, "look whether the server at that address answers others; --login-timeout gives a slow one more time",
		"the server at %s has not answered the login as %s within %s", l.Address, l.User, deadline)
}

func isTimeout(err error) bool {
	var network net.Error
	return errors.As(err, &network) && network.Timeout() || errors.Is(err, context.DeadlineExceeded)
}

// IsOutOfReach reports whether an identity may not go to the socket of a server.
func IsOutOfReach(err error) bool { return errors.Is(err, fs.ErrPermission) }

// describe names an identity by its number.
func (i Identity) describe() string {
	if !i.Switch {
		return "this user"
	}
	return fmt.Sprintf("the user with the number %d", i.UID)
}
