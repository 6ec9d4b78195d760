// This is the helper of Wetland: it is put on the machine of a site, and does there what a desk asks
// for over the line that it was started with. It listens on nothing, and ends with that line.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"

	"wetland/core/boundary"
	"wetland/core/confine"
	"wetland/core/host"
	"wetland/core/remote"
	"wetland/core/webfront"
	"wetland/core/wire"
)

const words = "This is the helper of Wetland: a Wetland on another machine starts it, by SSH, and it ends with that\nconnection. It can be deleted when no such Wetland looks after a site here any more."

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(25) // the machines that sites are on have little memory to spare
	}
	ctx, err := context.Background(), error(nil)
	switch {
	case confine.IsKeeper():
		err = confine.Keep(ctx, os.Stdin, os.Stdout)
	case len(os.Args) == 4 && os.Args[1] == frontVerb:
		err = webfront.Serve(ctx, os.Args[2], os.Args[3])
	case len(os.Args) == 2 && os.Args[1] == "serve":
		err = serve(ctx)
	default:
		fmt.Println(words)
		os.Exit(1)
	}
	if errors.Is(err, wire.ErrBroken) {
		return // how lines end
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// frontVerb has the helper serve the pages of a private copy, in the copy's world.
const frontVerb = "serve-pool"

// serve does what a desk asks for. What private copies held that a crash left is taken away first.
func serve(ctx context.Context) error {
	signal.Ignore(syscall.SIGPIPE, syscall.SIGHUP) // a line that broke is told by its end, and all is put in order then
	self, err := os.Executable()
	if err != nil {
		return err
	}
	rooms := filepath.Join(filepath.Dir(self), "copies")
	_, _, _ = confine.Sweep(ctx, rooms) // what cannot be taken away is tried again by the next one
	ground := confine.On(rooms, []string{self, frontVerb})
	return remote.Serve(ctx, remote.Both(os.Stdin, os.Stdout), func(ctx context.Context, s boundary.Site) (host.Host, error) {
		return boundary.Keep(ctx, ground, s)
	})
}
