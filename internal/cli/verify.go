package cli

import (
	"time"

	"github.com/spf13/cobra"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/cli/render"
	"yellowfield/internal/estate"
	"yellowfield/internal/provision"
)

// forAgents makes the file readable by all: it holds names and numbers, and a monitoring agent
// runs as another user.
var forAgents = atomicfile.Attributes{UID: -1, GID: -1, Mode: 0o644}

func newVerifyCommand(p *program) *cobra.Command {
	var selected selection
	var metrics string
	command := &cobra.Command{
		Use:     "verify [APP...]",
		Short:   "Log in as the application would, and compare everything",
		GroupID: groupConfirm,
		Long: `Reads each settings file from the disk and logs in with just what it says, the
way PHP does it; then compares estate file, server and files. It changes
nothing. Exit code 3 says that something differs. Without names: all apps.

With --metrics what was found is also written to a file in the OpenMetrics text format:
apps, findings by severity, seconds, ages of passwords, the time of the run.`,
		Example: `  yellowfield verify
  yellowfield verify combledger --json
  yellowfield verify --quiet --metrics /var/lib/metrics/yellowfield.txt`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			selected.names = names
			return p.withApps(selected, func(engine *provision.Engine, apps []*estate.App) error {
				p.screen.Details = p.details
				p.listen(engine, "verify", apps)
				results, err := engine.Verify(command.Context(), apps)
				if err != nil {
					return err
				}
				if metrics != "" {
					if err := atomicfile.Replace(metrics, render.Metrics(results, time.Now()), forAgents); err != nil {
						return err
					}
				}
				return p.conclude(engine, "verify", false, results)
			})
		},
	}
	command.Flags().StringVar(&metrics, "metrics", "", "write what was found to this `file`, for a monitoring agent")
	selected.flags(p, command)
	selected.failedFlag(command)
	p.jobsFlag(command)
	return command
}
