package cli

import (
	"encoding/json"
	"errors"
	"os"
	"time"

	"github.com/spf13/cobra"

	"yellowfield/internal/access"
	"yellowfield/internal/atomicfile"
	"yellowfield/internal/cli/render"
	"yellowfield/internal/fault"
	"yellowfield/internal/overview"
	"yellowfield/internal/provision"
)

// accessDocument is the JSON document of access, which --since reads again.
type accessDocument struct {
	Command string        `json:"command"`
	Estate  string        `json:"estate"`
	Time    time.Time     `json:"time"`
	Cells   []access.Cell `json:"cells"`
	Unseen  []string      `json:"unseen"`
	// Changes are those since an earlier document, if one was given.
	Changes []access.Change `json:"changes,omitempty"`
	Exit    int             `json:"exit"`
}

func newAccessCommand(p *program) *cobra.Command {
	var filter access.Filter
	var asCSV bool
	var page, since string
	command := &cobra.Command{
		Use:     "access [SERVER...]",
		Short:   "Who can do what on which database, the unexpected first",
		GroupID: groupConfirm,
		Long: `Tells for each account and database of the servers what the account can really do there:
by its own grants and patterns, by roles and theirs, by what everybody has, as an owner,
by rights on the whole server, and through views, routines and triggers that run with
somebody else's rights. A set of rights is told as its level (everything, structure, rows,
read), and what is held beside it by name. First comes what the estate file does not
account for, with the reason.

Nothing is changed. --html writes one page that needs nothing else, to be searched,
sorted and printed; --json a document that --since compares with later. Exit code 3 says
that something is unexpected, or with --since that something has changed.`,
		Example: `  yellowfield access
  yellowfield access barn --database combledger
  yellowfield access --html access.html
  yellowfield access --json > access.json; yellowfield access --since access.json`,
		ValidArgsFunction: p.serverNames,
		RunE: func(command *cobra.Command, servers []string) error {
			if asCSV && p.asJSON {
				return fault.New(fault.Invalid, "take one of them", "--csv and --json exclude each other")
			}
			var earlier accessDocument
			if since != "" {
				var err error
				if earlier, err = readAccess(since); err != nil {
					return err
				}
			}
			return p.withServers(servers, func(engine *provision.Engine, servers []string) error {
				found, err := engine.Access(command.Context(), servers, filter)
				if err != nil {
					return err
				}
				return p.concludeAccess(engine, found, earlier, filter, page, since != "", asCSV)
			})
		},
	}
	flags := command.Flags()
	flags.StringSliceVar(&filter.Apps, "app", nil, "only accounts and databases of these `apps`")
	flags.StringSliceVar(&filter.Accounts, "account", nil, "only these `accounts`, with or without their host")
	flags.StringSliceVar(&filter.Databases, "database", nil, "only these `databases`")
	flags.BoolVar(&asCSV, "csv", false, "a line of comma-separated values for each account and database")
	flags.StringVar(&page, "html", "", "write one page to this `file`")
	flags.StringVar(&since, "since", "", "what has changed since a `file` that --json has written")
	return command
}

func readAccess(path string) (document accessDocument, err error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return document, fault.At(fault.Invalid, fault.Place{File: path}, "give a file that yellowfield access --json has written", "the file cannot be read: %v", errors.Unwrap(err)).With(err)
	}
	if err = json.Unmarshal(content, &document); err != nil || document.Command != "access" {
		return document, fault.At(fault.Invalid, fault.Place{File: path}, "give a file that yellowfield access --json has written", "this is not a document of yellowfield access").With(err)
	}
	return document, nil
}

// concludeAccess renders what was found and sets the exit code.
func (p *program) concludeAccess(engine *provision.Engine, found overview.Accessed, earlier accessDocument, filter access.Filter, page string, compare, asCSV bool) error {
	for _, problem := range found.Problems {
		p.exit = fault.Graver(p.exit, problem.Class.ExitCode())
	}
	document := accessDocument{Command: "access", Estate: engine.Estate.Path, Time: time.Now().UTC(), Cells: found.Cells, Unseen: found.Unseen}
	differs := false
	if compare {
		var before []access.Cell
		for _, c := range earlier.Cells {
			if filter.Takes(c) && found.Problems[c.Server] == nil {
				before = append(before, c)
			}
		}
		document.Changes = access.Since(before, found.Cells)
		differs = len(document.Changes) > 0
	} else {
		for _, c := range found.Cells {
			differs = differs || c.Unexpected != ""
		}
	}
	if differs {
		p.exit = fault.Graver(p.exit, fault.Differs.ExitCode())
	}
	document.Exit = p.exit
	if page != "" {
		text, err := render.AccessPage(engine.Estate.Path, found.Report, document.Time)
		if err == nil {
			err = atomicfile.Replace(page, text, atomicfile.Private)
		}
		if err != nil {
			return err
		}
	}
	switch {
	case p.asJSON:
		return printJSON(document)
	case asCSV:
		return render.AccessCSV(os.Stdout, found.Cells)
	case compare:
		p.screen.AccessSince(document.Changes)
	case page != "":
		p.screen.Say("The page is %s, readable by you alone.", page)
	default:
		p.screen.Access(found.Report)
	}
	return nil
}
