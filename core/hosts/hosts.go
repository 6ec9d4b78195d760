// Package hosts finds the machines that sites are on: this one, or an account on another. Begin reading
// at Hosts.
package hosts

import (
	"context"
	"errors"
	"sync"

	"wetland/core/host"
	"wetland/core/sshclient"
	"wetland/core/sshhost"
	"wetland/core/workspace"
)

// Hosts enters each account once, and leaves it when it is closed.
type Hosts struct {
	Person sshclient.Person // nil: nobody can be asked
	// MayPut asks whether the helper may be put on a machine, where settings do not say; nil: nobody
	// can be asked.
	MayPut func(ctx context.Context, question string) (bool, error)

	lock sync.Mutex
	all  map[string]*sshhost.Host
}

// At finds the host of a root, as workspace.Hosts does. It is entered when it is first asked for
// something.
func (h *Hosts) At(root string, config workspace.HostConfig) (host.Host, string, error) {
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
	if h.all[name] == nil {
		if h.all == nil {
			h.all = map[string]*sshhost.Host{}
		}
		o, err := h.options(config)
		if err != nil {
			return nil, "", err
		}
		h.all[name] = sshhost.New(to, o)
	}
	return h.all[name], folder, nil
}

func (h *Hosts) options(config workspace.HostConfig) (o sshhost.Options, err error) {
	o.Folder, o.MayPut, o.Person, o.HostKey = config.HelperFolder, h.MayPut, h.Person, config.Key
	if o.Files, err = sshclient.OwnFiles(); err != nil {
		return o, err
	}
	switch config.Helper {
	case workspace.PutHelper:
		o.Put = sshhost.MayPut
	case workspace.NeverHelper:
		o.Put = sshhost.NeverPut
	}
	if config.PasswordFrom != "" {
		o.Password = func() (string, error) { return workspace.ReadSecret("[host] password_from", config.PasswordFrom) }
	}
	return o, nil
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
