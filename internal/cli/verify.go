package cli

import (
	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/provision"
)

func newVerifyCommand(p *program) *cobra.Command {
	var selected selection
	var details bool
	command := &cobra.Command{
		Use:     "verify [APP...]",
		Short:   "Log in as the application would, and compare estate file, server and files",
		GroupID: groupConfirm,
		Long: `Reads each settings file from the disk and logs in with just what it says, the
way PHP does it; then compares estate file, server and files. It changes
nothing. Exit code 3 says that something differs. Without names: all apps.`,
		Example: `  yellowfield verify
  yellowfield verify combledger --json`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			selected.names = names
			return p.withApps(selected, func(engine *provision.Engine, apps []*estate.App) error {
				p.screen.Details = details
				p.listen(engine)
				results, err := engine.Verify(command.Context(), apps)
				if err != nil {
					return err
				}
				return p.conclude(engine, "verify", false, results)
			})
		},
	}
	command.Flags().BoolVar(&details, "details", false, "show by which code and object a difference can be accepted in the estate file")
	selected.flags(p, command)
	selected.failedFlag(command)
	return command
}
