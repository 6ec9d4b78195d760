package deploy

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site/phppool"
	"wetland/core/workspace"
)

// DropCompiled has the site's PHP processes drop the code that they keep compiled, if
// wetland.toml says how to ask them: until then old and new code answer side by side. It waits
// for the old code to expire all the same, for there may be other pools. It returns whether the
// known one dropped all.
func DropCompiled(ctx context.Context, s *session.Session) (dropped bool) {
	where := s.Site.Workspace.Config.Site.PHPPool
	if where == "" {
		return false
	}
	_ = s.Step("compiled code", 0, "", func() (progress.Mark, string, error) {
		err := dropCode(ctx, s, where)
		dropped = nothingCompiled(err)
		return droppedWords(err)
	})
	return dropped
}

// nothingCompiled tells by what dropCode returned whether PHP has no compiled code any more.
func nothingCompiled(err error) bool { return err == nil || errors.Is(err, phppool.ErrNothingKept) }

func droppedWords(err error) (progress.Mark, string, error) {
	switch {
	case errors.Is(err, phppool.ErrNothingKept):
		return progress.Note, err.Error(), nil
	case err != nil:
		return progress.Doubt, fmt.Sprintf("%v; waiting until PHP drops it by itself", err), nil
	}
	return progress.Good, "PHP dropped it", nil
}

// phpEndings are those of files that PHP keeps compiled.
var phpEndings = []string{".php", ".inc", ".phtml"}

// BorrowTimes gives staged files of PHP the times of those whose place they will take, if PHP
// can be asked to drop compiled code: by its time PHP tells whether a file changed
// (opcache.validate_timestamps in PHP's manual), so that requests under way go on with the old
// code alone, and only those that begin after PHP dropped it get the new one. SwitchCompiled
// gives them their own times.
func BorrowTimes(ctx context.Context, s *session.Session, group []*Change) error {
	if s.Site.Workspace.Config.Site.PHPPool == "" {
		return nil
	}
	s.Borrowed = true
	var steps []files.Step
	for _, c := range group {
		for _, one := range c.keptCode() {
			with := one.now.Attributes()
			with.Modified = one.before.Modified
			steps = append(steps, files.Step{Do: files.DoSettle, Name: path.Join(c.Staged, one.now.Path), With: with})
		}
	}
	_, err := files.TakeSteps(ctx, s.Site.Files, steps)
	return err
}

// keptFile is a file that is in the old tree and in the new one.
type keptFile struct{ before, now files.Item }

// keptCode lists the files of PHP that are in both trees.
func (c *Change) keptCode() (kept []keptFile) {
	old := map[string]files.Item{}
	for _, item := range c.OldTree {
		old[item.Path] = item
	}
	for _, item := range c.NewTree {
		before := old[item.Path]
		if before.Kind == files.File && item.Kind == files.File && slices.Contains(phpEndings, path.Ext(item.Path)) {
			kept = append(kept, keptFile{before, item})
		}
	}
	return kept
}

// SwitchCompiled lets the new versions answer: PHP drops the old code, the new files get
// their own times, and PHP drops once more, namely what it compiled under the borrowed ones:
// those are the old version's, which may come back. Where PHP dropped it, the new code answers from
// then on, and meanwhile is called.
func SwitchCompiled(ctx context.Context, s *session.Session, group []*Change, meanwhile func(context.Context) error) error {
	s.Dropped = false
	where := s.Site.Workspace.Config.Site.PHPPool
	switch {
	case where == "" && !s.Borrowed:
		return nil
	case where == "":
		_, err := ownTimes(ctx, s, group) // wetland.toml may have named it before a crash
		return err
	}
	return s.Step("compiled code", 0, "", func() (progress.Mark, string, error) {
		start, dropped := time.Now(), dropCode(ctx, s, where)
		s.Dropped = nothingCompiled(dropped)
		var ended error
		if s.Dropped {
			ended = meanwhile(ctx)
		}
		// With a new time requests under way would take up new files.
		ended = errors.Join(ended, s.Clock.Wait(ctx, running-time.Since(start)))
		borrowed, err := ownTimes(context.WithoutCancel(ctx), s, group)
		if err := errors.Join(ended, err); err != nil {
			return progress.Bad, "", err
		}
		if borrowed {
			// With the first one still under way PHP says that it keeps nothing.
			if err := dropCode(ctx, s, where); !nothingCompiled(err) {
				dropped = err
			}
		}
		return droppedWords(dropped)
	})
}

// ownTimes gives the group's files their own times where they have borrowed ones. What has
// another time was written since, by the site itself. PHP counts in whole seconds, and so do
// some disks.
func ownTimes(ctx context.Context, s *session.Session, group []*Change) (borrowed bool, err error) {
	for _, c := range group {
		now := map[string]time.Time{}
		scope, err := c.standAt(c.Live).Scope(ctx, s.Site.Files)
		if err == nil {
			err = files.Walk(ctx, s.Site.Files, c.Live, scope, func(at string, entry files.Entry) error {
				now[at] = entry.Modified
				return nil
			})
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // what is missing is noticed where all is proved
			return borrowed, err
		}
		var steps []files.Step
		for _, one := range c.keptCode() {
			if modified, there := now[one.now.Path]; there && modified.Unix() == one.before.Modified.Unix() {
				steps = append(steps, files.Step{Do: files.DoSettle, Name: path.Join(c.Live, one.now.Path), With: one.now.Attributes()})
			}
		}
		borrowed = borrowed || len(steps) > 0
		err = files.TakeAll(ctx, s.Site.Files, steps, func(_ files.Step, err error) error {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		})
		if err != nil {
			return borrowed, err
		}
	}
	return borrowed, nil
}

// oneUsePrefix begins the names of scripts of one use. What follows cannot be guessed.
const oneUsePrefix = "wetland-once-"

// oneUseLasts is for how long such a script would answer if a crash left it there.
const oneUseLasts = time.Minute

func dropCode(ctx context.Context, s *session.Session, where string) error {
	if where != workspace.PoolByRequest {
		return s.Site.Pool(where).Reset(ctx)
	}
	name := oneUsePrefix + strings.ToLower(rand.Text()) + ".php"
	at := path.Join(s.Site.Root, name)
	if err := putFile(ctx, s, at, phppool.OneUse(s.Site.Host.Now().Add(oneUseLasts))); err != nil {
		return fmt.Errorf("put a script of one use into the site's root: %w", err)
	}
	body, status, err := s.Fetcher.Fetch(ctx, "/"+name)
	if err == nil {
		err = phppool.Answered(string(body))
	}
	if err != nil && !errors.Is(err, phppool.ErrNothingKept) {
		err = fmt.Errorf("ask PHP by a request to the site (it answers %d): %w", status, err)
	}
	// Where PHP may not write there, the script could not take itself away.
	if gone := s.Site.Files.Remove(context.WithoutCancel(ctx), at); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// removeOneUse takes away scripts of one use that a crash left.
func removeOneUse(ctx context.Context, s *session.Session) error {
	entries, err := s.Site.Files.List(ctx, s.Site.Root)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, entry := range entries {
		if entry.Kind == files.File && strings.HasPrefix(entry.Name, oneUsePrefix) {
			if err := s.Site.Files.Remove(ctx, path.Join(s.Site.Root, entry.Name)); err != nil {
				return fmt.Errorf("clear %s: %w", s.Site.Root, err)
			}
		}
	}
	return nil
}
