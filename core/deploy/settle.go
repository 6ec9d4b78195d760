package deploy

import (
	"context"
	"fmt"
	"time"

	"wetland/core/caches"
	"wetland/core/files"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
)

// SettleQuietly settles without letting the CMS run upgrades: old code is in place.
func SettleQuietly(ctx context.Context, s *session.Session) error {
	changed := time.Now()
	return SettleAfter(ctx, s, func(ctx context.Context) error { return WaitSettled(ctx, s, changed) })
}

// SettleAfter clears the caches once wait has returned.
func SettleAfter(ctx context.Context, s *session.Session, wait func(context.Context) error) error {
	return s.Step("settling", 0, "", func() (progress.Mark, string, error) {
		if err := wait(ctx); err != nil {
			return progress.Bad, "", err
		}
		purged, err := caches.Purge(ctx, s)
		if err != nil {
			return progress.Doubt, fmt.Sprintf("the caches could not be cleared: %v", err), nil
		}
		return progress.Good, fmt.Sprintf("caches cleared (%s)", purged), nil
	})
}

// SwapText says how a swap was done.
func SwapText(done files.Swapped) string { return swapText(done, "the folder") }

func swapText(done files.Swapped, what string) string {
	switch done.How {
	case files.ByExchange:
		return "in one step: " + what + " was never absent"
	case files.ByRenames:
		return fmt.Sprintf("by two renames: %s was absent for %s", what, done.Gap.Round(time.Microsecond))
	}
	return "moved into its empty place"
}

// PutText says how a change was put in place.
func (c *Change) PutText(done files.Swapped) string {
	if c.inParts() && done.How != "" {
		return swapText(done, "each file")
	}
	return SwapText(done)
}

// VisitUpgrades lets the CMS run its upgrades. What the visits answer is judged with the
// pages; here they only have to happen.
func VisitUpgrades(ctx context.Context, s *session.Session) {
	for _, visit := range s.Site.CMS.UpgradeVisits() {
		_, _, _ = s.Fetcher.Fetch(ctx, visit)
	}
}

// SettleUntouched ends a run that had not touched anything yet.
func SettleUntouched(ctx context.Context, s *session.Session) (*runs.Run, error) {
	if err := CloseStaging(ctx, s); err != nil {
		return nil, err
	}
	return s.End(runs.Stopped, "It was interrupted before anything on the site was touched: nothing was changed.")
}
