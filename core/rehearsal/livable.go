package rehearsal

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"wetland/core/archive"
	"wetland/core/host"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/privatecopy"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/smoke"
	"wetland/core/snapshot"
	"wetland/core/workspace"
)

// BringUp brings the snapshot that o.From names up on a private copy, and judges its pages by how they were at its time. What
// came of it is noted in the workspace. The live site is not touched.
func BringUp(ctx context.Context, w *workspace.Workspace, o Options) (judgement *smoke.Judgement, livable archive.Livable, err error) {
	o.Guard.Fill()
	if _, err := Sweep(ctx, w); err != nil {
		return nil, livable, err
	}
	store, m, err := session.OpenSnapshot(ctx, w, o.From, o.Guard)
	if err != nil {
		return nil, livable, err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	before, against, err := pagesOf(w, m)
	if err != nil {
		return nil, livable, err
	}
	how := privatecopy.Options{Guard: o.Guard, Of: w, Store: store, Snapshot: m, Servers: o.Servers}
	if opened, err := site.Open(ctx, w); err == nil { // it may be dead
		if login, err := opened.Login(); err == nil {
			how.Login = &login
		}
		_ = opened.Close()
	}
	grounds := []host.Confiner{nil} // what it is made of is here
	if there, able := w.Host.(host.Confiner); able && !o.Here {
		grounds = append(grounds, there)
	}
	up, err := bringUp(ctx, how, grounds...)
	if err != nil {
		return nil, livable, noCopy(ctx, err)
	}
	defer func() { err = errors.Join(err, up.Close()) }()
	if len(up.Differs) > 0 {
		o.Report.End(progress.Doubt, "not as the site", phrase.List(up.Differs, 3))
	}
	if judgement, err = judgeCopy(ctx, up.Workspace, before, o.Report); err != nil {
		return nil, livable, err
	}
	livable = archive.Livable{At: time.Now().UTC(), Verdict: judgement.Verdict, Pages: len(judgement.Pages), Against: against}
	return judgement, livable, archive.NoteBroughtUp(w, m.Name, livable)
}

// pagesOf finds how pages were when a snapshot was taken: as its run saw them, else as they were recorded
// last. nil: nobody knows, and only plain faults are seen.
func pagesOf(w *workspace.Workspace, m *snapshot.Manifest) (take *smoke.Take, against string, err error) {
	if m.Run != "" {
		run, err := runs.Load(w, m.Run)
		if err == nil {
			file := runs.BaselineFile
			if m.Settles != "" {
				file = cmp.Or(run.PagesFile, runs.AfterFile)
			}
			if take, err = smoke.LoadTake(filepath.Join(run.Folder, file)); err == nil {
				return take, "as " + run.Name + " saw them then", nil
			}
		}
	}
	take, err = smoke.LoadTake(w.Baseline())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "plain faults alone: nothing says how pages were", nil
	}
	if err != nil {
		return nil, "", err
	}
	return take, "as they were recorded on " + take.At.Local().Format("2 January 2006, 15:04"), nil
}

// judgeCopy looks at the pages of a copy, as they are looked at by themselves, and judges them by how they were.
func judgeCopy(ctx context.Context, w *workspace.Workspace, before *smoke.Take, report progress.Reporter) (*smoke.Judgement, error) {
	err := os.RemoveAll(w.Baseline())
	if before != nil { // pages that are tested since say nothing about that time
		err = before.Save(w.Baseline())
		w.Config.Pages = slices.DeleteFunc(w.Config.Pages, func(p workspace.Page) bool { _, known := before.Page(p.Path); return !known })
	}
	if err != nil {
		return nil, err
	}
	checked, err := pagecheck.Check(ctx, w, report)
	if err != nil {
		return nil, err
	}
	pages := phrase.Plural(len(checked.Judgement.Pages), "page")
	mark, words := progress.Good, pages+", all sound"
	if checked.Judgement.Verdict != smoke.Sound {
		mark, words = progress.Doubt, fmt.Sprintf("%d of %s not sound", len(checked.Judgement.Failing()), pages)
	}
	report.End(mark, "pages", words)
	return checked.Judgement, nil
}
