package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/session"
)

// running is how long requests usually run at most.
const running = time.Second

// PutUpNotice shows visitors a notice instead of pages, where that was asked for: while files
// are swapped and old compiled code goes. It is of a form that the CMS itself lets expire,
// so that a crash cannot leave it up. Requests that began before it get the time to end.
func PutUpNotice(ctx context.Context, s *session.Session) error {
	if !s.Notice {
		return nil
	}
	name, text := s.Site.CMS.Notice(s.Site.Host.Now())
	return s.Step("notice", 0, "", func() (progress.Mark, string, error) {
		if err := TakeDownNotice(ctx, s); err != nil {
			return progress.Bad, "", err
		}
		if err := putFile(ctx, s, name, text); err != nil {
			return progress.Bad, "", fmt.Errorf("put up the notice for visitors: %w", err)
		}
		if err := s.Clock.Wait(ctx, running); err != nil {
			return progress.Bad, "", err
		}
		return progress.Good, path.Base(name) + " is up; it expires by itself after ten minutes", nil
	})
}

// Swap puts what is staged in the place of what is live, where a gap is allowed also by two renames. While the name is
// absent the notice is up, where the CMS has one: whatever happens in between, visitors see that instead of a site
// without a part.
func Swap(ctx context.Context, s *session.Session, live, staged string, allowGap bool) (files.Swapped, error) {
	done, err := files.Swap(ctx, s.Site.Files, live, staged)
	if !allowGap || !errors.Is(err, files.ErrUnsupported) {
		return done, err
	}
	done, err = files.SwapByRenames(ctx, s.Site.Files, live, staged, readyNotice(ctx, s, staged+".notice"))
	s.Run.Gap = max(s.Run.Gap, done.Gap)
	return done, err
}

// readyNotice makes a notice that is not up yet; none, where the CMS has none, one is up, or it cannot be made: a
// swap is not stopped for that.
func readyNotice(ctx context.Context, s *session.Session, at string) files.Cover {
	name, text := s.Site.CMS.Notice(s.Site.Host.Now())
	if name == "" {
		return files.Cover{}
	}
	if _, err := s.Site.Files.Lstat(ctx, name); !errors.Is(err, fs.ErrNotExist) {
		return files.Cover{}
	}
	_ = s.Site.Files.Remove(ctx, at) // left by an earlier try
	if err := putFile(ctx, s, at, text); err != nil {
		return files.Cover{}
	}
	return files.Cover{Ready: at, Shown: name}
}

// noticeLasts is for how long a notice is believed to keep visitors out; the CMS lets it expire a little later.
const noticeLasts = 9 * time.Minute

// NoticeIsUp tells whether a notice keeps visitors out.
func NoticeIsUp(ctx context.Context, s *session.Session) bool {
	now := s.Site.Host.Now()
	name, _ := s.Site.CMS.Notice(now)
	if name == "" {
		return false
	}
	entry, err := s.Site.Files.Lstat(ctx, name)
	return err == nil && now.Sub(entry.Modified) < noticeLasts
}

// RenewNotice puts the notice up, where the CMS has one, or makes one that is up last longer.
func RenewNotice(ctx context.Context, s *session.Session) error {
	name, text := s.Site.CMS.Notice(s.Site.Host.Now())
	if name == "" {
		return nil
	}
	if err := TakeDownNotice(ctx, s); err != nil {
		return err
	}
	if err := putFile(ctx, s, name, text); err != nil {
		return fmt.Errorf("put up the notice for visitors: %w", err)
	}
	return nil
}

// putFile makes a small file on the site that the web server can read.
func putFile(ctx context.Context, s *session.Session, name, text string) error {
	file, err := s.Site.Files.Create(ctx, name, files.Attributes{Mode: 0o644, Owner: files.Unowned, Group: files.Unowned})
	if err != nil {
		return err
	}
	_, err = file.Write([]byte(text))
	return errors.Join(err, file.Close())
}

// TakeDownNotice removes the notice if it is one of ours.
func TakeDownNotice(ctx context.Context, s *session.Session) error {
	name, text := s.Site.CMS.Notice(s.Site.Host.Now())
	if name == "" {
		return nil
	}
	file, err := s.Site.Files.Open(ctx, name, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look at the notice for visitors: %w", err)
	}
	there, err := io.ReadAll(io.LimitReader(file, 4<<10))
	if err := errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("look at the notice for visitors: %w", err)
	}
	if ours, _, _ := strings.Cut(text, "\n"); !strings.HasPrefix(string(there), ours+"\n") {
		return nil
	}
	if err := s.Site.Files.Remove(ctx, name); err != nil {
		return fmt.Errorf("take down the notice for visitors: %w", err)
	}
	return nil
}

// WaitSettled waits until compiled code of before a moment has gone, and takes the notice down.
func WaitSettled(ctx context.Context, s *session.Session, since time.Time) error {
	err := s.Clock.Wait(ctx, s.Site.SettleTime()-time.Since(since))
	return errors.Join(err, TakeDownNotice(context.WithoutCancel(ctx), s))
}
