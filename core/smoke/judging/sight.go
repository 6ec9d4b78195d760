package judging

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/browser"
	"wetland/core/smoke/reading"
)

// sightFaults finds what is wrong with how a page looks, whatever it was like before.
func sightFaults(found *Collector, now smoke.Facts) {
	for _, width := range slices.Sorted(maps.Keys(now.Sights)) {
		sight := now.Sights[width]
		if sight.Problem != "" {
			found.add(smoke.Doubtful, "not seen", "it could not be looked at on a "+width, sight.Problem)
			continue
		}
		for _, failure := range sight.Failures {
			found.add(smoke.Doubtful, "script", "a script fails in the browser: "+failure, "")
		}
		for _, one := range sight.Unloaded {
			if slices.ContainsFunc(now.Assets, func(a smoke.Asset) bool { return a.Path == one.Path && a.Problem != "" }) {
				continue // which is said already
			}
			verdict := smoke.Doubtful
			if one.Kind == "style sheet" {
				verdict = smoke.Broken
			}
			found.add(verdict, one.Kind, fmt.Sprintf("the browser could not load the %s %s", one.Kind, one.Path), one.Why)
		}
		if sight.Blank {
			found.add(smoke.Broken, "browser", "it shows nothing on a "+width, "the picture has one colour only")
		}
	}
}

// loseSights compares how a page looks with how it looked.
func loseSights(found *Collector, was, now smoke.Facts) {
	loseBoxes(found, was, now)
	for _, width := range slices.Sorted(maps.Keys(now.Sights)) {
		before, known := was.Sights[width]
		after := now.Sights[width]
		if !known || before.Problem != "" || after.Problem != "" || after.Blank {
			continue
		}
		switch {
		case before.Letters >= 60 && after.Letters*5 < before.Letters:
			found.add(smoke.Broken, "browser", fmt.Sprintf("most of the text does not show on a %s: %d letters, was %d", width, after.Letters, before.Letters), "")
		case before.Letters >= 60 && after.Letters*2 < before.Letters:
			found.add(smoke.Doubtful, "browser", fmt.Sprintf("much of the text does not show on a %s: %d letters, was %d", width, after.Letters, before.Letters), "")
		}
		main, oldMain := after.Boxes["main part"], before.Boxes["main part"]
		if oldMain.Seen() && main.Y > oldMain.Y+browser.WindowHeight/2 && oldMain.Y < browser.WindowHeight {
			found.add(smoke.Doubtful, "layout", fmt.Sprintf("on a %s, the main part begins %d pixels further down: out of the first view", width, main.Y-oldMain.Y), "")
		}
		loseFirstView(found, width, before.First, after.First)
		loseSeenRows(found, width, before.Rows, after.Rows)
		if before.Pictures >= fewPictures && 2*after.Pictures < before.Pictures && now.Images > 0 {
			found.lose(smoke.Doubtful, "images", "images on a "+width, fmt.Sprintf("on a %s, %d of %s do not show", width, before.Pictures-after.Pictures, phrase.Plural(before.Pictures, "image")), "")
		}
		if total, lost := lostLetters(was, now); before.Height > 0 && 100*lost <= 2*total && 10*after.Height > 13*before.Height && after.Height > before.Height+400 {
			found.add(smoke.Doubtful, "layout", fmt.Sprintf("with the same text in its main part, the page is %d pixels high on a %s, was %d", after.Height, width, before.Height), "")
		}
		// A few pixels are a shadow or a rounding; from a finger's width on a person must
		// move the page sideways.
		if before.Overflow <= 8 && after.Overflow > 24 {
			found.add(smoke.Doubtful, "layout", fmt.Sprintf("the page is %d pixels wider than a %s", after.Overflow, width), "")
		}
		if after.Height > 3*before.Height+2000 || (before.Height > 1500 && after.Height*3 < before.Height) {
			found.add(smoke.Doubtful, "layout", fmt.Sprintf("the page is %d pixels high on a %s, was %d", after.Height, width, before.Height), "")
		}
	}
}

// fewPictures is the number of pictures from which on it is seen that most of them are not there.
const fewPictures = 3

// loseFirstView finds what lies over the page, and letters that cannot be told from what is
// behind them. A notice at the edge covers a part; over half of the letters, nobody reads on.
func loseFirstView(found *Collector, width string, was, now browser.FirstView) {
	const few = 30 // letters: a page of pictures
	if now.Letters < few {
		return
	}
	share := func(part, of int) int { return part * 100 / max(1, of) }
	switch {
	case share(now.Buried, now.Letters) > 60 && share(was.Buried, was.Letters) < 30:
		found.add(smoke.Broken, "browser", fmt.Sprintf("something lies over the page on a %s: %d of 100 letters are hidden by it", width, share(now.Buried, now.Letters)), "")
	case share(now.Under, now.Letters) > 50 && share(was.Under, was.Letters) < 25:
		found.add(smoke.Doubtful, "browser", fmt.Sprintf("something lies over the page on a %s, on %d of 100 letters", width, share(now.Under, now.Letters)), "")
	}
	switch faint, before := share(now.Unlit, now.Letters), share(was.Unlit, was.Letters); {
	case faint > 50 && before < 25:
		found.add(smoke.Broken, "browser", fmt.Sprintf("%d of 100 letters have the colour of their background on a %s", faint, width), "")
	case faint > before+20:
		found.add(smoke.Doubtful, "browser", fmt.Sprintf("%d of 100 letters have the colour of their background on a %s", faint, width), "")
	}
}

// loseBoxes compares where the landmarks stand. What is the same at every width is said
// once.
func loseBoxes(found *Collector, was, now smoke.Facts) {
	type change struct {
		verdict        smoke.Verdict
		check, element string
		words          string
	}
	var order []change
	screens := map[change][]string{}
	note := func(width string, verdict smoke.Verdict, check, element, format string, args ...any) {
		c := change{verdict, check, element, fmt.Sprintf(format, args...)}
		if screens[c] == nil {
			order = append(order, c)
		}
		screens[c] = append(screens[c], width)
	}
	for _, width := range smoke.Widths {
		before, known := was.Sights[width.Name]
		after, seen := now.Sights[width.Name]
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
				verdict := smoke.Doubtful
				if slices.Contains(vital, name) || name == "form" {
					verdict = smoke.Broken
				}
				note(width.Name, verdict, "browser", name, "the %s does not show", name)
			case hasMain && hadMain && name != "main part" && relation(box, main) != relation(old, oldMain):
				note(width.Name, smoke.Doubtful, "layout", name, "the %s is %s the main part, was %s it", name, relation(box, main), relation(old, oldMain))
			case smoke.Absolute(box.Width-old.Width)*5 > after.Width:
				note(width.Name, smoke.Doubtful, "layout", name, "the %s is %d pixels wide, was %d", name, box.Width, old.Width)
			case name == "header" || name == "footer":
				if where := strayed(before, after, name, relation(old, oldMain)); where != "" {
					note(width.Name, smoke.Doubtful, "layout", name, "the %s stands there %d times, now also %s the main part", name, 1+len(after.More[name]), where)
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
		far := smoke.Absolute(b.Width-was.Width) + smoke.Absolute(b.X-was.X)
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
func inPage(name string, now smoke.Facts) bool {
	switch name {
	case "form":
		return len(now.Forms) > 0
	case "main heading":
		return slices.ContainsFunc(now.Headings, func(h string) bool { return strings.HasPrefix(h, "h1 ") })
	}
	return now.Landmarks[name] > 0
}

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
		sight.Rows, sight.Pictures = reading.Least(sight.Rows, other.Rows), min(sight.Pictures, other.Pictures)
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
