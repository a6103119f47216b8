package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/inspect"
	"yellowfield/internal/provision"
)

// inspectDocument is the JSON document of inspect.
type inspectDocument struct {
	Command string                `json:"command"`
	Estate  string                `json:"estate"`
	Servers []provision.Inspected `json:"servers"`
	Exit    int                   `json:"exit"`
}

func newInspectCommand(p *program) *cobra.Command {
	var only []string
	var sample bool
	command := &cobra.Command{
		Use:     "inspect [SERVER...]",
		Short:   "The servers as hosts for applications: settings, unsafe accounts and rights, stray databases",
		GroupID: groupConfirm,
		Long: `Looks at the servers of the estate file as a careful administrator would before an
application is put on one: version and support, character set, SQL mode, limits, TLS, room
on the disk; accounts that are unsafe or reach more than is meant, databases that nobody or
everybody reaches, tables that are unlike their database, rules for logins, programs that
run with others' rights. Each finding has its evidence, why it matters, and what to do.

Nothing is changed: the server itself refuses every change to the session that looks.
With --sample rows are read, too, as the applications' own accounts, for text that was
encoded twice. Exit code 3 says that something must be fixed.`,
		Example: `  yellowfield inspect
  yellowfield inspect barn --sample
  yellowfield inspect --only wildcard-grant,empty-password --json`,
		ValidArgsFunction: p.serverNames,
		RunE: func(command *cobra.Command, servers []string) error {
			for _, kind := range only {
				if !slices.Contains(inspect.Kinds(), kind) {
					return fault.New(fault.Invalid, fault.DidYouMean(kind, inspect.Kinds(), "known: "+strings.Join(inspect.Kinds(), ", ")), "unknown finding %q", kind)
				}
			}
			engine, err := p.engine()
			if err != nil {
				return err
			}
			defer engine.Disconnect()
			if err := knownServers(engine.Estate, servers); err != nil {
				return err
			}
			p.tellBroken(engine.Estate)
			if len(servers) == 0 {
				servers = estate.Names(engine.Estate.Servers)
			}
			p.listen(engine)
			all, err := engine.InspectServers(command.Context(), servers, provision.Inspecting{Sample: sample, Only: only})
			if err != nil {
				return err
			}
			for _, server := range all {
				p.exit = fault.Graver(p.exit, server.Exit)
			}
			if p.asJSON {
				return printJSON(inspectDocument{"inspect", engine.Estate.Path, all, p.exit})
			}
			for _, server := range all {
				p.screen.Inspected(server, p.quiet)
			}
			return nil
		},
	}
	flags := command.Flags()
	flags.BoolVar(&sample, "sample", false, "read some rows, as the applications' accounts, for text that was encoded twice")
	flags.StringSliceVar(&only, "only", nil, "only findings of these `kinds`")
	_ = command.RegisterFlagCompletionFunc("only", cobra.FixedCompletions(inspect.Kinds(), cobra.ShellCompDirectiveNoFileComp))
	return command
}
