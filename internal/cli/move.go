package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newMoveCommand(p *program) *cobra.Command {
	var moving work.Moving
	options := work.Options{Command: "move", Move: &moving}
	var all bool
	var from string
	command := &cobra.Command{
		Use:     "move APP... --to SERVER",
		Short:   "Move an app's database and accounts to another server",
		GroupID: groupLater,
		Long: `Moves apps from one server to another of its kind: MariaDB and MySQL, or PostgreSQL.
What the new server lacks for it is found before anything is changed. Then the old
accounts may only read and their sessions are ended, so that nothing changes any more;
databases and accounts with their passwords are made on the new server, rows go there
without a file in between and are compared, the estate file and the settings
name the new server, and the login is proved. If anything fails before the settings are
written, the old accounts get their rights back and the app stays where it was; a run
that was cut off is taken back, or finished, by the next one or by provision.

The old database may be read, and not changed, until retire APP --old drops it. --back
does that, and moves the app there again with its rows as they are now.`,
		Example: `  yellowfield move honeystall --to shed --dry-run
  yellowfield move --all --from barn --to shed --yes
  yellowfield move honeystall --back
  yellowfield retire honeystall --old`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			switch {
			case moving.Back && (moving.To != "" || all || len(names) == 0):
				return fault.New(fault.Invalid, "move APP... --back", "--back moves apps to where they were moved from")
			case moving.Back:
			case moving.To == "":
				return fault.New(fault.Invalid, "name a server of the estate file", "move wants --to SERVER")
			case all == (len(names) > 0), all != (from != ""):
				return fault.New(fault.Invalid, "move APP... --to SERVER, or move --all --from SERVER --to SERVER", "move wants the names of apps, or all of a server")
			}
			if !p.yes {
				question := "Move %s to " + moving.To + "?"
				if moving.Back {
					question = "Move %s back, over what it left there?"
				}
				moving.Confirm = func(app string) bool { return p.confirm(fmt.Sprintf(question, app)) }
			}
			return p.withApps(selection{names: names}, func(engine *provision.Engine, apps []*estate.App) error {
				var chosen []*estate.App
				for _, app := range apps {
					if !all || app.Server == from && app.Retired == "" {
						chosen = append(chosen, app)
					}
				}
				p.listen(engine, "move", apps)
				results, err := engine.Move(command.Context(), chosen, options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "move", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show what would be done, with its SQL, and touch nothing")
	flags.StringVar(&moving.To, "to", "", "the `server` to move to")
	flags.BoolVar(&moving.Back, "back", false, "move to where the app was moved from: what it left there is dropped, and its rows come anew")
	flags.BoolVar(&moving.NewPasswords, "new-passwords", false, "give the accounts new passwords on the new server")
	flags.BoolVar(&moving.MapCollations, "map-collations", false, "put the nearest collation in place of one that the server lacks")
	flags.BoolVar(&all, "all", false, "all apps of the server that --from names")
	flags.StringVar(&from, "from", "", "with --all: the `server` to move from")
	return command
}
