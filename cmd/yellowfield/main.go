// Command yellowfield provisions databases for self-hosted PHP applications.
package main

import (
	"os"

	"yellowfield/internal/cli"
)

func main() { os.Exit(cli.Main()) }
