package deploy

import (
	"context"
	"errors"
	"io/fs"

	"wetland/core/files"
	"wetland/core/session"
)

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

// swapAnyway swaps behind the gate, where nobody meets a name that is absent.
func swapAnyway(ctx context.Context, s *session.Session, live, staged string) (files.Swapped, error) {
	done, err := files.Swap(ctx, s.Site.Files, live, staged)
	if errors.Is(err, files.ErrUnsupported) {
		return files.SwapByRenames(ctx, s.Site.Files, live, staged, files.Cover{})
	}
	return done, err
}
