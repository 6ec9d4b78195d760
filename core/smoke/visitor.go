package smoke

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Visit is a page as a plain visitor gets it, whom caches may answer.
type Visit struct {
	// Faults are what is wrong with it and not with the page itself.
	Faults []string `json:"faults,omitempty"`
	// Earlier tells that it is not the page as it is now.
	Earlier bool `json:"earlier,omitempty"`
	// Cache is how the answer says that it comes from a cache, "" if it does not.
	Cache string `json:"cache,omitempty"`
}

// visit asks once more as a plain visitor does, and notes what is other than in the page
// itself.
func (f *Fetcher) visit(ctx context.Context, page Page, where *url.URL, now Facts) *Visit {
	got, err := f.get(ctx, where, largestPage, manner{plain: true})
	if err != nil {
		if now.Problem != "" {
			return nil
		}
		return &Visit{Faults: []string{err.Error()}}
	}
	met, document := readPage(page, where, got)
	if document != nil {
		readShown(&met, document, nil, newSettings())
	}
	visit := &Visit{Cache: cacheSign(got.header)}
	own := faults(now)
	for _, finding := range faults(met) {
		same := func(other Finding) bool { return other.Check == finding.Check && other.What == finding.What }
		if finding.Check != "speed" && !slices.ContainsFunc(own, same) {
			visit.Faults = append(visit.Faults, finding.What)
		}
	}
	switch other := lacks(now, met); {
	case len(visit.Faults) > 0 || len(own) > 0:
	case other != "" && !f.wasSo(met):
		visit.Faults = append(visit.Faults, "it is another page: "+other)
	default:
		visit.Earlier = other != "" || f.isEarlier(met, now, visit.Cache)
	}
	return visit
}

// lacks says what of a page visitors do not get; "" if they get it. The style of what
// they met was not read.
func lacks(now, met Facts) string {
	var found collector
	loseContent(&found, now, met)
	loseWords(&found, now, met)
	for _, finding := range found {
		if finding.Verdict == Broken && (finding.Check == "text" || finding.Check == "list") {
			return finding.What
		}
	}
	return ""
}

// wasSo tells whether a page is as it was before.
func (f *Fetcher) wasSo(met Facts) bool {
	if f.Before == nil {
		return false
	}
	was, ok := f.Before.Page(met.Path)
	return ok && lacks(was, met) == ""
}

// isEarlier tells whether a visitor met the page as it was before: by what it loads, with the
// versions in the addresses, and by its title. An answer that names no cache must be the very
// one from before.
func (f *Fetcher) isEarlier(met, now Facts, cache string) bool {
	same := func(a, b Facts) bool { return a.Title == b.Title && slices.Equal(a.Loads, b.Loads) }
	if same(met, now) {
		return false
	}
	if f.Before == nil {
		return cache != ""
	}
	was, ok := f.Before.Page(met.Path)
	if ok && was.Loads == nil && was.Assets != nil {
		return false // what it loads moves by itself
	}
	return cache != "" || ok && same(met, was)
}

// cacheSign reads how an answer says that it comes from a cache: Age by RFC 9111, the
// others by custom.
func cacheSign(header http.Header) string {
	if age, err := strconv.Atoi(header.Get("Age")); err == nil && age > 0 {
		return fmt.Sprintf("Age: %d seconds", age)
	}
	for name, values := range header {
		lower := strings.ToLower(name)
		if strings.Contains(lower, "cache") && lower != "cache-control" && strings.Contains(strings.ToUpper(strings.Join(values, " ")), "HIT") {
			return name + ": " + strings.Join(values, " ")
		}
	}
	return ""
}

// visitFaults finds what visitors get from a cache and the page itself no more has.
func visitFaults(found *collector, now Facts) {
	if now.Visitor == nil {
		return
	}
	for _, what := range now.Visitor.Faults {
		found.add(Broken, "visitors", "plain visitors get another answer than the page itself: "+what, orWords(now.Visitor.Cache, "nothing in the answer names a cache"))
	}
}

// visitNotes tells of an answer from before that visitors still get. It does not count:
// the cache lets go of it by itself.
func visitNotes(found *collector, now Facts) {
	if v := now.Visitor; v != nil && v.Earlier && len(v.Faults) == 0 {
		found.add(Sound, "visitors", "plain visitors still get an earlier page from a cache", orWords(v.Cache, "nothing in the answer names one, but it is the page from before"))
	}
}

func orWords(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
