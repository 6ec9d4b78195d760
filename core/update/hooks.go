package update

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"runtime"
	"strings"

	"wetland/core/environment"
	"wetland/core/progress"
)

// hook runs a command of wetland.toml, with the run's facts in its environment. What it
// says goes nowhere but into an error.
func (m *motion) hook(ctx context.Context, when, line string) error {
	if line == "" {
		return nil
	}
	return m.step("hook "+when, 0, "", func() (progress.Mark, string, error) {
		if err := m.shell(ctx, line, m.hookFacts()); err != nil {
			return progress.Bad, "", fmt.Errorf("the command that [hooks] %s names failed: %w", when, err)
		}
		return progress.Good, line, nil
	})
}

// shell runs a line of wetland.toml in the workspace, with these variables besides what every
// program needs: no secret of the environment reaches it. The end of what it says is in the error.
func (s *session) shell(ctx context.Context, line string, variables []string) error {
	shell := []string{"/bin/sh", "-c", line}
	if runtime.GOOS == "windows" {
		shell = []string{"cmd", "/c", line}
	}
	command := exec.CommandContext(ctx, shell[0], shell[1:]...)
	command.Dir = s.site.Workspace.Dir
	command.Env = environment.Clean(variables...)
	out, err := command.CombinedOutput()
	if err != nil {
		said := strings.TrimSpace(string(out))
		return fmt.Errorf("%w%s", err, inBrackets(said[max(0, len(said)-300):]))
	}
	return nil
}

func (m *motion) hookFacts() []string {
	facts := []string{
		"WETLAND_RUN=" + m.run.Name, "WETLAND_FOLDER=" + m.run.Folder, "WETLAND_STATE=" + string(m.run.State),
		"WETLAND_SITE=" + m.site.Workspace.Config.Site.Name, "WETLAND_ADDRESS=" + m.site.Address.String(), "WETLAND_REASON=" + m.run.Reason,
	}
	var wanted, kept []string
	for _, t := range m.run.Components {
		name := t.Folder + "@" + t.To
		wanted = append(wanted, name)
		if t.Fate == FateKept {
			kept = append(kept, name)
		}
	}
	return append(facts, "WETLAND_WANTED="+strings.Join(wanted, " "), "WETLAND_KEPT="+strings.Join(kept, " "))
}

// hooksAfter runs the commands for how the run ended. That one of them fails changes
// nothing on the site: it is said, and the run stays what it is.
func (m *motion) hooksAfter() error {
	if m.run == nil || m.run.State == UnderWay {
		return nil
	}
	hooks := m.site.Workspace.Config.Hooks
	when, line := "after", hooks.After
	switch m.run.State {
	case PutBack, PutBackDoubt, KeptPart, NeedsPerson, Stopped:
		when, line = "on_failure", hooks.OnFailure
	}
	if line == "" {
		return nil
	}
	err := m.hook(m.Abandon, when, line)
	if err != nil {
		m.run.Next = append(m.run.Next, err.Error())
	}
	if saveErr := m.run.save(); saveErr != nil {
		return errors.Join(err, saveErr)
	}
	return nil
}
