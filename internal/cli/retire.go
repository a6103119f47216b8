package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/lifecycle"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newRetireCommand(p *program) *cobra.Command {
	var retirement work.Retirement
	options := work.Options{Command: lifecycle.RetireQuietly, Retire: &retirement}
	var confirmed string
	var old bool
	command := &cobra.Command{
		Use:     "retire APP...",
		Short:   "Take an app out of use; drop its database once a copy is proved",
		GroupID: groupLater,
		Long: `Takes an app out of use so that it can be brought back: its accounts are locked and
their sessions ended, its settings files are taken away and kept in the state folder,
and retired: DATE is written into its entry, so that provision leaves it
alone. --back takes all of that back.

With --drop-database its databases and accounts are dropped, and others' rights on
them. Before that each database is exported, the export is loaded again into a
database of its own by an account of its own, with events that do not run, and both
are compared; it is kept until you remove it, and history says where. What else on
the server names the database is listed. Cron jobs, backups and other programs are out
of reach. This asks for the app's name, or wants --confirm APP.`,
		Example: `  yellowfield retire smokerloan
  yellowfield retire smokerloan --back
  yellowfield retire smokerloan --drop-database --confirm smokerloan`,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			switch {
			case old && (len(names) != 1 || retirement.Back || retirement.DropDatabase || confirmed != "" && confirmed != names[0]):
				return fault.New(fault.Invalid, "name one app, and give its name again: --old --confirm APP", "--old drops what an app left on the server that it was moved from")
			case old && confirmed == "":
				retirement.Confirm = func(app string) bool {
					return p.confirmName("What "+app+" left on the server that it was moved from is dropped.", app, "")
				}
			case old:
			case retirement.Back && retirement.DropDatabase:
				return fault.New(fault.Invalid, "leave out one of the two", "--back brings the app into use, and --drop-database drops what it needs")
			case retirement.Unproved && !retirement.DropDatabase:
				return fault.New(fault.Invalid, "leave it out, or add --drop-database", "--unproved-copy is for dropping a database")
			case retirement.DropDatabase && (len(names) != 1 || confirmed != "" && confirmed != names[0]):
				return fault.New(fault.Invalid, "name one app, and give its name again: --drop-database --confirm APP", "--drop-database drops an app's databases and accounts")
			case retirement.DropDatabase && confirmed == "":
				retirement.Confirm = func(app string) bool {
					return p.confirmName("The databases and accounts of "+app+" are dropped.", app, confirmed)
				}
			case !p.yes && !retirement.DropDatabase:
				question := map[bool]string{false: "Take %s out of use?", true: "Bring %s into use again?"}[retirement.Back]
				retirement.Confirm = func(app string) bool { return p.confirm(fmt.Sprintf(question, app)) }
			}
			switch {
			case retirement.Back:
				options.Command = lifecycle.RetireBack
			case retirement.DropDatabase:
				options.Command = lifecycle.RetireDrop
			case old:
				options.Command = "retire --old"
			}
			return p.withApps(selection{names: names}, func(engine *provision.Engine, apps []*estate.App) error {
				p.listen(engine, "retire", apps)
				retire := engine.Retire
				if old {
					retire = engine.RetireOld
				}
				results, err := retire(command.Context(), apps, options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "retire", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show what would be done, with its SQL, and touch nothing")
	flags.BoolVar(&retirement.Back, "back", false, "bring the app into use again, as long as its database is there")
	flags.BoolVar(&retirement.DropDatabase, "drop-database", false, "drop its databases and accounts, once a copy of them is proved")
	flags.BoolVar(&old, "old", false, "drop what the app left on the server that it was moved from")
	flags.BoolVar(&retirement.Unproved, "unproved-copy", false, "with --drop-database: do not load the copy again")
	flags.StringVar(&confirmed, "confirm", "", "with --drop-database or --old: the name of the `app` again")
	return command
}
