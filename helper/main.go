// This is the helper of Wetland: it is put on the machine of a site, and does there what a desk asks
// for over the line that it was started with. It listens on nothing, and ends with that line.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"

	"wetland/core/boundary"
	"wetland/core/host"
	"wetland/core/remote"
	"wetland/core/wire"
)

const words = "This is the helper of Wetland: a Wetland on another machine starts it, by SSH, and it ends with that\nconnection. It can be deleted when no such Wetland looks after a site here any more."

func main() {
	if len(os.Args) != 2 {
		fmt.Println(words)
		os.Exit(1)
	}
	switch os.Args[1] {
	case "serve":
		if os.Getenv("GOGC") == "" {
			debug.SetGCPercent(25) // the machines that sites are on have little memory to spare
		}
		err := remote.Serve(context.Background(), remote.Both(os.Stdin, os.Stdout), func(ctx context.Context, s boundary.Site) (host.Host, error) {
			return boundary.Keep(ctx, host.Here, s)
		})
		if errors.Is(err, wire.ErrBroken) {
			return // how lines end
		}
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(1)
}
