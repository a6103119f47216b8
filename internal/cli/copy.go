package cli

import (
	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newCopyCommand(p *program) *cobra.Command {
	var copied work.Copying
	options := work.Options{Command: "copy", Copy: &copied}
	command := &cobra.Command{
		Use:     "copy APP NEWNAME --folder DIR",
		Short:   "A copy of an app to try things on",
		GroupID: groupLater,
		Long: `Makes a copy of an app whose folder you have copied to DIR: its databases, with events
that do not run; accounts of its own with fresh passwords; the settings in DIR, which
named the original until then; and an entry in the estate file after the original's,
with its comments. The table prefix stays. The same command continues a run that was cut
off, or takes it back.

What in the copy still names the original is listed and not changed: its url and its
folder, in settings and in tables by column and count.`,
		Example: `  cp -a www/combledger www/combtrial
  yellowfield copy combledger combtrial --folder www/combtrial`,
		Args: cobra.ExactArgs(2),
		ValidArgsFunction: func(command *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return p.appNames(command, args, typed)
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(command *cobra.Command, args []string) error {
			if copied.Name = args[1]; copied.Folder == "" {
				return fault.New(fault.Invalid, "copy the app's folder, and name the copy: --folder DIR", "copy wants the copied folder")
			}
			if !p.yes {
				copied.Confirm = func(app string) bool { return p.confirm("Make " + app + "?") }
			}
			return p.withApps(selection{names: args[:1]}, func(engine *provision.Engine, apps []*estate.App) error {
				p.listen(engine, "copy", apps)
				results, err := engine.Copy(command.Context(), apps[0], options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "copy", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show what would be done, with its SQL, and touch nothing")
	flags.StringVar(&copied.Folder, "folder", "", "the copied `folder`")
	return command
}
