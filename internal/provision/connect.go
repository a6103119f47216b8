package provision

import (
	"context"
	"fmt"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// connection is a server with its administrator's login, kept for all apps.
type connection struct {
	entry *estate.Server
	admin dbms.Server // nil when the estate file names no administrator
	err   error       // why the login failed, so that it is tried once
	// told says that a run heard how the administrator's login may be taken over.
	told bool
}

// connect logs in as administrator, once for each server.
func (e *Base) connect(ctx context.Context, name string) (*connection, error) {
	if c := e.servers[name]; c != nil {
		return c, c.err
	}
	if e.servers == nil {
		e.servers = map[string]*connection{}
	}
	c := &connection{entry: e.Estate.Servers[name]}
	e.servers[name] = c
	if c.entry.Admin != nil {
		if c.admin, c.err = e.loginAsAdmin(ctx, c.entry); c.err == nil {
			c.err = e.noteCluster(c.entry, c.admin)
		}
	}
	return c, c.err
}

// loginAsAdmin finds the administrator's name and password in the order of the
// design: the password's own source, the file that the product's clients read, the
// socket.
func (e *Base) loginAsAdmin(ctx context.Context, entry *estate.Server) (dbms.Server, error) {
	login := dbms.Login{Server: entry.Name, Address: administratorsWay(entry.Address()), User: entry.Admin.User}
	var err error
	if entry.Admin.Password != nil {
		login.Password, err = e.obtain(ctx, &entry.Admin.Password.Source, "the administrator of "+entry.Name)
	} else {
		err = fromClientFile(entry, &login)
	}
	if err != nil {
		return nil, err
	}
	if login.User == "" {
		login.User = usualAdministrator(entry.DBMS)
	}
	server, err := open(ctx, entry.DBMS, login)
	if err != nil {
		return nil, err
	}
	if err := e.rightProduct(entry, server); err != nil {
		server.Close()
		return nil, err
	}
	server.OnChange(func(s dbms.Statement) { e.trace(entry.Name, s) })
	return server, nil
}

// administratorsWay is an address as the administrator takes it: where nothing is said
// about TLS, a server that is reached over a network has to show who it is, since
// whoever answers in its place would get the password.
func administratorsWay(a dbms.Address) dbms.Address {
	if a.TLS == "" && (a.OverNetwork() || a.CA != "" || a.Certificate != "") {
		a.TLS = dbms.TLSVerify
	}
	return a
}

// warnOfStrangers tells, once for a server, that somebody on the way to it could
// take the administrator's login over, as the estate file has allowed.
func (r *run) warnOfStrangers(c *connection) {
	way := administratorsWay(c.entry.Address())
	bound := c.entry.DBMS.Traits().BindsChannel && way.TLS == dbms.TLSRequire // to the channel: nobody is between
	if _, speaks := r.speaksFor(); c.told || !speaks || !way.OverNetwork() || way.TLS == dbms.TLSVerify || bound {
		return
	}
	c.told = true
	r.tell(Row{Step: "server", Outcome: Note,
		Facts:  fmt.Sprintf("server %s does not prove who it is (tls: %s): a stranger on the way can read the administrator's password or take its login over", c.entry.Name, way.TLS),
		Remedy: "write tls: verify with ca or certificate under servers." + c.entry.Name})
}

func (e *Base) trace(server string, s dbms.Statement) {
	if e.Listener.Trace != nil {
		e.Listener.Trace(server, s)
	}
}

func (e *Base) rightProduct(entry *estate.Server, server dbms.Server) error {
	if server.About().Product != entry.DBMS {
		return e.Estate.Fault(fault.Invalid, "servers."+entry.Name+".dbms", "write dbms: "+string(server.About().Product),
			"server %s is %s %s", entry.Name, server.About().Product.Title(), server.About().Version)
	}
	return nil
}

// view is what is seen of a server for one app: with the administrator's eyes,
// or only with those of the app's own account.
type view struct {
	*connection
	server    dbms.Server
	catalogue *dbms.Catalogue
	// shared says that the catalogue is that of when the run began, and not of now.
	shared bool
}

// asAdmin reports whether there is an administrator.
func (v *view) asAdmin() bool { return v.admin != nil }

// lookFirst takes the catalogue that was read once for all apps of the run, where nothing
// seems to be left to do: what is changed is planned anew from a fresh look.
func (r *run) lookFirst(ctx context.Context) error {
	c, err := r.connect(ctx, r.app.Server)
	if err != nil {
		return err
	}
	if c.admin == nil || len(r.chosen) < 2 || !r.options.DryRun && r.options.Command != "provision" {
		return r.look(ctx)
	}
	look := r.reached[r.app.Server]
	look.look.Do(func() {
		var names []string
		for _, app := range r.chosen {
			if app.Server == r.app.Server {
				for _, d := range app.All() {
					names = append(names, d.Name)
				}
			}
		}
		look.catalogue, look.lookErr = c.admin.ReadCatalogue(ctx, true, names)
	})
	if look.lookErr != nil {
		return look.lookErr
	}
	r.view = &view{connection: c, server: c.admin, catalogue: look.catalogue, shared: true}
	if !r.options.DryRun && (r.cut != nil || !r.stands(look.catalogue)) {
		return r.lookAgain(ctx)
	}
	return nil
}

// lookAgain reads what concerns the app anew, behind a look that was for all of them.
func (r *run) lookAgain(ctx context.Context) (err error) {
	var users []string
	for _, account := range r.app.Accounts {
		users = append(users, account.Name)
	}
	r.view.shared = false
	r.view.catalogue, err = r.view.server.Reread(ctx, r.view.catalogue, r.databaseNames(), users)
	return err
}

// stands reports whether all of the app's databases and accounts are there.
func (r *run) stands(catalogue *dbms.Catalogue) bool {
	for _, d := range r.app.All() {
		if has, exists := catalogue.Databases[d.Name]; !exists || has.HalfMade || len(r.app.Import) > 0 && catalogue.Contents[d.Name].Empty() {
			return false
		}
	}
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			if _, exists := catalogue.Accounts[a]; !exists {
				return false
			}
		}
	}
	return true
}

// look reads the catalogue for the app.
func (r *run) look(ctx context.Context) error {
	c, err := r.connect(ctx, r.app.Server)
	if err != nil {
		return err
	}
	r.view = &view{connection: c, server: c.admin}
	if c.admin == nil {
		if r.view.server, err = r.loginAsProvided(ctx, c.entry); err != nil {
			return err
		}
	}
	if err := r.introduce(c.entry, r.view.server); err != nil {
		return err
	}
	r.view.catalogue, err = r.view.server.ReadCatalogue(ctx, r.view.asAdmin(), r.databaseNames())
	return err
}

func (r *run) databaseNames() []string {
	var names []string
	for _, d := range r.app.All() {
		names = append(names, d.Name)
	}
	return names
}

// loginAsProvided logs in with the account that a provider made, for servers
// without an administrator.
func (r *run) loginAsProvided(ctx context.Context, entry *estate.Server) (dbms.Server, error) {
	account := r.app.Accounts[0]
	password, err := r.candidatePassword(ctx, account)
	if err != nil {
		return nil, err
	}
	if password.IsZero() {
		return nil, r.Estate.Fault(fault.Invalid, "apps."+r.app.Name+".accounts[0]", "write password: {file: PATH} or another source",
			"server %s has no administrator, and the password of %s is not known", entry.Name, account.Name)
	}
	server, err := r.openAs(ctx, account, password, r.app.Database.Name)
	if err != nil {
		return nil, err
	}
	if err := r.rightProduct(entry, server); err != nil {
		server.Close()
		return nil, err
	}
	return server, nil
}

const clusterNodes = "cluster-nodes"

// where names a server in the state: by its address, and a node of a cluster by
// the cluster, so that what was begun through one node is known at another.
func (e *Base) where(address dbms.Address) string {
	var cluster string
	if found, err := e.State.Note(clusterNodes, address.String(), &cluster); err == nil && found {
		return clusterPrefix + cluster
	}
	return address.String()
}

const clusterPrefix = "cluster "

// isCluster reports whether where has named a cluster.
func isCluster(where string) bool { return strings.HasPrefix(where, clusterPrefix) }

// introduce names a server at the head, and makes sure that it can be provisioned now.
func (r *run) introduce(entry *estate.Server, server dbms.Server) error {
	facts := server.About()
	r.result.Header.About = facts.Product.Title() + " " + facts.Version + ", " + entry.Address().Short()
	if err := server.Unavailable(); err != nil {
		return err
	}
	return r.noteCluster(entry, server)
}

// noteCluster remembers which cluster a node belongs to.
func (e *Base) noteCluster(entry *estate.Server, server dbms.Server) error {
	cluster, address := server.About().Cluster, entry.Address()
	if cluster == "" || e.where(address) == clusterPrefix+cluster {
		return nil
	}
	err := e.State.SetNote(clusterNodes, address.String(), cluster)
	if e.where(address) == clusterPrefix+cluster { // somebody else has written it at the same time
		return nil
	}
	return err
}

// about names the product, its version and how it is reached.
func (c *connection) about() string {
	about := c.admin.About()
	return about.Product.Title() + " " + about.Version + ", " + c.entry.Address().Short()
}

// administered is a server with its administrator's login.
func (e *Base) administered(ctx context.Context, name string) (*connection, error) {
	c, err := e.connect(ctx, name)
	if err == nil && c.admin == nil {
		err = e.Estate.Fault(fault.Invalid, "servers."+name, "give the server an admin", "server %s has no administrator, and nobody else sees its accounts", name)
	}
	return c, err
}
