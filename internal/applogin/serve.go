package applogin

import (
	"context"
	"io"
	"net"
	"os"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
)

// ProcessName is what a login's process is called: how the program knows, when it is
// started, that it is one.
const ProcessName = "yellowfield-login"

// Opener logs in to a server of a product.
type Opener func(ctx context.Context, product dbms.Product, login dbms.Login) (dbms.Server, error)

// Serve makes logins for the process that has started this one, and ends it, where that is
// what it was started for; else it returns at once. It has to be called before anything
// else is done.
func Serve(open Opener) {
	if len(os.Args) != 1 || os.Args[0] != ProcessName {
		return
	}
	line, err := inherited()
	if err != nil {
		os.Exit(2)
	}
	var as Identity
	if err := readFrame(line, &as); err != nil {
		os.Exit(2)
	}
	if err := confine(as); err != nil {
		_ = writeFrame(line, say(err))
		os.Exit(2)
	}
	if err := writeFrame(line, (*said)(nil)); err != nil {
		os.Exit(2)
	}
	answer(line, open)
	os.Exit(0)
}

// line is the way to the process that has started this one.
type line interface {
	io.ReadWriter
	// writeConn hands a connection over.
	writeConn(net.Conn) error
}

// answer answers messages one by one until the other end is closed, which it watches for
// meanwhile: a login does not outlive the program.
func answer(line line, open Opener) {
	messages := make(chan message)
	go func() {
		for {
			var m message
			if readFrame(line, &m) != nil {
				os.Exit(0)
			}
			messages <- m
		}
	}()
	for m := range messages {
		var reply reply
		var conn net.Conn
		switch {
		case m.Try != nil:
			ctx, cancel := context.WithTimeout(context.Background(), m.Try.Deadline)
			var err error
			reply.Answer, err = try(ctx, m.Try, open)
			if err != nil && ctx.Err() != nil {
				err = TimedOut(m.Try.login(), m.Try.Deadline)
			}
			reply.Fault = say(err)
			cancel()
		case m.Dial != nil:
			var err error
			dialer := net.Dialer{Timeout: m.Dial.Deadline}
			conn, err = dialer.Dial(m.Dial.Network, m.Dial.Address)
			reply.Fault = say(err)
		}
		err := writeFrame(line, reply)
		if err == nil && conn != nil {
			err = line.writeConn(conn)
			_ = conn.Close()
		}
		if err != nil {
			return
		}
	}
}

// try makes a login and looks around.
func try(ctx context.Context, t *trial, open Opener) (a Answer, err error) {
	server, err := open(ctx, t.Product, t.login())
	if err != nil {
		return a, err
	}
	defer server.Close()
	if len(t.Accounts) == 0 {
		return a, nil
	}
	if a.State, err = server.SessionState(ctx); err != nil {
		return a, err
	}
	for _, text := range []*string{&a.State.CurrentUser, &a.State.Database, &a.State.Charset, &a.State.ReadOnly} {
		*text = short(*text)
	}
	if user := dbms.ParseAccount(a.State.CurrentUser).User; !slices.Contains(t.Accounts, user) {
		a.Foreign = true
		return a, nil
	}
	if a.OnServer, err = server.OwnRightsOnServer(ctx); err != nil || len(a.OnServer) > 0 || !t.Look {
		return a, err
	}
	tables, err := server.Tables(ctx, t.Database)
	if err != nil {
		return a, err
	}
	for _, table := range tables {
		if !table.View {
			a.Tables++
			own := strings.HasPrefix(table.Collation, t.Tables+"_") || table.Collation == t.Tables // the set "binary" has one of its own name
			a.OtherCharset = a.OtherCharset || !own
		}
	}
	return a, nil
}
