// Wetland brings new versions of themes and plugins into CMS websites without
// breaking them.
package main

import (
	"os"

	"wetland/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
