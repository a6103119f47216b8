package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
)

// listDocument is the JSON document of list.
type listDocument struct {
	Command string             `json:"command"`
	Estate  string             `json:"estate"`
	Apps    []provision.Listed `json:"apps"`
	Exit    int                `json:"exit"`
}

func newListCommand(p *program) *cobra.Command {
	var labels, servers []string
	var open bool
	command := &cobra.Command{
		Use:     "list [APP...]",
		Short:   "The apps: server, open or closed, waiting, unfinished runs, last verified, age of the password",
		GroupID: groupConfirm,
		Long: `Lists the apps of the estate file with what can be told at a glance: where each is in
its life (absent, waiting for its installer, open, closed, ready where installing and
running are the same, retired), until when an open one may stay so, runs that were cut
off, when verify looked at it last on this host and how that ended, and how old the
oldest password of its accounts is. Each server's catalogue is read once; no script is
read, no application's account logs in, and nothing is changed. Exit code 3 says that an app
could not be looked at.`,
		Example: `  yellowfield list
  yellowfield list --open
  yellowfield list --server barn --label members --json`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			return p.withApps(names, labels, func(engine *provision.Engine, apps []*estate.App) error {
				if err := knownServers(engine.Estate, servers); err != nil {
					return err
				}
				apps = slices.DeleteFunc(apps, func(app *estate.App) bool { return len(servers) > 0 && !slices.Contains(servers, app.Server) })
				p.listen(engine)
				all, err := engine.List(command.Context(), apps)
				if err != nil {
					return err
				}
				if slices.ContainsFunc(all, func(l provision.Listed) bool { return l.State == provision.IsUnknown }) {
					p.exit = fault.Differs.ExitCode()
				}
				if open {
					all = slices.DeleteFunc(all, func(l provision.Listed) bool { return l.State != provision.IsOpen })
				}
				if p.asJSON {
					return printJSON(listDocument{"list", engine.Estate.Path, all, p.exit})
				}
				p.screen.List(all)
				return nil
			})
		},
	}
	flags := command.Flags()
	flags.StringSliceVar(&labels, "label", nil, "only apps with one of these `labels`")
	flags.StringSliceVar(&servers, "server", nil, "only apps on one of these `servers`")
	flags.BoolVar(&open, "open", false, "only apps that are open for their installer")
	return command
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
