package provision

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/inspect"
)

// Inspected is what was found on one server of the estate.
type Inspected struct {
	Server string `json:"server"`
	About  string `json:"about"`
	inspect.Report
	// Problem says why the server could not be looked at, and Remedy what to do about that.
	Problem string `json:"problem,omitempty"`
	Remedy  string `json:"remedy,omitempty"`
	Exit    int    `json:"exit"`
}

// Inspecting says what to look at.
type Inspecting struct {
	Sample bool     // read rows, as the applications' accounts
	Only   []string // kinds of findings; empty for all
}

// InspectServers looks at servers as hosts for applications, and changes nothing on them.
func (e *Engine) InspectServers(ctx context.Context, names []string, o Inspecting) ([]Inspected, error) {
	var all []Inspected
	for _, name := range names {
		found := Inspected{Server: name}
		if err := e.inspectServer(ctx, name, o.Sample, &found); err != nil {
			if ctx.Err() != nil {
				return nil, fault.Stopped(ctx.Err())
			}
			known := fault.As(err)
			found.Problem, found.Remedy, found.Exit = known.What, known.Next, known.Class.ExitCode()
		}
		found.Findings = slices.DeleteFunc(found.Findings, func(f inspect.Finding) bool { return len(o.Only) > 0 && !slices.Contains(o.Only, string(f.Kind)) })
		if slices.ContainsFunc(found.Findings, func(f inspect.Finding) bool { return f.Severity == estate.MustFix }) {
			found.Exit = fault.Graver(found.Exit, fault.Differs.ExitCode())
		}
		all = append(all, found)
	}
	return all, nil
}

func (e *Engine) inspectServer(ctx context.Context, name string, sample bool, found *Inspected) error {
	c, err := e.connect(ctx, name)
	if err != nil {
		return err
	}
	if c.admin == nil {
		return e.Estate.Fault(fault.Invalid, "servers."+name, "give the server an admin", "server %s has no administrator, and nobody else sees its accounts", name)
	}
	about := c.admin.About()
	found.About = about.Product.Title() + " " + about.Version + ", " + c.entry.Address().Short()
	var apps []*estate.App
	for _, app := range estate.Names(e.Estate.Apps) {
		if e.Estate.Apps[app].Server == name {
			apps = append(apps, e.Estate.Apps[app])
		}
	}
	if found.Report, err = inspectWith(ctx, c.admin, inspect.Subject{Apps: apps}); err != nil {
		return err
	}
	if err := e.waitingSettings(c.entry, &found.Report); err != nil {
		return err
	}
	if sample {
		for _, app := range apps {
			if err := e.sample(ctx, app, &found.Report); err != nil {
				if ctx.Err() != nil {
					return err
				}
				found.Unseen = append(found.Unseen, fmt.Sprintf("the rows of app %s: %s", app.Name, fault.As(err).What))
			}
		}
	}
	found.Sort()
	return nil
}

// waitingSettings looks for what an import has set on a server and not taken back.
func (e *Engine) waitingSettings(entry *estate.Server, report *inspect.Report) error {
	var changed serverSettings
	found, err := e.State.Note(changedServers, entry.Address().String(), &changed)
	if err != nil || !found {
		return err
	}
	for _, name := range estate.Names(changed.Before) {
		report.Add(inspect.Finding{Kind: inspect.SettingWaits, On: name, App: changed.App, Evidence: "an import of " + changed.App + " was cut off; before it " + name + " was " + changed.Before[name],
			Remedy: "yellowfield provision " + changed.App + " sets it back"})
	}
	return nil
}

// sampleTime is how long the rows of one app are looked at.
const sampleTime = time.Minute

// sample looks into an app's rows with its own account's eyes: what a table computes runs
// with the rights of whoever reads it.
func (e *Engine) sample(ctx context.Context, app *estate.App, report *inspect.Report) error {
	if app.Retired != "" || len(app.Accounts) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, sampleTime)
	defer cancel()
	r := &run{Engine: e, app: app}
	defer r.folder.Close()
	account := app.Accounts[0]
	password, err := r.candidatePassword(ctx, account)
	if err != nil {
		return err
	}
	if password.IsZero() {
		return fault.New(fault.Invalid, "", "the password of %s is not known here", account.Name)
	}
	entry := e.Estate.Servers[app.Server]
	for _, d := range app.All() {
		login, err := r.open(ctx, dbms.Login{Server: entry.Name, Address: entry.Address(), User: account.Name, Password: password, Database: d.Name})
		if err != nil {
			return err
		}
		err = sampleWith(ctx, login, report, app.Name, d.Name)
		login.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
