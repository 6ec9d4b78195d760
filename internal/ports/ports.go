// Package ports finds ports for servers of tests and of the demo, which listen a while after they were told where.
package ports

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
)

// Systems give connections that leave the machine ports from here on: what was free a moment ago is a client's.
const (
	lowest = 10_000
	beyond = 32_768 // /proc/sys/net/ipv4/ip_local_port_range, as Linux has it
)

// kept are the sockets of ports that were given: one that nobody holds is closed.
var kept sync.Map

// Free returns a port of the loopback address that nothing listens on. Nobody else who asks here gets it, in whatever
// process, until this one ends: a socket for datagrams with its number is kept.
func Free() (int, error) {
	var failed error
	for range 1000 {
		port := lowest + rand.IntN(beyond-lowest)
		at := fmt.Sprintf("127.0.0.1:%d", port)
		token, err := net.ListenPacket("udp", at)
		if err != nil {
			failed = err
			continue
		}
		listener, err := net.Listen("tcp", at)
		if err == nil {
			kept.Store(port, token)
			return port, listener.Close()
		}
		failed = errors.Join(err, token.Close())
	}
	return 0, fmt.Errorf("find a free port: %w", failed)
}
