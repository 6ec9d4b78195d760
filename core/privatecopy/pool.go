package privatecopy

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"wetland/core/webfront"
)

// The copy's own pool of PHP: a master and its processes, with the settings of the site's.
const (
	poolSocket   = "/.wetland/pool.sock"
	poolSettings = "/.wetland/pool.conf"
)

// startPool starts a pool of PHP, and returns the program that serves the pages by it.
func (b *bringing) startPool(ctx, alive context.Context, program, public, at string) ([]string, error) {
	if err := b.put(ctx, poolSettings, poolText(b.world.User == 0)); err != nil {
		return nil, err
	}
	command := b.php(program)
	if b.world.User == 0 {
		command = append(command, "-R")
	}
	command = append(command, "-F", "-y", poolSettings)
	pool := b.start(alive, command[0], command[1:]...)
	if err := pool.until(ctx, b.Clock, "the pool of PHP", func() error { return b.answers(ctx, "unix", poolSocket) }); err != nil {
		return nil, err
	}
	address := b.opened.Address
	text, err := json.Marshal(webfront.Site{
		Public: public, Script: path.Join("/", address.Path, "index.php"), Pool: poolSocket, Name: address.Hostname(), Port: portOf(address), HTTPS: address.Scheme == "https",
	})
	if err != nil {
		return nil, err
	}
	return slices.Concat(b.machine.Front, []string{string(text), at}), nil
}

// poolText are the settings of the pool itself; those of PHP are on the command line.
func poolText(asRoot bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "[global]\nerror_log = /.wetland/pool.log\ndaemonize = no\n[copy]\nlisten = %s\nlisten.mode = 0600\npm = static\npm.max_children = %d\nclear_env = no\n", poolSocket, workers)
	if asRoot {
		b.WriteString("user = root\ngroup = root\n")
	}
	return b.String()
}
