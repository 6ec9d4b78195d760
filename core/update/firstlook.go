package update

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"wetland/core/deploy"
	"wetland/core/pagecheck"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/smoke"
)

// firstLook is a look at the pages as soon as it is certain that the new code answers: without
// a browser, and for nothing but fatal errors. A theme that dies on its pages so stands before
// visitors for moments, not for as long as a whole look takes.
type firstLook struct {
	at   time.Time
	take *smoke.Take
	dead []string // pages that a fatal error ended
}

func (m *motion) lookFirst(ctx context.Context) (*firstLook, error) {
	m.Fetcher.Before = m.baseline
	look := &firstLook{at: time.Now()}
	var err error
	if look.take, err = m.Fetcher.Glance(ctx, m.Pages); err != nil {
		return nil, err
	}
	look.dead = m.judgeNew(look.take).Dead(look.take)
	return look, nil
}

// hurry is how long visitors who see dead pages may wait for a reading of the tables.
const hurry = 5 * time.Second

// openHurriedly notes how the new version left the tables. Where somebody holds one of them, the way back does without.
func (m *motion) openHurriedly(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, hurry)
	defer cancel()
	err := m.readings.OpenSettled(limited, true)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		m.Report.End(progress.Note, "rows", "how the new version left them was not read: somebody holds a table")
		return nil
	}
	return err
}

// confirmedPages is how many dead pages are asked once more.
const confirmedPages = 3

// confirm asks dead pages once more, a second later. If one of them died twice, the group is
// judged: nothing that could still be tried mends that. Else the judgement is nil. How the
// new version left the tables is noted before, for visitors go on writing.
func (m *motion) confirm(ctx context.Context, look *firstLook) (judgement *smoke.Judgement, err error) {
	if len(look.dead) == 0 || m.options.KeepBroken {
		return nil, nil
	}
	if err := m.openHurriedly(ctx); err != nil {
		return nil, err
	}
	err = m.Step("first look", 0, "", func() (progress.Mark, string, error) {
		if err := m.Clock.Wait(ctx, pagecheck.SecondLook-time.Since(look.at)); err != nil {
			return progress.Bad, "", err
		}
		var pages []smoke.Page
		for _, page := range m.Pages {
			if len(pages) < confirmedPages && slices.Contains(look.dead, page.Path) {
				pages = append(pages, page)
			}
		}
		again, err := m.Fetcher.Glance(ctx, pages)
		if err != nil {
			return progress.Bad, "", err
		}
		if len(m.judgeNew(again).Dead(again)) == 0 {
			return progress.Doubt, fmt.Sprintf("a fatal error on %s, gone a second later: all are looked at",
				phrase.Plural(len(look.dead), "page")), nil
		}
		judgement = m.judgeNew(look.take)
		return progress.Bad, fmt.Sprintf("a fatal error on %d of %s, twice (%s): the version before comes back at once",
			len(look.dead), phrase.Plural(len(m.Pages), "page"), deathWords(judgement, look.dead[0])), nil
	})
	if err != nil || judgement == nil {
		return nil, err
	}
	m.seen = look.take
	if err := m.seen.Save(filepath.Join(m.Run.Folder, m.looked)); err != nil {
		return nil, err
	}
	return judgement, nil
}

// deathWords says how a page died.
func deathWords(judgement *smoke.Judgement, path string) string {
	only := *judgement
	only.Pages = slices.DeleteFunc(slices.Clone(judgement.Pages), func(p smoke.PageVerdict) bool { return p.Path != path })
	return path + ": " + pagecheck.FirstFinding(&only)
}

// judgeFirst switches to the new code, waits until the site has settled, and looks for pages
// that die: at once where PHP dropped the old code and visitors see no notice. With a
// judgement the matter is decided. Else it returns what was fetched once the site had settled;
// nil if that is to be fetched anew.
func (m *motion) judgeFirst(ctx context.Context) (*smoke.Judgement, *smoke.Take, error) {
	var early *firstLook
	err := deploy.SwitchCompiled(ctx, m.Session, m.group, func(ctx context.Context) (err error) {
		if !m.Notice {
			deploy.VisitUpgrades(ctx, m.Session)
			early, err = m.lookFirst(ctx)
		}
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	if early != nil {
		if judgement, err := m.confirm(ctx, early); judgement != nil || err != nil {
			return judgement, nil, err
		}
	}
	if err := m.settle(ctx, early != nil); err != nil || early != nil {
		return nil, nil, err
	}
	look, err := m.lookFirst(ctx)
	if err != nil {
		return nil, nil, err
	}
	judgement, err := m.confirm(ctx, look)
	if len(look.dead) > 0 {
		return judgement, nil, err
	}
	return nil, look.take, err
}
