package cli

import (
	"runtime"
	"slices"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
)

// selection says which apps of the estate file a command is for.
type selection struct {
	names, labels, servers, exclude []string
	onlyFailed                      bool
}

// flags gives a command those that choose among many apps.
func (s *selection) flags(p *program, command *cobra.Command) {
	flags := command.Flags()
	flags.StringSliceVar(&s.labels, "label", nil, "only apps with one of these `labels`")
	flags.StringSliceVar(&s.servers, "server", nil, "only apps on one of these `servers`")
	flags.StringSliceVar(&s.exclude, "exclude", nil, "all but these `apps`")
}

// failedFlag adds the one for what verify has found.
func (s *selection) failedFlag(command *cobra.Command) {
	command.Flags().BoolVar(&s.onlyFailed, "only-failed", false, "only apps that the last verify on this host found to differ or to fail")
}

// jobsFlag gives a command the one for how many apps it works on at once.
func (p *program) jobsFlag(command *cobra.Command) {
	const most = 8 // each has some connections to its server
	command.Flags().IntVar(&p.jobs, "jobs", min(runtime.NumCPU(), most), "work on so many `apps` at once (default: as many as there are cores, at most 8)")
	command.Flags().Lookup("jobs").DefValue = "0" // which is not shown: another machine has other cores
}

// choose gives the apps in the order of their names.
func (s *selection) choose(engine *provision.Engine) ([]*estate.App, error) {
	e := engine.Estate
	if err := knownServers(e, s.servers); err != nil {
		return nil, err
	}
	for _, name := range s.exclude {
		if e.Apps[name] == nil && e.Broken[name] == nil {
			return nil, fault.At(fault.Invalid, fault.Place{File: e.Path}, fault.DidYouMean(name, estate.Names(e.Apps), "see apps in the estate file"), "there is no app %q", name)
		}
	}
	apps, err := e.Select(s.names, s.labels)
	if err != nil {
		return nil, err
	}
	failed := map[string]bool{}
	if s.onlyFailed {
		if failed, err = engine.FailedLast(); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(apps, func(app *estate.App) bool {
		return len(s.servers) > 0 && !slices.Contains(s.servers, app.Server) || slices.Contains(s.exclude, app.Name) || s.onlyFailed && !failed[app.Name]
	}), nil
}

// withServers opens estate and state for work on servers as a whole, all of them without
// names, and closes all connections after it.
func (p *program) withServers(names []string, work func(*provision.Engine, []string) error) error {
	engine, err := p.engine()
	if err != nil {
		return err
	}
	defer engine.Disconnect()
	if err := knownServers(engine.Estate, names); err != nil {
		return err
	}
	p.tellBroken(engine.Estate)
	if len(names) == 0 {
		names = estate.Names(engine.Estate.Servers)
	}
	p.listen(engine, "", nil)
	return work(engine, names)
}

// knownServers refuses names that the estate file does not have.
func knownServers(e *estate.Estate, names []string) error {
	for _, name := range names {
		if e.Servers[name] == nil {
			return fault.At(fault.Invalid, fault.Place{File: e.Path}, fault.DidYouMean(name, estate.Names(e.Servers), "see servers in the estate file"), "there is no server %q", name)
		}
	}
	return nil
}
