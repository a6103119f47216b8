// Package heartbeat ends connections to a server that has fallen silent: one that takes what is
// sent and answers nobody, because its process is stopped, its disk hangs, or the network in
// between swallows packets. The connection itself does not show it, and a statement may rightly
// run for hours, so the server is asked on another connection meanwhile.
//
// It must never know a server's protocol: whoever connects says how the server is asked.
package heartbeat

import (
	"context"
	"errors"
	"net"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"
)

// Limit is how long a server may take to answer that it is there.
const Limit = 5 * time.Second

const (
	patience = 500 * time.Millisecond // that a connection waits before the server is asked
	retry    = time.Second            // that a server which has been silent has for an answer
	known    = 3 * time.Second        // that it is taken for silent without being asked
)

// ErrSilent says that the server answers nobody.
var ErrSilent = errors.New("the server answers nobody")

// Dial connects to a server.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Watch keeps an eye on the connections of one login.
type Watch struct {
	dial    Dial
	ask     func(ctx context.Context) error
	server  *server
	running bool // somebody looks after the connections
}

// server is what all watches of an address share: one of them finds out for all.
type server struct {
	mutex  sync.Mutex
	conns  map[*conn]bool
	asks   []*Watch  // that are open; the first one asks for all
	silent time.Time // when it did not answer last; zero when it did
}

var (
	mutex   sync.Mutex
	servers = map[string]*server{} // by address
)

func at(address string) *server {
	mutex.Lock()
	defer mutex.Unlock()
	if servers[address] == nil {
		servers[address] = &server{conns: map[*conn]bool{}}
	}
	return servers[address]
}

// Silent reports whether the server at an address has not answered when it was asked last.
func Silent(address string) bool {
	s := at(address)
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return !s.silent.IsZero()
}

// New watches the connections to an address that Watch.Dial makes by way of dial; nil for a plain
// one. ask has the server answer something, on a connection of its own that is not watched and
// best opened before it is needed: a server that waits for room on its disk answers those that it
// has, and takes no login. Whatever it answers, a refusal as well, shows that it is there.
func New(address string, dial Dial, ask func(ctx context.Context) error) *Watch {
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	w := &Watch{dial: dial, ask: ask, server: at(address)}
	w.server.mutex.Lock()
	defer w.server.mutex.Unlock()
	w.server.asks = append(w.server.asks, w)
	return w
}

// Close ends that others ask by way of this watch.
func (w *Watch) Close() {
	w.server.mutex.Lock()
	defer w.server.mutex.Unlock()
	w.server.asks = slices.DeleteFunc(w.server.asks, func(other *Watch) bool { return other == w })
}

// Dial connects. It gives ErrSilent at once where the server still answers nobody.
func (w *Watch) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	w.server.mutex.Lock()
	since := w.server.silent
	w.server.mutex.Unlock()
	if !since.IsZero() && (time.Since(since) < known || !w.answers(ctx, retry)) {
		return nil, ErrSilent
	}
	plain, err := w.dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	c := &conn{Conn: plain, watch: w}
	w.server.mutex.Lock()
	defer w.server.mutex.Unlock()
	if w.server.conns[c] = true; !w.running {
		w.running = true
		go w.run()
	}
	if system, is := plain.(syscall.Conn); is { // with which drivers see whether an idle one was closed
		return struct {
			*conn
			syscall.Conn
		}{c, system}, nil
	}
	return c, nil
}

// run looks after the connections until there are none.
func (w *Watch) run() {
	for range time.Tick(patience) {
		w.server.mutex.Lock()
		waits, any := false, false
		for c := range w.server.conns {
			if c.watch == w {
				any, waits = true, waits || c.waits()
			}
		}
		w.running = any
		w.server.mutex.Unlock()
		if !any {
			return
		}
		if waits {
			w.answers(context.Background(), Limit)
		}
	}
}

// answers asks the server, and ends all connections to it where it does not answer.
func (w *Watch) answers(ctx context.Context, within time.Duration) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), within)
	defer cancel()
	s, ask := w.server, w.ask
	s.mutex.Lock()
	if len(s.asks) > 0 {
		ask = s.asks[0].ask
	}
	s.mutex.Unlock()
	_ = ask(ctx)
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if ctx.Err() == nil {
		s.silent = time.Time{}
		return true
	}
	s.silent = time.Now()
	for c := range s.conns {
		_ = c.Conn.Close() // which ends what waits; its owner closes it, too
	}
	return false
}

// conn is a connection that is watched.
type conn struct {
	net.Conn
	watch            *Watch
	reading, writing time.Time // since when; guarded by the watch's mutex
}

// waits reports whether something has waited for a while.
func (c *conn) waits() bool {
	return !c.reading.IsZero() && time.Since(c.reading) > patience || !c.writing.IsZero() && time.Since(c.writing) > patience
}

func (c *conn) Read(into []byte) (int, error) {
	return c.timed(&c.reading, func() (int, error) { return c.Conn.Read(into) })
}

func (c *conn) Write(text []byte) (int, error) {
	return c.timed(&c.writing, func() (int, error) { return c.Conn.Write(text) })
}

func (c *conn) timed(since *time.Time, do func() (int, error)) (int, error) {
	note := func(at time.Time) (silent bool) {
		c.watch.server.mutex.Lock()
		defer c.watch.server.mutex.Unlock()
		*since = at
		return !c.watch.server.silent.IsZero()
	}
	note(time.Now())
	n, err := do()
	if note(time.Time{}) && err != nil && !errors.Is(err, os.ErrDeadlineExceeded) { // the owner's
		err = ErrSilent
	}
	return n, err
}

func (c *conn) Close() error {
	c.watch.server.mutex.Lock()
	delete(c.watch.server.conns, c)
	c.watch.server.mutex.Unlock()
	return c.Conn.Close()
}
