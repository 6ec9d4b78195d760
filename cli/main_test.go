package cli

import (
	"os"
	"testing"
)

// This program is Wetland, too, where it starts itself for a private copy.
func TestMain(m *testing.M) {
	if code, started := Itself(os.Args[1:], os.Stdin, os.Stdout, os.Stderr); started {
		os.Exit(code)
	}
	os.Exit(m.Run())
}
