package update

import (
	"context"
	"errors"
	"fmt"

	"wetland/core/progress"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/site/phppool"
)

// Where the CMS keeps a copy of its settings outside of the database, tables that were put back
// are not all: the CMS would go on with the settings of the newer version.

var errNobodyToEmpty = errors.New("only PHP can empty it, and no php_pool under [site] says where PHP can be asked")

// emptyObjects has PHP empty the object cache after tables were put back, and proves it. What
// cannot be proved makes the run's end doubtful, and is said there. It returns words for the step.
func (s *session) emptyObjects(ctx context.Context, layout cms.Layout) (progress.Mark, string) {
	if layout.ObjectCache == "" {
		return progress.Good, ""
	}
	where := s.site.Workspace.Config.Site.PHPPool
	s.unemptied = nil
	switch {
	case where == "", where == site.PoolByRequest, layout.Loader == "":
		s.unemptied = fmt.Errorf("%s keeps a copy of the settings; %w", layout.ObjectCache, errNobodyToEmpty)
	default:
		s.unemptied = phppool.EmptyObjects(ctx, where, layout.Loader, s.site.Address.Host)
	}
	if s.unemptied != nil {
		return progress.Doubt, "; the object cache may still hold the newer settings"
	}
	return progress.Good, "; the object cache was emptied, which is proved"
}
