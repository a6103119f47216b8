// Command manual writes the man pages and the shells' completions of yellowfield into a
// folder, from the commands themselves.
//
//	go run ./internal/manual build/manual
//
// The date of the pages is SOURCE_DATE_EPOCH, so that two builds of one source are the same.
// It must never know of what the commands do.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"yellowfield/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: manual FOLDER")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

func write(folder string) error {
	for _, name := range []string{"YELLOWFIELD_ESTATE", "YELLOWFIELD_STATE"} { // would stand in the pages as defaults
		if err := os.Unsetenv(name); err != nil {
			return err
		}
	}
	of := time.Now()
	if seconds, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64); err == nil {
		of = time.Unix(seconds, 0).UTC()
	}
	root := cli.Root()
	root.DisableAutoGenTag = true
	pages := filepath.Join(folder, "man1")
	if err := os.MkdirAll(pages, 0o755); err != nil {
		return err
	}
	if err := doc.GenManTree(root, &doc.GenManHeader{Title: "YELLOWFIELD", Section: "1", Source: "Yellowfield", Manual: "Yellowfield", Date: &of}, pages); err != nil {
		return err
	}
	for shell, generate := range map[string]func(*cobra.Command, string) error{
		"bash": func(c *cobra.Command, path string) error { return c.GenBashCompletionFileV2(path, true) },
		"zsh":  (*cobra.Command).GenZshCompletionFile,
		"fish": func(c *cobra.Command, path string) error { return c.GenFishCompletionFile(path, true) },
	} {
		if err := generate(root, filepath.Join(folder, "completion."+shell)); err != nil {
			return err
		}
	}
	return nil
}
