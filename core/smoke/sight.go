package smoke

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"wetland/core/progress"
	"wetland/core/smoke/browser"
)

// tabsAtOnce is how many pages the browser has open at the same time.
var tabsAtOnce = min(max(2, runtime.GOMAXPROCS(0)), 4)

// startingTime is what a browser may take to start on a busy machine, at the least.
const startingTime = 30 * time.Second

// mostSights is how many pages the browser looks at where nobody says: visitors may be meeting
// the new version meanwhile. The others are read all the same.
const mostSights = 6

// AnyBrowser as BrowserProgram takes an installed Chromium or Chrome.
const AnyBrowser = "any"

const unseenByBrowser = "how pages look in a browser, and script errors there"

// program returns the browser's program; "" is none, for the reason in why.
func (f *Fetcher) program() (program, why string) {
	switch f.BrowserProgram {
	case "":
		return "", unseenByBrowser
	case AnyBrowser:
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
func (f *Fetcher) See(ctx context.Context, take *Take, wanted func(path string) bool, report progress.Reporter) error {
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
		take.NotCovered = append(take.NotCovered, "how "+plural(passed, "further page")+" look in a browser")
	}
	chosen = slices.DeleteFunc(chosen, func(i int) bool { return wanted != nil && !wanted(take.Pages[i].Path) })
	next := make(chan *Facts, len(chosen))
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
func (f *Fetcher) toSee(take *Take) (chosen []int, passed int) {
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
func (f *Fetcher) see(ctx context.Context, tab *browser.Tab, facts *Facts) error {
	sights, err := tab.Look(ctx, f.browserVisit(*facts))
	if err != nil {
		return err
	}
	facts.Sights = map[string]browser.Sight{}
	for i, width := range widths {
		if err := f.keepPicture(&sights[i], facts.Path, width.name); err != nil {
			return err
		}
		facts.Sights[width.name] = sights[i]
	}
	return nil
}

func (f *Fetcher) browserOptions(program string) browser.Options {
	return browser.Options{Program: program, Patience: 2 * f.Patience, Starting: max(2*f.Patience, startingTime), Reach: f.reachOfBrowser()}
}

func (f *Fetcher) browserVisit(facts Facts) browser.Visit {
	visit := browser.Visit{Address: fresh(f.Resolve(facts.Path)).String(), NoPicture: f.Pictures == ""}
	for _, width := range widths {
		visit.Widths = append(visit.Widths, int(width.pixels))
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

// sightFaults finds what is wrong with how a page looks, whatever it was like before.
func sightFaults(found *collector, now Facts) {
	for _, width := range slices.Sorted(maps.Keys(now.Sights)) {
		sight := now.Sights[width]
		if sight.Problem != "" {
			found.add(Doubtful, "not seen", "it could not be looked at on a "+width, sight.Problem)
			continue
		}
		for _, failure := range sight.Failures {
			found.add(Doubtful, "script", "a script fails in the browser: "+failure, "")
		}
		for _, one := range sight.Unloaded {
			if slices.ContainsFunc(now.Assets, func(a Asset) bool { return a.Path == one.Path && a.Problem != "" }) {
				continue // which is said already
			}
			verdict := Doubtful
			if one.Kind == "style sheet" {
				verdict = Broken
			}
			found.add(verdict, one.Kind, fmt.Sprintf("the browser could not load the %s %s", one.Kind, one.Path), one.Why)
		}
		if sight.Blank {
			found.add(Broken, "browser", "it shows nothing on a "+width, "the picture has one colour only")
		}
	}
}

// loseSights compares how a page looks with how it looked.
func loseSights(found *collector, was, now Facts) {
	loseBoxes(found, was, now)
	for _, width := range slices.Sorted(maps.Keys(now.Sights)) {
		before, known := was.Sights[width]
		after := now.Sights[width]
		if !known || before.Problem != "" || after.Problem != "" || after.Blank {
			continue
		}
		switch {
		case before.Letters >= 60 && after.Letters*5 < before.Letters:
			found.add(Broken, "browser", fmt.Sprintf("most of the text does not show on a %s: %d letters, was %d", width, after.Letters, before.Letters), "")
		case before.Letters >= 60 && after.Letters*2 < before.Letters:
			found.add(Doubtful, "browser", fmt.Sprintf("much of the text does not show on a %s: %d letters, was %d", width, after.Letters, before.Letters), "")
		}
		main, oldMain := after.Boxes["main part"], before.Boxes["main part"]
		if oldMain.Seen() && main.Y > oldMain.Y+browser.WindowHeight/2 && oldMain.Y < browser.WindowHeight {
			found.add(Doubtful, "layout", fmt.Sprintf("on a %s, the main part begins %d pixels further down: out of the first view", width, main.Y-oldMain.Y), "")
		}
		loseFirstView(found, width, before.First, after.First)
		loseSeenRows(found, width, before.Rows, after.Rows)
		if before.Pictures >= fewPictures && 2*after.Pictures < before.Pictures && now.Images > 0 {
			found.lose(Doubtful, "images", "images on a "+width, fmt.Sprintf("on a %s, %d of %s do not show", width, before.Pictures-after.Pictures, plural(before.Pictures, "image")), "")
		}
		if total, lost := lostLetters(was, now); before.Height > 0 && 100*lost <= 2*total && 10*after.Height > 13*before.Height && after.Height > before.Height+400 {
			found.add(Doubtful, "layout", fmt.Sprintf("with the same text in its main part, the page is %d pixels high on a %s, was %d", after.Height, width, before.Height), "")
		}
		// A few pixels are a shadow or a rounding; from a finger's width on a person must
		// move the page sideways.
		if before.Overflow <= 8 && after.Overflow > 24 {
			found.add(Doubtful, "layout", fmt.Sprintf("the page is %d pixels wider than a %s", after.Overflow, width), "")
		}
		if after.Height > 3*before.Height+2000 || (before.Height > 1500 && after.Height*3 < before.Height) {
			found.add(Doubtful, "layout", fmt.Sprintf("the page is %d pixels high on a %s, was %d", after.Height, width, before.Height), "")
		}
	}
}

// fewPictures is the number of pictures from which on it is seen that most of them are not there.
const fewPictures = 3

// loseFirstView finds what lies over the page, and letters that cannot be told from what is
// behind them. A notice at the edge covers a part; over half of the letters, nobody reads on.
func loseFirstView(found *collector, width string, was, now browser.FirstView) {
	const few = 30 // letters: a page of pictures
	if now.Letters < few {
		return
	}
	share := func(part, of int) int { return part * 100 / max(1, of) }
	switch {
	case share(now.Buried, now.Letters) > 60 && share(was.Buried, was.Letters) < 30:
		found.add(Broken, "browser", fmt.Sprintf("something lies over the page on a %s: %d of 100 letters are hidden by it", width, share(now.Buried, now.Letters)), "")
	case share(now.Under, now.Letters) > 50 && share(was.Under, was.Letters) < 25:
		found.add(Doubtful, "browser", fmt.Sprintf("something lies over the page on a %s, on %d of 100 letters", width, share(now.Under, now.Letters)), "")
	}
	switch faint, before := share(now.Unlit, now.Letters), share(was.Unlit, was.Letters); {
	case faint > 50 && before < 25:
		found.add(Broken, "browser", fmt.Sprintf("%d of 100 letters have the colour of their background on a %s", faint, width), "")
	case faint > before+20:
		found.add(Doubtful, "browser", fmt.Sprintf("%d of 100 letters have the colour of their background on a %s", faint, width), "")
	}
}

// loseBoxes compares where the landmarks stand. What is the same at every width is said
// once.
func loseBoxes(found *collector, was, now Facts) {
	type change struct {
		verdict        Verdict
		check, element string
		words          string
	}
	var order []change
	screens := map[change][]string{}
	note := func(width string, verdict Verdict, check, element, format string, args ...any) {
		c := change{verdict, check, element, fmt.Sprintf(format, args...)}
		if screens[c] == nil {
			order = append(order, c)
		}
		screens[c] = append(screens[c], width)
	}
	for _, width := range widths {
		before, known := was.Sights[width.name]
		after, seen := now.Sights[width.name]
		if !known || !seen || before.Problem != "" || after.Problem != "" || after.Blank {
			continue
		}
		main, hasMain := after.Boxes["main part"]
		oldMain, hadMain := before.Boxes["main part"]
		for _, name := range slices.Sorted(maps.Keys(before.Boxes)) {
			old := before.Boxes[name]
			box := nearest(after, name, old, oldMain)
			switch {
			case !old.Seen():
			case !box.Seen():
				if !inPage(name, now) {
					continue // which is said elsewhere
				}
				verdict := Doubtful
				if slices.Contains(vital, name) || name == "form" {
					verdict = Broken
				}
				note(width.name, verdict, "browser", name, "the %s does not show", name)
			case hasMain && hadMain && name != "main part" && relation(box, main) != relation(old, oldMain):
				note(width.name, Doubtful, "layout", name, "the %s is %s the main part, was %s it", name, relation(box, main), relation(old, oldMain))
			case absolute(box.Width-old.Width)*5 > after.Width:
				note(width.name, Doubtful, "layout", name, "the %s is %d pixels wide, was %d", name, box.Width, old.Width)
			case name == "header" || name == "footer":
				if where := strayed(before, after, name, relation(old, oldMain)); where != "" {
					note(width.name, Doubtful, "layout", name, "the %s stands there %d times, now also %s the main part", name, 1+len(after.More[name]), where)
				}
			}
		}
	}
	for _, c := range order {
		found.lose(c.verdict, c.check, c.element, "on a "+strings.Join(screens[c], " and a ")+", "+c.words, "")
	}
}

// nearest returns the box of a landmark in a sight: of one that shows several times, that
// which stands most as the one of before did. main is the main part of before.
func nearest(now browser.Sight, name string, was, main browser.Box) browser.Box {
	all := append([]browser.Box{now.Boxes[name]}, now.More[name]...)
	apart := func(b browser.Box) int {
		far := absolute(b.Width-was.Width) + absolute(b.X-was.X)
		if relation(b, now.Boxes["main part"]) != relation(was, main) {
			far += 100_000 // more than any page is wide
		}
		return far
	}
	return slices.MinFunc(all, func(a, b browser.Box) int { return apart(a) - apart(b) })
}

// strayed tells where a further header or footer stands that was not there before, if that is
// elsewhere than the one of before: a part was put into the wrong template. "" is none.
func strayed(before, after browser.Sight, name, was string) string {
	if len(after.More[name]) <= len(before.More[name]) {
		return ""
	}
	for _, box := range append([]browser.Box{after.Boxes[name]}, after.More[name]...) {
		if where := relation(box, after.Boxes["main part"]); where != was {
			return where
		}
	}
	return ""
}

// inPage tells whether the page has the element at all.
func inPage(name string, now Facts) bool {
	switch name {
	case "form":
		return len(now.Forms) > 0
	case "main heading":
		return slices.ContainsFunc(now.Headings, func(h string) bool { return strings.HasPrefix(h, "h1 ") })
	}
	return now.Landmarks[name] > 0
}

func absolute(n int) int { return max(n, -n) }

// relation says where a box is, seen from another.
func relation(box, from browser.Box) string {
	switch {
	case box.X+box.Width <= from.X+8:
		return "left of"
	case box.X >= from.X+from.Width-8:
		return "right of"
	case box.Y+box.Height <= from.Y+8:
		return "above"
	case box.Y >= from.Y+from.Height-8:
		return "below"
	}
	return "within"
}

// mergeSights keeps what stood still between two looks.
func mergeSights(a, b map[string]browser.Sight) map[string]browser.Sight {
	merged := map[string]browser.Sight{}
	for width, sight := range a {
		other, ok := b[width]
		if !ok {
			continue
		}
		if other.Problem != "" {
			merged[width] = other
			continue
		}
		sight.Failures = either(sight.Failures, other.Failures)
		if other.Picture != sight.Picture {
			sight.Again = other.Picture
		}
		sight.Unloaded = slices.Concat(sight.Unloaded, other.Unloaded)
		sight.Letters, sight.Height, sight.Overflow = min(sight.Letters, other.Letters), max(sight.Height, other.Height), max(sight.Overflow, other.Overflow)
		sight.First.Under, sight.First.Buried = max(sight.First.Under, other.First.Under), max(sight.First.Buried, other.First.Buried)
		sight.First.Unlit = max(sight.First.Unlit, other.First.Unlit)
		sight.Rows, sight.Pictures = least(sight.Rows, other.Rows), min(sight.Pictures, other.Pictures)
		boxes := map[string]browser.Box{}
		for name, box := range sight.Boxes {
			moved := nearest(other, name, box, sight.Boxes["main part"])
			if moved.Seen() && relation(moved, other.Boxes["main part"]) == relation(box, sight.Boxes["main part"]) {
				boxes[name] = box
			}
		}
		sight.Boxes = boxes
		merged[width] = sight
	}
	return merged
}
