package cli

import (
	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newSettingsAcceptCommand(p *program) *cobra.Command {
	var acceptance provision.Acceptance
	var text string
	command := &cobra.Command{
		Use:   "accept APP",
		Short: "Take over settings that an application's installer made or printed",
		Long: `Reads the settings file that the application's installer wrote, or the text it
printed for pasting, compares its facts with the estate file and logs in with
them. The settings in a text are shown, secrets masked, and it is written after a
yes, with the owner and mode that the estate file asks for.`,
		Example: `  yellowfield settings accept honeystall
  yellowfield settings accept honeystall --text printed.txt
  yellowfield settings accept honeystall --text - --yes`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			if text != "" {
				var err error
				if acceptance.Text, err = readInput(text); err != nil {
					return fault.New(fault.Invalid, "check the path and its permissions", "the text cannot be read: %s", fault.As(err).What).With(err)
				}
			}
			acceptance.Confirm = func(path, listing string) bool {
				p.screen.Say("%s", listing)
				return p.confirm("Write this to " + path + "?")
			}
			return p.withApps(selection{names: names}, func(engine *provision.Engine, apps []*estate.App) error {
				p.listen(engine, "settings accept", apps)
				result, err := engine.Accept(command.Context(), apps[0], acceptance)
				if err != nil {
					return err
				}
				return p.conclude(engine, "settings accept", false, []work.Result{result})
			})
		},
	}
	command.Flags().StringVar(&acceptance.File, "file", "", "the settings `file`, as the estate file names it, if the installer makes several")
	command.Flags().StringVar(&text, "text", "", "the text that the installer printed: a `path`, or - for standard input")
	return command
}
