package provision

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
func (e *Base) logins() *applogin.Room {
	if e.room == nil {
		e.room = &applogin.Room{Deadline: e.LoginTimeout, Open: open}
	}
	return e.room
}

// serverUsers are users of the system whom servers and their administrators' accounts
// trust, beside root.
var serverUsers = []string{"mysql", "mariadb", "postgres"}

// identity is whom a login for the app is made as: the user that PHP runs as, where that is
// not known the owner of the app's folder. One whom the server would let in as more than the
// application is replaced by a user that nobody is; stranger says so. Who is not root stays
// who it is.
func (r *run) identity() (as applogin.Identity, stranger bool) {
	if !r.Host.IsRoot() {
		return applogin.Identity{}, false
	}
	uid, gid := -1, -1
	if r.app.PHP != nil && r.app.PHP.User != "" {
		if id, err := r.Host.UserID(r.app.PHP.User); err == nil { // else it is another host's
			uid = id
		}
	} else if owner, err := r.attributes(r.app.Folder); err == nil {
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
func (r *run) trustsUser(uid int) bool {
	names := slices.Clone(serverUsers)
	for _, name := range estate.Names(r.Estate.Servers) {
		if admin := r.Estate.Servers[name].Admin; admin != nil {
			names = append(names, admin.User)
		}
	}
	if r.view != nil && r.view.catalogue != nil {
		for account, state := range r.view.catalogue.Accounts {
			bySystem := state.Verifier.Method() == "unix_socket" || state.Verifier.Method() == "auth_socket"
			if bySystem && len(r.view.catalogue.Grants(account).Global) > 0 {
				names = append(names, account.User)
			}
		}
	}
	for _, name := range names {
		if id, err := r.Host.UserID(name); name != "" && err == nil && id == uid {
			return true
		}
	}
	entry := r.Estate.Servers[r.app.Server]
	return entry.Socket != "" && r.Host.OwnerOfSocket(entry.Socket) == uid
}

// accountNames are those that a login for the app may be made as: what the estate file lists,
// and what stands in for it while a password is changed.
func (r *run) accountNames() (names []string) {
	traits := r.Estate.Servers[r.app.Server].DBMS.Traits()
	for _, account := range r.app.Accounts {
		names = append(names, account.Name)
		if !traits.TwoPasswords {
			names = append(names, standInOf(account.Name, traits))
		}
	}
	return names
}

// try makes a login with what the app's files say, as the app would, in a process of its own.
// The account has to be one of accountNames. look is the database to look into; nil for none.
func (r *run) try(ctx context.Context, login dbms.Login, look *estate.Database) (applogin.Answer, error) {
	names := r.accountNames()
	if !slices.Contains(names, login.User) {
		return applogin.Answer{}, fault.New(fault.Differs, "yellowfield provision "+r.app.Name+" --fix settings",
			"%s is none of the accounts that the estate file lists for %s, and no login was made as it", login.User, r.app.Name)
	}
	q := applogin.Request{Login: login, Product: r.Estate.Servers[r.app.Server].DBMS, Accounts: names, Look: look != nil}
	q.AsApplication = true
	if look != nil {
		q.Tables, _ = r.view.catalogue.OwnNames(look.Charset, look.Collation)
	}
	as, stranger := r.identity()
	answer, err := r.logins().Try(ctx, as, q)
	if err == nil && !answer.Foreign && len(answer.OnServer) > 0 {
		err = fault.New(fault.Differs, "take the rights away, or give the application an account of its own",
			"%s has rights on the whole server: %s", login.User, strings.Join(answer.OnServer, ", "))
	}
	if stranger && applogin.IsOutOfReach(err) {
		err = &notSeen{fault.New(fault.Differs, "write the user that PHP runs as under apps."+r.app.Name+": php: {user: NAME}",
			"it is not known whom PHP runs as, and %s is not for everybody", login.Address).With(err)}
	}
	return answer, err
}

// notSeen is a login that could not be tried as the application would make it.
type notSeen struct{ why *fault.Error }

func (e *notSeen) Error() string { return e.why.Error() }
func (e *notSeen) Unwrap() error { return e.why }

// proveLogin makes sure that a login succeeds, as the account that was meant.
func (r *run) proveLogin(ctx context.Context, login dbms.Login) error {
	answer, err := r.try(ctx, login, nil)
	if user := dbms.ParseAccount(answer.State.CurrentUser).User; err == nil && user != login.User {
		err = fault.New(fault.Failed, "remove the anonymous account on the server", "the server took %s for %s", login.User, answer.State.CurrentUser)
	}
	return err
}

// lets reports whether a server lets a login in, whoever it is: nothing is asked behind it.
func (r *run) lets(ctx context.Context, login dbms.Login) bool {
	as, _ := r.identity()
	login.AsApplication = true
	_, err := r.logins().Try(ctx, as, applogin.Request{Login: login, Product: r.Estate.Servers[r.app.Server].DBMS})
	return err == nil
}

// open logs in to the app's server as one of its accounts, for work that takes more than a
// few answers: on the way to the server that the estate file gives, as the identity that the
// application has.
func (r *run) open(ctx context.Context, login dbms.Login) (dbms.Server, error) {
	if !slices.Contains(r.accountNames(), login.User) {
		return nil, fault.New(fault.Protected, "list it under apps."+r.app.Name+".accounts", "%s is no account of the app %s", login.User, r.app.Name)
	}
	if as, _ := r.identity(); as.Switch {
		room := r.logins()
		login.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			return room.Dial(ctx, as, network, address)
		}
	}
	login.AsApplication = true
	server, err := open(ctx, r.Estate.Servers[r.app.Server].DBMS, login)
	if err != nil {
		return nil, err
	}
	if own := dbms.ParseAccount(server.CurrentUser()).User; own != login.User {
		server.Close()
		return nil, fault.New(fault.Failed, "remove the anonymous account on the server", "server %s took %s for %s", login.Server, login.User, server.CurrentUser())
	}
	return server, nil
}

// openAs is open on either way to the server: host-based rules may let the account in only
// the way the application comes, and our own socket may be for others.
func (r *run) openAs(ctx context.Context, account *estate.Account, password secret.Password, database string) (dbms.Server, error) {
	entry := r.Estate.Servers[r.app.Server]
	login := dbms.Login{Server: r.app.Server, Address: entry.Address(), User: account.Name, Password: password, Database: database}
	server, err := r.open(ctx, login)
	refused := dbms.CauseOf(err) == dbms.WrongLogin && !entry.DBMS.Traits().HostsInAccounts || applogin.IsOutOfReach(err)
	if theirs := r.addressFrom(r.facts(account, password)); refused && theirs != login.Address {
		login.Address = theirs
		if server, second := r.open(ctx, login); second == nil {
			return server, nil
		}
	}
	return server, err
}

// ServeLogins makes logins for the program that has started this process, and ends it,
// where that is what it was started for. main calls it before all else.
func ServeLogins() { applogin.Serve(open) }
