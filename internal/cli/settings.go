package cli

import (
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yellowfield/internal/cli/render"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/provision"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/settings/syntax"
)

func newSettingsCommand(p *program) *cobra.Command {
	command := &cobra.Command{
		Use:     "settings",
		Short:   "Read or edit connection settings in configuration files",
		GroupID: groupMake,
		Long: `Reads and edits values in the configuration files of applications (PHP, INI,
YAML, JSON, XML, dotenv, lines of key and value) without changing any other
byte. A part of a data source name is addressed by #: DATABASE_URL#password. No estate file is
needed.`,
	}
	command.AddCommand(newSettingsShowCommand(p), newSettingsSetCommand(p), newSettingsAcceptCommand(p))
	return command
}

// shownSetting is a setting in the JSON document of settings show.
type shownSetting struct {
	Address string `json:"address"`
	Kind    string `json:"kind"`
	Value   string `json:"value"`
	Line    int    `json:"line"`
	Role    string `json:"role,omitempty"`
	Comment bool   `json:"commented,omitempty"` // stands in a comment only
	Refusal string `json:"refusal,omitempty"`   // why it cannot be written
}

type shownFile struct {
	Path     string         `json:"path"`
	Syntax   string         `json:"syntax"`
	Settings []shownSetting `json:"settings"`
}

type shownDocument struct {
	Command string      `json:"command"`
	Files   []shownFile `json:"files"`
}

func newSettingsShowCommand(p *program) *cobra.Command {
	var reveal []string
	command := &cobra.Command{
		Use:   "show FILE...",
		Short: "Every setting with its address, secrets masked",
		Long: `Shows every setting of configuration files with its address. Values are shown
where the key is one of a host, port, socket, user, database, prefix, character
set, collation or driver, and of switches; anything else may be a secret and is
masked, unless --reveal names its address.`,
		Example: `  yellowfield settings show private/ledger.php
  yellowfield settings show private/ledger.php --reveal LEDGER_TITLE`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, paths []string) error {
			var files []shownFile
			revealed := map[string]bool{}
			for _, path := range paths {
				file, err := readSettings(path)
				if err != nil {
					return err
				}
				shown := shownFile{Path: path, Syntax: file.Syntax.Name, Settings: []shownSetting{}}
				show := func(s syntax.Setting, commented bool) {
					value := settings.Shown(s)
					for _, address := range reveal {
						if address == s.Address {
							value, revealed[address] = s.Value, true
						}
					}
					shown.Settings = append(shown.Settings, shownSetting{s.Address, string(s.Kind), value, s.Place.Line, string(settings.RoleOf(s.Address)), commented, s.Refusal})
				}
				for _, s := range file.Settings {
					show(s, false)
				}
				for _, c := range file.Commented() {
					show(c.Setting, true)
				}
				slices.SortStableFunc(shown.Settings, func(a, b shownSetting) int { return a.Line - b.Line })
				files = append(files, shown)
			}
			for _, address := range reveal {
				if !revealed[address] {
					return fault.New(fault.Invalid, "take it from the list without --reveal, letter by letter", "no setting has the address %s", address)
				}
			}
			if p.asJSON {
				return printJSON(shownDocument{"settings show", files})
			}
			for i, file := range files {
				if i > 0 {
					p.screen.Blank()
				}
				rows := make([]render.Setting, len(file.Settings))
				for i, s := range file.Settings {
					rows[i] = render.Setting{Line: s.Line, Address: s.Address, Role: s.Role, Value: s.Value, Refusal: s.Refusal, Commented: s.Comment}
				}
				p.screen.SettingsFile(file.Path, file.Syntax, rows)
			}
			return nil
		},
	}
	command.Flags().StringArrayVar(&reveal, "reveal", nil, "show the value at this `address` too")
	return command
}

type editDocument struct {
	Command string          `json:"command"`
	DryRun  bool            `json:"dry_run"`
	Edit    *provision.Edit `json:"edit"`
}

func newSettingsSetCommand(p *program) *cobra.Command {
	var dryRun, add, replace bool
	var fromFiles []string
	command := &cobra.Command{
		Use:   "set FILE ADDRESS[=VALUE]...",
		Short: "Write values, keep every other byte",
		Long: `Writes values at their addresses, which are in the file's own notation (settings
show lists them). The result is read again before the file is replaced, and the
old content is kept in the state folder. A secret must not stand on a command
line: give the address alone, and its value is asked for, or give it with
--value-file, where - is standard input.`,
		Example: `  yellowfield settings set private/ledger.php LEDGER_SQL_HOST=localhost --dry-run
  yellowfield settings set config.ini '[storage] server=db.meadowgate.example'
  yellowfield settings set .env --value-file STALL_SECRET=-`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, arguments []string) error {
			changes, err := changesFrom(arguments[1:], fromFiles, p.asker())
			if err != nil {
				return err
			}
			for i := range changes {
				changes[i].Add, changes[i].ReplaceExpression = add, replace
			}
			edit, err := provision.PlanEdit(arguments[0], changes)
			if err != nil {
				return err
			}
			if !dryRun {
				folder, err := p.stateFolder()
				if err != nil {
					return err
				}
				if err := edit.Apply(folder); err != nil {
					return err
				}
			}
			if p.asJSON {
				return printJSON(editDocument{"settings set", dryRun, edit})
			}
			if !p.quiet {
				p.screen.Edit(edit, dryRun)
			}
			return nil
		},
	}
	command.Flags().BoolVarP(&dryRun, "dry-run", "n", false, "show the difference, and write nothing")
	command.Flags().BoolVar(&add, "add", false, "add addresses that the file does not have; one in a comment becomes a setting in any case")
	command.Flags().BoolVar(&replace, "replace-expression", false, "put the value in place of one that is evaluated")
	command.Flags().StringArrayVar(&fromFiles, "value-file", nil, "take the value of an address from a file: `ADDRESS=PATH`, - for standard input")
	return command
}

// changesFrom reads ADDRESS=VALUE words, and ADDRESS=PATH words whose values
// are the first lines of files. A word that is an address alone has its value asked
// for on the terminal.
func changesFrom(direct, fromFiles []string, ask secret.Asker) ([]settings.Change, error) {
	var changes []settings.Change
	for _, word := range direct {
		change, err := splitChange(word)
		if err != nil && ask != nil {
			typed, err := ask(word)
			if err != nil {
				return nil, err
			}
			changes = append(changes, settings.Change{Address: word, Value: typed.Reveal(), Secret: true})
			continue
		}
		if err != nil {
			return nil, err
		}
		if change.NamesSecret() {
			return nil, fault.New(fault.Invalid, "give the address alone, and type the value when it is asked for; or --value-file "+change.Address+"=FILE, where - is standard input",
				"the value of %s is a secret, and everybody on this host sees a command line", change.Address)
		}
		changes = append(changes, change)
	}
	for _, word := range fromFiles {
		change, err := splitChange(word)
		if err != nil {
			return nil, err
		}
		content, err := readInput(change.Value)
		if err != nil {
			return nil, fault.At(fault.Invalid, fault.Place{File: change.Value}, "check the path and its permissions", "the value of %s cannot be read: %s", change.Address, fault.As(err).What).With(err)
		}
		line, _, _ := strings.Cut(string(content), "\n")
		change.Value, change.Secret = strings.TrimSuffix(line, "\r"), true
		changes = append(changes, change)
	}
	if len(changes) == 0 {
		return nil, fault.New(fault.Invalid, "write ADDRESS=VALUE; settings show lists the addresses", "no ADDRESS=VALUE given")
	}
	return changes, nil
}

// splitChange cuts at the first equals sign outside brackets: a key in an
// address may hold one.
func splitChange(word string) (settings.Change, error) {
	depth := 0
	for i, c := range word {
		switch {
		case c == '[':
			depth++
		case c == ']':
			depth--
		case c == '=' && depth <= 0:
			return settings.Change{Address: strings.TrimSpace(word[:i]), Value: word[i+1:]}, nil
		}
	}
	// The word is not repeated: it may be a secret given in the wrong place.
	return settings.Change{}, fault.New(fault.Invalid, "write ADDRESS=VALUE, in quotes where the shell wants them", "a word without an equals sign says nothing to write")
}

// readInput reads a file that was named on the command line, - being standard input.
func readInput(path string) ([]byte, error) {
	if path == "-" {
		return host.ReadAll(os.Stdin, "standard input")
	}
	return host.ReadFile(path)
}

// readSettings reads a settings file that was named on the command line.
func readSettings(path string) (*settings.File, error) {
	content, err := host.ReadFile(path)
	if err != nil {
		return nil, fault.At(fault.As(err).Class, fault.Place{File: path}, "check the path and its permissions", "the settings file cannot be read: %v", err).With(err)
	}
	return settings.Parse(path, content)
}
