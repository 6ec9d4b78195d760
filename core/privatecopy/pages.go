package privatecopy

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/files"
	"wetland/core/network"
)

//go:embed router.php
var router string

// workers is how many requests PHP's own server answers at the same time.
const workers = 4

// servePages starts what answers for the copy's pages, until the copy is closed, and waits until it does.
func (b *bringing) servePages(ctx, alive context.Context, login *database.Login) error {
	address := b.opened.Address
	own := network.HostPort(address)
	at := net.JoinHostPort("0.0.0.0", portOf(address))
	if b.tls != nil {
		at, own = b.world.Plain, b.world.Plain // what takes TLS off listens before there is anybody behind it
		file := filepath.Join(b.folder, "certificate.pem")
		if err := os.WriteFile(file, b.tls.certificate, 0o600); err != nil {
			return err
		}
		b.Copy.Workspace.Config.Reach.Certificates = file
	}
	if login != nil {
		b.phpSocket = login.Socket
	}
	program, err := b.program(ctx, alive, at)
	if err != nil {
		return err
	}
	server := b.start(alive, program[0], program[1:]...)
	return server.until(ctx, b.Clock, "the web server", func() error { return b.answers(ctx, "tcp", own) })
}

// program is what serves the pages.
func (b *bringing) program(ctx, alive context.Context, at string) ([]string, error) {
	if own, ok := b.Servers.Of[b.Of.Config.Site.CMS]; ok {
		return own.Program(b.opened.Root, at), nil
	}
	b.Copy.Workspace.Config.Site.PHPPool = "" // new code answers at once, see php
	b.Copy.Workspace.SettleAtOnce()
	public, err := b.publicFolder(ctx)
	if err != nil {
		return nil, err
	}
	if err := b.comparePHP(ctx, b.php(b.machine.PHP)); err != nil {
		return nil, err
	}
	if pool := b.machine.Pool; pool != "" && len(b.machine.Front) > 0 {
		return b.startPool(ctx, alive, pool, public, at)
	}
	file := path.Join(ownFolder, "router.php")
	if err := b.put(ctx, file, router); err != nil {
		return nil, err
	}
	facts, err := b.facts(public)
	if err != nil {
		return nil, err
	}
	front := []string{"env", fmt.Sprintf("PHP_CLI_SERVER_WORKERS=%d", workers), "WETLAND_COPY=" + facts}
	return slices.Concat(front, b.php(b.machine.PHP), []string{"-S", at, "-t", public, file}), nil
}

// publicFolder is the folder whose files the address serves: the root, or for an address below its host
// one that has the root at that place.
func (b *bringing) publicFolder(ctx context.Context) (string, error) {
	below := strings.Trim(b.opened.Address.Path, "/")
	if below == "" {
		return b.opened.Root, nil
	}
	if public, ok := strings.CutSuffix(b.opened.Root, "/"+below); ok && public != "" {
		return public, nil
	}
	public := path.Join(ownFolder, "public")
	at := path.Join(public, below)
	if err := files.MakeAll(ctx, b.disk, path.Dir(at), forAll); err != nil {
		return "", err
	}
	return public, b.disk.Symlink(ctx, b.opened.Root, at, files.Attributes{Owner: files.Unowned, Group: files.Unowned})
}

// facts are what the router knows of the site, as JSON.
func (b *bringing) facts(public string) (string, error) {
	address := b.opened.Address
	script := path.Join("/", address.Path, "index.php")
	text, err := json.Marshal(map[string]any{
		"name": address.Hostname(), "port": portOf(address), "https": address.Scheme == "https",
		"first": path.Join(public, script), "script": script,
	})
	return string(text), err
}

// portOf is the port of an address.
func portOf(address *url.URL) string {
	_, port, _ := net.SplitHostPort(network.HostPort(address)) // of what has just been joined
	return port
}
