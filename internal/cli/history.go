package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/mending"
	"yellowfield/internal/provision"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// historyDocument is the JSON document of history.
type historyDocument struct {
	Command string         `json:"command"`
	Estate  string         `json:"estate"`
	Runs    []state.Record `json:"runs"`
	// Unread are the journals that could not be read.
	Unread []string `json:"unread,omitempty"`
}

// undoRun takes one run back.
func (p *program) undoRun(ctx context.Context, id string, options work.Options) error {
	engine, err := p.engine()
	if err != nil {
		return err
	}
	defer engine.Disconnect()
	record, entries, err := engine.State.Entries(engine.Estate.Path, id)
	if err != nil {
		return err
	}
	server, ofServer := mending.IsOfServer(record.App)
	var apps []*estate.App
	if !ofServer {
		apps, err = engine.Estate.Select([]string{record.App}, nil)
	} else {
		err = knownServers(engine.Estate, []string{server})
	}
	if err != nil {
		return err
	}
	if !options.DryRun && !p.confirm(fmt.Sprintf("Take back %s of %s on %s?", record.Command, record.Began.Local().Format(time.DateTime), record.App)) {
		return fault.New(fault.Protected, "answer yes, or add --yes; --dry-run shows what would be taken back", "nothing was done")
	}
	p.listen(engine, "history", apps)
	if ofServer {
		return p.concludeMending(engine, "history", options.DryRun, []work.Result{engine.UndoMending(ctx, server, entries, options.DryRun)}, "")
	}
	results, err := engine.UndoRun(ctx, apps[0], entries, options)
	if err != nil {
		return err
	}
	return p.conclude(engine, "history", options.DryRun, results)
}

func newHistoryCommand(p *program) *cobra.Command {
	var labels []string
	var steps bool
	var undo string
	options := work.Options{Command: "history --undo"}
	command := &cobra.Command{
		Use:     "history [APP...]",
		Short:   "What was done when, by whom, and how it ended, from the journal",
		GroupID: groupLater,
		Long: `Lists the runs that changed something, or were about to, the newest first, from
the journals in the state folder: when, which command, how it ended, how long it
took, and who called it. Below a run stands what failed or was taken back, and where
the old content of settings files is kept. keep_history: 400d at the top of the
estate file removes older ones. No server is asked, and nothing is changed.

With --undo a run is taken back, as far as that is still possible: rights, owners and
modes that it has changed, an installer that it has moved away, old contents of
settings files, what inspect --fix has mended on a server. What was changed again since is refused, and so is what an application
may have used: databases, accounts, rows, passwords. RUN is its ID, as --steps and
--json have it, or the beginning of that.`,
		Example: `  yellowfield history
  yellowfield history combledger --steps
  yellowfield history --undo 20261126T0027
  yellowfield history --json`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			if undo != "" {
				return p.undoRun(command.Context(), undo, options)
			}
			return p.withApps(selection{names: names, labels: labels}, func(engine *provision.Engine, apps []*estate.App) error {
				chosen := make([]string, 0, len(apps))
				if len(names)+len(labels) > 0 { // otherwise also those of apps that are no longer in the estate file
					for _, app := range apps {
						chosen = append(chosen, app.Name)
					}
				}
				runs, unread, err := engine.State.History(engine.Estate.Path, chosen)
				if err != nil {
					return err
				}
				if p.asJSON {
					if runs == nil {
						runs = []state.Record{}
					}
					return printJSON(historyDocument{"history", engine.Estate.Path, runs, unread})
				}
				p.screen.History(runs, steps)
				for _, path := range unread {
					p.screen.Say("Note: the journal %s cannot be read, and is left out; next: look at it, and remove it if it means nothing.", path)
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&undo, "undo", "", "take a `run` back, as far as that is still possible")
	command.Flags().BoolVarP(&options.DryRun, "dry-run", "n", false, "with --undo: show what would be taken back, and touch nothing")
	command.Flags().BoolVar(&steps, "steps", false, "show every step, not only what failed or was taken back")
	command.Flags().StringSliceVar(&labels, "label", nil, "only apps with one of these `labels`")
	return command
}
