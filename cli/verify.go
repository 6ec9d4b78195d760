package cli

import (
	"context"
	"errors"
	"fmt"
	"wetland/core/archive"
	"wetland/core/phrase"
	"wetland/core/rehearsal"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/update"
	"wetland/core/workspace"

	"github.com/spf13/cobra"
)

func (a *app) verifyCommand() *cobra.Command {
	var deep, bringUp bool
	command := &cobra.Command{
		Use:   "verify SNAPSHOT",
		Short: "Prove a snapshot: every byte and every row of it",
		Long: `Read a whole snapshot and prove it: every file's bytes by their hash, every table's
rows by their digest. With --deep, the tables are also loaded into a scratch
database, which is made for that and taken away again, and what the engine makes of
them is compared. With --bring-up, the snapshot is brought up on this machine as a
private copy of the site, and its pages are looked at and held against how they were
then: so it is proved that the site can live by it. Nothing on the site is touched.`,
		Example: `  wetland verify snap-1
  wetland verify snap-1 --bring-up
  wetland verify snap-1 --deep`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.offer(1, false, snapshots),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.loadSettled()
			if err != nil {
				return err
			}
			manifest, err := archive.Verify(cmd.Context(), w, args[0], deep, a.reader(cmd.Context()))
			a.screen.Clear()
			if errors.Is(err, archive.ErrDamaged) {
				return &exitError{code: exitFailed, err: err}
			}
			if err != nil {
				return err
			}
			if bringUp {
				return a.bringUp(cmd.Context(), w, manifest)
			}
			if a.json {
				a.writeJSON(documentOfSnapshot(manifest))
				return nil
			}
			a.screen.Print("\n")
			a.screen.Paragraph(a.screen.Good("Proved."), manifest.Name+" can be relied on.")
			return nil
		},
	}
	command.Flags().BoolVar(&bringUp, "bring-up", false, "also bring it up as a private copy, and look at its pages")
	command.Flags().BoolVar(&deep, "deep", false, "also load the tables into a scratch database and compare")
	return command
}

// bringUp brings a snapshot up, and says how its pages are.
func (a *app) bringUp(ctx context.Context, w *workspace.Workspace, m *snapshot.Manifest) error {
	servers, err := ownServers()
	if err != nil {
		return err
	}
	judgement, livable, err := rehearsal.BringUp(ctx, w, rehearsal.Options{Options: update.Options{Guard: a.reader(ctx)}, From: m.Name, Servers: servers})
	a.screen.Clear()
	if err != nil {
		return err
	}
	code := map[smoke.Verdict]int{smoke.Sound: exitSound, smoke.Doubtful: exitDoubts, smoke.Broken: exitFailed}[judgement.Verdict]
	if a.json {
		document := documentOfSnapshot(m)
		document.BroughtUp, document.closing = &livable, closing{code}
		a.writeJSON(document)
		return exit(code)
	}
	s := a.screen
	if judgement.Verdict != smoke.Sound {
		s.Print("\n%s\n", s.Bold("What was found"))
		s.Pages(judgement.Pages, true)
	}
	s.Print("\n")
	words := fmt.Sprintf("%s was brought up, and %s: %s, %s. The copy is gone again.", m.Name,
		map[smoke.Verdict]string{smoke.Sound: "the site can live by it", smoke.Doubtful: "some pages are not as they were", smoke.Broken: "pages are broken with it"}[judgement.Verdict],
		phrase.Plural(livable.Pages, "page"), livable.Against)
	s.Paragraph(s.Verdict(judgement.Verdict, map[smoke.Verdict]string{smoke.Sound: "Proved.", smoke.Doubtful: "Readable, with doubts.", smoke.Broken: "Readable, but broken."}[judgement.Verdict]), words)
	return exit(code)
}
