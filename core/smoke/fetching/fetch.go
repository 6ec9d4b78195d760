// Package fetching gets a site's pages as visitors do, past all caches and by their side, with what they
// name, and has a browser look at them; and finds pages worth testing. Begin reading at Fetcher.
//
// It promises to ask nothing that changes anything, to give secrets to the site alone, and to be led
// nowhere that is further inside than the site.
package fetching

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/sync/errgroup"

	"wetland/core/files"
	"wetland/core/network"
	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
)

// Fetcher fetches pages of one site.
type Fetcher struct {
	Address     *url.URL      // of the site, ending in a slash
	Concurrency int           // pages at the same time; 0: four
	Timeout     time.Duration // for one answer; 0: twenty seconds
	// BrowserProgram looks at the pages as a person does: a program, AnyBrowser, or "" for
	// none.
	BrowserProgram string
	Reach          Reach
	// Before is what the site was like: links that are not in it are followed. nil: none are.
	Before *smoke.Take
	// Pictures is the folder for the browser's pictures; "": none are kept.
	Pictures string
	// MostSeen is how many pages the browser looks at; 0: six.
	MostSeen  int
	browser   *starting // nil: it neither runs nor starts
	unchanged bool      // between this look and the next: the browser may use what it has cached

	once   sync.Once
	client *http.Client

	poweredBy atomic.Pointer[string] // the version of PHP that answers named; nil: none came yet

	signing       sync.Mutex
	signedIn      *http.Client
	signInProblem error
}

// manner is how a page is asked for.
type manner struct {
	plain    bool // as visitors do: caches may answer
	signedIn bool
}

func (f *Fetcher) setUp() {
	f.once.Do(func() {
		if f.Concurrency <= 0 {
			f.Concurrency = 4
		}
		if f.Timeout <= 0 {
			f.Timeout = 20 * time.Second
		}
		f.client = &http.Client{
			Transport:     f.transport(),
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		}
	})
}

// Resolve returns the address of a path of the site.
func (f *Fetcher) Resolve(path string) *url.URL {
	rel, err := url.Parse(strings.TrimPrefix(path, "/"))
	if err != nil {
		rel = &url.URL{Path: strings.TrimPrefix(path, "/")}
	}
	return f.Address.ResolveReference(rel)
}

// get fetches one address, following redirects within limits.
func (f *Fetcher) get(ctx context.Context, where *url.URL, limit int64, how manner) (reading.Answer, error) {
	f.setUp()
	ctx, cancel := context.WithTimeout(ctx, f.Timeout)
	defer cancel()
	start := time.Now()
	var got reading.Answer
	client := f.client
	if how.signedIn {
		var err error
		if client, err = f.session(ctx); err != nil {
			return got, err
		}
	}
	for {
		response, err := f.request(ctx, client, where, how)
		if err != nil {
			return got, f.explain(ctx, err)
		}
		target := response.Header.Get("Location")
		if response.StatusCode >= 300 && response.StatusCode < 400 && target != "" {
			_ = response.Body.Close() // of a redirect: nothing in it is wanted
			next, err := where.Parse(target)
			if err != nil {
				return got, fmt.Errorf("it redirects to %q, which is not an address", target)
			}
			where = reading.WithoutMark(next)
			got.Redirects = append(got.Redirects, f.shown(where))
			if len(got.Redirects) > smoke.MostHops {
				return got, fmt.Errorf("it redirects in a loop (%d times, last to %s)", smoke.MostHops, where)
			}
			continue
		}
		got.Status, got.Header = response.StatusCode, response.Header
		f.notePHP(response.Header)
		got.Body, err = io.ReadAll(io.LimitReader(response.Body, limit+1))
		if err := errors.Join(err, response.Body.Close()); err != nil {
			return got, f.explain(ctx, err)
		}
		if got.TooLarge = int64(len(got.Body)) > limit; got.TooLarge {
			got.Body = got.Body[:limit]
		}
		got.Took = time.Since(start)
		return got, nil
	}
}

// shown is how an address is recorded: without the host if it is the site's own.
func (f *Fetcher) shown(where *url.URL) string {
	if f.isOwn(where) {
		return where.RequestURI()
	}
	return where.String()
}

// request asks once, and once more if the connection failed: that says nothing
// about the page.
func (f *Fetcher) request(ctx context.Context, client *http.Client, where *url.URL, how manner) (*http.Response, error) {
	ask := func() (*http.Response, error) {
		request, err := f.newRequest(ctx, where, how)
		if err != nil {
			return nil, err
		}
		return client.Do(request)
	}
	response, err := ask()
	if err != nil && ctx.Err() == nil && certificateWords(err) == "" {
		return ask()
	}
	return response, err
}

func (f *Fetcher) newRequest(ctx context.Context, where *url.URL, how manner) (*http.Request, error) {
	if !how.plain {
		where = fresh(where)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, where.String(), nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("User-Agent", "Wetland smoke test")
	request.Header.Set("Accept", "text/html,application/xhtml+xml,*/*;q=0.8")
	if !how.plain {
		request.Header.Set("Cache-Control", "no-cache")
		request.Header.Set("Pragma", "no-cache")
	}
	if f.Reach.User != "" && f.isOwn(where) {
		request.SetBasicAuth(f.Reach.User, f.Reach.Password)
	}
	return request, nil
}

func (f *Fetcher) explain(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("no answer within %s", f.Timeout)
	}
	if errors.Is(err, network.ErrInward) {
		return network.ErrInward
	}
	if errors.Is(err, syscall.ECONNREFUSED) {
		return errors.New("nothing answers there: the connection was refused")
	}
	if words := certificateWords(err); words != "" {
		return errors.New(words)
	}
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err // the address is said elsewhere, without our mark
	}
	return err
}

// fresh adds a parameter that no cache has seen.
func fresh(where *url.URL) *url.URL {
	marked := *where
	if marked.RawQuery != "" {
		marked.RawQuery += "&"
	}
	marked.RawQuery += reading.FreshMark + "=" + rand.Text()[:10]
	return &marked
}

// Take fetches all pages, a few at a time, and reads what they show; then the browser looks.
// What fails on a page is a fact about it; the error is only the context's.
func (f *Fetcher) Take(ctx context.Context, pages []smoke.Page, report progress.Reporter) (*smoke.Take, error) {
	take, err := f.Read(ctx, pages, report)
	if err == nil {
		err = f.See(ctx, take, nil, report)
	}
	return take, err
}

// Read is Take without the browser, which starts meanwhile, so that See need not wait for it.
func (f *Fetcher) Read(ctx context.Context, pages []smoke.Page, report progress.Reporter) (*smoke.Take, error) {
	f.StartBrowser(ctx)
	take, err := f.fetchAll(ctx, pages, report)
	if err == nil {
		err = f.Follow(ctx, take)
	}
	return take, err
}

// Glance fetches pages once more. It follows no links, and no browser looks.
func (f *Fetcher) Glance(ctx context.Context, pages []smoke.Page) (*smoke.Take, error) {
	return f.fetchAll(ctx, pages, progress.Silent{})
}

func (f *Fetcher) fetchAll(ctx context.Context, pages []smoke.Page, report progress.Reporter) (*smoke.Take, error) {
	f.setUp()
	take := &smoke.Take{At: time.Now(), Address: f.Address.String(), Pages: make([]smoke.Facts, len(pages)), NotCovered: slices.Clone(notCovered)}
	shared := &assets{fetcher: f, known: map[string]*assetState{}}
	var group errgroup.Group
	group.SetLimit(f.Concurrency)
	for i, page := range pages {
		group.Go(func() error {
			take.Pages[i] = f.look(ctx, page, shared)
			report.Advance(1)
			return ctx.Err()
		})
	}
	err := group.Wait()
	if shared.passedOver {
		take.NotCovered = append(slices.Clone(take.NotCovered), fmt.Sprintf("style sheets, scripts and images beyond the first %d", smoke.MostAssets))
	}
	return take, err
}

// notCovered is what pages are not tested for.
var notCovered = []string{"files that pages load from other hosts"}

func (f *Fetcher) look(ctx context.Context, page smoke.Page, shared *assets) smoke.Facts {
	where := f.Resolve(page.Path)
	got, err := f.get(ctx, where, smoke.LargestPage, manner{signedIn: page.SignedIn})
	if err != nil {
		return smoke.Facts{Path: page.Path, Problem: err.Error(), Redirects: got.Redirects, Wanted: page}
	}
	// Once may be the machine's doing; a page is slow that is slow twice.
	if f.isSlow(page, got.Took) {
		if again, err := f.get(ctx, where, smoke.LargestPage, manner{signedIn: page.SignedIn}); err == nil && again.Took < got.Took {
			got = again
		}
	}
	facts, document := reading.ReadPage(page, where, got)
	if document != nil {
		facts.Assets = append(facts.Assets, shared.fonts(where, reading.InlineSheets(document))...)
	}
	rules, sheets, selectors := f.lookAtAssets(ctx, &facts, shared)
	if document != nil {
		onPage := reading.ClassesOn(document)
		for i := range facts.Assets {
			facts.Assets[i].Fits = reading.Fitting(selectors[i], onPage)
		}
		readShown(&facts, document, rules, sheets)
	}
	if page.Path == "/" && f.Address.Path == "/" {
		facts.ShutOut = f.shutOut(ctx)
	}
	if !page.SignedIn {
		facts.Visitor = f.visit(ctx, page, where, got, facts)
	}
	return facts
}

// shutOut tells whether the site's robots.txt keeps all search engines from all of it.
func (f *Fetcher) shutOut(ctx context.Context) bool {
	got, err := f.get(ctx, f.Resolve(smoke.RobotsFile), smoke.LargestPage, manner{})
	return err == nil && got.Status == http.StatusOK && !looksLikePage(got.Body) && reading.ShutsOut(got.Body)
}

// isSlow tells of an answer that would be found to be slow.
func (f *Fetcher) isSlow(page smoke.Page, took time.Duration) bool {
	if page.Within > 0 && took > page.Within {
		return true
	}
	if f.Before == nil {
		return false
	}
	was, ok := f.Before.Page(page.Path)
	return ok && judging.Slower(was.Took, took)
}

// readShown reads what a document shows, styled by the rules and settings of its style
// sheets and by its own. It takes scripts and styles out of the document.
func readShown(facts *smoke.Facts, document *goquery.Document, rules []reading.StyleRule, sheets reading.Settings) {
	inline := reading.InlineSheets(document)
	own, count, _ := reading.ParseSheet(inline)
	facts.Rules += count
	sheets.Add(inline)
	document.Find("[style]").Each(func(_ int, s *goquery.Selection) { sheets.Add([]byte(s.AttrOr("style", ""))) })
	facts.Settings, facts.Unset = sheets.Names()
	reading.ReadStyle(facts, document, append(rules, own...), sheets.Set)
	reading.ReadTexts(facts, document)
}

// lookAtAssets fetches what a page loads, and the fonts that its style sheets name. It
// returns the sheets' rules, and of each asset the classes of its selectors.
func (f *Fetcher) lookAtAssets(ctx context.Context, facts *smoke.Facts, shared *assets) (rules []reading.StyleRule, sheets reading.Settings, selectors [][][]string) {
	sheets = reading.NewSettings()
	for i := 0; i < len(facts.Assets); i++ { // which grows
		asset := &facts.Assets[i]
		state := shared.look(ctx, *asset)
		asset.Problem, asset.Syntax, asset.Bytes = state.problem, state.syntax, state.bytes
		asset.Rules, asset.Letters = state.count, state.letters
		selectors = append(selectors, state.selectors)
		rules = append(rules, state.rules...)
		sheets.Join(state.settings)
		facts.Rules += state.count
		if at, err := url.Parse(asset.Path); err == nil {
			asset.Path = at.Path
		}
		facts.Assets = append(facts.Assets, state.fonts...)
	}
	return rules, sheets, selectors
}

// assets fetches every style sheet, script and image once for all pages.
type assets struct {
	fetcher *Fetcher
	mu      sync.Mutex
	known   map[string]*assetState
	// passedOver says that there were more than mostAssets.
	passedOver bool
}

type assetState struct {
	once    sync.Once
	problem string
	syntax  string // of a script
	rules   []reading.StyleRule
	count   int // of a style sheet's rules
	letters int // of a frame
	// selectors are the classes of each of a style sheet's selectors.
	selectors [][]string
	// settings of a style sheet, and of those that it imports.
	settings reading.Settings
	fonts    []smoke.Asset
	bytes    int
}

// look tells what an asset is like. What is beyond mostAssets is not asked for.
func (a *assets) look(ctx context.Context, asset smoke.Asset) *assetState {
	a.mu.Lock()
	state, ok := a.known[asset.Path]
	if !ok && len(a.known) >= smoke.MostAssets {
		a.passedOver = true
		a.mu.Unlock()
		return &assetState{}
	}
	if !ok {
		state = &assetState{}
		a.known[asset.Path] = state
	}
	a.mu.Unlock()
	state.once.Do(func() { a.fetch(ctx, asset, state) })
	return state
}

func (a *assets) fetch(ctx context.Context, asset smoke.Asset, state *assetState) {
	where, err := url.Parse(asset.Path)
	if err != nil {
		state.problem = "its address cannot be read"
		return
	}
	got, err := a.fetcher.get(ctx, where, smoke.LargestAsset, manner{})
	if err != nil {
		state.problem = err.Error()
		return
	}
	kind := strings.ToLower(got.Header.Get("Content-Type"))
	state.bytes = len(got.Body)
	switch {
	case got.Status != http.StatusOK:
		state.problem = fmt.Sprintf("the server answers %d", got.Status)
	case len(bytes.TrimSpace(got.Body)) == 0:
		state.problem = "it is empty"
	case asset.Kind == "frame":
		state.letters = lettersOf(got.Body)
	case asset.Kind != "image" && (strings.Contains(kind, "text/html") || looksLikePage(got.Body)):
		state.problem = "the server answers with a web page in its place"
	case asset.Kind == "style sheet":
		state.rules, state.count, state.selectors = reading.ParseSheet(got.Body)
		state.settings = reading.NewSettings()
		state.settings.Add(got.Body)
		state.fonts = a.fonts(where, got.Body)
		a.imports(ctx, where, got.Body, state, 2)
	case asset.Kind == "script":
		state.syntax = reading.ParseScript(got.Body)
	case asset.Kind == "image" && strings.HasPrefix(kind, "text/html"):
		state.problem = "the server answers with a web page in its place"
	}
}

var (
	fontFace = regexp.MustCompile(`(?is)@font-face\s*\{[^}]*\}`)
	fontFile = regexp.MustCompile(`(?i)url\(\s*["']?([^"')\s]+)`)
)

// fonts lists the first file of each font that a sheet declares and this site hands out:
// the one that browsers of today take.
func (a *assets) fonts(sheet *url.URL, text []byte) (found []smoke.Asset) {
	for _, face := range fontFace.FindAll(text, 40) {
		file := fontFile.FindSubmatch(face)
		if file == nil || bytes.HasPrefix(file[1], []byte("data:")) {
			continue
		}
		where, err := sheet.Parse(string(file[1]))
		if err != nil || !a.fetcher.isOwn(where) {
			continue
		}
		where.Fragment = ""
		if font := (smoke.Asset{Kind: "font", Path: where.String()}); !slices.Contains(found, font) {
			found = append(found, font)
		}
	}
	return found
}

var imported = regexp.MustCompile(`(?i)@import\s+(?:url\(\s*)?["']?([^"')\s;]+)`)

// imports adds the rules of the sheets that a sheet imports, down to depth.
func (a *assets) imports(ctx context.Context, from *url.URL, text []byte, state *assetState, depth int) {
	for _, found := range imported.FindAllSubmatch(text, 20) {
		where, err := from.Parse(string(found[1]))
		if err != nil || where.Host != a.fetcher.Address.Host || depth == 0 {
			continue
		}
		got, err := a.fetcher.get(ctx, where, smoke.LargestAsset, manner{})
		if err != nil || got.Status != http.StatusOK {
			state.problem = fmt.Sprintf("%s, which it imports, does not load", where.Path)
			continue
		}
		rules, count, selectors := reading.ParseSheet(got.Body)
		state.rules, state.count = append(rules, state.rules...), state.count+count
		state.selectors = append(state.selectors, selectors...)
		state.settings.Add(got.Body)
		state.fonts = append(state.fonts, a.fonts(where, got.Body)...)
		a.imports(ctx, where, got.Body, state, depth-1)
	}
}

// lettersOf counts what a reader can read in a page within a page.
func lettersOf(body []byte) int {
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(body))
	if err != nil {
		return 0
	}
	document.Find("script, style, noscript, template").Remove()
	return reading.CountText(document.Find("body").Text())
}

// looksLikePage tells of a web page, whatever the server calls it.
func looksLikePage(body []byte) bool {
	start := bytes.ToLower(bytes.TrimSpace(body[:min(len(body), 512)]))
	return bytes.HasPrefix(start, []byte("<!doctype html")) || bytes.HasPrefix(start, []byte("<html"))
}

// Fetch returns the bytes and status of one file of the site, past caches.
func (f *Fetcher) Fetch(ctx context.Context, path string) ([]byte, int, error) {
	got, err := f.get(ctx, f.Resolve(path), smoke.LargestAsset, manner{})
	return got.Body, got.Status, err
}

// FetchSignedIn is Fetch in the session of whoever looks after the site.
func (f *Fetcher) FetchSignedIn(ctx context.Context, path string) ([]byte, int, error) {
	got, err := f.get(ctx, f.Resolve(path), smoke.LargestAsset, manner{signedIn: true})
	return got.Body, got.Status, err
}

// Purge asks a cache to forget an address, and returns its answer.
func (f *Fetcher) Purge(ctx context.Context, address string) (int, error) {
	f.setUp()
	ctx, cancel := context.WithTimeout(ctx, f.Timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, "PURGE", address, nil)
	if err != nil {
		return 0, err
	}
	response, err := f.client.Do(request)
	if err != nil {
		return 0, f.explain(ctx, err)
	}
	return response.StatusCode, response.Body.Close()
}

// ReadUpTo reads a file of the site, up to so many bytes.
func ReadUpTo(ctx context.Context, fsys files.FS, name string, limit int64) ([]byte, error) {
	file, err := fsys.Open(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, limit))
}

// PHPVersion returns the version of PHP that the site's answers name, or "". It asks for the front page
// unless pages were fetched already.
func (f *Fetcher) PHPVersion(ctx context.Context) string {
	if f.poweredBy.Load() == nil {
		if _, err := f.get(ctx, f.Address, smoke.LargestPage, manner{}); err != nil {
			return ""
		}
	}
	return *f.poweredBy.Load()
}

// notePHP remembers which version of PHP an answer names.
func (f *Fetcher) notePHP(header http.Header) {
	version := ""
	for _, line := range header.Values("X-Powered-By") {
		if php, ok := strings.CutPrefix(line, "PHP/"); ok {
			version = php
		}
	}
	if version != "" {
		f.poweredBy.Store(&version)
	} else {
		f.poweredBy.CompareAndSwap(nil, &version)
	}
}
