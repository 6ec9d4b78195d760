package network

import (
	"net/netip"
	"testing"
)

func TestDepth(t *testing.T) {
	for address, want := range map[string]Depth{
		"192.0.2.1": Public, "2001:db8::1": Public, "8.8.8.8": Public, "10.1.2.3": Private, "192.168.0.1": Private, "172.16.0.1": Private, "100.64.3.2": Private, "fd00::1": Private,
		"127.0.0.1": Machine, "::1": Machine, "::ffff:127.0.0.1": Machine, "169.254.169.254": Machine, "fe80::1": Machine, "0.0.0.0": Machine, "::ffff:10.0.0.1": Private,
	} {
		if got := DepthOf(netip.MustParseAddr(address)); got != want {
			t.Errorf("%s: %d, want %d", address, got, want)
		}
	}
	if depth, err := DepthOfHost(t.Context(), "127.0.0.1"); depth != Machine || err != nil {
		t.Errorf("this machine: %d, %v", depth, err)
	}
	for _, c := range []struct {
		from, to string
		want     bool
	}{{"192.0.2.1", "10.0.0.1", true}, {"10.0.0.1", "192.0.2.1", false}, {"10.0.0.1", "127.0.0.1", true}, {"127.0.0.1", "10.0.0.1", false}, {"192.0.2.1", "no-such-host.invalid", false}} {
		if LeadsInward(t.Context(), c.from, c.to) != c.want {
			t.Errorf("from %s to %s: %v", c.from, c.to, !c.want)
		}
	}
}
