package judging

import (
	"slices"

	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// Merge makes one baseline of several takes: what stood still from one to the
// next is kept, what moves by itself is not compared later. Problems of any take
// are kept.
func Merge(takes ...*smoke.Take) *smoke.Take {
	merged := *takes[0]
	merged.Pages = slices.Clone(takes[0].Pages)
	for _, take := range takes[1:] {
		for i, facts := range merged.Pages {
			if other, ok := take.Page(facts.Path); ok {
				merged.Pages[i] = mergeFacts(facts, other)
			}
		}
	}
	return &merged
}

func mergeFacts(a, b smoke.Facts) smoke.Facts {
	if b.Problem != "" || (b.Status != a.Status && b.Status >= 400 && b.Status != b.Wanted.Status) {
		return b // the worse of two: the caller sees that the page is not steady
	}
	if a.Problem != "" || (b.Status != a.Status && a.Status >= 400 && a.Status != a.Wanted.Status) {
		return a
	}
	if a.Title != b.Title {
		a.Title = ""
	}
	a.Complete = a.Complete && b.Complete
	a.Text, a.Entries, a.Images = min(a.Text, b.Text), min(a.Entries, b.Entries), min(a.Images, b.Images)
	a.Headings = both(a.Headings, b.Headings)
	a.Errors = either(a.Errors, b.Errors)
	a.Missing = either(a.Missing, b.Missing)
	a.Scripts, a.Mixed = either(a.Scripts, b.Scripts), either(a.Mixed, b.Mixed)
	a.Data = both(a.Data, b.Data)
	a.Rules, a.Damaged, a.Took = min(a.Rules, b.Rules), max(a.Damaged, b.Damaged), max(a.Took, b.Took)
	if !slices.Equal(a.Loads, b.Loads) {
		a.Loads = nil // they move by themselves
	}
	if a.Language != b.Language {
		a.Language = ""
	}
	if a.Canonical != b.Canonical {
		a.Canonical = ""
	}
	if a.Unknown == "" {
		a.Unknown = b.Unknown
	}
	a.Parts = mergeParts(a.Parts, b.Parts)
	inside := map[string]int{}
	for name, n := range a.Inside {
		inside[name] = min(n, b.Inside[name])
	}
	a.Inside = inside
	if a.Visitor != nil && b.Visitor != nil {
		a.Visitor = &smoke.Visit{Faults: either(a.Visitor.Faults, b.Visitor.Faults), Earlier: b.Visitor.Earlier, Cache: b.Visitor.Cache}
	}
	if a.Sights == nil || b.Sights != nil { // else no browser looked the second time
		a.Sights = mergeSights(a.Sights, b.Sights)
	}
	steady := map[string]int{}
	for name, n := range a.Landmarks {
		if b.Landmarks[name] > 0 {
			steady[name] = min(n, b.Landmarks[name])
		}
	}
	a.Landmarks = steady
	a.Menus = mergeMenus(a.Menus, b.Menus)
	a.Forms = mergeForms(a.Forms, b.Forms)
	mergeContent(&a, b)
	a.Links = slices.DeleteFunc(slices.Clone(a.Links), func(l smoke.Link) bool { return !slices.Contains(b.Links, l) })
	a.Settings, a.Unset, a.FitsPhones = both(a.Settings, b.Settings), either(a.Unset, b.Unset), a.FitsPhones && b.FitsPhones
	a.Rows, a.Buttons = mergeRows(a.Rows, b.Rows), both(a.Buttons, b.Buttons)
	a.Filled, a.Hollow = reading.Least(a.Filled, b.Filled), reading.Most(a.Hollow, b.Hollow)
	mergeFrame(&a, b)
	a.Groups, a.Marks = mergeGroups(a.Groups, both(a.Marks, b.Marks)), both(a.Marks, b.Marks)
	a.Pictures = both(a.Pictures, b.Pictures)
	a.Prices = both(a.Prices, b.Prices)
	a.Contacts = both(a.Contacts, b.Contacts)
	a.Leaks, a.HasFont = either(a.Leaks, b.Leaks), a.HasFont && b.HasFont
	a.Assets = mergeAssets(a.Assets, b.Assets)
	return a
}
