package work

import (
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
)

// endpoint is how the application's PHP reaches its server, as its settings have to say it.
type endpoint struct {
	host   string
	port   int
	socket string
	// Trouble says why no endpoint is known; empty if one is.
	Trouble string
}

// WayForApp is the way for an account of the app. Where PHP takes localhost for another
// socket than the server's, that is written where the application has a key for it, else
// the server is reached over TCP, if it listens there and lets the account in by the
// address alone.
func (r *Run) WayForApp(account *estate.Account) endpoint {
	entry := r.Estate.Servers[r.App.Server]
	w := endpoint{host: entry.HostForApps(), port: entry.PortForApps(), socket: r.ServerSocket()}
	if seen := entry.SeenByApps; seen != nil && seen.Socket != "" {
		w.socket = seen.Socket
	}
	other := r.OtherSocket(dbms.Address{Socket: r.PhpSocket()})
	if w.host != "localhost" || other == "" || r.writes("socket") {
		return w
	}
	port := entry.DBMS.DefaultPort()
	if r.View != nil {
		port = r.View.Server.About().LoopbackPort
	}
	overTCP, written := port != 0 && admitsLoopback(account), len(r.App.Settings) > 0
	switch {
	case !written && !overTCP:
	case written && !r.writesHost():
		w.Trouble = other + "; its settings have no place for a host"
	case !overTCP:
		w.Trouble = other
	case written && port != entry.DBMS.DefaultPort() && !r.writes("port"):
		w.Trouble = fmt.Sprintf("%s; its settings have no place for that, nor for its port %d", other, port)
	default:
		w.host, w.port = "127.0.0.1", port
	}
	return w
}

func admitsLoopback(account *estate.Account) bool {
	return slices.ContainsFunc(account.ClientHosts, func(pattern string) bool { return dbms.HostMatches(pattern, "127.0.0.1") })
}

// ServerSocket is the socket that the server listens on.
func (r *Run) ServerSocket() string {
	if entry := r.Estate.Servers[r.App.Server]; entry.Socket != "" {
		return entry.Socket
	}
	if r.View != nil {
		return r.View.Server.About().Socket
	}
	return ""
}

// PhpSocket is the socket that localhost means to the application's PHP where its
// settings do not say: as the estate file says, as PHP is configured on this host, else,
// where there is no PHP, the server's.
func (r *Run) PhpSocket() string {
	entry := r.Estate.Servers[r.App.Server]
	if entry.SeenByApps != nil && entry.SeenByApps.Socket != "" {
		return entry.SeenByApps.Socket
	}
	folder := ""
	if php := r.App.PHP; php != nil {
		folder = php.Configuration
		if php.DropIn && r.Options.Command == "provision" { // which sees to it
			return r.ServerSocket()
		}
	}
	if php, err := r.Host.PHP(folder); err == nil && php != nil {
		return php.DefaultSocket()
	}
	return r.ServerSocket()
}

// OtherSocket says that an address is the socket that PHP takes localhost for, and not
// the server's; empty for any other.
func (r *Run) OtherSocket(a dbms.Address) string {
	entry := r.Estate.Servers[r.App.Server]
	own := r.ServerSocket()
	if seen := entry.SeenByApps; !entry.DBMS.Traits().LocalhostIsSocket || entry.Socket == "" || seen != nil && seen.Socket != "" ||
		a.Socket == "" || a.Socket != r.PhpSocket() || r.Host.SameFile(a.Socket, own) {
		return ""
	}
	return fmt.Sprintf("PHP takes localhost for the socket %s, and server %s listens on %s", a.Socket, entry.Name, own)
}

// writesHost reports whether settings of the app hold the address.
func (r *Run) writesHost() bool {
	return slices.ContainsFunc(r.App.Settings, func(s *estate.Settings) bool { return uses(s, "host") })
}

// writes reports whether settings of the app have a place for the server's port or
// socket, and all that hold the address do.
func (r *Run) writes(part string) bool {
	return slices.ContainsFunc(r.App.Settings, func(s *estate.Settings) bool { return uses(s, part) }) &&
		!slices.ContainsFunc(r.App.Settings, func(s *estate.Settings) bool { return uses(s, "host") && !uses(s, part) })
}

func uses(s *estate.Settings, fact string) bool {
	return slices.ContainsFunc(s.Values, func(v estate.Value) bool { return v.Text.Uses(fact) })
}

// WaysToSocket is what can be done about PHP's socket.
func (r *Run) WaysToSocket(account *estate.Account) string {
	tcp := ""
	if r.View != nil && r.View.Server.About().LoopbackPort != 0 && !admitsLoopback(account) {
		tcp = "write client_hosts: [localhost, 127.0.0.1] for " + account.Name + ", so that it comes over TCP; or "
	}
	return tcp + "write drop_in: true under php, which sets mysqli.default_socket and pdo_mysql.default_socket to " + r.ServerSocket() +
		" in a file of conf.d beside php.ini; or, where another PHP runs the application, write what that sees under seen_by_apps"
}
