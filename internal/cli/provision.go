package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

func newProvisionCommand(p *program) *cobra.Command {
	options := work.Options{Command: "provision"}
	var selected selection
	command := &cobra.Command{
		Use:     "provision [APP...]",
		Short:   "Make database, accounts, rights, SQL, settings; prove the login",
		GroupID: groupMake,
		Long: `Makes each app as the estate file says, in the order of the steps. What is
there already is kept, what differs is named and left alone. When a step fails, what
this run made is undone; once the settings are written it stands. Without names: all
apps.`,
		Example: `  yellowfield provision --dry-run
  yellowfield provision combledger
  yellowfield provision combledger --fix server-password`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			if err := validateWords("--only", options.Only, work.Steps); err != nil {
				return err
			}
			if err := validateWords("--fix", options.Fix, work.Fixable); err != nil {
				return err
			}
			selected.names = names
			return p.withApps(selected, func(engine *provision.Engine, apps []*estate.App) error {
				p.listen(engine, "provision", apps)
				work := engine.Provision
				if options.UndoUnfinished {
					work = engine.UndoUnfinished
				}
				results, err := work(command.Context(), apps, options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "provision", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show steps, SQL and file differences, and touch nothing")
	flags.StringSliceVar(&options.Only, "only", nil, "do only these `steps`: "+strings.Join(work.Steps, ", "))
	flags.StringSliceVar(&options.Fix, "fix", nil, "fix these `differences`: "+strings.Join(work.Fixable, ", "))
	flags.BoolVar(&options.TakeAccount, "take-account", false, "take existing accounts that have rights elsewhere")
	flags.BoolVar(&options.WriteHostRule, "write-host-rule", false, "write a host-based rule for logins that PostgreSQL would refuse, prove it by a login, take it back if it fails")
	flags.BoolVar(&options.UndoUnfinished, "undo-unfinished", false, "take back what a run made that was killed, instead of going on with it")
	selected.flags(p, command)
	selected.failedFlag(command)
	p.jobsFlag(command)
	p.limitStatements(command)
	return command
}

// validateWords checks the words of a flag.
func validateWords(flag string, words, allowed []string) error {
	for _, word := range words {
		if !slices.Contains(allowed, word) {
			return fault.New(fault.Invalid, fault.DidYouMean(word, allowed, "known: "+strings.Join(allowed, ", ")), "unknown word %q for %s", word, flag)
		}
	}
	return nil
}
