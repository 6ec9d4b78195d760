package fetching

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/browser"
)

// tabsAtOnce is how many pages the browser has open at the same time.
var tabsAtOnce = min(max(2, runtime.GOMAXPROCS(0)), 4)

// startingTime is what a browser may take to start on a busy machine, at the least.
const startingTime = 30 * time.Second

// mostSights is how many pages the browser looks at where nobody says: visitors may be meeting
// the new version meanwhile. The others are read all the same.
const mostSights = 6

const unseenByBrowser = "how pages look in a browser, and script errors there"

// program returns the browser's program; "" is none, for the reason in why.
func (f *Fetcher) program() (program, why string) {
	switch f.BrowserProgram {
	case "":
		return "", unseenByBrowser
	case smoke.AnyBrowser:
		if program = browser.Find(); program == "" {
			return "", unseenByBrowser + ": no Chromium or Chrome is installed here"
		}
		return program, ""
	}
	return f.BrowserProgram, ""
}

// starting is a browser that starts, or runs.
type starting struct {
	stop    func() // ends it, whether it runs already or not
	done    chan struct{}
	running *browser.Browser // once done
	tabs    []*browser.Tab
	err     error
}

// open opens the tabs of a browser that runs.
func (s *starting) open(ctx context.Context) {
	var opened sync.WaitGroup
	for range tabsAtOnce {
		tab := s.running.Tab()
		s.tabs = append(s.tabs, tab)
		opened.Go(func() { tab.Open(ctx) })
	}
	opened.Wait()
}

// StartBrowser begins to start the browser with its tabs, unless it runs: pages can be fetched
// meanwhile.
func (f *Fetcher) StartBrowser(ctx context.Context) {
	program, _ := f.program()
	if program == "" || f.browser != nil {
		return
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	s := &starting{stop: stop, done: make(chan struct{})}
	f.browser = s
	f.setUp()
	go func() {
		defer close(s.done)
		if s.running, s.err = browser.Start(ctx, f.browserOptions(program)); s.err == nil {
			s.open(ctx)
		}
	}()
}

// See has the browser look at pages of a take that answered with HTML, at each width, and of
// these only at those that wanted agrees to (nil: all). Pages that it saw before come first. A
// browser that cannot be started, crashes or hangs leaves a problem on every page.
func (f *Fetcher) See(ctx context.Context, take *smoke.Take, wanted func(path string) bool, report progress.Reporter) error {
	if program, why := f.program(); program == "" {
		take.NotCovered = append(take.NotCovered, why)
		return nil
	}
	f.StartBrowser(ctx)
	select {
	case <-f.browser.done:
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := f.browser.err; err != nil {
		f.browser.stop()
		f.browser = nil // the next look tries again
		for i := range take.Pages {
			take.Pages[i].Sights = map[string]browser.Sight{"desktop": {Problem: err.Error()}}
		}
		return ctx.Err()
	}
	if f.browser.running.Unconfined {
		take.NotCovered = append(take.NotCovered, "the browser in its own sandbox: this system does not allow that (user namespaces are switched off)")
	}
	chosen, passed := f.toSee(take)
	if passed > 0 {
		take.NotCovered = append(take.NotCovered, "how "+phrase.Plural(passed, "further page")+" look in a browser")
	}
	chosen = slices.DeleteFunc(chosen, func(i int) bool { return wanted != nil && !wanted(take.Pages[i].Path) })
	next := make(chan *smoke.Facts, len(chosen))
	for _, i := range chosen {
		next <- &take.Pages[i]
	}
	close(next)
	if !f.unchanged {
		defer f.clearTabs()
	}
	var group errgroup.Group
	for _, tab := range f.browser.tabs {
		group.Go(func() error {
			for facts := range next {
				if err := f.see(ctx, tab, facts); err != nil {
					return err
				}
				report.Advance(1)
			}
			return nil
		})
	}
	return group.Wait()
}

// clearTabs closes the browser's tabs with all that they keep: the next look opens them anew.
func (f *Fetcher) clearTabs() {
	if f.browser == nil {
		return
	}
	select {
	case <-f.browser.done:
		for _, tab := range f.browser.tabs {
			tab.Close()
		}
	default: // none was used
	}
}

// toSee chooses the pages that the browser looks at: those that are to be seen, then those
// that it saw before, then one of each kind, then those that stand first. passed counts the
// others.
func (f *Fetcher) toSee(take *smoke.Take) (chosen []int, passed int) {
	kinds := map[string]int{}
	nth := make([]int, len(take.Pages)) // of its kind
	for i, facts := range take.Pages {
		nth[i] = kinds[facts.Kind]
		kinds[facts.Kind]++
	}
	rank := func(i int) int {
		facts := take.Pages[i]
		if facts.Wanted.InBrowser != nil {
			return 0
		}
		if f.Before != nil {
			if was, ok := f.Before.Page(facts.Path); ok && len(was.Sights) > 0 {
				return 1
			}
		}
		return 2 + nth[i]
	}
	never := 0
	for i, facts := range take.Pages {
		switch in := facts.Wanted.InBrowser; {
		case facts.Problem != "" || !strings.Contains(facts.Type, "html") || facts.Unknown != "":
		case in != nil && !*in:
			never++
		default:
			chosen = append(chosen, i)
		}
	}
	slices.SortStableFunc(chosen, func(a, b int) int { return rank(a) - rank(b) })
	most := f.MostSeen
	if most <= 0 {
		most = mostSights
	}
	over := max(0, len(chosen)-most)
	return chosen[:len(chosen)-over], over + never
}

// see looks at one page at each width.
func (f *Fetcher) see(ctx context.Context, tab *browser.Tab, facts *smoke.Facts) error {
	sights, err := tab.Look(ctx, f.browserVisit(*facts))
	if err != nil {
		return err
	}
	facts.Sights = map[string]browser.Sight{}
	for i, width := range smoke.Widths {
		if err := f.keepPicture(&sights[i], facts.Path, width.Name); err != nil {
			return err
		}
		facts.Sights[width.Name] = sights[i]
	}
	return nil
}

func (f *Fetcher) browserOptions(program string) browser.Options {
	return browser.Options{Program: program, Patience: 2 * f.Timeout, Starting: max(2*f.Timeout, startingTime), Reach: f.reachOfBrowser()}
}

func (f *Fetcher) browserVisit(facts smoke.Facts) browser.Visit {
	visit := browser.Visit{Address: fresh(f.Resolve(facts.Path)).String(), NoPicture: f.Pictures == ""}
	for _, width := range smoke.Widths {
		visit.Widths = append(visit.Widths, int(width.Pixels))
	}
	if facts.Wanted.SignedIn && f.signedIn != nil {
		visit.Cookies = f.signedIn.Jar.Cookies(f.Resolve(facts.Path))
	}
	return visit
}

// Close ends the browser, if one was started.
func (f *Fetcher) Close() {
	if f.browser == nil {
		return
	}
	select {
	case <-f.browser.done:
	default: // who breaks off does not wait until it has started
		f.browser.stop()
		<-f.browser.done
	}
	if f.browser.err == nil {
		f.browser.running.Close()
	}
	f.browser.stop()
	f.browser = nil
}

// keepPicture writes a sight's picture to the folder of pictures, if there is one.
func (f *Fetcher) keepPicture(sight *browser.Sight, path, width string) error {
	if len(sight.Image) == 0 {
		return nil
	}
	defer func() { sight.Image = nil }()
	if err := os.MkdirAll(f.Pictures, 0o700); err != nil {
		return err
	}
	sum := sha256.Sum256([]byte(path))
	name := filepath.Join(f.Pictures, hex.EncodeToString(sum[:6])+"-"+width)
	sight.Picture = name + ".png"
	if _, err := os.Stat(sight.Picture); err == nil { // from an earlier look
		sight.Picture = name + "-again.png"
	}
	return os.WriteFile(sight.Picture, sight.Image, 0o600)
}
