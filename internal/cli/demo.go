package cli

import (
	"os"

	"github.com/spf13/cobra"

	"yellowfield/internal/demo"
)

func newDemoCommand(p *program) *cobra.Command {
	var keep string
	var prepare bool
	command := &cobra.Command{
		Use:     "demo",
		Short:   "The whole scenario on private throwaway servers",
		GroupID: groupTooling,
		Long: `Starts a private MariaDB server in a temporary folder, and a PostgreSQL server where
one is installed, unpacks the applications of the Meadowgate Beekeepers' Co-operative
beside them, and runs the real commands on them. It touches no other server and
removes everything at the end.`,
		Example: `  yellowfield demo
  yellowfield demo --keep /tmp/meadowgate
  yellowfield demo --keep /tmp/meadowgate --prepare`,
		Args: cobra.NoArgs,
		RunE: func(command *cobra.Command, _ []string) error {
			self, err := os.Executable()
			if err != nil {
				return err
			}
			return demo.Run(command.Context(), demo.Options{
				Program: self, Keep: keep, Prepare: prepare, Colour: p.colour, Out: os.Stdout, Err: os.Stderr, Tell: p.screen.DemoLine,
			})
		},
	}
	command.Flags().StringVar(&keep, "keep", "", "keep everything in this empty `folder`, the server running")
	command.Flags().BoolVar(&prepare, "prepare", false, "only start the server and unpack the applications, with --keep")
	return command
}
