package browser

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
)

// userOf tells whose process is at the other end of a connection on this machine: /proc/net/tcp
// and /proc/net/tcp6 (proc(5)).
func userOf(conn net.Conn) (user int, known bool) {
	here, ok1 := conn.LocalAddr().(*net.TCPAddr)
	there, ok2 := conn.RemoteAddr().(*net.TCPAddr)
	if !ok1 || !ok2 {
		return 0, false
	}
	local, remote := fmt.Sprintf(":%04X", there.Port), fmt.Sprintf(":%04X", here.Port)
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		text, _ := os.ReadFile(table) // without it nothing is known
		for line := range strings.SplitSeq(string(text), "\n") {
			fields := strings.Fields(line) // number, its address, the other's, state, queues, timer, tries, user
			if len(fields) > 7 && strings.HasSuffix(fields[1], local) && strings.HasSuffix(fields[2], remote) {
				user, err := strconv.Atoi(fields[7])
				return user, err == nil
			}
		}
	}
	return 0, false
}
