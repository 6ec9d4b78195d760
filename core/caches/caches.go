// Package caches empties what keeps copies of a site: the CMS's own caches, those that wetland.toml
// names, and the object cache beside the database. Begin reading at Purge.
//
// What cannot be emptied, or not be proved to be, stays noted in the session and makes the end of the
// run doubtful.
package caches

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"wetland/core/files"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/workspace"
)

// Purge empties the CMS's caches: those of pages, and what it remembers of its themes and
// plugins. It returns how many files and rows went, in words. What stays is told at the end of
// the run, unless a later call clears it.
func Purge(ctx context.Context, s *session.Session) (string, error) {
	var rows int
	var stays error
	var apart sync.WaitGroup
	if s.DB != nil {
		apart.Go(func() {
			stays = within(ctx, rowsWait, func(ctx context.Context) (err error) {
				rows, err = s.Site.CMS.ForgetCaches(ctx, s.DB)
				return err
			})
		})
	}
	count, err := purgePages(ctx, s)
	apart.Wait()
	err = errors.Join(err, stays)
	gone := phrase.Plural(count, "file")
	if rows > 0 {
		gone += " and " + phrase.Plural(rows, "row")
	}
	s.Unpurged = errors.Join(err, purgeElsewhere(ctx, s)) // one cache that stays is no reason to leave the others
	return gone, s.Unpurged
}

// A cache that stays makes an end doubtful; pages that are dead for longer, because somebody holds a table or a command
// never ends, are worse.
const (
	rowsWait    = 5 * time.Second
	commandWait = 2 * time.Minute
)

// within does something that is no more than wanted, for as long as it may take.
func within(ctx context.Context, most time.Duration, do func(context.Context) error) error {
	limited, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	err := do(limited)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("it was not done within %s, and was given up: somebody may hold what it needs", most)
	}
	return err
}

func purgePages(ctx context.Context, s *session.Session) (int, error) {
	purged := 0
	for _, folder := range s.Site.CMS.Layout().Caches {
		if len(s.Site.Workspace.Config.Caches.Commands) > 0 {
			if entry, err := s.Site.Files.Lstat(ctx, folder); err == nil && entry.Kind == files.Link {
				continue // what a link leads to is no folder of the site: the owner's command clears it
			}
		}
		gone, err := files.Clear(ctx, s.Site.Files, folder)
		purged += gone
		if err != nil {
			return purged, err
		}
	}
	return purged, nil
}

// purgeElsewhere empties the caches that wetland.toml names: by commands, and by requests
// with the method PURGE, as caches in front of sites take them by custom.
func purgeElsewhere(ctx context.Context, s *session.Session) error {
	var problems []error
	caches := s.Site.Workspace.Config.Caches
	for _, line := range caches.Commands {
		run := func(ctx context.Context) error { return s.Shell(ctx, line, nil) }
		if err := within(ctx, commandWait, run); err != nil {
			problems = append(problems, fmt.Errorf("[caches] %q: %w", line, err))
		}
	}
	for _, address := range caches.Addresses {
		switch status, err := s.Fetcher.Purge(ctx, address); {
		case err != nil:
			problems = append(problems, fmt.Errorf("[caches] PURGE %s: %w", address, err))
		case status >= http.StatusBadRequest:
			problems = append(problems, fmt.Errorf("[caches] PURGE %s: the cache answers %d", address, status))
		}
	}
	return errors.Join(problems...)
}

// Where the CMS keeps a copy of its settings outside of the database, tables that were put back
// are not all: the CMS would go on with the settings of the newer version.

var errNobodyToEmpty = errors.New("only PHP can empty it, and no php_pool under [site] says where PHP can be asked")

// EmptyObjects has PHP empty the object cache after tables were put back, and proves it. What
// cannot be proved makes the run's end doubtful, and is said there. It returns words for the step.
func EmptyObjects(ctx context.Context, s *session.Session, layout cms.Layout) (progress.Mark, string) {
	if layout.ObjectCache == "" {
		return progress.Good, ""
	}
	where := s.Site.Workspace.Config.Site.PHPPool
	s.Unemptied = nil
	switch {
	case where == "", where == workspace.PoolByRequest, layout.Loader == "":
		s.Unemptied = fmt.Errorf("%s keeps a copy of the settings; %w", layout.ObjectCache, errNobodyToEmpty)
	default:
		s.Unemptied = s.Site.Pool(where).EmptyObjects(ctx, layout.Loader, s.Site.Address.Host)
	}
	if s.Unemptied != nil {
		return progress.Doubt, "; the object cache may still hold the newer settings"
	}
	return progress.Good, "; the object cache was emptied, which is proved"
}
