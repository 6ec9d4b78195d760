package update

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
)

// running is how long requests usually run at most.
const running = time.Second

// putUpNotice shows visitors a notice instead of pages, where that was asked for: while files
// are swapped and old compiled code goes. It is of a form that the CMS itself lets expire,
// so that a crash cannot leave it up. Requests that began before it get the time to end.
func (s *session) putUpNotice(ctx context.Context) error {
	if !s.notice {
		return nil
	}
	name, text := s.site.CMS.Notice(time.Now())
	return s.step("notice", 0, "", func() (progress.Mark, string, error) {
		if err := s.takeDownNotice(ctx); err != nil {
			return progress.Bad, "", err
		}
		if err := s.putFile(ctx, name, text); err != nil {
			return progress.Bad, "", fmt.Errorf("put up the notice for visitors: %w", err)
		}
		if err := s.Clock.Wait(ctx, running); err != nil {
			return progress.Bad, "", err
		}
		return progress.Good, path.Base(name) + " is up; it expires by itself after ten minutes", nil
	})
}

// putFile makes a small file on the site that the web server can read.
func (s *session) putFile(ctx context.Context, name, text string) error {
	file, err := s.site.Files.Create(ctx, name, files.Attributes{Mode: 0o644, Owner: files.Unowned, Group: files.Unowned})
	if err != nil {
		return err
	}
	_, err = file.Write([]byte(text))
	return errors.Join(err, file.Close())
}

// takeDownNotice removes the notice if it is one of ours.
func (s *session) takeDownNotice(ctx context.Context) error {
	name, text := s.site.CMS.Notice(time.Now())
	if name == "" {
		return nil
	}
	file, err := s.site.Files.Open(ctx, name, 0)
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
	if err := s.site.Files.Remove(ctx, name); err != nil {
		return fmt.Errorf("take down the notice for visitors: %w", err)
	}
	return nil
}

// checkNotice refuses to promise a notice where the CMS has none.
func (s *session) checkNotice(why *reasons) {
	if name, _ := s.site.CMS.Notice(time.Now()); s.notice && name == "" {
		why.add("this CMS has no notice that expires by itself", "Leave out --notice.")
	}
}

// waitSettled waits until compiled code of before a moment has gone, and takes the notice down.
func (s *session) waitSettled(ctx context.Context, since time.Time) error {
	err := s.Clock.Wait(ctx, s.site.SettleTime()-time.Since(since))
	return errors.Join(err, s.takeDownNotice(context.WithoutCancel(ctx)))
}
