package update

import (
	"context"
	"errors"
	"fmt"

	"wetland/core/progress"
	"wetland/core/site/phppool"
)

// dropCompiled has the site's pool of PHP let go of the code that it keeps compiled, if
// wetland.toml names the pool: until then old and new code answer side by side. It waits
// for the old code to expire all the same, for there may be other pools.
func (s *session) dropCompiled(ctx context.Context) {
	where := s.site.Workspace.Config.Site.PHPPool
	if where == "" {
		return
	}
	_ = s.step("compiled code", 0, "", func() (progress.Mark, string, error) {
		err := phppool.Reset(ctx, where)
		switch {
		case errors.Is(err, phppool.ErrNothingKept):
			return noteMark, err.Error(), nil
		case err != nil:
			return doubtMark, fmt.Sprintf("%v: it is waited out", err), nil
		}
		return goodMark, "PHP let go of it", nil
	})
}
