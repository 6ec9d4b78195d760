// Wetland brings new versions of themes and plugins into CMS websites without
// breaking them.
package main

import (
	"os"
	"runtime/debug"

	"wetland/cli"
)

func main() {
	// Servers that sites are on have little memory to spare: Go's usual setting takes twice what
	// is held. It costs next to no time here, and GOGC in the environment still wins.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(25)
	}
	os.Exit(cli.Watched(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
