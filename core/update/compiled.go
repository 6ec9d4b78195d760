package update

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
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

func (s *session) letGo(ctx context.Context, where string) error {
	if where != site.PoolByRequest {
		return phppool.Reset(ctx, where)
	}
	script := s.onStandby
	s.onStandby = nil
	if script == nil {
		var err error
		if script, err = s.beginScript(ctx, ""); err != nil {
			return err
		}
	}
	err := <-script.answer
	// Where PHP may not write there, the script could not take itself away.
	if gone := s.site.Place.Remove(script.at); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

const (
	// oneUsePrefix begins the names of scripts of one use. What follows cannot be guessed.
	oneUsePrefix = "wetland-once-"
	// oneUseLasts is for how long such a script works, whatever becomes of us.
	oneUseLasts = 5 * time.Second
	// scriptBegins is how often it is looked whether PHP runs it, a moment apart.
	scriptBegins = 200
	moment       = 5 * time.Millisecond
)

// script is one of one use, which PHP has been asked to run.
type script struct {
	at     string
	answer chan error // gets one
}

// beginScript asks PHP by a request to the site to let go of compiled code: at once, or when
// another folder is in the place of the live one.
func (s *session) beginScript(ctx context.Context, live string) (*script, error) {
	watched := ""
	if live != "" {
		var err error
		if watched, err = filepath.Rel(s.site.Root, live); err != nil {
			return nil, err
		}
	}
	name := oneUsePrefix + strings.ToLower(rand.Text()) + ".php"
	one := &script{at: path.Join(s.site.Root, name), answer: make(chan error, 1)}
	if err := s.putFile(one.at, phppool.OneUse(time.Now().Add(oneUseLasts), filepath.ToSlash(watched))); err != nil {
		return nil, fmt.Errorf("put a script of one use into the site's root: %w", err)
	}
	go func() {
		body, status, err := s.fetcher.Fetch(ctx, "/"+name)
		if err == nil {
			err = phppool.Answered(string(body))
		}
		if err != nil && !errors.Is(err, phppool.ErrNothingKept) {
			err = fmt.Errorf("ask PHP by a request to the site (status %d): %w", status, err)
		}
		one.answer <- err
	}()
	return one, nil
}

// standBy lets PHP wait for the swap that comes next, of the folder at live: what begins to
// answer right after it would otherwise still find old code beside new. A script that answers
// too early is of no use; dropCompiled asks again then, and says what is wrong.
func (s *session) standBy(ctx context.Context, live string) {
	if s.site.Workspace.Config.Site.PHPPool != site.PoolByRequest {
		return
	}
	one, err := s.beginScript(ctx, live)
	if err != nil {
		return
	}
	for range scriptBegins {
		if _, err := s.site.Place.Lstat(one.at); errors.Is(err, fs.ErrNotExist) || len(one.answer) > 0 || s.Clock.Wait(ctx, moment) != nil {
			break
		}
	}
	if len(one.answer) == 0 {
		s.onStandby = one
	}
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
