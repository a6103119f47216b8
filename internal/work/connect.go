package work

import (
	"context"
	"fmt"
	"reflect"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
)

// Connection is a server with its administrator's login, kept for all apps.
type Connection struct {
	Entry *estate.Server
	Admin dbms.Server // nil when the estate file names no administrator
	err   error       // why the login failed, so that it is tried once
	// warned says that the run has been warned how the administrator's login could be taken
	// over.
	warned bool
}

// connect logs in as administrator, once for each server.
func (e *Engine) connect(ctx context.Context, name string) (*Connection, error) {
	if c := e.Servers[name]; c != nil {
		if reflect.DeepEqual(c.Entry, e.Estate.Servers[name]) {
			return c, c.err
		}
		if c.Admin != nil { // its entry was changed meanwhile
			c.Admin.Close()
		}
	}
	if e.Servers == nil {
		e.Servers = map[string]*Connection{}
	}
	c := &Connection{Entry: e.Estate.Servers[name]}
	e.Servers[name] = c
	if c.Entry.Admin != nil {
		if c.Admin, c.err = e.LoginAsAdmin(ctx, c.Entry); c.err == nil {
			c.err = e.noteCluster(c.Entry, c.Admin)
		}
	}
	return c, c.err
}

// LoginAsAdmin finds the administrator's name and password in the order of the
// design: the password's own source, the file that the product's clients read, the
// socket.
func (e *Engine) LoginAsAdmin(ctx context.Context, entry *estate.Server) (dbms.Server, error) {
	login := dbms.Login{Server: entry.Name, Address: AdministratorsWay(entry.Address()), User: entry.Admin.User}
	var err error
	if entry.Admin.Password != nil {
		login.Password, err = e.Obtain(ctx, &entry.Admin.Password.Source, "the administrator of "+entry.Name)
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

// AdministratorsWay is an address as the administrator takes it: where nothing is said
// about TLS, a server that is reached over a network has to show who it is, since
// whoever answers in its place would get the password.
func AdministratorsWay(a dbms.Address) dbms.Address {
	if a.TLS == "" && (a.OverNetwork() || a.CA != "" || a.Certificate != "") {
		a.TLS = dbms.TLSVerify
	}
	return a
}

// WarnOfStrangers tells, once for a server, that somebody on the way to it could
// take the administrator's login over, as the estate file has allowed.
func (r *Run) WarnOfStrangers(c *Connection) {
	way := AdministratorsWay(c.Entry.Address())
	bound := c.Entry.DBMS.Traits().BindsChannel && way.TLS == dbms.TLSRequire // to the channel: nobody is between
	if _, speaks := r.SpeaksFor(); c.warned || !speaks || !way.OverNetwork() || way.TLS == dbms.TLSVerify || bound {
		return
	}
	c.warned = true
	r.Tell(Row{Step: "server", Outcome: Note,
		Facts:  fmt.Sprintf("server %s does not prove who it is (tls: %s): a stranger on the way can read the administrator's password or take its login over", c.Entry.Name, way.TLS),
		Remedy: "write tls: verify with ca or certificate under servers." + c.Entry.Name})
}

func (e *Engine) trace(server string, s dbms.Statement) {
	if e.Listener.Trace != nil {
		e.Listener.Trace(server, s)
	}
}

func (e *Engine) rightProduct(entry *estate.Server, server dbms.Server) error {
	if server.About().Product != entry.DBMS {
		return e.Estate.Fault(fault.Invalid, "servers."+entry.Name+".dbms", "write dbms: "+string(server.About().Product),
			"server %s is %s %s", entry.Name, server.About().Product.Title(), server.About().Version)
	}
	return nil
}

// serverView is what is known of a server for one app, as seen by the administrator, or only
// by the app's own account.
type serverView struct {
	*Connection
	Server    dbms.Server
	Catalogue *dbms.Catalogue
	// Shared says that the catalogue is that of when the run began, and not of now.
	Shared bool
}

// AsAdmin reports whether there is an administrator.
func (v *serverView) AsAdmin() bool { return v.Admin != nil }

// LookFirst takes the catalogue that was read once for all apps of the run, where nothing
// seems to be left to do: what is changed is planned anew from a fresh look.
func (r *Run) LookFirst(ctx context.Context) error {
	c, err := r.connect(ctx, r.App.Server)
	if err != nil {
		return err
	}
	if c.Admin == nil || len(r.Chosen) < 2 || !r.Options.DryRun && r.Options.Command != "provision" {
		return r.Look(ctx)
	}
	look := r.Reached[r.App.Server]
	if look == nil || r.IsAnew {
		return r.Look(ctx)
	}
	look.look.Do(func() {
		var names []string
		for _, app := range r.Chosen {
			if app.Server == r.App.Server {
				for _, d := range app.All() {
					names = append(names, d.Name)
				}
			}
		}
		look.catalogue, look.lookErr = c.Admin.ReadCatalogue(ctx, true, names)
	})
	if look.lookErr != nil {
		return look.lookErr
	}
	r.View = &serverView{Connection: c, Server: c.Admin, Catalogue: look.catalogue, Shared: true}
	if !r.Options.DryRun && (r.Interrupted != nil || !r.stands(look.catalogue)) {
		return r.LookAgain(ctx)
	}
	return r.keptAccountOf()
}

// LookAgain reads what concerns the app anew, after a look that was for all of them.
func (r *Run) LookAgain(ctx context.Context) (err error) {
	var users []string
	for _, account := range r.App.Accounts {
		users = append(users, account.Name)
	}
	r.View.Shared = false
	r.View.Catalogue, err = r.View.Server.Reread(ctx, r.View.Catalogue, r.DatabaseNames(), users)
	if err != nil {
		return err
	}
	return r.keptAccountOf()
}

// stands reports whether all of the app's databases and accounts are there.
func (r *Run) stands(catalogue *dbms.Catalogue) bool {
	for _, d := range r.App.All() {
		if has, exists := catalogue.Databases[d.Name]; !exists || has.HalfMade || len(r.App.Import) > 0 && catalogue.Contents[d.Name].Empty() {
			return false
		}
	}
	for _, account := range r.App.Accounts {
		for _, a := range r.AccountsOf(account) {
			if _, exists := catalogue.Accounts[a]; !exists {
				return false
			}
		}
	}
	return true
}

// Look reads the catalogue for the app.
func (r *Run) Look(ctx context.Context) error {
	c, err := r.connect(ctx, r.App.Server)
	if err != nil {
		return err
	}
	r.View = &serverView{Connection: c, Server: c.Admin}
	if c.Admin == nil {
		if r.View.Server, err = r.loginAsProvided(ctx, c.Entry); err != nil {
			return err
		}
	}
	if err := r.introduce(c.Entry, r.View.Server); err != nil {
		return err
	}
	r.View.Catalogue, err = r.View.Server.ReadCatalogue(ctx, r.View.AsAdmin(), r.DatabaseNames())
	if err != nil {
		return err
	}
	return r.keptAccountOf()
}

// keptAccountOf makes sure that the catalogue has all that the app's databases hold.
func (r *Run) keptAccountOf() error {
	for _, name := range r.DatabaseNames() {
		if r.View.Catalogue.Contents[name].TooMany {
			return dbms.TooMuch(r.App.Server, name)
		}
	}
	return nil
}

func (r *Run) DatabaseNames() []string {
	var names []string
	for _, d := range r.App.All() {
		names = append(names, d.Name)
	}
	return names
}

// loginAsProvided logs in with the account that a provider made, for servers
// without an administrator.
func (r *Run) loginAsProvided(ctx context.Context, entry *estate.Server) (dbms.Server, error) {
	account := r.App.Accounts[0]
	password, err := r.CandidatePassword(ctx, account)
	if err != nil {
		return nil, err
	}
	if password.IsZero() {
		return nil, r.Estate.Fault(fault.Invalid, "apps."+r.App.Name+".accounts[0]", "write password: {file: PATH} or another source",
			"server %s has no administrator, and the password of %s is not known", entry.Name, account.Name)
	}
	server, err := r.OpenAs(ctx, account, password, r.App.Database.Name)
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

// Where names a server in the state: by its address, and a node of a cluster by
// the cluster, so that what was begun through one node is known at another.
func (e *Engine) Where(address dbms.Address) string {
	var cluster string
	if found, err := e.State.Note(clusterNodes, address.String(), &cluster); err == nil && found {
		return clusterPrefix + cluster
	}
	return address.String()
}

const clusterPrefix = "cluster "

// isCluster reports whether where has named a cluster.
func isCluster(where string) bool { return strings.HasPrefix(where, clusterPrefix) }

// introduce shows the server in the app's heading, and makes sure that it can be provisioned
// now.
func (r *Run) introduce(entry *estate.Server, server dbms.Server) error {
	facts := server.About()
	r.Result.Header.About = facts.Product.Title() + " " + facts.Version + ", " + entry.Address().Short()
	if err := server.Unavailable(); err != nil && !(facts.ReadOnly && r.Options.OnlyLooks()) {
		return err
	}
	return r.noteCluster(entry, server)
}

// noteCluster remembers which cluster a node belongs to.
func (e *Engine) noteCluster(entry *estate.Server, server dbms.Server) error {
	cluster, address := server.About().Cluster, entry.Address()
	if cluster == "" || e.Where(address) == clusterPrefix+cluster {
		return nil
	}
	err := e.State.SetNote(clusterNodes, address.String(), cluster)
	if e.Where(address) == clusterPrefix+cluster { // somebody else has written it at the same time
		return nil
	}
	return err
}

// About names the product, its version and how it is reached.
func (c *Connection) About() string {
	about := c.Admin.About()
	return about.Product.Title() + " " + about.Version + ", " + c.Entry.Address().Short()
}

// Administered is a server with its administrator's login.
func (e *Engine) Administered(ctx context.Context, name string) (*Connection, error) {
	c, err := e.connect(ctx, name)
	if err == nil && c.Admin == nil {
		err = e.Estate.Fault(fault.Invalid, "servers."+name, "give the server an admin", "server %s has no administrator, and nobody else sees its accounts", name)
	}
	return c, err
}
