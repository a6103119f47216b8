// Package cli is the command line: it parses, calls the core and has the
// result rendered. One command, one file.
//
// It must never compute anything about servers, scripts or files.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yellowfield/internal/applogin"
	"yellowfield/internal/cli/render"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/provision"
	"yellowfield/internal/secret"
	"yellowfield/internal/sqltext/window"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// Groups of commands, in the order in which an administrator works.
const (
	groupPrepare = "prepare"
	groupMake    = "make"
	groupConfirm = "confirm"
	groupClose   = "close"
	groupLater   = "later"
	groupTooling = "tooling"
)

// program is what all commands share: the global flags and the screen.
type program struct {
	estatePath string
	loader     estate.Loader
	longest    estate.Size // of a statement; 0 for what the estate file says
	statePath  string
	asJSON     bool
	quiet      bool
	verbose    bool
	details    bool
	yes        bool
	colour     string
	wait       time.Duration // for another run
	timeout    time.Duration // of the whole command; 0 for none
	loginTime  time.Duration // of a login with what an application's files say
	noInput    bool
	jobs       int // apps that are worked on at once
	screen     *render.Screen
	exit       int
}

// Main runs the program with the process's own arguments and streams and
// returns its exit code.
func Main() int {
	work.ServeLogins()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	// The first Ctrl-C ends the work in order; a second one the program.
	go func() { <-ctx.Done(); stop() }()
	limitMemory(window.LongestStatement)
	p := &program{}
	root := p.rootCommand()
	err := root.ExecuteContext(ctx)
	usage := p.screen == nil // the arguments could not be parsed
	if usage {
		p.screen = render.NewScreen(os.Stdout, os.Stderr, render.ColourAuto)
	}
	if err != nil {
		var known *fault.Error
		switch {
		case errors.As(err, &known):
		case usage:
			err = fault.New(fault.Invalid, "yellowfield --help", "%v", err)
		default: // the system's own message says it all
			err = fault.New(fault.Failed, "run it again with --verbose, which shows how far it comes", "%v", err).With(err)
		}
		p.screen.Fault(err)
		for _, f := range fault.All(err) {
			p.exit = fault.Graver(p.exit, f.Class.ExitCode())
		}
		if p.asJSON {
			_ = printJSON(newErrorDocument(err, p.exit)) // it is on standard error, too
		}
	}
	return p.exit
}

// limitMemory has unused memory given back in time: a statement is held twice while
// its buffer grows, and 32 MiB are for all else. Memory that is in use is not limited
// by it (package runtime/debug, SetMemoryLimit).
func limitMemory(longestStatement int) {
	if os.Getenv("GOMEMLIMIT") == "" && longestStatement > 0 {
		debug.SetMemoryLimit(int64(2*longestStatement + 32<<20))
	}
}

// Root is the program's command with all others below it, for whoever describes them.
func Root() *cobra.Command { return (&program{}).rootCommand() }

const helpWidth = 80

func (p *program) rootCommand() *cobra.Command {
	root := &cobra.Command{
		Use:   "yellowfield",
		Short: "Provisions databases for self-hosted PHP applications",
		Long: `Yellowfield makes an application's database, its accounts and their rights,
imports its SQL, writes matching connection settings into its configuration
files, and proves the result by logging in as the application would: all from
one estate file, shown beforehand, and undone if a step fails.`,
		SilenceUsage: true, SilenceErrors: true,
		Version: version(),
		PersistentPreRunE: func(command *cobra.Command, _ []string) error {
			switch p.colour {
			case render.ColourAuto, render.ColourAlways, render.ColourNever:
			default:
				return fault.New(fault.Invalid, "known: auto, always, never", "unknown --color %q", p.colour)
			}
			p.screen = render.NewScreen(os.Stdout, os.Stderr, p.colour)
			if flag := command.Flags().Lookup("estate"); flag != nil && flag.Changed {
				p.screen.Estate = p.estatePath
			}
			if p.quiet && p.verbose {
				return fault.New(fault.Invalid, "take one of them", "--quiet and --verbose exclude each other")
			}
			if flag := command.Flags().Lookup("jobs"); flag != nil && p.jobs < 1 {
				return fault.New(fault.Invalid, "give a number from 1 on", "--jobs is %d", p.jobs)
			}
			if p.timeout > 0 {
				ctx, cancel := context.WithCancel(command.Context())
				command.SetContext(ctx)
				time.AfterFunc(p.timeout, func() {
					p.screen.Say("The time of --timeout, %s, is over: ending in order.", p.timeout)
					cancel()
				})
			}
			if p.loader.TrustOthers {
				_, _ = fmt.Fprintln(p.screen.Err, "--trust-estate: the estate file is read although others may have written it.")
			}
			return nil
		},
	}
	root.SetVersionTemplate("yellowfield {{.Version}}\n")
	flags := root.PersistentFlags()
	flags.StringVar(&p.estatePath, "estate", os.Getenv("YELLOWFIELD_ESTATE"), "estate `file` (default: yellowfield.yaml here or in a folder above)")
	flags.BoolVar(&p.loader.TrustOthers, "trust-estate", false, "read an estate file that others could have written")
	flags.StringVar(&p.statePath, "state", os.Getenv("YELLOWFIELD_STATE"), "`folder` for journal and pending passwords")
	flags.BoolVar(&p.asJSON, "json", false, "one JSON document on standard output")
	flags.BoolVarP(&p.quiet, "quiet", "q", false, "only what failed or differs")
	flags.BoolVarP(&p.verbose, "verbose", "v", false, "show every statement sent, secrets masked")
	flags.BoolVar(&p.details, "details", false, "every row of every app; verify: also by which code and object a difference can be accepted")
	flags.BoolVarP(&p.yes, "yes", "y", false, "answer yes to what would be asked, where that can be taken back")
	flags.DurationVar(&p.wait, "wait", 3*time.Second, "wait so long for another run on the same app, a `time` such as 60s")
	flags.DurationVar(&p.timeout, "timeout", 0, "end the command in order, as after Ctrl-C, when this `time` is over, such as 10m (default: none)")
	flags.DurationVar(&p.loginTime, "login-timeout", applogin.DefaultDeadline, "give a login as an application so long, a `time` such as 30s")
	flags.BoolVar(&p.noInput, "no-input", false, "ask nothing: what would be asked is not done")
	flags.StringVar(&p.colour, "color", render.ColourAuto, "`when` to use colour: auto, always or never")
	root.AddGroup(&cobra.Group{ID: groupPrepare, Title: "Prepare:"}, &cobra.Group{ID: groupMake, Title: "Make:"}, &cobra.Group{ID: groupConfirm, Title: "Confirm:"}, &cobra.Group{ID: groupClose, Title: "Close:"}, &cobra.Group{ID: groupLater, Title: "Later:"}, &cobra.Group{ID: groupTooling, Title: "Tooling:"})
	root.SetHelpCommandGroupID(groupTooling)
	root.SetCompletionCommandGroupID(groupTooling)
	// The usual terminal has 80 columns.
	cobra.AddTemplateFunc("reflow", func(text string) string { return render.Reflow(text, helpWidth) })
	root.SetHelpTemplate("{{with (or .Long .Short)}}{{. | reflow}}\n\n{{end}}{{if or .Runnable .HasSubCommands}}{{.UsageString}}{{end}}")
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), ".FlagUsages ", fmt.Sprintf(".FlagUsagesWrapped %d ", helpWidth)))
	cobra.EnableCommandSorting = false // they stand in the order of the work
	root.AddCommand(newProposeCommand(p), newProvisionCommand(p), newImportCommand(p), newSettingsCommand(p), newVerifyCommand(p), newListCommand(p), newInspectCommand(p), newAccessCommand(p), newConnectionCommand(p), newCloseCommand(p), newReopenCommand(p), newRotateCommand(p), newExportCommand(p), newCopyCommand(p), newMoveCommand(p), newRetireCommand(p), newHistoryCommand(p), newDemoCommand(p), newJSONSchemaCommand(), newVersionCommand(p))
	p.complete(root)
	return root
}

// estate loads the estate file: the one that was named, else the nearest.
func (p *program) estate() (*estate.Estate, error) {
	path := p.estatePath
	if path == "" {
		here, err := os.Getwd()
		if err != nil {
			return nil, err
		}
		if path, err = estate.Find(here); err != nil {
			return nil, err
		}
	}
	return p.loader.LoadSome(path)
}

// engine opens estate and state.
func (p *program) engine() (*provision.Engine, error) {
	loaded, err := p.estate()
	if err != nil {
		return nil, err
	}
	if p.longest > 0 {
		loaded.LongestStatement = p.longest
	}
	limitMemory(int(loaded.LongestStatement))
	folder, err := p.stateFolder()
	if err != nil {
		return nil, err
	}
	return &provision.Engine{Engine: work.Engine{Estate: loaded, State: folder, Wait: p.wait, Jobs: p.jobs, LoginTimeout: p.loginTime, Ask: p.asker(), AskAgain: p.againAsker()}}, nil
}

// limitStatements gives a command that reads scripts the flag for how long their
// statements may be.
func (p *program) limitStatements(command *cobra.Command) {
	command.Flags().Var(&p.longest, "longest-statement", "how long a statement of a script may be, a `size` such as 256M (default: as the estate file says, else 64M)")
}

// stateFolder opens the state folder.
func (p *program) stateFolder() (*state.Folder, error) {
	path := p.statePath
	if path == "" {
		path = state.DefaultPath()
	}
	folder, err := state.Open(path)
	if err != nil {
		named := *fault.As(err)
		named.Next = strings.ReplaceAll(named.Next, "{state}", "--state or YELLOWFIELD_STATE")
		return nil, &named
	}
	return folder, nil
}

// withApps opens estate and state, chooses apps, and closes all connections after the
// work.
func (p *program) withApps(selected selection, work func(*provision.Engine, []*estate.App) error) error {
	engine, err := p.engine()
	if err != nil {
		return err
	}
	defer engine.Disconnect()
	apps, err := selected.choose(engine)
	if err != nil {
		return err
	}
	p.tellBroken(engine.Estate)
	return work(engine, apps)
}

// tellBroken says in a line for each which apps are left out, since their entries have
// faults.
func (p *program) tellBroken(e *estate.Estate) {
	for _, name := range estate.Names(e.Broken) {
		first := e.Broken[name][0]
		more := ""
		if n := len(e.Broken[name]) - 1; n > 0 {
			more = fmt.Sprintf(", and %s more", figures.Counted(n, "fault", "faults"))
		}
		next := ""
		if first.Next != "" {
			next = "; next: " + first.Next
		}
		p.screen.Say("Note: the entry of app %s is left out, at %s: %s%s%s", name, first.Place, strings.ReplaceAll(first.What, "\n", " "), more, next)
	}
}

// canAsk reports whether there is somebody to be asked.
func (p *program) canAsk() bool { return !p.noInput && term.IsTerminal(int(os.Stdin.Fd())) }

// asker asks on the terminal; it is nil where there is none.
func (p *program) asker() secret.Asker {
	if !p.canAsk() {
		return nil
	}
	return func(label string) (secret.Password, error) {
		_, _ = fmt.Fprintf(p.screen.Err, "Password of %s: ", label)
		typed, err := term.ReadPassword(int(os.Stdin.Fd()))
		_, _ = fmt.Fprintln(p.screen.Err)
		if err == nil && len(typed) == 0 {
			err = fault.New(fault.Invalid, "run the command again", "no password was typed for %s", label)
		}
		return secret.NewPassword(string(typed)), err
	}
}

// againAsker asks on the terminal what --yes was said to for something else; it is nil where
// there is none.
func (p *program) againAsker() func(question string) bool {
	if !p.canAsk() || p.asJSON {
		return nil
	}
	return p.confirmOnTerminal
}

// confirmName asks for an app's name to be typed before something is done that cannot
// be taken back. --confirm gives it; without that and a terminal the answer is no.
func (p *program) confirmName(question, name, confirmed string) bool {
	if confirmed != "" || !p.canAsk() {
		return confirmed == name
	}
	_, _ = fmt.Fprintf(p.screen.Err, "%s Type %s: ", question, name)
	var answer string
	_, _ = fmt.Fscanln(os.Stdin, &answer)
	return answer == name
}

// confirm asks a yes-or-no question on the terminal. Without one the answer is
// no, unless --yes was given.
func (p *program) confirm(question string) bool {
	return p.yes || p.confirmOnTerminal(question)
}

// confirmOnTerminal is confirm for what --yes does not say.
func (p *program) confirmOnTerminal(question string) bool {
	if !p.canAsk() {
		return false
	}
	_, _ = fmt.Fprintf(p.screen.Err, "%s [y/N] ", question)
	var answer string
	_, _ = fmt.Fscanln(os.Stdin, &answer)
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// choose asks which of several options to take. Without a terminal, or with
// --yes, it is the one offered.
func (p *program) choose(question string, options []string, offered int) int {
	if p.yes || p.asJSON || !p.canAsk() {
		return offered
	}
	_, _ = fmt.Fprintln(p.screen.Err, question)
	for i, option := range options {
		_, _ = fmt.Fprintf(p.screen.Err, "  %d  %s\n", i+1, option)
	}
	for {
		_, _ = fmt.Fprintf(p.screen.Err, "1 to %d [%d] ", len(options), offered+1)
		var answer string
		if _, err := fmt.Fscanln(os.Stdin, &answer); err != nil || answer == "" {
			return offered
		}
		if n, err := strconv.Atoi(answer); err == nil && n >= 1 && n <= len(options) {
			return n - 1
		}
	}
}

// printJSON writes a command's one document.
func printJSON(document any) error {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(document); err != nil {
		return err
	}
	// The format stands first in each: all of them are objects.
	whole := fmt.Sprintf("{\n  \"format\": %d,%s", jsonFormat, strings.TrimPrefix(text.String(), "{"))
	_, err := os.Stdout.WriteString(render.EscapeJSON(whole))
	return err
}

// jsonFormat is the version of the documents. It changes only when a field is taken away or
// gets another meaning.
const jsonFormat = 1

// errorDocument is the document of a command that could not do what it was asked.
type errorDocument struct {
	Errors []jsonError `json:"errors"`
	Exit   int         `json:"exit"`
}

type jsonError struct {
	What    string       `json:"what"`
	Place   *fault.Place `json:"place,omitempty"`
	Excerpt string       `json:"excerpt,omitempty"`
	Next    string       `json:"next,omitempty"`
	Exit    int          `json:"exit"`
}

func newErrorDocument(err error, exit int) errorDocument {
	document := errorDocument{Errors: []jsonError{}, Exit: exit}
	for _, f := range fault.All(err) {
		one := jsonError{What: f.What, Excerpt: f.Excerpt, Next: f.Next, Exit: f.Class.ExitCode()}
		if f.Place.File != "" {
			one.Place = &f.Place
		}
		document.Errors = append(document.Errors, one)
	}
	return document
}
