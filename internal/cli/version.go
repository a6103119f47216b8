package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// build is what the Go tool recorded in the program.
type build struct {
	Version  string `json:"version"`
	Revision string `json:"revision,omitempty"` // of the source
	Time     string `json:"time,omitempty"`     // of the revision
	Changed  bool   `json:"changed"`            // since that revision
	Go       string `json:"go"`
	Platform string `json:"platform"`
}

func readBuild() build {
	b := build{Version: "unknown", Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	b.Version = info.Main.Version
	for _, setting := range info.Settings {
		switch setting.Key {
		case "vcs.revision":
			b.Revision = setting.Value
		case "vcs.time":
			b.Time = setting.Value
		case "vcs.modified":
			b.Changed = setting.Value == "true"
		}
	}
	if b.Version == "" || b.Version == "(devel)" {
		b.Version = "development"
		if b.Revision != "" {
			b.Version += " " + b.Revision[:min(12, len(b.Revision))]
		}
	}
	return b
}

// version is the line of --version.
func version() string {
	b := readBuild()
	return b.Version + ", " + b.Go
}

func newVersionCommand(p *program) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "What this program was built of",
		GroupID: groupTooling,
		Long:    `Prints the version, the revision of the source and its time, and with what and for what it was built.`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			b := readBuild()
			if p.asJSON {
				return printJSON(b)
			}
			p.screen.Facts([][2]string{{"version", b.Version}, {"revision", b.Revision}, {"of", b.Time}, {"changed since", map[bool]string{true: "yes", false: "no"}[b.Changed]}, {"built with", b.Go}, {"for", b.Platform}})
			return nil
		},
	}
}
