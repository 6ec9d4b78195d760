package workspace

import (
	"fmt"
	"os"
	"runtime"
	"strings"
)

// ReadSecret follows "env NAME" or "file PATH", which the setting names. A file
// that others may read is refused.
func ReadSecret(setting, from string) (string, error) {
	kind, where, _ := strings.Cut(from, " ")
	if kind == "env" {
		if value, ok := os.LookupEnv(where); ok {
			return value, nil
		}
		return "", fmt.Errorf("%s: the environment variable %s is not set", setting, where)
	}
	info, err := os.Stat(where)
	if err != nil {
		return "", fmt.Errorf("%s: %w", setting, err)
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s: others may read %s. Do: chmod 600 %s", setting, where, where)
	}
	text, err := os.ReadFile(where)
	return strings.TrimRight(string(text), "\r\n"), err
}
