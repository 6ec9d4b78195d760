package session

import (
	"context"
	"fmt"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"wetland/core/environment"
	"wetland/core/phrase"
)

// afterKill is how long what a killed command began may go on holding its output.
const afterKill = 2 * time.Second

// Shell runs a line of wetland.toml in the workspace, with these variables besides what every
// program needs: no secret of the environment reaches it. The end of what it says is in the error.
func (s *Session) Shell(ctx context.Context, line string, variables []string) error {
	shell := []string{"/bin/sh", "-c", line}
	if runtime.GOOS == "windows" {
		shell = []string{"cmd", "/c", line}
	}
	command := exec.CommandContext(ctx, shell[0], shell[1:]...)
	command.Dir, command.WaitDelay = s.Site.Workspace.Dir, afterKill
	command.Env = environment.Clean(variables...)
	out, err := command.CombinedOutput()
	if err != nil {
		said := strings.TrimSpace(string(out))
		return fmt.Errorf("%w%s", err, phrase.InBrackets(said[max(0, len(said)-300):]))
	}
	return nil
}
