// Package browser looks at pages with an installed Chromium or Chrome: what a person
// sees, and what fails meanwhile. It never downloads a browser.
package browser

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"wetland/core/environment"
)

// programs are the names under which browsers of this kind are installed.
var programs = []string{"chromium", "chromium-browser", "google-chrome-stable", "google-chrome", "chrome"}

// Find returns the program of an installed browser, or "".
func Find() string {
	for _, name := range programs {
		if found, err := exec.LookPath(name); err == nil {
			return found
		}
	}
	return ""
}

// Box is where an element stands in the page, in CSS pixels.
type Box struct{ X, Y, Width, Height int }

// Seen tells whether a person can see anything of it.
func (b Box) Seen() bool { return b.Width > 1 && b.Height > 1 && b.X+b.Width > 0 && b.Y+b.Height > 0 }

// FirstView counts the letters that are in the window when a page opens.
type FirstView struct {
	Letters int `json:"letters"`
	Under   int `json:"under"`  // another element lies over them
	Buried  int `json:"buried"` // of these, under one that nothing can be seen through
	Unlit   int `json:"unlit"`  // they have the colour of what is behind them
}

// Sight is one page at one width, as a person meets it.
type Sight struct {
	Problem  string         `json:"problem,omitempty"`  // why it could not be seen
	Width    int            `json:"width"`              // of the window
	Height   int            `json:"height"`             // of the whole page
	Overflow int            `json:"overflow,omitempty"` // pixels that the page is wider than the window
	Letters  int            `json:"letters"`            // of text that shows
	Boxes    map[string]Box `json:"boxes,omitempty"`    // of the landmarks that show
	// More has the further ones of a landmark that shows several times.
	More  map[string][]Box `json:"more,omitempty"`
	First FirstView        `json:"first,omitzero"`
	// Rows tells of elements with several parts, by their first words, how many parts stand side by
	// side in the first line.
	Rows     map[string]int `json:"rows,omitempty"`
	Pictures int            `json:"pictures,omitempty"` // that have come and show something
	Failures []string       `json:"failures,omitempty"` // scripts that failed
	Unloaded []Unloaded     `json:"unloaded,omitempty"`
	Picture  string         `json:"picture,omitempty"` // its file, PNG
	Again    string         `json:"again,omitempty"`   // that of another look at the same state
	Blank    bool           `json:"blank,omitempty"`   // it has one colour only
	Image    []byte         `json:"-"`                 // PNG; nil where none is wanted, or the page is too high
}

// Browser is a running browser.
type Browser struct {
	// Unconfined says that it runs without its own sandbox, which this system does not allow.
	Unconfined bool

	ctx   context.Context
	ends  []func() // last to first
	once  sync.Once
	limit time.Duration
}

// Options of a browser.
type Options struct {
	Program  string
	Patience time.Duration // for one page
	Starting time.Duration // how long it may take to start
	// Reach is how anything is asked for that pages want: the browser itself reaches nothing.
	Reach http.RoundTripper
	// Window has it open a window, for a person; else it has none.
	Window bool
}

// heldBack are features that a look has no use for. A page that was left must not stay alive for
// the way back: that costs a process for each page.
const heldBack = "Translate,BlinkGenPropertyTrees,BackForwardCache"

// unconfined is set once the browser's own sandbox was found not to work on this system.
var unconfined atomic.Bool

// Start runs a browser without a window. Close it when done. It has a profile of its own, none of
// the secrets in our environment and, where we are root, the rights of nobody. It runs in its
// sandbox wherever the system lets it.
func Start(ctx context.Context, o Options) (*Browser, error) {
	b, err := start(ctx, o, unconfined.Load())
	if err != nil && ctx.Err() == nil && !unconfined.Load() && aboutSandbox(err) {
		if b, err = start(ctx, o, true); err == nil {
			unconfined.Store(true)
		}
	}
	return b, err
}

// aboutSandbox tells of what a browser says that cannot make its sandbox.
func aboutSandbox(err error) bool {
	text := strings.ToLower(err.Error())
	return strings.Contains(text, "sandbox") || strings.Contains(text, "namespace") || strings.Contains(text, "zygote")
}

func start(ctx context.Context, o Options, noSandbox bool) (_ *Browser, err error) {
	b := &Browser{limit: o.Patience, Unconfined: noSandbox}
	defer func() {
		if err != nil {
			b.Close()
			err = fmt.Errorf("start %s: %w", o.Program, err)
		}
	}()
	folder, err := os.MkdirTemp("", "wetland-browser-*")
	if err != nil {
		return nil, err
	}
	b.ends = append(b.ends, func() { removeFolder(folder) })
	lowered, as, err := lower(folder)
	if err != nil {
		return nil, err
	}
	proxy, err := startProxy(o.Reach, as)
	if err != nil {
		return nil, err
	}
	b.ends = append(b.ends, func() { _ = proxy.Close() })
	options, err := b.options(o, folder, proxy)
	if err != nil {
		return nil, err
	}
	if lowered != nil {
		options = append(options, chromedp.ModifyCmdFunc(lowered))
	}
	allocated, free := chromedp.NewExecAllocator(ctx, options...)
	opened, end := chromedp.NewContext(allocated)
	b.ctx, b.ends = opened, append(b.ends, free, end)
	// Freeing kills it: a program that says nothing would be waited for without end.
	late := time.AfterFunc(o.Starting, free)
	err = chromedp.Do(opened, chromedp.Navigate("about:blank"))
	if !late.Stop() {
		err = fmt.Errorf("it did not start within %s", o.Starting)
	}
	return b, err
}

// options are those of the browser's command.
func (b *Browser) options(o Options, folder string, proxy *proxy) ([]chromedp.ExecAllocatorOption, error) {
	hash, err := proxy.keyHash()
	if err != nil {
		return nil, err
	}
	options := slices.Clone(chromedp.DefaultExecAllocatorOptions[:])
	if o.Window {
		options = append(options, chromedp.Flag("headless", false), chromedp.Flag("enable-automation", false), chromedp.Flag("test-type", true) /* else it warns of our options */, chromedp.Env(screenVariables()...))
	}
	return append(options, chromedp.ExecPath(o.Program), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("hide-scrollbars", !o.Window), chromedp.Flag("force-color-profile", "srgb"),
		chromedp.Flag("disable-features", heldBack), chromedp.UserDataDir(folder),
		chromedp.NoInheritEnv, chromedp.Env(environment.Clean("HOME="+folder, "TMPDIR="+folder, "XDG_RUNTIME_DIR="+folder)...),
		// Of this machine, too, nothing is reached but by the proxy.
		chromedp.ProxyServer("http://"+proxy.Addr().String()), chromedp.Flag("proxy-bypass-list", "<-loopback>"),
		chromedp.Flag("ignore-certificate-errors-spki-list", hash),
		chromedp.Flag("no-sandbox", b.Unconfined)), nil
}

// removeFolder takes away the browser's profile, into which it may still write as it ends.
func removeFolder(folder string) {
	for range 50 {
		if os.RemoveAll(folder) == nil {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Close ends the browser.
func (b *Browser) Close() {
	b.once.Do(func() {
		for _, end := range slices.Backward(b.ends) {
			end()
		}
	})
}

// measure finds the landmarks' boxes, the page's size and its text.
const measure = `(() => {
  const own = (name) => name + ":not(" + ["article", "aside", "main", "nav", "section"].map((part) => part + " " + name).join(", ") + ")";
  const landmarks = {"header": own("header") + ", [role=banner]", "navigation": "nav, [role=navigation]", "main part": "main, [role=main]",
    "side column": "aside, [role=complementary]", "footer": own("footer") + ", [role=contentinfo]", "main heading": "h1",
    // That of the main part, if it has one: a search may come in anywhere.
    "form": document.querySelector("main form:not([hidden]), [role=main] form:not([hidden])") ? "main form:not([hidden]), [role=main] form:not([hidden])" : "form:not([hidden])"};
  const boxes = {}, more = {};
  for (const [name, selector] of Object.entries(landmarks)) {
    for (const element of document.querySelectorAll(selector)) {
      const style = getComputedStyle(element), box = element.getBoundingClientRect();
      let opacity = 1;
      for (let e = element; e; e = e.parentElement) opacity *= getComputedStyle(e).opacity;
      if (style.visibility === "hidden" || opacity < 0.01 || box.width < 1 || box.height < 1) continue;
      const found = {X: Math.round(box.x + scrollX), Y: Math.round(box.y + scrollY), Width: Math.round(box.width), Height: Math.round(box.height)};
      if (!boxes[name]) boxes[name] = found;
      else if ((more[name] ??= []).push(found) >= 20) break;
    }
  }
  // Of the letters in the first view: how many another element lies over, how many of those
  // it leaves nothing of, and how many have the colour of what is behind them.
  const parts = (colour) => (colour.match(/[\d.]+/g) || []).map(Number);
  const solid = (style) => (parts(style.backgroundColor)[3] ?? 1) > 0.9 && style.opacity > 0.9;
  const light = ([r, g, b]) => [[r, 0.2126], [g, 0.7152], [b, 0.0722]].reduce((sum, [v, share]) => sum + share * (v / 255 <= 0.03928 ? v / 255 / 12.92 : ((v / 255 + 0.055) / 1.055) ** 2.4), 0);
  const unlit = (element) => {
    const letters = getComputedStyle(element).color;
    for (let e = element; ; e = e.parentElement) {
      const style = e ? getComputedStyle(e) : null;
      if (style && style.backgroundImage !== "none") return false;
      if (!style || (parts(style.backgroundColor)[3] ?? 1) > 0.5) {
        const a = light(parts(letters)), b = style ? light(parts(style.backgroundColor)) : 1;
        return (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05) < 1.1;
      }
    }
  };
  const first = {letters: 0, under: 0, buried: 0, unlit: 0};
  const walker = document.createTreeWalker(document.body || document, NodeFilter.SHOW_TEXT);
  for (let node = walker.nextNode(), n = 0; node && n < 3000; node = walker.nextNode(), n++) {
    const letters = node.data.replace(/[^\p{L}\p{N}]/gu, "").length, around = node.parentElement;
    if (!letters || !around || ["SCRIPT", "STYLE", "NOSCRIPT", "TEMPLATE"].includes(around.tagName) || getComputedStyle(around).visibility !== "visible") continue;
    const range = document.createRange();
    range.selectNodeContents(node);
    const box = range.getBoundingClientRect(), x = box.x + box.width / 2, y = box.y + box.height / 2;
    if (box.width < 2 || box.height < 2 || x < 0 || y < 0 || x >= innerWidth || y >= innerHeight) continue;
    first.letters += letters;
    if (unlit(around)) first.unlit += letters;
    const top = document.elementFromPoint(x, y);
    if (!top || top.contains(around) || around.contains(top) || top.closest("a, label") === around.closest("a, label") && top.closest("a, label")) continue;
    first.under += letters;
    if (solid(getComputedStyle(top))) first.buried += letters;
  }
  // Of elements with several parts: how many of these stand side by side.
  // Those around the main part are told with it.
  const rows = {}, main = document.querySelector("main, [role=main]");
  let looked = 0;
  for (const element of document.querySelectorAll("body *")) {
    if (Object.keys(rows).length >= 200 || ++looked > 4000) break;
    if (element.children.length < 2 || (main && element !== main && element.contains(main)) || element.closest("nav, svg, select, p, h1, h2, h3, h4, h5, h6, table, [aria-hidden=true]")) continue;
    const parts = [];
    for (const child of element.children) {
      const box = child.getBoundingClientRect();
      if (box.width >= 40 && box.height >= 16 && getComputedStyle(child).position !== "fixed") parts.push(box);
      if (parts.length >= 12) break;
    }
    const says = (element.innerText || "").toLowerCase().split(/\s+/).filter((w) => /\p{L}/u.test(w) && !/\p{N}/u.test(w)).slice(0, 8).join(" ");
    if (parts.length < 2 || !says) continue;
    const beside = parts.filter((box) => box.top < parts[0].bottom - 4 && box.bottom > parts[0].top + 4).length;
    rows[says] = Math.max(rows[says] || 0, beside);
  }
  // A short address that holds a picture is one with nothing on it, for a script to put another in its place.
  const empty = (address) => !address || (address.startsWith("data:") && address.length <= 200);
  // One far down that the browser puts off is there, too: that its address answers is looked at elsewhere.
  const putOff = (image) => image.loading === "lazy" && !image.complete;
  const there = (image) => image.complete && image.naturalWidth > 1 && image.getBoundingClientRect().width > 1;
  const pictures = [...document.images].filter((image) => !empty(image.currentSrc || image.src) && (there(image) || putOff(image))).length;
  const root = document.documentElement;
  return {boxes, more, first, rows, pictures, height: root.scrollHeight, overflow: Math.max(0, root.scrollWidth - innerWidth),
    letters: (document.body ? document.body.innerText : "").replace(/[^\p{L}\p{N}]/gu, "").length};
})()`

type measured struct {
	Boxes    map[string]Box   `json:"boxes"`
	More     map[string][]Box `json:"more"`
	First    FirstView        `json:"first"`
	Rows     map[string]int   `json:"rows"`
	Pictures int              `json:"pictures"`
	Height   int              `json:"height"`
	Overflow int              `json:"overflow"`
	Letters  int              `json:"letters"`
}

// Visit is one look at a page.
type Visit struct {
	Address string
	Widths  []int // of the window, in CSS pixels: it is loaded at the first one
	Cookies []*http.Cookie
	// NoPicture saves the picture of the whole page, unless its first view has one colour only.
	NoPicture bool
}

// Tab is a tab of the browser with cookies, storage and cache of its own, for one page after the
// other. It opens at the first look if it was not opened before, and anew after one that failed.
type Tab struct {
	b   *Browser
	ctx context.Context
	end func()
}

// Tab returns a new tab, not yet opened. Close it when done.
func (b *Browser) Tab() *Tab { return &Tab{b: b, end: func() {}} }

// Open opens the tab before it is used. A look opens it, too.
func (t *Tab) Open(ctx context.Context) {
	if t.open(ctx) != nil {
		t.Close()
	}
}

// Close ends the tab, with all that it keeps. It can be used again.
func (t *Tab) Close() {
	t.end()
	t.ctx, t.end = nil, func() {}
}

// Look opens a page, and photographs all of it at each width. It is loaded once, and laid out
// anew for the further widths, as in a window that is made narrower. Nothing of a page before
// is left but what the browser has cached. What fails is in the sights; the error is only the
// context's.
func (t *Tab) Look(ctx context.Context, visit Visit) ([]Sight, error) {
	sights := make([]Sight, len(visit.Widths))
	err := t.open(ctx)
	tab, give := context.WithTimeout(t.ctx, t.b.limit)
	defer give()
	stopped := context.AfterFunc(ctx, give)
	defer stopped()
	noted := newNotes(visit.Address)
	if err == nil {
		err = errors.Join(chromedp.Listen(tab, noted.take), enter(tab, visit))
	}
	for i, width := range visit.Widths {
		sights[i].Width = width
		if err == nil {
			err = see(tab, visit, i == 0, &sights[i])
		}
		if err != nil {
			sights[i].Problem = explain(tab, err, t.b.limit)
		}
	}
	noted.mu.Lock()
	for i := range sights {
		sights[i].Failures, sights[i].Unloaded = slices.Clone(noted.failures), slices.Clone(noted.unloaded)
	}
	noted.mu.Unlock()
	if err == nil {
		err = leave(tab)
	}
	if err != nil {
		t.Close()
	}
	return sights, ctx.Err()
}

// open opens the tab, unless it is. It is opened with a context of its own, not with that of a
// visit, whose end would close it.
func (t *Tab) open(ctx context.Context) error {
	if t.ctx != nil {
		return nil
	}
	t.ctx, t.end = chromedp.NewContext(t.b.ctx, chromedp.WithNewBrowserContext())
	late := time.AfterFunc(t.b.limit, t.end) // a browser that hangs must not be waited for
	defer late.Stop()
	stopped := context.AfterFunc(ctx, t.end)
	defer stopped()
	if err := chromedp.Do(t.ctx); err != nil {
		return err
	}
	own := chromedp.FromContext(t.ctx).BrowserContextID
	_, err := chromedp.CallBrowser(t.ctx, cdpbrowser.SetDownloadBehavior, cdpbrowser.SetDownloadBehaviorParams{Behavior: cdpbrowser.SetDownloadBehaviorBehaviorDeny, BrowserContextID: own})
	return err
}

// leave makes the tab as if the page had not been there, but for what is cached.
func leave(tab context.Context) error {
	if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](`(() => { try { sessionStorage.clear(); localStorage.clear(); } catch { } return true; })()`)); err != nil {
		return err
	}
	_, err := chromedp.Call(tab, network.ClearBrowserCookies, cdp.Empty{})
	return errors.Join(err, chromedp.Do(tab, chromedp.Navigate("about:blank")))
}

// WindowHeight is that of a usual window, in CSS pixels: what is further down is out of the
// first view.
const WindowHeight = 900

// narrow is the width below which a window is that of a phone.
const narrow = 600

// tallest bounds the pictures, in pixels: a page without an end must not fill the disk.
const tallest = 12_000

// calm waits until the page is laid out at another width. What the change set in motion, such as
// a menu that fades out, is brought to its end. Fonts and pictures that come late move what is
// below them; a tab that is never drawn must not be waited for.
const calm = `(async () => {
  const drawn = () => new Promise((next) => { requestAnimationFrame(() => requestAnimationFrame(next)); setTimeout(next, 200); });
  for (let round = 0; round < 2; round++) {
    await drawn();
    for (const one of document.getAnimations()) {
      if (one.effect && one.effect.getComputedTiming().endTime !== Infinity) one.finish();
    }
  }
  await document.fonts.ready;
  return true;
})()`

// see looks at the page of a tab at one width.
func see(tab context.Context, visit Visit, first bool, sight *Sight) error {
	var like []chromedp.EmulateViewportOption
	if sight.Width < narrow {
		like = append(like, chromedp.EmulateMobile) // which looks for the page's own word about its width
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(sight.Width), WindowHeight, like...)); err != nil {
		return err
	}
	ready := calm
	if first {
		if err := chromedp.Do(tab, chromedp.Navigate(visit.Address)); err != nil {
			return err
		}
		ready = `document.fonts.ready.then(() => true)`
	}
	if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](ready, chromedp.EvalAwaitPromise)); err != nil {
		return err
	}
	found, err := chromedp.Run(tab, chromedp.Evaluate[measured](measure))
	if err != nil {
		return err
	}
	sight.First, sight.More, sight.Rows, sight.Pictures = found.First, found.More, found.Rows, found.Pictures
	sight.Boxes, sight.Height, sight.Overflow, sight.Letters = found.Boxes, found.Height, found.Overflow, found.Letters
	if visit.NoPicture {
		view, err := photograph(tab, false)
		if err != nil {
			return err
		}
		if sight.Blank = isBlank(view); !sight.Blank {
			return nil
		}
	}
	if found.Height > tallest {
		sight.Blank = false
		return nil
	}
	whole, err := photograph(tab, true)
	if err != nil {
		return err
	}
	if sight.Blank = isBlank(whole); !visit.NoPicture {
		sight.Image = whole
	}
	return nil
}

// photograph takes a picture, PNG, of the whole page or of what is in the window.
func photograph(tab context.Context, whole bool) ([]byte, error) {
	yes := true
	taken, err := chromedp.Call(tab, page.CaptureScreenshot, page.CaptureScreenshotParams{
		Format: page.CaptureScreenshotFormatPng, FromSurface: &yes, CaptureBeyondViewport: &whole, OptimizeForSpeed: &yes,
	})
	return taken.Data, err
}

// enter gives the tab what it needs to be let in.
func enter(tab context.Context, visit Visit) error {
	var cookies []*network.CookieParam
	for _, cookie := range visit.Cookies {
		cookies = append(cookies, &network.CookieParam{Name: cookie.Name, Value: cookie.Value, URL: visit.Address, HTTPOnly: true})
	}
	if len(cookies) == 0 {
		return nil
	}
	_, err := chromedp.Call(tab, network.SetCookies, network.SetCookiesParams{Cookies: cookies})
	return err
}

func explain(tab context.Context, err error, limit time.Duration) string {
	if errors.Is(tab.Err(), context.DeadlineExceeded) {
		return fmt.Sprintf("the browser did not finish within %s", limit)
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	return "the browser could not show it: " + line
}
