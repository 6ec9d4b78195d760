package fetching

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
)

// visit asks once more as a plain visitor does, and notes what is other than in the page
// itself.
func (f *Fetcher) visit(ctx context.Context, page smoke.Page, where *url.URL, seen reading.Answer, now smoke.Facts) *smoke.Visit {
	got, err := f.get(ctx, where, smoke.LargestPage, manner{plain: true})
	if err != nil {
		if now.Problem != "" {
			return nil
		}
		return &smoke.Visit{Faults: []string{err.Error()}}
	}
	if sameAnswer(got, seen) {
		return &smoke.Visit{Cache: cacheSign(got.Header)}
	}
	met, document := reading.ReadPage(page, where, got)
	if document != nil {
		readShown(&met, document, nil, reading.NewSettings())
	}
	visit := &smoke.Visit{Cache: cacheSign(got.Header)}
	own := judging.Faults(now)
	for _, finding := range judging.Faults(met) {
		same := func(other smoke.Finding) bool { return other.Check == finding.Check && other.What == finding.What }
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

// toReaders are the headers that make something else of the same page.
var toReaders = []string{"Content-Type", "Content-Disposition", "X-Robots-Tag", "Refresh", "Cf-Mitigated"}

// sameAnswer tells of two answers that are read alike.
func sameAnswer(a, b reading.Answer) bool {
	return a.Status == b.Status && a.TooLarge == b.TooLarge && len(a.Redirects)+len(b.Redirects) == 0 && bytes.Equal(a.Body, b.Body) &&
		!slices.ContainsFunc(toReaders, func(name string) bool { return !slices.Equal(a.Header.Values(name), b.Header.Values(name)) })
}

// lacks says what of a page visitors do not get; "" if they get it. The style of what
// they met was not read.
func lacks(now, met smoke.Facts) string {
	var found judging.Collector
	judging.LoseContent(&found, now, met)
	judging.LoseWords(&found, now, met)
	for _, finding := range found {
		if finding.Verdict == smoke.Broken && (finding.Check == "text" || finding.Check == "list") {
			return finding.What
		}
	}
	return ""
}

// wasSo tells whether a page is as it was before.
func (f *Fetcher) wasSo(met smoke.Facts) bool {
	if f.Before == nil {
		return false
	}
	was, ok := f.Before.Page(met.Path)
	return ok && lacks(was, met) == ""
}

// isEarlier tells whether a visitor met the page as it was before: by what it loads, with the
// versions in the addresses, and by its title. An answer that names no cache must be the very
// one from before.
func (f *Fetcher) isEarlier(met, now smoke.Facts, cache string) bool {
	same := func(a, b smoke.Facts) bool { return a.Title == b.Title && slices.Equal(a.Loads, b.Loads) }
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
