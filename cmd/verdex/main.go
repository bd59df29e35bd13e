// Command verdex measures what classified maps hold. See the package internal/cli.
package main

import (
	"os"

	"github.com/verdex-land/verdex/internal/cli"
)

// version is set by the Makefile.
var version = "dev"

func main() { os.Exit(cli.Main(os.Args, version, os.Stdout, os.Stderr)) }
