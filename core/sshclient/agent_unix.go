//go:build !windows

package sshclient

import "net"

// dialAgent reaches the user's agent.
func dialAgent(socket string) (net.Conn, error) { return net.Dial("unix", socket) }
