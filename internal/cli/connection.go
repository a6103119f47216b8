package cli

import (
	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/overview"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

// connectionDocument is the JSON document of connection. The password stands
// in it as a mask: --reveal is for a terminal.
type connectionDocument struct {
	Command string `json:"command"`
	*overview.Connection
}

func newConnectionCommand(p *program) *cobra.Command {
	var reveal, markdown bool
	var passwordFile string
	var confirmed string
	var account string
	command := &cobra.Command{
		Use:     "connection APP",
		Short:   "The facts to type into a web installer",
		GroupID: groupConfirm,
		Long: `Shows what an application's installer asks for, for the terminal or as a page. The
password is shown with --reveal only, or goes to a file that nobody else can read.
That of an account which no settings file gets is deleted here once you type the
app's name to say that you have it, or give it as --confirm.`,
		Example: `  yellowfield connection honeystall
  yellowfield connection honeystall --reveal
  yellowfield connection combledger --account comb_report --password-file report.word
  yellowfield connection honeystall --markdown > honeystall.md`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			return p.withApps(selection{names: names}, func(engine *provision.Engine, apps []*estate.App) error {
				app := apps[0]
				c, err := engine.Connection(command.Context(), app, account)
				if err != nil {
					return err
				}
				if passwordFile != "" {
					if err := c.WritePassword(passwordFile); err != nil {
						return err
					}
				}
				switch {
				case p.asJSON:
					return printJSON(connectionDocument{"connection", c})
				case markdown:
					p.screen.ConnectionMarkdown(c, reveal)
				default:
					p.screen.Connection(c, reveal)
				}
				if reveal && c.Pending && !work.InSettings(app, c.User) &&
					p.confirmName("Do you have it? Then the only copy of it here is deleted.", app.Name, confirmed) {
					return engine.Acknowledge(app, c.User)
				}
				return nil
			})
		},
	}
	command.Flags().BoolVar(&markdown, "markdown", false, "as a page for a colleague, in Markdown")
	command.Flags().StringVar(&passwordFile, "password-file", "", "write the password to a new `file` of mode 0600")
	command.Flags().BoolVar(&reveal, "reveal", false, "show the password")
	command.Flags().StringVar(&confirmed, "confirm", "", "with --reveal: the password is saved elsewhere, and may be deleted here; the name of the `app` again")
	command.Flags().StringVar(&account, "account", "", "`name` of another of the app's accounts")
	return command
}
