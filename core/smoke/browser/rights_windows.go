package browser

import (
	"os"
	"os/exec"
)

// lower has nothing to do: there is no root.
func lower(string) (command func(*exec.Cmd), as int, err error) { return nil, os.Geteuid(), nil }
