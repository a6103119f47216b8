package cli

import (
	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/provision"
	"yellowfield/internal/state"
)

// historyDocument is the JSON document of history.
type historyDocument struct {
	Command string         `json:"command"`
	Estate  string         `json:"estate"`
	Runs    []state.Record `json:"runs"`
	// Unread are journals that cannot be read.
	Unread []string `json:"unread,omitempty"`
}

func newHistoryCommand(p *program) *cobra.Command {
	var labels []string
	var steps bool
	command := &cobra.Command{
		Use:     "history [APP...]",
		Short:   "What was done when, by whom, and how it ended, from the journal",
		GroupID: groupConfirm,
		Long: `Lists the runs that changed something, or were about to, the newest first, from
the journals in the state folder: when, which command, how it ended, how long it
took, and who called it. Below a run stands what failed or was taken back, and where
the old content of settings files is kept. keep_history: 400d at the top of the
estate file removes older ones. No server is asked, and nothing is changed.`,
		Example: `  yellowfield history
  yellowfield history combledger --steps
  yellowfield history --json`,
		ValidArgsFunction: p.appNames,
		RunE: func(_ *cobra.Command, names []string) error {
			return p.withApps(names, labels, func(engine *provision.Engine, apps []*estate.App) error {
				chosen := make([]string, 0, len(apps))
				if len(names)+len(labels) > 0 { // else those of apps that are no more in the estate file, too
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
	command.Flags().BoolVar(&steps, "steps", false, "show every step, not only what failed or was taken back")
	command.Flags().StringSliceVar(&labels, "label", nil, "only apps with one of these `labels`")
	return command
}
