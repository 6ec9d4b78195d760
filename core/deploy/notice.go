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

// begins tells whether a file begins with a text. One that is not there does not.
func begins(ctx context.Context, s *session.Session, name, text string) (bool, error) {
	file, err := s.Site.Files.Open(ctx, name, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	start, err := io.ReadAll(io.LimitReader(file, int64(len(text))))
	return string(start) == text, errors.Join(err, file.Close())
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
	ours, _, _ := strings.Cut(text, "\n")
	is, err := begins(ctx, s, name, ours+"\n")
	if err != nil {
		return fmt.Errorf("look at the notice for visitors: %w", err)
	}
	if !is {
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
