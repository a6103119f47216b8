package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newExportCommand(p *program) *cobra.Command {
	var exported work.ExportOptions
	options := work.Options{Command: "export", Export: &exported}
	command := &cobra.Command{
		Use:     "export APP [FILE]",
		Short:   "Write an app's database to a file, as SQL that every client loads",
		GroupID: groupLater,
		Long: `Writes all that an app's database holds to a new file that only this user can read:
structure, rows, routines, triggers, events and views, all rows as they were at one
moment, while the application goes on. The ending of FILE says how it is packed:
.sql, .sql.gz, .sql.zst or .sql.xz; - is standard output. Without FILE it goes into
the folder of exports. What cannot be taken is named before anything is written.

It is read with an account of the app, or, where none may read all, with one that is
made for so long and has rights on this database alone. Owners, definers and rights
are left out: what is loaded belongs to whoever loads it, with yellowfield import or
the server's own client. What was written is read back; its checksum is told with
--json.`,
		Example: `  yellowfield export combledger
  yellowfield export combledger /srv/backup/combledger.sql.gz
  yellowfield export combledger - | ssh elsewhere 'cat > combledger.sql'`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: p.appNamesThenFiles,
		RunE: func(command *cobra.Command, args []string) error {
			switch {
			case len(args) == 2 && args[1] == "-" && p.asJSON:
				return fault.New(fault.Invalid, "name a file", "both the script and the JSON document would go to standard output")
			case len(args) == 2 && args[1] == "-" && term.IsTerminal(int(os.Stdout.Fd())):
				return fault.New(fault.Invalid, "name a file, or send it into a pipe", "the script would go to the terminal")
			case len(args) == 2 && args[1] == "-":
				exported.Out = os.Stdout
				p.screen.Out = p.screen.Err // messages go to standard error, away from the script
			case len(args) == 2:
				var err error
				if exported.File, err = filepath.Abs(args[1]); err != nil {
					return err
				}
			}
			return p.withApps(selection{names: args[:1]}, func(engine *provision.Engine, apps []*estate.App) error {
				if apps[0].DatabaseFor(exported.Database) == nil {
					return fault.New(fault.Invalid, "see databases in the estate file", "app %s has no database %q", apps[0].Name, exported.Database)
				}
				p.listen(engine, "export", apps)
				results, err := engine.Export(command.Context(), apps[0], options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "export", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "say what the export would hold, and write nothing")
	flags.StringVar(&exported.Database, "database", "", "`name` under databases of the one to export, where the app has several")
	return command
}
