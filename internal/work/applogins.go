package work

import (
	"context"
	"net"
	"slices"
	"strings"

	"yellowfield/internal/applogin"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// logins is the room in which they are made.
func (e *Engine) logins() *applogin.Room {
	if e.Room == nil {
		e.Room = &applogin.Room{Deadline: e.LoginTimeout, Open: open}
	}
	return e.Room
}

// serverUsers are users of the system whom servers and their administrators' accounts
// trust, beside root.
var serverUsers = []string{"mysql", "mariadb", "postgres"}

// identity is the user that a login for the app is made as: the user that PHP runs as, where
// that is not known the owner of the app's folder. A user whom the server would let in as more
// than the application is replaced by one that nobody has; stranger says so. Without root the
// program stays the user it is.
func (r *Run) identity() (as applogin.Identity, stranger bool) {
	if !r.Host.IsRoot() {
		return applogin.Identity{}, false
	}
	uid, gid := -1, -1
	if r.App.PHP != nil && r.App.PHP.User != "" {
		if id, err := r.Host.UserID(r.App.PHP.User); err == nil { // else it is another host's
			uid = id
		}
	} else if owner, err := r.Attributes(r.App.Folder); err == nil {
		uid, gid = owner.UID, owner.GID
	}
	if uid <= 0 || r.trustsUser(uid) {
		uid, gid = r.Host.Nobody()
		return applogin.Identity{Switch: true, UID: uid, GID: gid}, true
	}
	groups := slices.DeleteFunc(r.Host.Member(uid, gid), func(gid int) bool { return gid <= 0 })
	if len(groups) == 0 {
		_, gid = r.Host.Nobody()
		groups = []int{gid}
	}
	return applogin.Identity{Switch: true, UID: uid, GID: groups[len(groups)-1], Groups: groups}, false
}

// trustsUser reports whether the app's server could let a user of the system in as more
// than the application: it runs the server, or an administrator's account is its.
func (r *Run) trustsUser(uid int) bool {
	names := slices.Clone(serverUsers)
	for _, name := range estate.Names(r.Estate.Servers) {
		if admin := r.Estate.Servers[name].Admin; admin != nil {
			names = append(names, admin.User)
		}
	}
	if r.View != nil && r.View.Catalogue != nil {
		for account, state := range r.View.Catalogue.Accounts {
			bySystem := state.Verifier.Method() == "unix_socket" || state.Verifier.Method() == "auth_socket"
			if bySystem && len(r.View.Catalogue.Grants(account).Global) > 0 {
				names = append(names, account.User)
			}
		}
	}
	for _, name := range names {
		if id, err := r.Host.UserID(name); name != "" && err == nil && id == uid {
			return true
		}
	}
	entry := r.Estate.Servers[r.App.Server]
	return entry.Socket != "" && r.Host.OwnerOfSocket(entry.Socket) == uid
}

// accountNames are those that a login for the app may be made as: what the estate file lists,
// and what stands in for it while a password is changed.
func (r *Run) accountNames() (names []string) {
	traits := r.Estate.Servers[r.App.Server].DBMS.Traits()
	for _, account := range r.App.Accounts {
		names = append(names, account.Name)
		if !traits.TwoPasswords {
			names = append(names, StandInOf(account.Name, traits))
		}
	}
	return names
}

// Try makes a login with what the app's files say, as the app would, in a process of its own.
// The account has to be one of accountNames. look is the database to look into; nil for none.
func (r *Run) Try(ctx context.Context, login dbms.Login, look *estate.Database) (applogin.Answer, error) {
	names := r.accountNames()
	if !slices.Contains(names, login.User) {
		return applogin.Answer{}, fault.New(fault.Differs, "yellowfield provision "+r.App.Name+" --fix settings",
			"%s is none of the accounts that the estate file lists for %s, and no login was made as it", login.User, r.App.Name)
	}
	q := applogin.Request{Login: login, Product: r.Estate.Servers[r.App.Server].DBMS, Accounts: names, Look: look != nil}
	q.AsApplication, q.Unvouched = true, !r.vouchesFor(login.Address)
	if look != nil {
		q.Tables, _ = r.View.Catalogue.OwnNames(look.Charset, look.Collation)
	}
	as, stranger := r.identity()
	answer, err := r.logins().Try(ctx, as, q)
	if err == nil && !answer.Foreign && len(answer.OnServer) > 0 {
		err = fault.New(fault.Differs, "take the rights away, or give the application an account of its own",
			"%s has rights on the whole server: %s", login.User, strings.Join(answer.OnServer, ", "))
	}
	if stranger && applogin.IsOutOfReach(err) {
		err = &NotSeen{fault.New(fault.Differs, "write the user that PHP runs as under apps."+r.App.Name+": php: {user: NAME}",
			"it is not known whom PHP runs as, and %s is not for everybody", login.Address).With(err)}
	}
	return answer, err
}

// vouchesFor reports whether an address is one of the app's server: the estate file says so, or
// the server itself, which has the port.
func (r *Run) vouchesFor(a dbms.Address) bool {
	entry := r.Estate.Servers[r.App.Server]
	switch {
	case a.Socket != "", a.TLS == dbms.TLSVerify: // which proves who it is
		return true
	case a.Host == entry.Host && a.Port == entry.Port, a.Host == entry.HostForApps() && a.Port == entry.PortForApps():
		return true
	}
	return !a.OverNetwork() && !entry.Address().OverNetwork() && r.View != nil && a.Port == r.View.Server.About().LoopbackPort
}

// NotSeen is a login that could not be tried as the application would make it.
type NotSeen struct{ Why *fault.Error }

func (e *NotSeen) Error() string { return e.Why.Error() }
func (e *NotSeen) Unwrap() error { return e.Why }

// ProveLogin makes sure that a login succeeds, as the account that was meant.
func (r *Run) ProveLogin(ctx context.Context, login dbms.Login) error {
	answer, err := r.Try(ctx, login, nil)
	if user := dbms.ParseAccount(answer.State.CurrentUser).User; err == nil && user != login.User {
		err = fault.New(fault.Failed, "remove the anonymous account on the server", "the server took %s for %s", login.User, answer.State.CurrentUser)
	}
	return err
}

// Lets reports whether a server lets a login in, whoever it is: nothing is asked after it.
func (r *Run) Lets(ctx context.Context, login dbms.Login) bool {
	as, _ := r.identity()
	login.AsApplication, login.Unvouched = true, !r.vouchesFor(login.Address)
	_, err := r.logins().Try(ctx, as, applogin.Request{Login: login, Product: r.Estate.Servers[r.App.Server].DBMS})
	return err == nil
}

// Open logs in to the app's server as one of its accounts, for work that takes more than a
// few answers: on the way to the server that the estate file gives, as the identity that the
// application has.
func (r *Run) Open(ctx context.Context, login dbms.Login) (dbms.Server, error) {
	if !slices.Contains(r.accountNames(), login.User) {
		return nil, fault.New(fault.Protected, "list it under apps."+r.App.Name+".accounts", "%s is no account of the app %s", login.User, r.App.Name)
	}
	if as, _ := r.identity(); as.Switch {
		room := r.logins()
		login.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			return room.Dial(ctx, as, network, address)
		}
	}
	login.AsApplication = true
	server, err := open(ctx, r.Estate.Servers[r.App.Server].DBMS, login)
	if err != nil {
		return nil, err
	}
	if own := dbms.ParseAccount(server.CurrentUser()).User; own != login.User {
		server.Close()
		return nil, fault.New(fault.Failed, "remove the anonymous account on the server", "server %s took %s for %s", login.Server, login.User, server.CurrentUser())
	}
	return server, nil
}

// OpenAs is open on either way to the server: host-based rules may let the account in only
// the way the application comes, and our own socket may be for others.
func (r *Run) OpenAs(ctx context.Context, account *estate.Account, password secret.Password, database string) (dbms.Server, error) {
	entry := r.Estate.Servers[r.App.Server]
	login := dbms.Login{Server: r.App.Server, Address: entry.Address(), User: account.Name, Password: password, Database: database}
	server, err := r.Open(ctx, login)
	refused := dbms.CauseOf(err) == dbms.WrongLogin && !entry.DBMS.Traits().HostsInAccounts || applogin.IsOutOfReach(err)
	if theirs := r.AddressFrom(r.Facts(account, password)); refused && theirs != login.Address {
		login.Address = theirs
		if server, second := r.Open(ctx, login); second == nil {
			return server, nil
		}
	}
	return server, err
}

// ServeLogins makes logins for the program that has started this process, and ends it,
// where that is what it was started for. main calls it before all else.
func ServeLogins() { applogin.Serve(open) }
