package cli

import (
	"context"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"yellowfield/internal/fault"
	"yellowfield/internal/inspect"
	"yellowfield/internal/mending"
	"yellowfield/internal/overview"
	"yellowfield/internal/provision"
	"yellowfield/internal/work"
)

// inspectDocument is the JSON document of inspect.
type inspectDocument struct {
	Command string               `json:"command"`
	Estate  string               `json:"estate"`
	Servers []overview.Inspected `json:"servers"`
	Exit    int                  `json:"exit"`
}

func newInspectCommand(p *program) *cobra.Command {
	var only []string
	var sample, fix bool
	var mending mending.Mending
	command := &cobra.Command{
		Use:     "inspect [SERVER...]",
		Short:   "What is wrong with the servers, and what to do about it",
		GroupID: groupConfirm,
		Long: `Looks at the servers of the estate file as a careful administrator would before an
application is put on one: version and support, character set, SQL mode, limits, TLS, room
on the disk; accounts that are unsafe or reach more than is meant, databases that nobody or
everybody reaches, tables that are unlike their database, rules for logins, programs that
run with others' rights. Each finding has its evidence, why it matters, and what to do.

Nothing is changed: the server itself refuses every change to the session that looks.
With --fix what has been found is mended, each finding shown with its statements and
confirmed by itself, or with --yes those that --only names; what the estate file or a file
of the server has to say is left to you. The account that the command is logged in with is
never touched, and after each step a second login of it is proved while the first one
stands: else the step is taken back. history --undo takes a whole run back.

With --sample rows are read, too, as the applications' own accounts, for text that was
encoded twice. Exit code 3 says that something must be fixed.`,
		Example: `  yellowfield inspect
  yellowfield inspect barn --sample
  yellowfield inspect --only wildcard-grant,empty-password --json
  yellowfield inspect barn --fix --only wildcard-grant`,
		ValidArgsFunction: p.serverNames,
		RunE: func(command *cobra.Command, servers []string) error {
			if err := validateWords("--only", only, inspect.Kinds()); err != nil {
				return err
			}
			return p.withServers(servers, func(engine *provision.Engine, servers []string) error {
				if fix || mending.DryRun {
					mending.Only = only
					return p.mend(command.Context(), engine, servers, mending)
				}
				all, err := engine.InspectServers(command.Context(), servers, overview.Inspecting{Sample: sample, Only: only})
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
			})
		},
	}
	flags := command.Flags()
	flags.BoolVar(&sample, "sample", false, "read some rows, as the applications' accounts, for text that was encoded twice")
	flags.StringSliceVar(&only, "only", nil, "only findings of these `kinds`")
	flags.BoolVar(&fix, "fix", false, "mend what was found, after asking for each")
	flags.BoolVarP(&mending.DryRun, "dry-run", "n", false, "show what --fix would send, and touch nothing")
	flags.StringSliceVar(&mending.On, "on", nil, "with --fix: only findings on these `names`, as inspect shows them")
	return command
}

// mend asks about each finding, unless --yes was given with the kinds it applies to.
func (p *program) mend(ctx context.Context, engine *provision.Engine, servers []string, o mending.Mending) error {
	if p.yes && len(o.Only) == 0 {
		return fault.New(fault.Invalid, "add --only with the kinds of findings, or answer for each", "--yes alone does not say what to mend")
	}
	o.Confirm = func(f inspect.Finding) bool {
		if !p.yes {
			p.screen.Finding(f)
		}
		return p.confirm("Mend this?")
	}
	var results []work.Result
	for _, server := range servers {
		results = append(results, engine.Mend(ctx, server, o))
	}
	return p.concludeMending(engine, "inspect", o.DryRun, results, narrowed(o))
}

// mendDocument is the JSON document of inspect --fix, and of taking it back.
type mendDocument struct {
	Command string        `json:"command"`
	Estate  string        `json:"estate"`
	DryRun  bool          `json:"dry_run"`
	Servers []work.Result `json:"servers"`
	Exit    int           `json:"exit"`
}

// concludeMending is conclude for work on servers as a whole.
func (p *program) concludeMending(engine *provision.Engine, command string, dryRun bool, results []work.Result, narrowed string) error {
	p.exit = work.ExitCode(results)
	if p.asJSON {
		return printJSON(mendDocument{command, engine.Estate.Path, dryRun, results, p.exit})
	}
	if !p.quiet {
		p.screen.Mended(results, command, dryRun, narrowed)
	}
	return nil
}

// narrowed are the options that choose among the findings, as they were given.
func narrowed(o mending.Mending) (options string) {
	if len(o.Only) > 0 {
		options += " --only " + shellWord(strings.Join(o.Only, ","))
	}
	if len(o.On) > 0 {
		options += " --on " + shellWord(strings.Join(o.On, ","))
	}
	return options
}

var plainWord = regexp.MustCompile(`^[\w@%.,/:+-]+$`)

// shellWord is a word as a shell takes it (POSIX, "Quoting").
func shellWord(word string) string {
	if plainWord.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
