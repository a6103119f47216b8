package work

import (
	"strconv"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/phpclient"
	"yellowfield/internal/secret"
)

// Facts are what the placeholders stand for.
func (r *Run) Facts(account *estate.Account, password secret.Password) estate.Facts {
	server, way := r.Estate.Servers[r.App.Server], r.WayForApp(account)
	facts := estate.Facts{
		"dbms": string(server.DBMS), "host": way.host, "port": strconv.Itoa(way.port), "socket": way.socket,
		"database": r.App.Database.Name, "user": account.Name, "password": password.Reveal(),
		"sslmode": phpclient.SSLMode(server.TLS), "prefix": r.App.Prefix, "charset": r.App.Database.Charset, "collation": r.App.Database.Collation,
	}
	for _, d := range r.App.Databases {
		facts["database:"+d.Key] = d.Name
	}
	return facts
}

// AddressFrom is where PHP would connect to with the facts of a settings file.
func (r *Run) AddressFrom(facts estate.Facts) dbms.Address {
	entry := r.Estate.Servers[r.App.Server]
	return phpclient.Address(phpclient.Settings{Host: facts["host"], Port: facts["port"], Socket: facts["socket"], SSLMode: facts["sslmode"]},
		phpclient.Server{Product: entry.DBMS, TLS: entry.TLS, CA: entry.CA, Certificate: entry.Certificate, Localhost: r.PhpSocket()})
}

// ReadFacts takes the facts out of a settings file by the addresses and texts
// of the estate file. Values that cannot be read are left out; the error is
// the first reason for that.
func (r *Run) ReadFacts(path string, values estate.Values) (estate.Facts, error) {
	found := estate.Facts{}
	file, err := r.OpenSettings(path)
	if err != nil {
		return found, err
	}
	var first error
	for _, value := range values {
		setting, err := file.Lookup(value.Address)
		if err == nil && setting.Refusal != "" {
			err = fault.At(fault.Differs, setting.Place, "look at it yourself", "%s cannot be read: it is %s", setting.Address, setting.Refusal)
		}
		if err != nil {
			if first == nil {
				first = err
			}
			continue
		}
		facts, ok := value.Text.Read(setting.Value)
		for name, fact := range facts {
			if ok && found[name] == "" {
				found[name] = fact
			}
		}
	}
	return found, first
}

// PlaceOfFact is where a settings file has the value with a placeholder.
func (r *Run) PlaceOfFact(path string, values estate.Values, name string) *fault.Place {
	file, err := r.OpenSettings(path)
	if err != nil {
		return nil
	}
	for _, value := range values {
		if !value.Text.Uses(name) {
			continue
		}
		if setting, err := file.Lookup(value.Address); err == nil {
			return &setting.Place
		}
	}
	return nil
}
