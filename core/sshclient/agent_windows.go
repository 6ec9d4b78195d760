package sshclient

import (
	"net"
	"strings"

	"github.com/Microsoft/go-winio"
)

// dialAgent reaches the user's agent: on Windows, mostly by a pipe of this machine.
func dialAgent(socket string) (net.Conn, error) {
	if strings.HasPrefix(socket, `\\.\pipe\`) || strings.HasPrefix(socket, `//./pipe/`) {
		return winio.DialPipe(strings.ReplaceAll(socket, "/", `\`), nil)
	}
	return net.Dial("unix", socket)
}
