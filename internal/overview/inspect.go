package overview

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yellowfield/internal/access"
	"yellowfield/internal/content"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/inspect"
	"yellowfield/internal/work"
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

// orNone makes an empty list appear as [] in a document, not as null.
func orNone[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func InspectServer(e *work.Engine, ctx context.Context, name string, sample bool, found *Inspected) error {
	c, err := e.Administered(ctx, name)
	if err != nil {
		return err
	}
	found.About = c.About()
	subject := inspect.SubjectOf(e.Estate, name)
	if found.Report, err = work.InspectWith(ctx, c.Admin, subject); err != nil {
		return err
	}
	if err := waitingSettings(e, c.Entry, &found.Report); err != nil {
		return err
	}
	left, err := e.Leftovers(ctx, c)
	if err != nil {
		return err
	}
	for _, one := range left {
		found.Add(inspect.Finding{Kind: inspect.LeftByRun, On: one.On, App: one.App, Evidence: one.Evidence, Remedy: one.Remedy, SQL: one.SQL, Lock: one.Lock})
	}
	if sample {
		for _, app := range subject.Apps {
			if err := sampleRows(e, ctx, app, &found.Report); err != nil {
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
func waitingSettings(e *work.Engine, entry *estate.Server, report *inspect.Report) error {
	var changed content.ServerSettings
	found, err := e.State.Note(content.ChangedServers, entry.Address().String(), &changed)
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

// sampleRows looks into an app's rows with its own account's eyes: what a table computes runs
// with the rights of whoever reads it.
func sampleRows(e *work.Engine, ctx context.Context, app *estate.App, report *inspect.Report) error {
	if app.Retired != "" || len(app.Accounts) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, sampleTime)
	defer cancel()
	r := work.NewRun(e, app, work.Options{})
	defer r.Folder.Close()
	account := app.Accounts[0]
	password, err := r.CandidatePassword(ctx, account)
	if err != nil {
		return err
	}
	if password.IsZero() {
		return fault.New(fault.Invalid, "", "the password of %s is not known here", account.Name)
	}
	for _, d := range app.All() {
		login, err := r.OpenAs(ctx, account, password, d.Name)
		if err != nil {
			return err
		}
		err = work.SampleWith(ctx, login, report, app.Name, d.Name)
		login.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// Accessed is who can do what on some servers.
type Accessed struct {
	access.Report
	// Problems are servers that could not be looked at, by name.
	Problems map[string]*fault.Error
}

// InspectServers looks at servers as hosts for applications, and changes nothing on them.
func InspectServers(e *work.Engine, ctx context.Context, names []string, o Inspecting) ([]Inspected, error) {
	var all []Inspected
	for _, name := range names {
		found := Inspected{Server: name}
		if err := InspectServer(e, ctx, name, o.Sample, &found); err != nil {
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
		found.Facts, found.Findings, found.Unseen = orNone(found.Facts), orNone(found.Findings), orNone(found.Unseen)
		all = append(all, found)
	}
	return all, nil
}

// AccessOn looks at who can do what on servers, and changes nothing on them.
func AccessOn(e *work.Engine, ctx context.Context, names []string, filter access.Filter) (all Accessed, err error) {
	all = Accessed{Report: access.Report{Cells: []access.Cell{}, Unseen: []string{}}, Problems: map[string]*fault.Error{}}
	for _, name := range names {
		c, err := e.Administered(ctx, name)
		var found access.Report
		if err == nil {
			found, err = work.AccessWith(ctx, c.Admin, name, inspect.SubjectOf(e.Estate, name))
		}
		if err != nil {
			if ctx.Err() != nil {
				return all, fault.Stopped(ctx.Err())
			}
			known := fault.As(err)
			all.Problems[name] = known
			all.Unseen = append(all.Unseen, fmt.Sprintf("server %s: %s", name, known.What))
			continue
		}
		for _, cell := range found.Cells {
			if filter.Takes(cell) {
				all.Cells = append(all.Cells, cell)
			}
		}
		for _, unseen := range found.Unseen {
			all.Unseen = append(all.Unseen, fmt.Sprintf("server %s: %s", name, unseen))
		}
	}
	all.Sort()
	return all, nil
}
