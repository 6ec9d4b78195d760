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
	met, _ := readPage(page, where, got)
	visit := &Visit{Cache: cacheSign(got.header)}
	own := faults(now)
	for _, finding := range faults(met) {
		same := func(other Finding) bool { return other.Check == finding.Check && other.What == finding.What }
		if finding.Check != "speed" && !slices.ContainsFunc(own, same) {
			visit.Faults = append(visit.Faults, finding.What)
		}
	}
	visit.Earlier = visit.Cache != "" && (met.Title != now.Title || !sameFiles(met.Assets, now.Assets))
	return visit
}

// sameFiles compares what two readings of a page load. One of them was not looked at
// further: its addresses are whole, and its fonts are not known.
func sameFiles(read, looked []Asset) bool {
	paths := func(all []Asset) (list []string) {
		for _, asset := range all {
			if at, err := url.Parse(asset.Path); err == nil && asset.Kind != "font" {
				list = append(list, at.Path)
			}
		}
		return list
	}
	return slices.Equal(paths(read), paths(looked))
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
		found.add(Sound, "visitors", "plain visitors still get an earlier page from a cache", v.Cache)
	}
}

func orWords(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
