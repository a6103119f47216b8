package cli

import (
	"slices"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yellowfield/internal/cli/render"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/inspect"
	"yellowfield/internal/work"
)

// What the shell completes: the words of flags, and the names that are in the estate file.

// named completes names of the estate file, each once.
func (p *program) named(of func(*estate.Estate) []string) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		loaded, err := p.estate()
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		names := of(loaded)
		slices.Sort(names)
		return slices.Compact(names), cobra.ShellCompDirectiveNoFileComp
	}
}

// appNames completes those of the apps.
func (p *program) appNames(command *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return p.named(func(e *estate.Estate) []string { return estate.Names(e.Apps) })(command, args, typed)
}

// serverNames completes those of the servers.
func (p *program) serverNames(command *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return p.named(func(e *estate.Estate) []string { return estate.Names(e.Servers) })(command, args, typed)
}

// appNamesThenFiles completes an app's name, and files after it.
func (p *program) appNamesThenFiles(command *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	return p.appNames(command, args, typed)
}

// each gathers something of every app.
func each(of func(*estate.App) []string) func(*estate.Estate) []string {
	return func(e *estate.Estate) (all []string) {
		for _, app := range e.Apps {
			all = append(all, of(app)...)
		}
		return all
	}
}

func accountsOf(app *estate.App) (names []string) {
	for _, account := range app.Accounts {
		names = append(names, account.Name)
	}
	return names
}

func databasesOf(app *estate.App) (names []string) {
	for _, database := range app.All() {
		names = append(names, database.Name)
	}
	return names
}

// keysOf are the names that an app's databases have in the estate file.
func keysOf(app *estate.App) (keys []string) {
	for _, database := range app.All() {
		if database.Key != "" {
			keys = append(keys, database.Key)
		}
	}
	return keys
}

func words(of ...string) cobra.CompletionFunc {
	return cobra.FixedCompletions(of, cobra.ShellCompDirectiveNoFileComp)
}

// runs completes the IDs of runs, the newest first.
func (p *program) runs(*cobra.Command, []string, string) (ids []string, _ cobra.ShellCompDirective) {
	loaded, err := p.estate()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	folder, err := p.stateFolder()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	const enough = 20
	runs, _, _ := folder.History(loaded.Path, nil) // those that can be read
	for _, run := range runs[:min(enough, len(runs))] {
		ids = append(ids, run.ID+"\t"+run.Command+" "+run.App)
	}
	return ids, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}

// complete gives the flags of all commands what the shell completes, by their names.
func (p *program) complete(root *cobra.Command) {
	flags := map[string]cobra.CompletionFunc{
		"account": p.named(each(accountsOf)), "label": p.named(each(func(app *estate.App) []string { return app.Labels })), "exclude": p.appNames, "app": p.appNames, "confirm": p.appNames,
		"server": p.serverNames, "from": p.serverNames, "to": p.serverNames, "database": p.named(each(databasesOf)), "undo": p.runs,
		"dbms": words(string(dbms.MariaDB), string(dbms.MySQL), string(dbms.PostgreSQL)), "color": words(render.ColourAuto, render.ColourAlways, render.ColourNever),
	}
	own := map[string]cobra.CompletionFunc{ // where a word has another meaning
		"provision only": words(work.Steps...), "provision fix": words(work.Fixable...), "inspect only": words(inspect.Kinds()...),
		"export database": p.named(each(keysOf)), "import into": p.named(each(keysOf)),
	}
	for _, command := range append(root.Commands(), root) {
		command.LocalFlags().VisitAll(func(flag *pflag.Flag) {
			with := own[command.Name()+" "+flag.Name]
			if with == nil && flag.Value.Type() != "bool" {
				with = flags[flag.Name]
			}
			if with != nil {
				_ = command.RegisterFlagCompletionFunc(flag.Name, with) // none has one yet
			}
		})
	}
}
