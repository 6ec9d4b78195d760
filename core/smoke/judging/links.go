package judging

import (
	"fmt"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/smoke"
)

func loseContacts(found *Collector, was, now smoke.Facts) {
	if lost := minus(was.Contacts, now.Contacts); len(lost) > 0 {
		found.add(smoke.Doubtful, "links", fmt.Sprintf("%s %s no link any more", phrase.Plural(len(lost), "telephone number or mail address"), areOrIs(len(lost))), strings.Join(lost[:min(3, len(lost))], ", "))
	}
}

// NoteDead notes a link that leads nowhere with each page that has it.
func NoteDead(take *smoke.Take, to string) {
	for i := range take.Pages {
		facts := &take.Pages[i]
		for _, link := range facts.Links {
			if link.To == to {
				facts.Dead = append(facts.Dead, link)
			}
		}
		for _, form := range facts.Forms {
			if form.To == to {
				facts.DeadForms = append(facts.DeadForms, form.Name)
			}
		}
	}
}

// loseLinks finds links that led somewhere and lead nowhere.
func loseLinks(found *Collector, was, now smoke.Facts) {
	var menu, others []string
	for _, link := range now.Dead {
		if link.Menu {
			menu = append(menu, link.Text)
		} else {
			others = append(others, link.Text)
		}
	}
	links := 0
	for _, link := range now.Links {
		if link.Menu {
			links++
		}
	}
	sayDead(found, "what is not there", menu, others, links)
	menu, others = nil, nil
	for _, before := range was.Links {
		if before.To == "" {
			continue
		}
		stands, leads := false, false
		for _, link := range now.Links {
			if link.Text == before.Text && link.Menu == before.Menu {
				stands, leads = true, leads || link.To != ""
			}
		}
		switch {
		case !stands || leads:
		case before.Menu:
			menu = append(menu, before.Text)
		default:
			others = append(others, before.Text)
		}
	}
	loseHeadingLinks(found, was, now)
	sayDead(found, "nothing but the page itself", menu, others, links)
}

// loseHeadingLinks finds headings that led on, as those of entries do, and stand there still.
func loseHeadingLinks(found *Collector, was, now smoke.Facts) {
	var lost []string
	for _, heading := range now.Headings {
		_, text, _ := strings.Cut(heading, " ")
		leads := func(links []smoke.Link) bool {
			return slices.ContainsFunc(links, func(l smoke.Link) bool { return l.Text == text && !l.Menu && l.To != "" })
		}
		stands := slices.ContainsFunc(now.Links, func(l smoke.Link) bool { return l.Text == text && !l.Menu })
		if slices.Contains(was.Headings, heading) && leads(was.Links) && !stands {
			lost = append(lost, text)
		}
	}
	if len(lost) > 0 {
		found.add(smoke.Doubtful, "links", fmt.Sprintf("%s on the page, which led on, %s no link any more", phrase.Plural(len(lost), "heading"), areOrIs(len(lost))), strings.Join(lost[:min(5, len(lost))], ", "))
	}
}

func areOrIs(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func sayDead(found *Collector, to string, menu, others []string, links int) {
	if n := len(menu); n > 0 {
		verdict := smoke.Doubtful
		if 2*n >= links {
			verdict = smoke.Broken
		}
		found.add(verdict, "links", fmt.Sprintf("%d of %d links in the menu now lead to %s", n, links, to), strings.Join(menu[:min(5, n)], ", "))
	}
	if n := len(others); n > 0 {
		verb := "leads"
		if n > 1 {
			verb = "lead"
		}
		found.add(smoke.Doubtful, "links", fmt.Sprintf("%s on the page now %s to %s", phrase.Plural(n, "link"), verb, to), strings.Join(others[:min(5, n)], ", "))
	}
}
