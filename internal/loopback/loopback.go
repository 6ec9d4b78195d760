// Package loopback has the tests' connections served on this machine. It stands on nothing of the
// project, so that the core's suites may use it.
package loopback

import (
	"net"
	"testing"
)

// Listen has every connection served until the test ends, and returns where: network and at are those
// of net.Listen.
func Listen(t testing.TB, network, at string, serve func(net.Conn)) net.Addr {
	t.Helper()
	listener, err := net.Listen(network, at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			connection, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer connection.Close()
				serve(connection)
			}()
		}
	}()
	return listener.Addr()
}
