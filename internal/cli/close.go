package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newCloseCommand(p *program) *cobra.Command {
	turn := work.StateChange{Close: true}
	options := work.Options{Command: "close", Turn: &turn}
	var labels []string
	var acknowledged bool
	var confirmed string
	command := &cobra.Command{
		Use:     "close APP...",
		Short:   "Close an app for running: fewer rights, stricter modes",
		GroupID: groupClose,
		Long: `Closes an app when its installation or upgrade is done: its accounts get the rights
for running, and open sessions, which would keep the others, are ended; its
settings files get their modes for running; its installer and samples are moved to
the state folder, from where history --undo puts them back for 30 days; then
the login is tried again. All that is shown beforehand, and asked. The app's notes
are to be read and followed once. An app that waits for its installer is refused.`,
		Example: `  yellowfield close combledger --dry-run
  yellowfield close combledger
  yellowfield close --overdue`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			if len(names)+len(labels) == 0 && !turn.Overdue {
				return fault.New(fault.Invalid, "name them; --overdue closes those whose time is up", "close wants the names of apps")
			}
			if turn.Delete && (len(names) != 1 || confirmed != "" && confirmed != names[0]) {
				return fault.New(fault.Invalid, "name one app, and give its name again: --delete --confirm APP", "--delete removes an installer for good")
			}
			turn.Acknowledge = func(_ string, notes []string) bool {
				for _, note := range notes {
					p.screen.Say("Note: %s", note)
				}
				return acknowledged || p.confirmOnTerminal("Have you done what these notes say?")
			}
			if acknowledged {
				turn.Acknowledge = func(string, []string) bool { return true }
			}
			if !p.yes && !turn.Overdue {
				turn.Confirm = func(app string) bool { return p.confirm("Close " + app + "?") }
			}
			if turn.Overdue && len(names)+len(labels) == 0 {
				return p.closeOverdue(command.Context(), options)
			}
			return p.withApps(selection{names: names, labels: labels}, func(engine *provision.Engine, apps []*estate.App) error {
				if turn.Delete && !options.DryRun && !p.confirmName("The installer of "+apps[0].Name+" is removed for good.", apps[0].Name, confirmed) {
					return fault.New(fault.Protected, "type the app's name, or give it as --confirm "+apps[0].Name, "nothing was done")
				}
				return p.closeApps(command.Context(), engine, apps, options)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show what would be done, with its SQL, and touch nothing")
	flags.BoolVar(&acknowledged, "acknowledged", false, "the app's notes were read, and followed")
	flags.BoolVar(&turn.Overdue, "overdue", false, "close the apps that reopen --for has opened and whose time is up, and ask nothing: for a timer")
	flags.BoolVar(&turn.Delete, "delete", false, "remove the installer for good, and keep no copy")
	flags.StringVar(&confirmed, "confirm", "", "with --delete: the name of the `app` again")
	flags.StringSliceVar(&labels, "label", nil, "apps with one of these `labels`")
	return command
}

func (p *program) closeApps(ctx context.Context, engine *provision.Engine, apps []*estate.App, options work.Options) error {
	if options.Turn.Overdue {
		var err error
		if apps, err = engine.Overdue(apps); err != nil {
			return err
		}
	}
	p.listen(engine, options.Command, apps)
	results, err := engine.Close(ctx, apps, options)
	if err != nil {
		return err
	}
	return p.conclude(engine, "close", options.DryRun, results)
}

// closeOverdue is for a timer: a fault in the entry of one app must not keep the others
// open.
func (p *program) closeOverdue(ctx context.Context, options work.Options) error {
	engine, err := p.engine()
	if err != nil {
		return err
	}
	defer engine.Disconnect()
	p.tellBroken(engine.Estate)
	var apps []*estate.App
	for _, name := range estate.Names(engine.Estate.Apps) {
		apps = append(apps, engine.Estate.Apps[name])
	}
	return p.closeApps(ctx, engine, apps, options)
}

func newReopenCommand(p *program) *cobra.Command {
	turn := work.StateChange{}
	options := work.Options{Command: "reopen", Turn: &turn}
	var labels []string
	command := &cobra.Command{
		Use:     "reopen APP...",
		Short:   "Open an app for an upgrade: rights and modes for installing",
		GroupID: groupClose,
		Long: `Gives an app's accounts the rights for installing and its settings files the modes for
it, as the estate file has them, so that an upgrade can change tables and settings. Its
databases are exported first, and the exports are kept for 30 days: history says where.
With --for it is to be closed again by then: verify reports it, and close --overdue, run
by a timer, closes it.`,
		Example: `  yellowfield reopen combledger --for 2h
  yellowfield close combledger`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			if len(names)+len(labels) == 0 {
				return fault.New(fault.Invalid, "name them", "reopen wants the names of apps")
			}
			if turn.For < 0 || turn.For > 0 && turn.For < time.Minute {
				return fault.New(fault.Invalid, "for instance --for 2h", "--for %s is too short", turn.For)
			}
			if !p.yes {
				turn.Confirm = func(app string) bool {
					return p.confirm("Open " + app + "?")
				}
			}
			return p.withApps(selection{names: names, labels: labels}, func(engine *provision.Engine, apps []*estate.App) error {
				p.listen(engine, options.Command, apps)
				results, err := engine.Reopen(command.Context(), apps, options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "reopen", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show what would be done, with its SQL, and touch nothing")
	flags.BoolVar(&turn.WithoutExport, "without-export", false, "make no copy of the databases first")
	flags.DurationVar(&turn.For, "for", 0, "it is to be closed after this `time`, such as 2h")
	flags.StringSliceVar(&labels, "label", nil, "apps with one of these `labels`")
	return command
}
