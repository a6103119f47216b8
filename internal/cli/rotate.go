package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/provision"
	"yellowfield/internal/secret"
	"yellowfield/internal/work"
)

func newRotateCommand(p *program) *cobra.Command {
	var rotation work.Rotation
	options := work.Options{Command: "rotate", Rotation: &rotation}
	var all bool
	var labels []string
	var olderThan estate.Days
	var from string
	command := &cobra.Command{
		Use:     "rotate APP... | --all",
		Short:   "A new password on the server and in every settings file",
		GroupID: groupLater,
		Long: `Changes the passwords of an app's accounts. All settings files are written beside
the old ones before anything changes, so that a run which could not write one ends
untouched. On MariaDB and MySQL both passwords are valid while the files are put in
place and for some time after (--overlap), and the old one is ended last: no login
fails. PostgreSQL keeps one password, so that new logins fail from its change until
the settings have it; how long that was is told. With --second-role none fails there
either: the settings name another role until the account's own has its new password,
and are written twice. An account that is in no settings file is changed only by
--account. The next run continues one that was cut off.

With --leaked the old password and its sessions are ended first; who used them, and
other settings with the same password, are listed before.`,
		Example: `  yellowfield rotate combledger
  yellowfield rotate --all --if-older-than 90d --yes
  yellowfield rotate combledger --leaked`,
		ValidArgsFunction: p.appNames,
		RunE: func(command *cobra.Command, names []string) error {
			if len(names)+len(labels) == 0 && !all {
				return fault.New(fault.Invalid, "name them, or say --all", "rotate wants the names of apps")
			}
			if rotation.SecondRole && rotation.Leaked {
				return fault.New(fault.Invalid, "leave out one of the two", "--leaked ends the old password at once, and --second-role lets it be used for a while")
			}
			if all && len(names) > 0 {
				return fault.New(fault.Invalid, "leave out one of the two", "both names and --all are given")
			}
			if rotation.Overlap < 0 {
				return fault.New(fault.Invalid, "for instance --overlap 10s", "--overlap cannot be negative")
			}
			rotation.OlderThan = time.Duration(olderThan) * 24 * time.Hour
			var err error
			if rotation.Password, err = passwordSource(from); err != nil {
				return err
			}
			if !p.yes {
				rotation.Confirm = func(app string) bool { return p.confirm("Change the password of " + app + "?") }
			}
			return p.withApps(selection{names: names, labels: labels}, func(engine *provision.Engine, apps []*estate.App) error {
				if (rotation.Password != nil || rotation.Account != "") && len(apps) > 1 {
					return fault.New(fault.Invalid, "name one app", "--password-from and --account are for one app")
				}
				p.listen(engine, "rotate", apps)
				results, err := engine.Rotate(command.Context(), apps, options)
				if err != nil {
					return err
				}
				return p.conclude(engine, "rotate", options.DryRun, results)
			})
		},
	}
	flags := command.Flags()
	flags.BoolVarP(&options.DryRun, "dry-run", "n", false, "show what would be done, with its SQL, and touch nothing")
	flags.BoolVar(&all, "all", false, "all apps")
	flags.StringVar(&rotation.Account, "account", "", "`name` of one of the app's accounts, else all that settings files get")
	flags.DurationVar(&rotation.Overlap, "overlap", work.Overlap, "keep the old password valid for this `time` after the settings have the new one")
	flags.BoolVar(&rotation.Leaked, "leaked", false, "the old password is known to others: end it and its sessions first")
	flags.BoolVar(&rotation.SecondRole, "second-role", false, "on PostgreSQL: have applications work as a second role meanwhile, so that no login fails")
	flags.Var(&olderThan, "if-older-than", "only passwords older than so many `days`, such as 90d")
	flags.Lookup("if-older-than").DefValue = "" // all
	flags.StringVar(&from, "password-from", "", "`where` the new password comes from, if none is to be made: file:PATH, env:NAME, command:PROGRAM ARGUMENT..., or ask")
	flags.StringSliceVar(&labels, "label", nil, "apps with one of these `labels`")
	return command
}

// passwordSource reads what --password-from says; nil for nothing.
func passwordSource(text string) (*secret.Source, error) {
	kind, rest, _ := strings.Cut(text, ":")
	switch {
	case text == "":
		return nil, nil
	case text == "ask":
		return &secret.Source{Ask: true}, nil
	case kind == "file" && rest != "":
		return &secret.Source{File: rest}, nil
	case kind == "env" && rest != "":
		return &secret.Source{Env: rest}, nil
	case kind == "command" && strings.TrimSpace(rest) != "":
		return &secret.Source{Command: strings.Fields(rest)}, nil
	}
	return nil, fault.New(fault.Invalid, "file:PATH, env:NAME, command:PROGRAM ARGUMENT..., or ask", "--password-from cannot be read")
}
