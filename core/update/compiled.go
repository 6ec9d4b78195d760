package update

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/phppool"
)

// dropCompiled has the site's PHP processes let go of the code that they keep compiled, if
// wetland.toml says how to ask them: until then old and new code answer side by side. It waits
// for the old code to expire all the same, for there may be other pools.
func (s *session) dropCompiled(ctx context.Context) {
	where := s.site.Workspace.Config.Site.PHPPool
	if where == "" {
		return
	}
	_ = s.step("compiled code", 0, "", func() (progress.Mark, string, error) {
		err := s.letGo(ctx, where)
		switch {
		case errors.Is(err, phppool.ErrNothingKept):
			return noteMark, err.Error(), nil
		case err != nil:
			return doubtMark, fmt.Sprintf("%v: it is waited out", err), nil
		}
		return goodMark, "PHP let go of it", nil
	})
}

// oneUsePrefix begins the names of scripts of one use. What follows cannot be guessed.
const oneUsePrefix = "wetland-once-"

// oneUseLasts is for how long such a script would answer if a crash left it there.
const oneUseLasts = time.Minute

func (s *session) letGo(ctx context.Context, where string) error {
	if where != site.PoolByRequest {
		return phppool.Reset(ctx, where)
	}
	name := oneUsePrefix + strings.ToLower(rand.Text()) + ".php"
	at := path.Join(s.site.Root, name)
	if err := s.putFile(at, phppool.OneUse(time.Now().Add(oneUseLasts))); err != nil {
		return fmt.Errorf("put a script of one use into the site's root: %w", err)
	}
	body, status, err := s.fetcher.Fetch(ctx, "/"+name)
	if err == nil {
		err = phppool.Answered(string(body))
	}
	if err != nil && !errors.Is(err, phppool.ErrNothingKept) {
		err = fmt.Errorf("ask PHP by a request to the site (it answers %d): %w", status, err)
	}
	// Where PHP may not write there, the script could not take itself away.
	if gone := s.site.Place.Remove(at); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// removeOneUse takes away scripts of one use that a crash left.
func (s *session) removeOneUse() error {
	entries, err := s.site.Place.List(s.site.Root)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, entry := range entries {
		if entry.Kind == files.File && strings.HasPrefix(entry.Name, oneUsePrefix) {
			if err := s.site.Place.Remove(path.Join(s.site.Root, entry.Name)); err != nil {
				return fmt.Errorf("clear %s: %w", s.site.Root, err)
			}
		}
	}
	return nil
}
