package ports

import (
	"fmt"
	"net"
	"testing"
)

// Nobody is given a port twice, nor one on which something listens.
func TestFree(t *testing.T) {
	seen := map[int]bool{}
	for range 300 {
		port, err := Free()
		if err != nil {
			t.Fatal(err)
		}
		if seen[port] {
			t.Fatalf("%d was given twice", port)
		}
		seen[port] = true
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			t.Fatal(err)
		}
		_ = listener.Close()
	}
}
