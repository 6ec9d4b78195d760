// Package network says how far inside an address is: what is asked for on behalf of a site, or of
// a vendor, does not lead further inside than that site or vendor is. It also joins hosts and ports, and
// makes certificates that vouch for themselves.
package network

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"net/url"
)

// Depth is how far inside an address is.
type Depth int

// The depths. Servers of clouds tell their secrets at link-local addresses.
const (
	Public  Depth = iota
	Private       // of an organisation, or a house
	Machine       // this machine, and its link
)

// ErrInward says that an address is further inside than what led there.
var ErrInward = errors.New("it leads to an address of a private network, which is not the site's")

// DepthOf tells how far inside an address is.
func DepthOf(a netip.Addr) Depth {
	a = a.Unmap()
	switch {
	case a.IsLoopback(), a.IsUnspecified(), a.IsLinkLocalUnicast(), a.IsMulticast():
		return Machine
	case a.IsPrivate(), a.Is4() && netip.MustParsePrefix("100.64.0.0/10").Contains(a): // RFC 6598
		return Private
	}
	return Public
}

// DepthOfHost is that of the address of a host that is furthest inside.
func DepthOfHost(ctx context.Context, host string) (deepest Depth, err error) {
	addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	for _, address := range addresses {
		deepest = max(deepest, DepthOf(address))
	}
	return deepest, err
}

// LeadsInward tells whether a host is further inside than another. One that cannot be found cannot
// be asked, either.
func LeadsInward(ctx context.Context, from, to string) bool {
	before, err1 := DepthOfHost(ctx, from)
	after, err2 := DepthOfHost(ctx, to)
	return err1 == nil && err2 == nil && after > before
}

// HostPort is the host and port that an address of the web leads to, as connections are made: HOST:PORT.
func HostPort(address *url.URL) string {
	if address.Port() != "" {
		return address.Host
	}
	return net.JoinHostPort(address.Hostname(), map[string]string{"http": "80", "https": "443"}[address.Scheme])
}
