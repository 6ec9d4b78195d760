package update

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"wetland/core/advice"
	"wetland/core/progress"
	"wetland/core/runs"
)

// hook runs a command of wetland.toml, with the run's facts in its environment. What it
// says goes nowhere but into an error.
func (m *motion) hook(ctx context.Context, when, line string) error {
	if line == "" {
		return nil
	}
	return m.Step("hook "+when, 0, "", func() (progress.Mark, string, error) {
		if err := m.Shell(ctx, line, m.hookFacts()); err != nil {
			return progress.Bad, "", fmt.Errorf("the command that [hooks] %s names failed: %w", when, err)
		}
		return progress.Good, line, nil
	})
}

func (m *motion) hookFacts() []string {
	facts := []string{
		"WETLAND_RUN=" + m.Run.Name, "WETLAND_FOLDER=" + m.Run.Folder, "WETLAND_STATE=" + string(m.Run.State),
		"WETLAND_SITE=" + m.Site.Workspace.Config.Site.Name, "WETLAND_ADDRESS=" + m.Site.Address.String(), "WETLAND_REASON=" + m.Run.Reason,
	}
	var wanted, kept []string
	for _, t := range m.Run.Components {
		name := t.Folder + "@" + t.To
		wanted = append(wanted, name)
		if t.Fate == runs.FateKept {
			kept = append(kept, name)
		}
	}
	return append(facts, "WETLAND_WANTED="+strings.Join(wanted, " "), "WETLAND_KEPT="+strings.Join(kept, " "))
}

// hooksAfter runs the commands for how the run ended. That one of them fails changes
// nothing on the site: it is said, and the run stays what it is.
func (m *motion) hooksAfter() error {
	if m.Run == nil || m.Run.State == runs.UnderWay {
		return nil
	}
	hooks := m.Site.Workspace.Config.Hooks
	when, line := "after", hooks.After
	switch m.Run.State {
	case runs.PutBack, runs.PutBackDoubt, runs.KeptPart, runs.NeedsPerson, runs.Stopped:
		when, line = "on_failure", hooks.OnFailure
	}
	if line == "" {
		return nil
	}
	err := m.hook(m.Abandon, when, line)
	if err != nil {
		m.Run.Next = append(m.Run.Next, advice.Do(err.Error()))
	}
	if saveErr := m.Run.Save(); saveErr != nil {
		return errors.Join(err, saveErr)
	}
	return nil
}
