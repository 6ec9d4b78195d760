// Package hosts finds the machines that sites are on: this one, or an account on another. Begin reading
// at Hosts.
package hosts

import (
	"context"
	"errors"
	"sync"

	"wetland/core/boundary"
	"wetland/core/host"
	"wetland/core/site/cms"
	"wetland/core/sshclient"
	"wetland/core/sshhost"
	"wetland/core/workspace"
)

// Hosts enters each account once, and leaves it when it is closed.
type Hosts struct {
	Person sshclient.Person // nil: nobody can be asked
	Files  *sshclient.Files // the settings of ssh; nil: those of whoever runs this
	// MayPut asks whether the helper may be put on a machine, where settings do not say; nil: nobody
	// can be asked.
	MayPut func(ctx context.Context, question string) (bool, error)

	lock sync.Mutex
	all  map[string]*sshhost.Host
}

// At finds the host of a root, as workspace.Hosts does. It is entered when it is first asked for
// something.
func (h *Hosts) At(root string, config workspace.Config) (host.Host, string, error) {
	if !workspace.IsElsewhere(root) {
		return workspace.OnlyHere(root, config)
	}
	to, err := sshclient.ParseDestination(root)
	if err != nil {
		return nil, "", err
	}
	folder := to.Path
	to.Path = ""
	h.lock.Lock()
	defer h.lock.Unlock()
	name := to.String()
	key := name + "\x00" + folder // a line is kept to one site
	if h.all[key] == nil {
		if h.all == nil {
			h.all = map[string]*sshhost.Host{}
		}
		o, err := h.options(folder, config)
		if err != nil {
			return nil, "", err
		}
		h.all[key] = sshhost.New(to, o)
	}
	return h.all[key], folder, nil
}

func (h *Hosts) options(folder string, config workspace.Config) (o sshhost.Options, err error) {
	own := config.Host
	o.Folder, o.MayPut, o.Person, o.HostKey = own.HelperFolder, h.MayPut, h.Person, own.Key
	o.Site = siteOf(folder, config)
	if h.Files != nil {
		o.Files = *h.Files
	} else if o.Files, err = sshclient.OwnFiles(); err != nil {
		return o, err
	}
	switch own.Helper {
	case workspace.PutHelper:
		o.Put = sshhost.MayPut
	case workspace.NeverHelper:
		o.Put = sshhost.NeverPut
	}
	if own.PasswordFrom != "" {
		o.Password = func() (string, error) { return workspace.ReadSecret("[host] password_from", own.PasswordFrom) }
	}
	return o, nil
}

// siteOf is what belongs to a site beside what its own settings name.
func siteOf(folder string, config workspace.Config) boundary.Site {
	own := config.Database
	s := boundary.Site{Root: folder, Log: config.Site.PHPLog, Database: cms.Given{Host: own.Host, Port: own.Port, Socket: own.Socket, Name: own.Name, User: own.User, File: own.File}}
	if s.AnyPool = config.Site.Root == ""; config.Site.PHPPool != workspace.PoolByRequest { // there is no wetland.toml yet
		s.Pool = config.Site.PHPPool
	}
	if config.Reach.FromHost {
		s.Servers = append(s.Servers, "tcp "+config.SiteServer())
	}
	return s
}

// Close leaves all accounts.
func (h *Hosts) Close() error {
	h.lock.Lock()
	defer h.lock.Unlock()
	var all error
	for _, one := range h.all {
		all = errors.Join(all, one.Close())
	}
	h.all = nil
	return all
}
