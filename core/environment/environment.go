// Package environment says what of our own environment the programs get that we start: what
// every program needs, and none of the secrets that somebody put there for us.
package environment

import (
	"os"
	"slices"
	"strings"
)

// handedDown are the variables that programs need to find things, and to speak the user's
// language. Names on Windows have no case.
var handedDown = []string{
	"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LANGUAGE", "TZ", "TMPDIR", "TERM", "XDG_RUNTIME_DIR",
	"SYSTEMROOT", "SYSTEMDRIVE", "WINDIR", "COMSPEC", "PATHEXT", "TEMP", "TMP", "USERPROFILE", "USERNAME", "APPDATA", "LOCALAPPDATA", "PROGRAMDATA", "PROGRAMFILES", "PROGRAMFILES(X86)",
}

// Clean is the environment for a program that we start, with more variables.
func Clean(more ...string) []string {
	var clean []string
	for _, variable := range os.Environ() {
		name, _, _ := strings.Cut(variable, "=")
		if slices.Contains(handedDown, strings.ToUpper(name)) || strings.HasPrefix(name, "LC_") {
			clean = append(clean, variable)
		}
	}
	return append(clean, more...)
}
