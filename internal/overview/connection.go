package overview

import (
	"context"
	"slices"
	"strconv"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/secret"
	"yellowfield/internal/work"
)

// Connection is what a person types into an application's installer.
type Connection struct {
	App  string `json:"app"`
	DBMS string `json:"dbms"`
	// Drivers are the words that installers have for the way to it.
	Drivers  []string `json:"drivers"`
	Host     string   `json:"host"`
	Port     int      `json:"port"`
	Socket   string   `json:"socket,omitempty"`
	Database string   `json:"database"`
	// Databases are further ones, by their names in the estate file.
	Databases map[string]string `json:"databases,omitempty"`
	User      string            `json:"user"`
	Prefix    string            `json:"prefix,omitempty"`
	Charset   string            `json:"charset"`
	Collation string            `json:"collation"`
	Notes     []string          `json:"notes,omitempty"`
	// Remove are the installer and its samples, once the installation is done.
	Remove []string `json:"remove,omitempty"`
	// PasswordIn says where the password lies: a settings file, or "pending".
	PasswordIn string `json:"password_in"`
	// Password prints as a mask; only Reveal gives it.
	Password secret.Password `json:"password"`
	// Pending tells that the password stands in no settings file.
	Pending bool `json:"pending"`
}

// WritePassword writes the password to a file that is not there yet.
func (c *Connection) WritePassword(path string) error {
	if c.Password.IsZero() {
		return fault.New(fault.Invalid, "yellowfield rotate "+c.App+" --account "+c.User+" makes a new one", "the password of %s is not known here", c.User)
	}
	if err := host.WriteNew(path, []byte(c.Password.Reveal()+"\n")); err != nil {
		return fault.At(fault.Invalid, fault.Place{File: path}, "name a file that is not there yet, in a folder you may write to", "the password was not written: %v", err).With(err)
	}
	return nil
}

// ConnectionOf gives the facts of one of an app's accounts, the first one for an
// empty name. It asks no server.
func ConnectionOf(e *work.Engine, ctx context.Context, app *estate.App, account string) (*Connection, error) {
	r := work.NewRun(e, app, work.Options{})
	chosen := app.Accounts[0]
	if account != "" {
		var names []string
		for _, a := range app.Accounts {
			names = append(names, a.Name)
		}
		i := slices.Index(names, account)
		if i < 0 {
			return nil, r.Estate.Fault(fault.Invalid, r.Path("accounts"), fault.DidYouMean(account, names, "see its accounts in the estate file"), "app %s has no account %q", app.Name, account)
		}
		chosen = app.Accounts[i]
	}
	facts := r.Facts(chosen, secret.Password{})
	c := &Connection{App: app.Name, DBMS: dbms.Product(facts["dbms"]).Title(), Drivers: dbms.Product(facts["dbms"]).Traits().DriverWords, Host: facts["host"], Socket: facts["socket"], Database: facts["database"],
		User: chosen.Name, Prefix: facts["prefix"], Charset: facts["charset"], Collation: facts["collation"], Notes: app.Notes, Remove: app.InstallerFiles}
	for _, d := range app.All()[1:] {
		if c.Databases == nil {
			c.Databases = map[string]string{}
		}
		c.Databases[d.Key] = d.Name
	}
	c.Port, _ = strconv.Atoi(facts["port"])
	pending, found, err := e.State.Pending(r.StateAccount(chosen.Name))
	if err != nil {
		return nil, err
	}
	fromFile, file, named := r.PasswordInSettings(chosen)
	switch {
	case found:
		c.Password, c.PasswordIn, c.Pending = pending, "pending", true
	case !fromFile.IsZero() && named:
		c.Password, c.PasswordIn = fromFile, file
	case chosen.Password != nil:
		c.PasswordIn = "as given in the estate file"
		c.Password, err = chosen.Password.Obtain(ctx, "account "+chosen.Name, e.Ask)
	default:
		c.PasswordIn = "nowhere"
	}
	return c, err
}

// Acknowledge forgets the pending password of an account that no settings file
// gets: a person has taken it over.
func Acknowledge(e *work.Engine, app *estate.App, account string) error {
	r := work.NewRun(e, app, work.Options{})
	return e.State.DropPending(r.StateAccount(account))
}
