package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/script"
	"yellowfield/internal/work"
)

func newImportCommand(p *program) *cobra.Command {
	options := work.Options{Command: "import", Import: &work.ImportOptions{}}
	var each script.Source // what the flags say of every file
	command := &cobra.Command{
		Use:     "import APP [FILE...]",
		Short:   "Import SQL into an app's database, as the app's own account",
		GroupID: groupMake,
		Long: `Imports SQL scripts into the database of an app that provision has made: those
of the estate file, or the files named here, in their order and as one. Plain
text or packed with gzip, bzip2, xz, zstd or zip; - is standard input.

The whole of it is read before anything runs: what reaches outside the database
is refused with its line, and what differs from this server is named. Rows are
joined and sent over several sessions where the outcome is the same as with one
statement after the other. When a statement fails, what the import made is
removed.`,
		Example: `  yellowfield import combledger --dry-run
  yellowfield import combledger backup.sql.zst
  zcat old.sql.gz | yellowfield import combledger - --retarget`,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: p.appNamesThenFiles,
		RunE: func(command *cobra.Command, args []string) error {
			for _, name := range args[1:] {
				source := each
				source.Name = name
				if name == "-" {
					path, remove, err := script.Spool(os.Stdin)
					if err != nil {
						return err
					}
					defer remove()
					source.Path, source.Name = path, "standard input"
				} else if path, err := filepath.Abs(name); err == nil {
					source.Path = path
				}
				options.Import.Files = append(options.Import.Files, source)
			}
			options.Import.Retarget = each.Retarget
			if options.Import.IntoExisting && options.Import.DropExisting {
				return fault.New(fault.Invalid, "leave out one of the two", "--into-existing keeps what is there, and --drop-existing drops it")
			}
			if err := script.CheckEncoding(each.Encoding); err != nil {
				return err
			}
			if len(args) == 1 && (each.Encoding != "" || each.PrefixToken != "") {
				return fault.New(fault.Invalid, "name the files, or write this into the estate file", "--encoding and --prefix-token are for files named here")
			}
			return p.withApps(selection{names: args[:1]}, func(engine *provision.Engine, apps []*estate.App) error {
				if apps[0].DatabaseFor(options.Import.Into) == nil {
					return fault.New(fault.Invalid, "see databases in the estate file", "app %s has no database %q", apps[0].Name, options.Import.Into)
				}
				p.listen(engine, "import", apps)
				results, err := engine.Import(command.Context(), apps[0], options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "import", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "read the scripts and say what they hold, and touch nothing")
	flags.BoolVar(&options.Import.IntoExisting, "into-existing", false, "the scripts may touch tables that are there already")
	flags.BoolVar(&options.Import.DropExisting, "drop-existing", false, "export what the database holds, and drop it first; if the import fails, it comes back")
	flags.BoolVar(&each.Retarget, "retarget", false, "leave out what makes or chooses a database of a fixed name, and accounts for it")
	flags.BoolVar(&options.Import.MapCollations, "map-collations", false, "put the nearest collation in place of one that the server lacks")
	flags.BoolVar(&options.Import.ConvertCharset, "convert-charset", false, "convert tables in latin1 or utf8 to utf8mb4, and MyISAM tables to InnoDB")
	flags.BoolVar(&options.Import.Fast, "fast", false, "on PostgreSQL: several sessions side by side instead of one transaction, also where something was there before")
	flags.BoolVar(&options.Import.OneByOne, "one-by-one", false, "send every statement as it stands, one after the other")
	flags.StringVar(&options.Import.Into, "into", "", "`name` under databases of the one that the files named here go into, where the app has several")
	flags.StringVar(&each.Encoding, "encoding", "", "`encoding` of the files named here, utf-8 by default; binary for bytes that are not looked at")
	flags.StringVar(&each.PrefixToken, "prefix-token", "", "`text` that stands for the app's table prefix in the files named here")
	p.limitStatements(command)
	return command
}
