package fetching

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"golang.org/x/sync/errgroup"

	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/browser"
	"wetland/internal/testenv"
)

// slowSite answers each page after 60 ms, as a small host does, and adds up how long its
// answers took.
func slowSite(b *testing.B, spent *atomic.Int64) (*url.URL, []smoke.Page) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/page") {
			serving(goodPage)(w, r)
			return
		}
		start := time.Now()
		time.Sleep(60 * time.Millisecond)
		serving(goodPage)(w, &http.Request{URL: &url.URL{Path: "/page"}})
		spent.Add(int64(time.Since(start)))
	}))
	b.Cleanup(server.Close)
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		b.Fatal(err)
	}
	var pages []smoke.Page
	for i := range 20 {
		pages = append(pages, smoke.Page{Path: fmt.Sprintf("/page%d", i)})
	}
	return address, pages
}

// BenchmarkPages compares a look at 20 pages with the sum of the server's answers, divided
// by how many are asked for at the same time. Each page is asked for twice: past caches, and
// as a visitor.
func BenchmarkPages(b *testing.B) {
	var spent atomic.Int64
	address, pages := slowSite(b, &spent)
	fetcher := &Fetcher{Address: address, Timeout: time.Minute, Concurrency: 4}
	var took time.Duration
	for b.Loop() {
		start := time.Now()
		if _, err := fetcher.Take(b.Context(), pages, progress.Silent{}); err != nil {
			b.Fatal(err)
		}
		took += time.Since(start)
	}
	b.ReportMetric(float64(took)/(float64(spent.Load())/4), "look/answers")
}

// BenchmarkBrowser compares how long the browser looks at pages, at two widths, with the
// same browser that merely loads and photographs them, as many at the same time.
func BenchmarkBrowser(b *testing.B) {
	program := browser.Find()
	if program == "" {
		testenv.Missing(b, "chromium")
	}
	var spent atomic.Int64
	address, pages := slowSite(b, &spent)
	pages = pages[:mostSights]
	fetcher := &Fetcher{Address: address, Timeout: time.Minute, BrowserProgram: smoke.AnyBrowser}
	defer fetcher.Close()
	look := func() time.Duration {
		take, err := fetcher.Take(b.Context(), pages, progress.Silent{})
		if err != nil {
			b.Fatal(err)
		}
		start := time.Now()
		if err := fetcher.See(b.Context(), take, nil, progress.Silent{}); err != nil {
			b.Fatal(err)
		}
		return time.Since(start)
	}
	look() // starts it
	allocated, free := chromedp.NewExecAllocator(b.Context(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.NoSandbox)...)
	defer free()
	opened, end := chromedp.NewContext(allocated)
	defer end()
	if err := chromedp.Do(opened, chromedp.Navigate("about:blank")); err != nil {
		b.Fatal(err)
	}
	var looked, plain time.Duration
	for b.Loop() {
		looked += look()
		start := time.Now()
		var group errgroup.Group
		group.SetLimit(tabsAtOnce)
		for _, page := range pages {
			group.Go(func() error { return photograph(opened, fetcher.Resolve(page.Path).String()) })
		}
		if err := group.Wait(); err != nil {
			b.Fatal(err)
		}
		plain += time.Since(start)
	}
	b.ReportMetric(float64(looked)/float64(plain), "look/photograph")
}

// photograph loads a page at both widths and takes a picture of each, in a tab of its own.
func photograph(opened context.Context, address string) error {
	for _, width := range smoke.Widths {
		tab, end := chromedp.NewContext(opened, chromedp.WithNewBrowserContext())
		err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width.Pixels), 900), chromedp.Navigate(address))
		if err == nil {
			_, err = chromedp.Run(tab, chromedp.FullScreenshot(100))
		}
		end()
		if err != nil {
			return err
		}
	}
	return nil
}
