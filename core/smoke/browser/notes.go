package browser

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
)

// Unloaded is a file of the site that the page wanted and the browser did not get.
type Unloaded struct {
	Kind string `json:"kind"`
	Path string `json:"path"`
	Why  string `json:"why"`
}

// notes are what goes wrong while a page is open. Events come from another goroutine.
type notes struct {
	host string // the site's

	mu       sync.Mutex
	asked    map[network.RequestID]string // addresses
	failures []string
	unloaded []Unloaded
}

func newNotes(address string) *notes {
	n := &notes{asked: map[network.RequestID]string{}}
	if at, err := url.Parse(address); err == nil {
		n.host = at.Host
	}
	return n
}

// wanted are the kinds of files whose lack a visitor may notice.
var wanted = map[network.ResourceType]string{
	network.ResourceTypeStylesheet: "style sheet", network.ResourceTypeScript: "script", network.ResourceTypeImage: "image",
	network.ResourceTypeFont: "font", network.ResourceTypeXHR: "data", network.ResourceTypeFetch: "data",
}

func (n *notes) take(event any) {
	n.mu.Lock()
	defer n.mu.Unlock()
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		if e.ExceptionDetails != nil {
			n.failed(e.ExceptionDetails)
		}
	case *network.EventRequestWillBeSent:
		if e.Request != nil {
			n.asked[e.RequestID] = e.Request.URL
		}
	case *network.EventLoadingFailed:
		// What the page itself gives up is no fault of the site.
		if e.BlockedReason != "" || !e.Canceled && e.ErrorText != "net::ERR_ABORTED" {
			why := e.ErrorText
			if e.BlockedReason == network.BlockedReasonCsp {
				why = "a policy in the answer's header forbids it"
			}
			n.lack(e.Type, n.asked[e.RequestID], why)
		}
	case *network.EventResponseReceived:
		// Without a session, data may well be refused.
		if e.Response != nil && (e.Response.Status == 404 || e.Response.Status == 410 || e.Response.Status >= 500) {
			n.lack(e.Type, e.Response.URL, fmt.Sprintf("the server answers %d", e.Response.Status))
		}
	}
}

func (n *notes) failed(details *runtime.ExceptionDetails) {
	text := details.Text
	if e := details.Exception; e != nil && e.Description != "" {
		text = e.Description
	}
	line, _, _ := strings.Cut(text, "\n")
	if !slices.Contains(n.failures, line) {
		n.failures = append(n.failures, line)
	}
}

func (n *notes) lack(of network.ResourceType, address, why string) {
	at, err := url.Parse(address)
	kind := wanted[of]
	if err != nil || kind == "" || at.Host != n.host {
		return
	}
	one := Unloaded{Kind: kind, Path: at.Path, Why: why}
	if !slices.ContainsFunc(n.unloaded, func(u Unloaded) bool { return u.Kind == one.Kind && u.Path == one.Path }) {
		n.unloaded = append(n.unloaded, one)
	}
}
