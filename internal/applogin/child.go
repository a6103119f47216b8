package applogin

import (
	"context"
	"net"
	"os/exec"
	"time"

	"yellowfield/internal/fault"
)

// child is a login's process, as the program sees it.
type child struct {
	as      Identity
	process *exec.Cmd
	line    parentLine
	ended   chan error // how the process ended
}

// parentLine is the way to a login's process.
type parentLine interface {
	net.Conn
	// readConn takes a connection that was handed over.
	readConn() (net.Conn, error)
}

// startTime is long enough for a machine that is busy.
const startTime = 30 * time.Second

// start starts a process with an identity, and waits until it has taken it.
func start(ctx context.Context, as Identity) (*child, error) {
	failed := func(err error) error {
		return fault.New(fault.Failed, "this program starts itself for a login: may it be executed, and are there processes left?",
			"no process can be started that logs in as %s: %v", as.describe(), err).With(err)
	}
	process, line, err := launch()
	if err != nil {
		return nil, failed(err)
	}
	c := &child{as: as, process: process, line: line, ended: make(chan error, 1)}
	go func() { c.ended <- process.Wait() }()
	var refused *said
	err = c.within(ctx, startTime, func() error {
		if err := writeFrame(line, as); err != nil {
			return err
		}
		return readFrame(line, &refused)
	})
	if err == nil {
		err = refused.error()
	}
	if err != nil {
		c.end()
		if ctx.Err() != nil {
			return nil, fault.Stopped(ctx.Err())
		}
		return nil, failed(err)
	}
	return c, nil
}

func (c *child) write(m message) error       { return writeFrame(c.line, m) }
func (c *child) read(into any) error         { return readFrame(c.line, into) }
func (c *child) readConn() (net.Conn, error) { return c.line.readConn() }

// within does something for at most a time, and until ctx is done. After an error the
// connection to the process is unusable.
func (c *child) within(ctx context.Context, most time.Duration, do func() error) error {
	if err := c.line.SetDeadline(time.Now().Add(most)); err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = c.line.SetDeadline(time.Now()) })
	defer stop()
	return do()
}

// end ends the process, and waits for its end.
func (c *child) end() {
	_ = c.line.Close()
	_ = c.process.Process.Kill()
	<-c.ended
}
