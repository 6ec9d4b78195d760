// Package helpers holds the programs that are put on the machines of sites, as make build compiled them
// in: a build without them has none.
package helpers

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// Program is one of them.
type Program struct {
	Packed []byte // with gzip, which every system has
	Hash   string // hexadecimal SHA-256 of the program itself
}

// Names of the systems that uname tells of, and the files that hold the programs for them.
var systems = map[string]string{"Linux-x86_64": "linux-amd64", "Linux-aarch64": "linux-arm64", "Linux-arm64": "linux-arm64"}

//go:embed built
var built embed.FS

// ErrNotBuilt says that this Wetland was built without them.
var ErrNotBuilt = errors.New("this Wetland was built without the helpers for other machines: build it with make build, or use a released one")

// All returns the programs by the system, as "uname -s" and "uname -m" name it with a hyphen between
// them, or ErrNotBuilt.
func All() (map[string]Program, error) {
	all := map[string]Program{}
	for system, name := range systems {
		packed, err := built.ReadFile("built/" + name + ".gz")
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		hash, err2 := built.ReadFile("built/" + name + ".sha256")
		if err := errors.Join(err, err2); err != nil {
			return nil, fmt.Errorf("read the helper for %s: %w", system, err)
		}
		all[system] = Program{packed, strings.TrimSpace(string(hash))}
	}
	if len(all) == 0 {
		return nil, ErrNotBuilt
	}
	return all, nil
}
