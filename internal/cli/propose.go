package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/propose"
)

type proposeDocument struct {
	Command  string            `json:"command"`
	Estate   string            `json:"estate"` // the file that gets the entry
	Proposal *propose.Proposal `json:"proposal"`
	Written  *propose.Written  `json:"written,omitempty"` // with --write
}

func newProposeCommand(p *program) *cobra.Command {
	var options propose.Options
	var added propose.NewServer
	var write bool
	command := &cobra.Command{
		Use:     "propose DIR",
		Short:   "Look through an unpacked application, and write its entry",
		GroupID: groupPrepare,
		Long: `Looks through the folder of an unpacked application: which settings file holds
the login and under which keys, which SQL is to be imported and in which order,
for which servers it is made, what its own installer does. Nothing of it is run.

The entry is YAML. What is certain stands there as values, what is not as
comments with the reason. On a terminal the open questions are asked; without
one, and with --yes, the likeliest answer is taken.`,
		Example: `  yellowfield propose www/newapp
  yellowfield propose www/newapp --write
  yellowfield propose www/newapp --name shop --server barn --settings inc/config.php --write
  yellowfield propose www/newapp --new-server barn --dbms mariadb --socket /run/mysqld/mysqld.sock --write`,
		Args: cobra.ExactArgs(1),
		RunE: func(command *cobra.Command, arguments []string) error {
			options.Folder, options.Loader = arguments[0], p.loader
			if added.Name != "" {
				options.NewServer = &added
			} else if added != (propose.NewServer{}) {
				return fault.New(fault.Invalid, "add --new-server NAME", "--dbms, --socket, --host and --port are of a new server")
			}
			var err error
			if options.Path, options.Estate, err = p.estateIfAny(); err != nil {
				return err
			}
			proposal, err := propose.New(command.Context(), options)
			if err != nil {
				return err
			}
			for _, question := range proposal.Questions {
				proposal.Answer(question.ID, p.choose(question.Text, question.Options, question.Answer))
			}
			var written *propose.Written
			if write {
				if written, err = proposal.Write(command.Context()); err != nil {
					return err
				}
			}
			if p.asJSON {
				return printJSON(proposeDocument{"propose", options.Path, proposal, written})
			}
			p.screen.Proposal(proposal, written, p.quiet)
			return nil
		},
	}
	command.Flags().BoolVarP(&write, "write", "w", false, "add the entry to the estate file, which keeps its layout and its comments")
	command.Flags().StringVar(&options.Name, "name", "", "the `name` that the app is called in the estate file (default: told from the folder)")
	command.Flags().StringVar(&options.Server, "server", "", "the `server` of the estate file that its database is on")
	command.Flags().StringVar(&added.Name, "new-server", "", "add a server of this `name` to the estate file, with --dbms and --socket, or --host and --port")
	command.Flags().StringVar(&added.DBMS, "dbms", "", "the `product` of the new server: mariadb, mysql or postgresql")
	command.Flags().StringVar(&added.Socket, "socket", "", "the `path` of the new server's socket")
	command.Flags().StringVar(&added.Host, "host", "", "the new server's `host`")
	command.Flags().IntVar(&added.Port, "port", 0, "the new server's `port`, if it is not the usual one")
	command.Flags().StringVar(&options.Settings, "settings", "", "the settings `file` that holds the login, from DIR")
	return command
}

// estateIfAny opens the estate file, which need not be there yet.
func (p *program) estateIfAny() (path string, loaded *estate.Estate, err error) {
	path = p.estatePath
	if path == "" {
		here, err := os.Getwd()
		if err != nil {
			return "", nil, err
		}
		if path, err = estate.Find(here); err != nil {
			return filepath.Join(here, estate.FileName), nil, nil
		}
	}
	if _, err := os.Stat(path); os.IsNotExist(err) {
		return path, nil, nil
	}
	loaded, err = p.loader.LoadSome(path)
	return path, loaded, err
}
