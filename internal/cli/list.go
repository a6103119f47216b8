package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/overview"
	"yellowfield/internal/provision"
)

// listDocument is the JSON document of list.
type listDocument struct {
	Command string            `json:"command"`
	Estate  string            `json:"estate"`
	Apps    []overview.Listed `json:"apps"`
	Exit    int               `json:"exit"`
}

func newListCommand(p *program) *cobra.Command {
	var selected selection
	var open bool
	command := &cobra.Command{
		Use:     "list [APP...]",
		Short:   "The apps at a glance: state, last verified, age of the password",
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
			selected.names = names
			return p.withApps(selected, func(engine *provision.Engine, apps []*estate.App) error {
				p.listen(engine, "list", apps)
				all, err := engine.List(command.Context(), apps)
				if err != nil {
					return err
				}
				if slices.ContainsFunc(all, func(l overview.Listed) bool { return l.State == overview.IsUnknown }) {
					p.exit = fault.Differs.ExitCode()
				}
				if open {
					all = slices.DeleteFunc(all, func(l overview.Listed) bool { return l.State != overview.IsOpen })
				}
				if p.asJSON {
					return printJSON(listDocument{"list", engine.Estate.Path, all, p.exit})
				}
				p.screen.List(all)
				return nil
			})
		},
	}
	selected.flags(p, command)
	command.Flags().BoolVar(&open, "open", false, "only apps that are open for their installer")
	return command
}
